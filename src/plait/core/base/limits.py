"""How large things may be before they are refused: said once, raised by name."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, fields, replace

from plait.core.base.errors import SourceError, UsageError
from plait.core.base.names import suggest_name
from plait.core.base.wording import Setting, wording

_UNITS = {"": 1, "K": 1 << 10, "M": 1 << 20, "G": 1 << 30}


@dataclass(frozen=True)
class Limits:
    """Where reading a source ends with an error instead of taking all there is.

    Parameters
    ----------
    record : int
        Bytes of one record of delimited text, or of one line of JSON.
    columns : int
        Columns of one table.
    cells : int
        Cells of a sheet, from its first to the last that is used.
    members : int
        Files of an archive or a folder, tables of a database.
    depth : int
        How deep lists and records of JSON are nested.
    unpacked : int
        Bytes of all that is read of an archive; more only where the archive itself
        has at least a 250th of it.
    view_seconds : int
        How long one view of a database may work.
    view_rows : int
        Rows of one view.
    """

    record: int = 64 << 20
    columns: int = 100_000
    cells: int = 200_000_000
    members: int = 10_000
    depth: int = 100
    unpacked: int = 256 << 20
    view_seconds: int = 60
    view_rows: int = 100_000_000


LIMITS = Limits()
HIGHEST = {"depth": 250}


class LimitExceededError(SourceError):
    """Something is larger than the limit that is set.

    Parameters
    ----------
    name : str
        The limit.
    what : str
        What is too large, and how large it is.
    """

    def __init__(self, name: str, what: str, where: str) -> None:
        flag = name.replace("_", "-")
        super().__init__(
            f"{what} (limit: {flag})",
            where,
            wording("if this size is intended, raise the limit: ", Setting("limit", "N", flag)),
        )
        self.name = name


def parse_limits(said: Mapping[str, str | int]) -> Limits:
    """Limits as a person sets them, the others as they are.

    Raises
    ------
    UsageError
        For a name or number that is none, or is higher than can be.

    Examples
    --------
    >>> parse_limits({"unpacked": "4GB", "depth": "200"}).unpacked
    4294967296
    """
    names = [field.name for field in fields(Limits)]
    found: dict[str, int] = {}
    for word, value in said.items():
        name = word.replace("-", "_")
        if name not in names:
            shown = [n.replace("_", "-") for n in names]
            remedy = suggest_name(word, shown) or f"there are {', '.join(shown)}"
            raise UsageError(f"unknown limit {word!r}", remedy=remedy)
        found[name] = _number(name, str(value))
    return replace(LIMITS, **found)


def _number(name: str, text: str) -> int:
    match = re.fullmatch(r"([0-9]{1,15}) ?([KMG]?)(?:i?B)?", text.strip(), re.IGNORECASE)
    if not match or not int(match[1]):
        raise UsageError(
            f"limit {name.replace('_', '-')} must be a number, not {text!r}",
            remedy="such as 500 or 4GB",
        )
    number = int(match[1]) * _UNITS[match[2].upper()]
    if number > HIGHEST.get(name, number):
        raise UsageError(f"the limit {name} can be {HIGHEST[name]} at most")
    return number
