"""What partners are looked for by: the columns, how sure they must be, what a person decided."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

from plait.core.base.errors import UsageError, attribute_errors_to_option
from plait.core.base.wording import Setting, wording
from plait.core.table.key_spec import parse_names
from plait.core.table.table import Table

LEAST_ACCEPTED = 0.5  # below it a tie could be accepted


@dataclass(frozen=True)
class EvidenceSpec:
    """What to look for partners by.

    Parameters
    ----------
    columns : tuple of str
        ``COLUMN``, or ``LEFT=RIGHT`` where the names differ.
    accept : float or None
        The probability from which on a pair is used.
    settled : Table or None
        Pairs that a person accepted or rejected.
    """

    columns: tuple[str, ...]
    accept: float | None = None
    settled: Table | None = None


def parse_accept(text: str | float) -> float:
    """The probability that a person asks for.

    Raises
    ------
    UsageError
        For what is not above 50 and at most 100 percent.

    Examples
    --------
    >>> parse_accept("99%"), parse_accept("0.999")
    (0.99, 0.999)
    """
    match = re.fullmatch(r"([0-9]{1,3}(?:\.[0-9]{1,9})?) ?(%?)", str(text).strip())
    share = float(match[1]) / (100 if match[2] else 1) if match else 0.0
    if not LEAST_ACCEPTED < share <= 1:
        raise UsageError(
            f"{text!r} is no probability above 50% and up to 100%", remedy="such as 99%"
        )
    return share


def parse_evidence_spec(
    tables: int,
    evidence: str | Sequence[str],
    accept: str | float | None,
    settled: Table | None,
) -> EvidenceSpec | None:
    """What partners are looked for by; nothing where nobody asked.

    Parameters
    ----------
    tables : int
        How many there are.

    Raises
    ------
    UsageError
        For what does not go together.
    """
    if not evidence:
        for name, given in (("accept", accept), ("settled", settled)):
            if given is not None:
                raise UsageError(
                    wording(Setting(name), " needs ", Setting("evidence")),
                    remedy=wording("name columns to compare: ", Setting("evidence", ("COLUMN",))),
                )
        return None
    if tables > 2:
        raise UsageError(
            wording(Setting("evidence"), f" is for one source or two, and there are {tables}")
        )
    with attribute_errors_to_option("accept"):
        threshold = None if accept is None else parse_accept(accept)
    return EvidenceSpec(parse_names(evidence), threshold, settled)
