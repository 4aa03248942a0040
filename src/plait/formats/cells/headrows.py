"""Headings that stand in several rows: a year over its quarters."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

from plait.core.account.finding import MOST_EXAMPLES, Example, Finding
from plait.core.types.kinds import looks_typed

_LEAST_BLANK = 2
_LEAST_SHARE = 0.9
_YEARS = range(1800, 2200)

Cells = Sequence[str]
Span = tuple[int, int]


def in_two_rows(top: Cells, below: Cells, body: Sequence[Cells]) -> bool:
    """Whether a row of headings goes on in the one below it.

    So it is when several headings are blank above others that are not, as where cells
    were merged; when the lower ones are no values, though those below them are; and when
    both together tell the columns apart.

    Parameters
    ----------
    top, below : sequence of str
        The two rows.
    body : sequence of sequence of str
        Some rows under them.

    Examples
    --------
    >>> body = [["Elm", "4", "5", "6", "7"]]
    >>> in_two_rows(["", "2030", "", "2031", ""], ["yard", "Q1", "Q2", "Q1", "Q2"], body)
    True
    >>> in_two_rows(["yard", "hive", "", "", "kg"], ["Elm", "4", "5", "x", "7"], body)
    False
    """
    filled = [n for n, cell in enumerate(top) if cell.strip()]
    if len(top) != len(below) or filled in ([], [0]):  # a title stands over the first column
        return False
    hanging = [n for n, cell in enumerate(top) if not cell.strip() and below[n].strip()]
    over = [n for n in hanging if n and any(map(str.strip, top[:n]))]
    whole = all(one.strip() or other.strip() for one, other in zip(top, below, strict=True))
    names = joined([top, below])
    if len(over) < _LEAST_BLANK or not whole or len(set(names)) < len(names):
        return False
    if any(looks_typed(cell) and not _year(cell) for cell in below if cell.strip()):
        return False
    return any(_values(body, number) for number in hanging) and not _values([below], over[0])


def _year(cell: str) -> bool:
    return cell.isdecimal() and len(cell) == 4 and int(cell) in _YEARS


def _values(rows: Sequence[Cells], column: int) -> bool:
    """Whether nearly all cells of a column are numbers or dates."""
    filled = [row[column] for row in rows if column < len(row) and row[column].strip()]
    filled = [cell for cell in filled if not _year(cell)]
    return bool(filled) and sum(map(looks_typed, filled)) >= _LEAST_SHARE * len(filled)


def joined(rows: Sequence[Cells], merged: Iterable[Sequence[Span]] | None = None) -> list[str]:
    """The headings of several rows as one: each under what stands above it.

    Parameters
    ----------
    rows : sequence of sequence of str
        The upper ones first, of one width.
    merged : iterable of sequence of (int, int), optional
        For each row the first and last columns of cells that are merged; without it, a
        heading reaches over the blank ones to its right.

    Examples
    --------
    >>> joined([["", "2030", ""], ["yard", "Q1", "Q2"]])
    ['yard', '2030 Q1', '2030 Q2']
    """
    spans = list(merged) if merged is not None else [None] * len(rows)
    *upper, last = rows
    parts = [list(_over(row, span)) for row, span in zip(upper, spans, strict=False)]
    parts.append([cell.strip() for cell in last])
    return [" ".join(filter(None, dict.fromkeys(column))) for column in zip(*parts, strict=True)]


def _over(row: Cells, spans: Sequence[Span] | None) -> Iterator[str]:
    """For each column the heading that reaches over it."""
    above = ""
    for number, cell in enumerate(row):
        if spans is not None and not cell.strip():
            first = next((one for one, end in spans if one <= number <= end), number)
            yield row[first].strip()
            continue
        above = cell.strip() or above
        yield above


def header_rows_finding(names: Sequence[str], rows: int, line: int, where: str) -> list[Finding]:
    """That the headings stand in several rows, which are read as one."""
    if rows < 2:
        return []
    return [
        Finding(
            "header-rows",
            "note",
            rows,
            f"{rows} header rows were combined into one",
            f"if only the first row is the header: --header-line {line}",
            where,
            tuple(Example(name) for name in names[:MOST_EXAMPLES]),
        )
    ]
