"""Findings: what an analyst must know, with places and a remedy."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

from plait.core.account.errors import UsageError
from plait.core.account.names import nearest

SEVERITIES = ("note", "warning", "error")
MOST_EXAMPLES = 5


@dataclass(frozen=True)
class Place:
    """A row of a source, as who opens the source sees it.

    Parameters
    ----------
    source : str
    row : int
        Counted from 1, the header not counted.
    key : str
        ``id=4711`` where a table has a primary key: ``row`` is only the place in what was read.
    line : int, optional
        Of a text file, or the row of a sheet, where the row begins.
    unit : str
        What ``line`` counts: ``line`` or ``sheet row``.

    Examples
    --------
    >>> str(Place("may", 3)), str(Place("may", 3, line=1204, unit="line"))
    ('may row 3', 'may line 1,204')
    >>> str(Place("orders", 3, key="id=9"))
    'orders id=9'
    """

    source: str
    row: int
    key: str = ""
    line: int | None = None
    unit: str = "row"

    def __str__(self) -> str:
        return f"{self.source} {self.within}"

    @property
    def number(self) -> int:
        """The line, or the row where there are no lines."""
        return self.row if self.line is None else self.line

    @property
    def within(self) -> str:
        """Where the row is within its source: ``line 1,204``, ``id=9``."""
        return self.key or f"{self.unit} {self.number:,}"


@dataclass(frozen=True)
class Example:
    """One instance of a finding: what is there, and where."""

    text: str
    places: tuple[Place, ...] = ()


@dataclass(frozen=True)
class Finding:
    """Something the analyst must know.

    Parameters
    ----------
    code : str
        Its kind, in lower case with hyphens; ``--fail-on`` takes it.
    severity : str
        ``note``, ``warning`` or ``error``.
    count : int
        How many rows, keys or columns it is about; the message says which.
    message : str
        What is the case, in one sentence.
    remedy : str
        What to do about it, ready to paste where that is possible.
    where : str
        The table, and the column where there is one.
    examples : tuple of Example
        Up to five.
    terms : tuple of str
        The texts that the message names, such as markers: whoever brings several findings
        together takes them from here, and not from the message.
    """

    code: str
    severity: str
    count: int
    message: str
    remedy: str = ""
    where: str = ""
    examples: tuple[Example, ...] = ()
    terms: tuple[str, ...] = ()

    @property
    def source(self) -> str:
        """``where`` without the column."""
        return self.where.partition(", column ")[0]


def counted(count: int, word: str) -> str:
    """A number and its noun: ``1 key``, ``1,200 keys``.

    >>> counted(1, "row"), counted(1200, "row")
    ('1 row', '1,200 rows')
    """
    return f"{count:,} {agreeing(count, word, f'{word}s')}"


def agreeing(count: int, one: str, several: str) -> str:
    """The word that agrees with a number: ``is`` with 1, ``are`` with any other.

    >>> agreeing(1, "is", "are"), agreeing(0, "is", "are")
    ('is', 'are')
    """
    return one if count == 1 else several


def of_markers(
    name: str, markers: Sequence[str], count: int, where: str, remedy: str = ""
) -> Finding:
    """That cells of a column hold words such as ``n/a``, which count as missing.

    >>> of_markers("kg", ["n/a", "-"], 1, "may, column kg").message
    '1 cell of kg read as missing: n/a, -'
    """
    said = f"{counted(count, 'cell')} of {name} read as missing: {', '.join(markers)}"
    return Finding("marker-found", "note", count, said, remedy, where, terms=tuple(markers))


def worst_first(findings: Iterable[Finding]) -> list[Finding]:
    """Order findings by severity, then by count, keeping ties as they came.

    >>> low, high = Finding("a", "note", 9, ""), Finding("b", "error", 1, "")
    >>> [finding.code for finding in worst_first([low, high])]
    ['b', 'a']
    """
    return sorted(findings, key=lambda f: (-SEVERITIES.index(f.severity), -f.count))


def merged(findings: Iterable[Finding]) -> list[Finding]:
    """Findings that say the same of several sources as one, with the sources as examples.

    >>> same = [Finding("a", "note", 1, "read so", where=name) for name in ("x.csv", "y.csv")]
    >>> one, = merged(same)
    >>> one.count, one.message, [example.text for example in one.examples]
    (2, 'read so, in 2 sources', ['x.csv', 'y.csv'])
    """
    alike: dict[tuple[str, ...], list[Finding]] = {}
    for one in findings:
        alike.setdefault((one.code, one.severity, one.message, one.remedy), []).append(one)
    return [_as_one(several) if len(several) > 1 else several[0] for several in alike.values()]


def _as_one(several: list[Finding]) -> Finding:
    first = several[0]
    places = [
        Example(f"{one.where}: {one.examples[0].text}" if one.examples else one.where)
        for one in several[:MOST_EXAMPLES]
    ]
    return replace(
        first,
        count=sum(one.count for one in several),
        message=f"{first.message}, in {counted(len(several), 'source')}",
        where="",
        examples=tuple(places),
    )


CODES = (
    "cardinality", "cell-error", "cell-of-several", "cell-unfit", "cells-changed", "cells-filled",
    "cells-merged", "cells-replaced", "cells-trimmed", "column-equal", "column-lacking",
    "column-misplaced", "column-order", "columns-gone", "columns-left-out", "columns-new",
    "columns-renamed", "columns-swapped", "compared-as-wholes", "dialect-found", "fetched-in-part",
    "footer-lines", "form-borrowed", "form-open", "forms-mixed", "formula-cells",
    "formula-uncalculated", "gone-with-result", "group-values-missing", "group-without-value",
    "header-differs", "header-empty", "header-padded", "header-repeated", "header-rows",
    "header-variant", "headings-not-compared", "history-unwritten", "key-conflict", "key-elsewhere",
    "key-inferred", "key-kind", "key-missing", "key-not-unique", "key-repeat", "key-respelt",
    "key-trap", "key-unmatched", "left-behind", "list-cut", "marker-found", "marker-kept",
    "marker-missing", "mixed-cells", "name-trap", "nearest-tie", "nearly-typed", "no-rows",
    "not-compared", "not-read", "not-used", "notice-unsent", "pairs-unused", "parts-few",
    "parts-many", "row-ragged", "row-repeat", "rows-added", "rows-gone", "rows-new", "rows-shifted",
    "sample-only",
    "settle-conflict", "sheet-hidden", "source-conflict", "title-lines", "total-row",
    "type-changed", "type-differs", "types-differ", "unreadable", "written-otherwise",
    "zeros-shown",
)  # fmt: skip


def checked_codes(codes: Iterable[str]) -> tuple[str, ...]:
    """Codes and severities, once each is known to be one.

    Raises
    ------
    UsageError
        Offers the nearest: a code that is none would never stand.
    """
    codes = tuple(codes)
    for code in codes:
        if code not in CODES and code not in SEVERITIES:
            raise UsageError(
                f"unknown finding {code!r}",
                remedy=nearest(code, (*CODES, *SEVERITIES)) or f"one of {', '.join(SEVERITIES)}",
            )
    return codes


def standing(findings: Iterable[Finding], codes: Iterable[str]) -> list[Finding]:
    """The findings whose code or severity is one of ``codes``; a severity takes in the worse ones.

    >>> [f.code for f in standing([Finding("a", "error", 1, "")], ["warning"])]
    ['a']
    """
    wanted = set(codes)
    least = min((SEVERITIES.index(code) for code in wanted if code in SEVERITIES), default=99)
    return [
        finding
        for finding in findings
        if finding.code in wanted or SEVERITIES.index(finding.severity) >= least
    ]
