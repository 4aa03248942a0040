"""Blocks of text as columns, and rows with too few or too many cells."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.csv

from plait.core.base.findings import MOST_EXAMPLES, Finding, FindingExample, Location, pluralize
from plait.core.table.fragment import SourceOrigin
from plait.core.table.provenance import make_source_row
from plait.core.table.source_lines import Steps
from plait.core.table.table import SetAside, Table, table_from_columns
from plait.core.text.cells import combine_chunks
from plait.io.delimited.blocks import RecordBlock, record_lines

MOST_NOTES = 10
_WORDS = re.compile(r"[^\W\d_]\S*\s+\S|^\W*\w+:")

_CAUSES = {
    "ragged": "rows with too few or too many cells",
    "notes": "lines below the table",
}


@dataclass(frozen=True)
class RaggedRow:
    """A row that does not fit its header: its row number from 0, how many cells, its text."""

    row: int
    cells: int
    text: str


def is_footnote_block(rows: Sequence[RaggedRow]) -> bool:
    """Whether rows at the end of a file are notes below the table: few, of one cell, of words."""
    return len(rows) <= MOST_NOTES and all(
        row.cells == 1 and _WORDS.search(row.text) for row in rows
    )


def report_ragged_rows(table: Table, ragged: Sequence[RaggedRow], notes: int) -> Table:
    """Tell of rows that a table was read without.

    Parameters
    ----------
    table : Table
        The rows that fit.
    ragged : sequence of RaggedRow
        The others, in order; their numbers count all rows.
    notes : int
        How many of them, the last ones, are notes below the table.

    Returns
    -------
    Table
        With a finding, the rows set aside, and row numbers that count all rows.
    """
    if not ragged:
        return table
    columns = len(table.columns)
    origin = table.fragments[0].origins[0]
    assert isinstance(origin, SourceOrigin)  # it was just read
    numbers = np.delete(np.arange(table.rows + len(ragged)), [r.row for r in ragged])
    fragment = replace(table.fragments[0], origins=(replace(origin, row_numbers=numbers),))
    split = len(ragged) - notes
    aside, findings = [], []
    for rows, kind in ((ragged[:split], "ragged"), (ragged[split:], "notes")):
        if rows:
            aside.append(_set_aside(table.name, origin, rows, columns, kind))
            findings.append(_finding(origin, rows, columns, kind))
    return replace(
        table,
        fragments=(fragment, *table.fragments[1:]),
        findings=(*table.findings, *findings),
        set_aside=(*table.set_aside, *aside),
    )


def _set_aside(
    name: str, origin: SourceOrigin, rows: Sequence[RaggedRow], columns: int, kind: str
) -> SetAside:
    table = table_from_columns(name, {"record": [row.text for row in rows]}, origin.path)
    numbers = np.array([row.row for row in rows])
    fragment = replace(
        table.fragments[0], origins=(replace(origin, rows=len(rows), row_numbers=numbers),)
    )
    reasons = [
        f"{pluralize(row.cells, 'cell')} where the header has {columns}"
        if kind == "ragged"
        else "a line below the table"
        for row in rows
    ]
    return SetAside(
        kind,
        replace(table, fragments=(fragment,)),
        pa.array(reasons),
        False,
        _CAUSES[kind],
    )


def _finding(origin: SourceOrigin, rows: Sequence[RaggedRow], columns: int, kind: str) -> Finding:
    examples = tuple(
        FindingExample(row.text[:60], (make_source_row(origin, row.row),))
        for row in rows[:MOST_EXAMPLES]
    )
    if kind == "notes":
        return Finding(
            "footer-lines",
            "warning",
            len(rows),
            f"{pluralize(len(rows), 'line')} below the table set aside",
            "if it is an incomplete record, get the file again",
            Location(origin.path),
            examples,
        )
    return Finding(
        "row-ragged",
        "warning",
        len(rows),
        f"{pluralize(len(rows), 'row')} set aside: not the {columns} cells of the header",
        "fix the rows in the source",
        Location(origin.path),
        examples,
    )


@dataclass(frozen=True)
class DelimitedSchema:
    """The columns of a file, its delimiter, and whether rows that do not fit are an error."""

    names: tuple[str, ...]
    delimiter: str
    strict: bool


@dataclass(frozen=True)
class ParsedBlock:
    """A parsed block: its columns, and the rows that do not fit, numbered within the block.

    The block itself stays where something is wrong with it. ``lines`` are those that its
    rows begin on, all rows counted, where that can be told.
    """

    columns: list[pa.Array] | None
    ascii: bool
    ragged: tuple[RaggedRow, ...] = ()
    fault: RecordBlock | None = None
    lines: Steps | None = None

    @property
    def rows(self) -> int:
        """How many rows fit."""
        return len(self.columns[0]) if self.columns else 0


def parse_block(block: RecordBlock, shape: DelimitedSchema) -> ParsedBlock:
    """Parse a block.

    >>> block = RecordBlock(memoryview(b"A,1"), quoted=False, ascii=True, lines=1, ends=0)
    >>> schema = DelimitedSchema(("yard", "hive"), ",", True)
    >>> [column.to_pylist() for column in parse_block(block, schema).columns]
    [['A'], ['1']]
    """
    ragged: list[RaggedRow] = []

    def note(row: Any) -> str:
        ragged.append(RaggedRow(row.number - 1, row.actual_columns, row.text))
        return "skip"

    if not (block.ascii or _is_utf8(block.data)):
        return ParsedBlock(None, block.ascii, (), block)
    single = len(shape.names) == 1
    if not single and _blank(block.data, shape.delimiter):
        return ParsedBlock(None, block.ascii)
    try:
        table = pa.csv.read_csv(
            pa.BufferReader(block.data),
            pa.csv.ReadOptions(
                use_threads=False, block_size=len(block.data) + 1, column_names=shape.names
            ),
            pa.csv.ParseOptions(
                delimiter=shape.delimiter,
                quote_char='"' if block.quoted else False,
                newlines_in_values=block.quoted,
                ignore_empty_lines=not single,
                invalid_row_handler=note,
            ),
            pa.csv.ConvertOptions(
                column_types={name: pa.string() for name in shape.names},
                check_utf8=False,  # it has been checked
            ),
        )
    except pa.ArrowInvalid:
        return ParsedBlock(None, block.ascii, (), block)
    columns = [combine_chunks(column) for column in table.columns] if len(table) else None
    records = len(table) + len(ragged)
    lines = record_lines(block, records, shape.delimiter, single) if records else None
    if ragged:
        return ParsedBlock(columns, block.ascii, tuple(ragged), block, lines)
    block.release()
    return ParsedBlock(columns, block.ascii, lines=lines)


def _is_utf8(data: memoryview) -> bool:
    try:
        str(data, "utf-8")
    except UnicodeDecodeError:
        return False
    return True


def _blank(data: memoryview, delimiter: str) -> bool:
    """Whether there is nothing but blank lines."""
    if data[:1].tobytes() not in (b"\n", b"\r"):
        return False
    text = bytes(data)
    return text.isspace() and delimiter.encode() not in text
