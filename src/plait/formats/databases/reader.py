"""SQLite files as a source: each table and view is one."""

from __future__ import annotations

from dataclasses import replace

from plait.core.table.table import Table
from plait.formats.cells.rows import names_of, rows_of_table
from plait.formats.databases.reading import read_database, table_names
from plait.formats.places.reader import Tables, Tick
from plait.formats.places.source import Source
from plait.formats.remote.opening import checksum, plain_file

fingerprint = checksum


def tables(source: Source) -> Tables:
    """The tables and views."""
    with plain_file(source) as file:
        return Tables(tuple(table_names(file, source.where)))


def read(source: Source, tick: Tick) -> Table:
    """The values that are stored."""
    with plain_file(source) as file:
        table = read_database(file, source.part, source.name, source.where, source.given.limits)
    tick(source.size)
    return replace(table, written="a table of a SQLite file")


def first(source: Source, rows: int) -> None:
    """A table has to be read whole: any of its values may be of another type."""


columns = names_of(read)
rows_at = rows_of_table(read)
