"""Parquet and Arrow files as a source."""

from __future__ import annotations

from dataclasses import replace

from plait.core.table.table import Table
from plait.formats.cells.rows import names_of, rows_of_table
from plait.formats.columnar.reading import read_columnar, read_first
from plait.formats.places.reader import Tick
from plait.formats.places.source import Source
from plait.formats.remote.opening import checksum, plain_file

fingerprint = checksum


def tables(source: Source) -> None:
    """Such a file is one table."""


def read(source: Source, tick: Tick) -> Table:
    """The table, with the types that the file gives."""
    most = source.given.limits.columns
    with plain_file(source) as file:
        table = read_columnar(file, source.name, source.where, source.ending, most)
    tick(source.size)
    return replace(table, written="Parquet" if source.ending == ".parquet" else "Arrow")


def first(source: Source, rows: int) -> Table | None:
    """The first rows."""
    with plain_file(source) as file:
        return read_first(file, source.name, source.where, source.ending, rows)


columns = names_of(read)
rows_at = rows_of_table(read)
