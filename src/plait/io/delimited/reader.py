"""Delimited text as a source."""

from __future__ import annotations

import io
from collections.abc import Iterable, Iterator, Sequence
from contextlib import closing, contextmanager
from dataclasses import replace
from functools import partial
from typing import IO, Any

import numpy as np
import pyarrow as pa

from plait.core.base.errors import SourceError
from plait.core.job.executor import map_ordered
from plait.core.job.spill_columns import ColumnBuilder
from plait.core.table.arrow_columns import clean_headings
from plait.core.table.fragment import RowNumbers
from plait.core.table.source_lines import LINE, Steps, joined
from plait.core.table.table import Table, table_from_columns
from plait.io.cells.head_and_foot import read_header
from plait.io.delimited.blocks import RecordBlock, split_into_blocks
from plait.io.delimited.dialect import csv_reader, find_dialect
from plait.io.delimited.parse import DelimitedSchema, ParsedBlock, parse_block
from plait.io.delimited.read import (
    DelimitedBatches,
    IrregularRowError,
    NotUtf8Error,
    gathered,
    open_headed,
    read_batches,
    read_delimited,
    record_blocks,
)
from plait.io.places.fetch import open_bytes, source_checksum
from plait.io.places.source import (
    DELIMITED,
    STANDARD_INPUT,
    Dialect,
    OnProgress,
    RefetchedRow,
    Source,
)

fingerprint = source_checksum


def tables(source: Source) -> None:
    """A text file is one table."""


def columns(source: Source) -> list[str]:
    """The names of the columns, from the first bytes."""
    raw: Any = open_bytes(source)
    with io.BufferedReader(raw) as stream:
        head = stream.read(1 << 16)
    dialect = find_dialect(head, Dialect(), _usual(source), source.where)
    text = head.decode(dialect.encoding or "utf-8", "replace").lstrip("\ufeff").encode()
    line = dialect.header_line or 1
    rows = dialect.header_rows or 1
    header = read_header(text, dialect.delimiter or ",", source.where, line, rows)
    return clean_headings(header.names, source.where)[0]


def read(source: Source, on_progress: OnProgress) -> Table:
    """The table.

    Once more as Windows-1252 where a letter far down shows that it is not UTF-8 after all.
    """
    # Unpacked bytes do not tell how far it has come in a packed file: that is told at the end.
    packed = bool(source.packed or source.member)
    try:
        with open_bytes(source) as stream:
            table = read_stream(source, stream, (lambda _: None) if packed else on_progress)
        if packed:
            on_progress(source.size)
        return table
    except NotUtf8Error as error:
        if source.options.dialect.encoding or not error.ascii_above:
            raise
    dialect = replace(source.options.dialect, encoding="cp1252")
    again = replace(source, options=replace(source.options, dialect=dialect))
    with open_bytes(again) as stream:
        return read_stream(again, stream, lambda _: None)


def read_stream(source: Source, stream: IO[bytes], on_progress: OnProgress) -> Table:
    """The table that is in an open stream."""
    read_options = source.options
    return read_delimited(
        stream,
        source.name,
        source.where,
        _usual(source),
        read_options.dialect,
        read_options.ragged,
        read_options.footer,
        on_progress,
        read_options.limits,
    )


def first(source: Source, rows: int) -> Table | None:
    """The first rows, unless only the whole file can tell what is right."""
    if source.path == STANDARD_INPUT or source.options.footer:
        return None
    try:
        with opened_batches(source) as opened:
            parts = _until(opened.parts, rows)
            table, _ = gathered(parts, opened.names, source.name, source.where)
            return replace(table, findings=opened.findings, read_as=opened.written)
    except (IrregularRowError, NotUtf8Error):
        return None


@contextmanager
def opened_batches(
    source: Source, on_progress: OnProgress = lambda _: None
) -> Iterator[DelimitedBatches]:
    """Delimited text that is read a stretch of rows at a time.

    Raises
    ------
    SourceError
        When it cannot be read.
    """
    try:
        with open_bytes(source) as stream:
            read_options = source.options
            usual = _usual(source)
            yield read_batches(
                stream, source.where, usual, read_options.dialect, on_progress, read_options.limits
            )
    except IsADirectoryError:
        raise SourceError("this is a folder", source.path, "name a file") from None


def _until(parts: Iterator[ParsedBlock], rows: int) -> Iterator[ParsedBlock]:
    """Parts of a file, until there are so many rows."""
    with closing(parts) as drawn:  # type: ignore[type-var]
        for part in drawn:
            yield part
            rows -= part.rows
            if rows <= 0:
                return


def rows_at(
    source: Source, rows: Sequence[int], keys: Sequence[str] = ()
) -> dict[int, RefetchedRow]:
    """The records of those numbers, found block by block."""
    with open_bytes(source) as stream:
        return _records_at(source, stream, sorted(set(rows)))


def read_rows(source: Source, rows: RowNumbers) -> Table | None:
    """Some rows of a file that Plait wrote, by their numbers from 0, ascending; they know these.

    Blocks of the file that have none of them are not parsed.
    """
    try:
        with open_bytes(source) as stream:
            return _selected(source, stream, rows)
    except IrregularRowError:
        return None


def _selected(source: Source, stream: IO[bytes], rows: RowNumbers) -> Table:
    where = source.where
    text, rest, header, names, _, dialect = open_headed(
        stream, where, _usual(source), source.options.dialect, lambda _: None
    )
    assert dialect.delimiter
    shape = DelimitedSchema(tuple(names), dialect.delimiter, True)
    most = source.options.limits.record
    blocks = split_into_blocks(
        text,
        rest,
        dialect.delimiter,
        where,
        lambda _: None,
        header.lines,
        most,
    )
    shelf, lines, begin = ColumnBuilder(names), list[Steps](), 0
    parse = partial(_parse_wanted, shape=shape)
    for part, number in map_ordered(parse, _with_wanted(blocks, rows, len(names) == 1)):
        here = rows[np.searchsorted(rows, begin) : np.searchsorted(rows, begin + number)] - begin
        if part.columns and len(here):
            whole = part.rows == number
            shelf.append([c.take(pa.array(here)) for c in part.columns] if whole else part.columns)
        if part.lines is not None:
            lines.append((part.lines[0] + begin, part.lines[1]))
        begin += number
    table = table_from_columns(source.name, shelf.finish([pa.string()] * len(names)), where)
    if table.rows != len(rows):
        raise SourceError(f"the file has {begin:,} rows, and not as many as it had", where)
    return table.with_row_numbers(rows).with_lines(joined(LINE, lines))


def _with_wanted(
    blocks: Iterable[RecordBlock], rows: RowNumbers, single: bool
) -> Iterator[tuple[RecordBlock, RowNumbers | None]]:
    """The blocks, with those of the rows that each has, from 0; ``None`` where nobody knows.

    A block without quotes has as many rows as lines. Behind one with quotes nobody knows which
    rows follow until it is parsed. Nor where there is one column: a blank line may be a row.
    """
    begin: int | None = None if single else 0
    for block in blocks:
        if begin is None or block.quoted:
            begin = None
            yield block, None
            continue
        end = begin + block.ends + (block.data[-1] != ord("\n"))
        yield block, rows[np.searchsorted(rows, begin) : np.searchsorted(rows, end)] - begin
        begin = end
        if begin > int(rows[-1] if len(rows) else -1):
            return


def _parse_wanted(
    wanted: tuple[RecordBlock, RowNumbers | None], shape: DelimitedSchema
) -> tuple[ParsedBlock, int]:
    """A block parsed, or only the lines of it that are wanted; and how many rows it has."""
    block, rows = wanted
    if rows is None:
        part = parse_block(block, shape)
        if part.fault or part.ragged:
            raise IrregularRowError
        return part, part.rows
    number = block.ends + (block.data[-1] != ord("\n"))
    lines = np.array([0]), np.array([block.lines + 1])
    if len(rows) == number:
        return replace(parse_block(block, shape), lines=lines), number
    data = _lines(block.data, rows)
    block.release()
    if not data:
        return ParsedBlock(None, True, lines=lines), number
    few = RecordBlock(memoryview(data), False, block.ascii, block.lines, len(rows))
    part = parse_block(few, shape)
    if part.rows != len(rows):
        raise IrregularRowError
    return replace(part, lines=lines), number


def _lines(data: memoryview, rows: RowNumbers) -> bytes:
    """Some lines of a text; those that follow one another are taken together."""
    ends = np.flatnonzero(np.frombuffer(data, np.uint8) == ord("\n")) + 1
    begins = np.concatenate([[0], ends])
    ends = np.append(ends, len(data))
    last = np.append(np.diff(rows) != 1, True)[: len(rows)]
    first = np.append(True, last[:-1])[: len(rows)]
    spans = zip(begins[rows[first]].tolist(), ends[rows[last]].tolist(), strict=True)
    return b"".join(data[begin:end] for begin, end in spans)


def _records_at(source: Source, stream: IO[bytes], rows: Sequence[int]) -> dict[int, RefetchedRow]:
    names, delimiter, found = record_blocks(
        stream, source.where, _usual(source), source.options.dialect
    )
    looked: dict[int, RefetchedRow] = {}
    begin = 0
    for data, records, lines in found:
        here = [row - begin for row in rows if begin <= row < begin + records]
        if here:
            for row, record in _records(data, delimiter, names, set(here), lines).items():
                looked[begin + row] = record
        begin += records
        if begin > rows[-1]:
            break
    return looked


def _records(
    data: bytes, delimiter: str, names: Sequence[str], wanted: set[int], lines: int
) -> dict[int, RefetchedRow]:
    text = io.StringIO(data.decode("utf-8", "replace"), newline="")
    reader = csv_reader(text, delimiter=delimiter)
    looked: dict[int, RefetchedRow] = {}
    row, line = 0, lines + 1
    for cells in reader:
        if cells or len(names) == 1:
            if row in wanted:
                looked[row] = RefetchedRow(line, dict(zip(names, cells or [""], strict=False)))
            row += 1
        line = lines + reader.line_num + 1
    return looked


def _usual(source: Source) -> str:
    """The delimiter that its ending stands for."""
    return DELIMITED.get(source.ending, ",")
