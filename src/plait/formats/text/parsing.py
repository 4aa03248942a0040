"""One block of whole records as columns, and the rows in it that do not fit."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import pyarrow as pa
import pyarrow.csv

from plait.core.table.lines import Steps
from plait.core.text.pieces import one_array
from plait.formats.text.ragged import Ragged
from plait.formats.text.records import Block, record_lines


@dataclass(frozen=True)
class Shape:
    """The columns of a file, its delimiter, and whether rows that do not fit are an error."""

    names: tuple[str, ...]
    delimiter: str
    strict: bool


@dataclass(frozen=True)
class Part:
    """A parsed block: its columns, and the rows that do not fit, numbered within the block.

    The block itself stays where something is wrong with it. ``lines`` are those that its
    rows begin on, all rows counted, where that can be told.
    """

    columns: list[pa.Array] | None
    ascii: bool
    ragged: tuple[Ragged, ...] = ()
    fault: Block | None = None
    lines: Steps | None = None

    @property
    def rows(self) -> int:
        """How many rows fit."""
        return len(self.columns[0]) if self.columns else 0


def parse(block: Block, shape: Shape) -> Part:
    """Parse a block.

    >>> block = Block(memoryview(b"A,1"), quoted=False, ascii=True, lines=1, ends=0)
    >>> [column.to_pylist() for column in parse(block, Shape(("yard", "hive"), ",", True)).columns]
    [['A'], ['1']]
    """
    ragged: list[Ragged] = []

    def note(row: Any) -> str:
        ragged.append(Ragged(row.number - 1, row.actual_columns, row.text))
        return "skip"

    if not (block.ascii or _is_utf8(block.data)):
        return Part(None, block.ascii, (), block)
    single = len(shape.names) == 1
    if not single and _blank(block.data, shape.delimiter):
        return Part(None, block.ascii)
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
        return Part(None, block.ascii, (), block)
    columns = [one_array(column) for column in table.columns] if len(table) else None
    records = len(table) + len(ragged)
    lines = record_lines(block, records, shape.delimiter, single) if records else None
    if ragged:
        return Part(columns, block.ascii, tuple(ragged), block, lines)
    block.release()
    return Part(columns, block.ascii, lines=lines)


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
