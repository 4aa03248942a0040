"""Workbooks as a source: each sheet is a table."""

from __future__ import annotations

from dataclasses import replace

from plait.core.table.table import Table
from plait.formats.cells.rows import names_of, rows_of_table
from plait.formats.places.reader import Tables, Tick
from plait.formats.places.source import Source
from plait.formats.remote.opening import checksum, plain_file
from plait.formats.workbooks.reading import read_sheet, sheet_names

fingerprint = checksum


def tables(source: Source) -> Tables:
    """The sheets, the hidden ones apart."""
    with plain_file(source) as file:
        shown, hidden = sheet_names(file, source.where, source.given.limits)
    return Tables(tuple(shown), tuple(hidden), "sheet")


def read(source: Source, tick: Tick) -> Table:
    """The cells of a sheet."""
    given = source.given
    lines = given.dialect.header_line, given.dialect.header_rows
    with plain_file(source) as file:
        table = read_sheet(
            file,
            source.part,
            source.name,
            source.where,
            lines,
            given.footer,
            given.limits,
            given.merged,
            given.as_shown,
        )
    tick(source.size)
    return replace(table, written="a sheet of a workbook")


def first(source: Source, rows: int) -> None:
    """A sheet has to be read whole."""


columns = names_of(read)
rows_at = rows_of_table(read)
