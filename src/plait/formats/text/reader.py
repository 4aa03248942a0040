"""Delimited text as a source."""

from __future__ import annotations

import io
from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager
from dataclasses import replace
from typing import IO, Any

from plait.core.account.errors import SourceError
from plait.core.table.headings import usable_names
from plait.core.table.table import Table
from plait.formats.cells.header import read_header
from plait.formats.places.endings import DELIMITED
from plait.formats.places.given import Dialect
from plait.formats.places.reader import Looked, Tick
from plait.formats.places.source import STANDARD_INPUT, Source
from plait.formats.remote.opening import checksum, open_bytes
from plait.formats.text.dialect import csv_reader, find_dialect
from plait.formats.text.parsing import Part
from plait.formats.text.reading import (
    Batches,
    NotRegularError,
    NotUtf8Error,
    gathered,
    read_batches,
    read_delimited,
    record_blocks,
)

fingerprint = checksum


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
    return usable_names(header.names, source.where)[0]


def read(source: Source, tick: Tick) -> Table:
    """The table.

    Once more as Windows-1252 where a letter far down shows that it is not UTF-8 after all.
    """
    try:
        with open_bytes(source) as stream:
            return read_stream(source, stream, tick)
    except NotUtf8Error as error:
        if source.given.dialect.encoding or not error.ascii_above:
            raise
    dialect = replace(source.given.dialect, encoding="cp1252")
    again = replace(source, given=replace(source.given, dialect=dialect))
    with open_bytes(again) as stream:
        return read_stream(again, stream, lambda _: None)


def read_stream(source: Source, stream: IO[bytes], tick: Tick) -> Table:
    """The table that is in an open stream."""
    given = source.given
    return read_delimited(
        stream,
        source.name,
        source.where,
        _usual(source),
        given.dialect,
        given.ragged,
        given.footer,
        tick,
        given.limits,
    )


def first(source: Source, rows: int) -> Table | None:
    """The first rows, unless only the whole file can tell what is right."""
    if source.path == STANDARD_INPUT or source.given.footer:
        return None
    try:
        with opened_batches(source) as opened:
            parts = _until(opened.parts, rows)
            table, _ = gathered(parts, opened.names, source.name, source.where)
            return replace(table, findings=opened.findings, written=opened.written)
    except (NotRegularError, NotUtf8Error):
        return None


@contextmanager
def opened_batches(source: Source, tick: Tick = lambda _: None) -> Iterator[Batches]:
    """Delimited text that is read a stretch of rows at a time.

    Raises
    ------
    SourceError
        When it cannot be read.
    """
    try:
        with open_bytes(source) as stream:
            given = source.given
            usual = _usual(source)
            yield read_batches(stream, source.where, usual, given.dialect, tick, given.limits)
    except IsADirectoryError:
        raise SourceError("this is a folder", source.path, "name a file") from None


def _until(parts: Iterator[Part], rows: int) -> Iterator[Part]:
    """Parts of a file, until there are so many rows."""
    with closing(parts) as drawn:  # type: ignore[type-var]
        for part in drawn:
            yield part
            rows -= part.rows
            if rows <= 0:
                return


def rows_at(source: Source, rows: Sequence[int], keys: Sequence[str] = ()) -> dict[int, Looked]:
    """The records of those numbers, found block by block."""
    with open_bytes(source) as stream:
        return _records_at(source, stream, sorted(set(rows)))


def _records_at(source: Source, stream: IO[bytes], rows: Sequence[int]) -> dict[int, Looked]:
    names, delimiter, found = record_blocks(
        stream, source.where, _usual(source), source.given.dialect
    )
    looked: dict[int, Looked] = {}
    begin = 0
    for data, records, lines in found:
        here = [row - begin for row in rows if begin <= row < begin + records]
        if here:
            for row, one in _records(data, delimiter, names, set(here), lines).items():
                looked[begin + row] = one
        begin += records
        if begin > rows[-1]:
            break
    return looked


def _records(
    data: bytes, delimiter: str, names: Sequence[str], wanted: set[int], lines: int
) -> dict[int, Looked]:
    text = io.StringIO(data.decode("utf-8", "replace"), newline="")
    reader = csv_reader(text, delimiter=delimiter)
    looked: dict[int, Looked] = {}
    row, line = 0, lines + 1
    for cells in reader:
        if cells or len(names) == 1:
            if row in wanted:
                looked[row] = Looked(line, dict(zip(names, cells or [""], strict=False)))
            row += 1
        line = lines + reader.line_num + 1
    return looked


def _usual(source: Source) -> str:
    """The delimiter that its ending stands for."""
    return DELIMITED.get(source.ending, ",")
