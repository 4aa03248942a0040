"""Reading CSV and TSV: every cell as the text that stands there."""

from __future__ import annotations

import csv
import io
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import IO, Any

import pyarrow as pa
import pyarrow.csv

from plait.core.errors import SourceError
from plait.core.finding import Finding
from plait.core.parallel import ordered_map
from plait.core.table import Table, from_columns, one_array
from plait.formats.header import read_header, usable_names
from plait.formats.records import BLOCK_BYTES, Block, blocks

_HEAD_BYTES = 1 << 20

Tick = Callable[[int], None]


def read_delimited(
    stream: IO[bytes], name: str, path: str, delimiter: str, tick: Tick = lambda _: None
) -> Table:
    """Read a delimited text file with a header, in UTF-8.

    Parameters
    ----------
    stream : binary file
    name : str
        The table's name.
    path : str
        The file, for errors and lineage.
    delimiter : str
        One character.
    tick : callable
        Told how many bytes were read, each time.

    Returns
    -------
    Table
        All cells text; an empty cell is an empty text. Blank lines are passed
        over, except where there is one column only: there they are empty cells.

    Raises
    ------
    SourceError
        For an empty file, a row with too few or too many cells, bytes that are
        not UTF-8, a NUL byte, a quote that never closes; the line is named.
    """
    head = stream.read(min(BLOCK_BYTES, _HEAD_BYTES))
    tick(len(head))
    header = read_header(head, delimiter, path)
    names, findings = usable_names(header.names, path)
    shape = _Shape(tuple(names), delimiter)
    parts = list(_parsed(stream, head[header.size :], shape, path, header.lines, tick))
    columns = {
        name: pa.chunked_array([part[number] for part in parts], pa.string())
        for number, name in enumerate(names)
    }
    table = from_columns(name, columns, path)
    if not table.rows:
        findings.append(Finding("no-rows", "warning", 0, "a header and no rows", where=path))
    return Table(name, table.columns, table.strands, table.rows, tuple(findings))


@dataclass(frozen=True)
class _Shape:
    names: tuple[str, ...]
    delimiter: str


@dataclass(frozen=True)
class _Part:
    """A parsed block, or the block itself where something is wrong with it."""

    columns: list[pa.Array] | None
    fault: Block | None = None


def _parsed(
    stream: IO[bytes], rest: bytes, shape: _Shape, path: str, lines: int, tick: Tick
) -> Iterator[list[pa.Array]]:
    """The blocks of a file as columns, parsed on all cores."""
    cut = blocks(stream, rest, shape.delimiter, path, tick, lines)
    for part in ordered_map(lambda block: _parse(block, shape), cut):
        if part.fault is not None:
            raise _fault(part.fault, shape, path)
        if part.columns is not None:
            yield part.columns


def _parse(block: Block, shape: _Shape) -> _Part:
    ragged: list[Any] = []

    def note(row: Any) -> str:
        ragged.append(row)
        return "skip"

    if not (block.ascii or _is_utf8(block.data)):
        return _Part(None, block)
    single = len(shape.names) == 1
    if not single and _blank(block.data, shape.delimiter):
        return _Part(None)
    try:
        table = pa.csv.read_csv(
            pa.BufferReader(block.data),
            pa.csv.ReadOptions(
                use_threads=False, block_size=len(block.data) + 1, column_names=shape.names
            ),
            pa.csv.ParseOptions(
                delimiter=shape.delimiter,
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
        return _Part(None, block)
    if ragged:
        return _Part(None, block)
    block.release()
    return _Part([one_array(column) for column in table.columns] if len(table) else None)


def _is_utf8(data: memoryview) -> bool:
    try:
        str(data, "utf-8")
    except UnicodeDecodeError:
        return False
    return True


def _blank(data: memoryview, delimiter: str) -> bool:
    """Whether there is nothing but blank lines."""
    if data[:1] not in (b"\n", b"\r"):
        return False
    text = bytes(data)
    return text.isspace() and delimiter.encode() not in text


def _fault(block: Block, shape: _Shape, path: str) -> SourceError:
    """What is wrong with a block that could not be parsed, and on which line."""
    text, lines = bytes(block.data).decode("utf-8", "surrogateescape"), block.lines
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=shape.delimiter)
    csv.field_size_limit(1 << 30)
    begin = 0
    for row in reader:
        for number, cell in enumerate(row, 1):
            if any("\udc80" <= sign <= "\udcff" for sign in cell):
                return _not_utf8(f"{path}, line {lines + begin + 1:,}", number, shape.names)
        if row and len(row) != len(shape.names):
            return _ragged(f"{path}, line {lines + begin + 1:,}", row, shape.names)
        begin = reader.line_num
    return SourceError("the text cannot be read as a table", f"{path}, after line {lines:,}")


def _not_utf8(where: str, number: int, names: Sequence[str]) -> SourceError:
    column = f", column {names[number - 1]}" if number <= len(names) else ""
    return SourceError("the text is not UTF-8", where + column, "save the file as UTF-8")


def _ragged(where: str, row: Sequence[str], names: Sequence[str]) -> SourceError:
    start = ", ".join(row)[:60]
    return SourceError(
        f"this row has {len(row)} cells where the header has {len(names)}: {start}",
        where,
        "put the row right; a cell that holds the delimiter must stand in quotes",
    )
