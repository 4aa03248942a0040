"""Where the table begins and ends in a sheet of cells: title lines, headers, footers."""

from __future__ import annotations

import csv
import math
import re
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from itertools import islice

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.base.errors import SourceError
from plait.core.base.findings import (
    MOST_EXAMPLES,
    Finding,
    FindingExample,
    Location,
    agreeing,
    pluralize,
)
from plait.core.base.wording import Setting, wording
from plait.core.table.set_aside import set_rows_aside
from plait.core.table.table import Table
from plait.core.text.cells import combine_chunks, empty_to_null, to_text
from plait.core.types.inference import looks_like_value

_LEAST_BLANK = 2
_LEAST_SHARE = 0.9
_YEARS = range(1800, 2200)

Cells = Sequence[str]
Span = tuple[int, int]

_TOTAL = re.compile(r"\s*((grand|sub)[ -]?)?totals?\b|\s*(sum|summe|gesamt|somme)\b", re.IGNORECASE)
_CLOSE = 1e-6


def is_two_row_heading(top: Cells, below: Cells, body: Sequence[Cells]) -> bool:
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
    >>> is_two_row_heading(["", "2030", "", "2031", ""], ["yard", "Q1", "Q2", "Q1", "Q2"], body)
    True
    >>> is_two_row_heading(["yard", "hive", "", "", "kg"], ["Elm", "4", "5", "x", "7"], body)
    False
    """
    filled = [n for n, cell in enumerate(top) if cell.strip()]
    if len(top) != len(below) or filled in ([], [0]):  # a title stands over the first column
        return False
    hanging = [n for n, cell in enumerate(top) if not cell.strip() and below[n].strip()]
    over = [n for n in hanging if n and any(map(str.strip, top[:n]))]
    whole = all(t.strip() or other.strip() for t, other in zip(top, below, strict=True))
    names = join_heading_rows([top, below])
    if len(over) < _LEAST_BLANK or not whole or len(set(names)) < len(names):
        return False
    if any(looks_like_value(cell) and not _year(cell) for cell in below if cell.strip()):
        return False
    return any(_values(body, number) for number in hanging) and not _values([below], over[0])


def _year(cell: str) -> bool:
    return cell.isdecimal() and len(cell) == 4 and int(cell) in _YEARS


def _values(rows: Sequence[Cells], column: int) -> bool:
    """Whether nearly all cells of a column are numbers or dates."""
    filled = [row[column] for row in rows if column < len(row) and row[column].strip()]
    filled = [cell for cell in filled if not _year(cell)]
    return bool(filled) and sum(map(looks_like_value, filled)) >= _LEAST_SHARE * len(filled)


def join_heading_rows(
    rows: Sequence[Cells], merged: Iterable[Sequence[Span]] | None = None
) -> list[str]:
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
    >>> join_heading_rows([["", "2030", ""], ["yard", "Q1", "Q2"]])
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


def report_joined_headings(names: Sequence[str], rows: int, line: int, where: str) -> list[Finding]:
    """That the headings stand in several rows, which are read as one."""
    if rows < 2:
        return []
    return [
        Finding(
            "header-rows",
            "note",
            rows,
            f"{rows} header rows were combined into one",
            wording("if only the first row is the header: ", Setting("header_line", line)),
            Location(where),
            tuple(FindingExample(name) for name in names[:MOST_EXAMPLES]),
        )
    ]


@dataclass(frozen=True)
class Header:
    """The first record of a file, and what is above it.

    Parameters
    ----------
    names : tuple of str
        As they are in the file.
    lines : int
        Lines up to its end, those above it included.
    size : int
        Bytes up to its end.
    above : tuple of str
        The lines above that are not blank.
    """

    names: tuple[str, ...]
    lines: int
    size: int
    above: tuple[str, ...] = ()


def read_header(head: bytes, delimiter: str, where: str, line: int = 1, rows: int = 1) -> Header:
    """Take the header from the first bytes of a file.

    Parameters
    ----------
    head : bytes
        UTF-8, without a byte-order mark.
    where : str
        The file, for errors.
    line : int
        The line that it begins on, from 1; blank ones are passed over.
    rows : int
        In how many rows the headings stand.

    Raises
    ------
    SourceError
        When there is no such line, or it is not UTF-8 or does not end.
    """
    lines = _Lines(head, where)
    above = [text.strip() for text in islice(lines, line - 1)]
    reader = csv.reader(lines, delimiter=delimiter)
    above_each: list[list[str]] = []
    try:
        while len(above_each) < rows:
            above_each += filter(None, [next(reader)])
    except StopIteration:
        raise SourceError(
            "no header found", f"{where}, line {line:,}", "give a file with a header and rows"
        ) from None
    except csv.Error as error:
        said = (
            "a carriage return occurs in the middle of a line"
            if "new-line" in str(error)
            else error
        )
        raise SourceError(
            f"cannot read the header: {said}",
            f"{where}, line {line}",
            "use one line ending throughout, or quote the cell that contains it",
        ) from None
    width = max(map(len, above_each))
    names = [cells + [""] * (width - len(cells)) for cells in above_each]
    named = join_heading_rows(names) if rows > 1 else names[0]
    return Header(tuple(named), lines.count, lines.position, tuple(filter(None, above)))


class _Lines:
    """The lines of some bytes, as text, counting what was drawn."""

    def __init__(self, head: bytes, where: str) -> None:
        self.head, self.position, self.count, self.where = head, 0, 0, where
        self.end = b"\n" if b"\n" in head else b"\r"

    def __iter__(self) -> _Lines:
        return self

    def __next__(self) -> str:
        if self.position >= len(self.head):
            raise StopIteration
        found = self.head.find(self.end, self.position)
        stop = len(self.head) if found < 0 else found + 1
        line, self.position, self.count = self.head[self.position : stop], stop, self.count + 1
        try:
            return line.decode()
        except UnicodeDecodeError:
            raise SourceError(
                "the header is not UTF-8",
                f"{self.where}, line {self.count}",
                wording("name its encoding: ", Setting("encoding", "windows-1252")),
            ) from None


def report_title_lines(above: Sequence[str], where: str) -> list[Finding]:
    """What is to be said when lines are above the header."""
    if not above:
        return []
    were = agreeing(len(above), "was", "were")
    return [
        Finding(
            "title-lines",
            "note",
            len(above),
            f"{pluralize(len(above), 'line')} above the header {were} skipped",
            wording("if the header is on another line: ", Setting("header_line", "N")),
            Location(where),
            tuple(FindingExample(line) for line in above[:MOST_EXAMPLES]),
        )
    ]


def drop_last_rows(table: Table, rows: int) -> Table:
    """Set so many rows at the end aside.

    >>> from plait.core.table.table import table_from_columns
    >>> table = drop_last_rows(table_from_columns("t", {"a": ["1", "total"]}), 1)
    >>> table.to_dict(), table.set_aside[0].table.to_dict()
    ({'a': ['1']}, {'a': ['total']})
    """
    if not rows:
        return table
    if rows > table.rows:
        raise SourceError(
            wording(Setting("footer", rows), f" is more than the {table.rows:,} rows of the table"),
            table.name,
            "count only the rows below the table that are not records",
        )
    below = np.arange(table.rows) >= table.rows - rows
    return set_rows_aside(
        table,
        below,
        "footer",
        "below the table (footer)",
        "rows at the end (footer)",
    )


def report_total_row(table: Table, where: str) -> tuple[Finding, ...]:
    """A finding when the last row looks like a total of those above it."""
    if table.rows < 3:
        return ()
    cells = table.take(np.array([table.rows - 1])).to_dict()
    filled = [str(values[0]) for values in cells.values() if values[0] not in (None, "")]
    if not filled or not _TOTAL.match(filled[0]):
        return ()
    if len(filled) == len(cells) > 2 and not _adds_up(table):
        return ()
    return (
        Finding(
            "total-row",
            "warning",
            1,
            "the last row looks like a total",
            wording("to set it aside: ", Setting("footer", 1)),
            Location(where),
            (FindingExample(", ".join(filled)[:60], table.source_rows(table.rows - 1)[:1]),),
        ),
    )


def _adds_up(table: Table) -> bool:
    """Whether the last row has the sum of a column of numbers, of the first that there is."""
    for name in table.column_names[1:]:
        column = table.chunks(name)
        cells = pa.array(to_text(combine_chunks(column)))
        try:
            numbers = pc.fill_null(pc.cast(empty_to_null(cells), pa.float64()), 0.0).to_numpy()
        except pa.ArrowInvalid:
            continue
        return math.isclose(numbers[:-1].sum(), numbers[-1], rel_tol=_CLOSE, abs_tol=_CLOSE)
    return False
