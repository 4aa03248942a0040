"""JSON, and JSON lines, as a source."""

from __future__ import annotations

from dataclasses import replace

from plait.core.table.table import Table
from plait.formats.cells.rows import names_of, rows_of_table
from plait.formats.json.reading import array_names, read_json
from plait.formats.places.endings import JSON
from plait.formats.places.reader import Tables, Tick
from plait.formats.places.source import Source
from plait.formats.remote.opening import checksum, open_bytes

fingerprint = checksum


def tables(source: Source) -> Tables | None:
    """The arrays of records in a file of JSON, if it has several."""
    if _in_lines(source):
        return None
    with open_bytes(source) as text:
        names = array_names(text, source.where, source.given.limits)
    return Tables(tuple(names) if len(names) > 1 else ("",), called="array", others=True)


def read(source: Source, tick: Tick) -> Table:
    """The table, with the types that JSON has."""
    lines = _in_lines(source)
    with open_bytes(source) as stream:
        table = read_json(
            stream, source.name, source.where, source.part, lines, tick, source.given.limits
        )
    return replace(table, written="JSON lines" if lines else "JSON")


def first(source: Source, rows: int) -> Table | None:
    """The first records of lines; an array has to be read whole."""
    if not _in_lines(source):
        return None
    with open_bytes(source) as stream:
        limits = source.given.limits
        return read_json(stream, source.name, source.where, "", True, limits=limits, most=rows)


def _in_lines(source: Source) -> bool:
    return source.ending != JSON


columns = names_of(read)
rows_at = rows_of_table(read)
