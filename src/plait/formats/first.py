"""The first rows of a source, without reading the rest of it."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import closing
from dataclasses import replace

import numpy as np
import pyarrow as pa

from plait.core.account.errors import SourceError
from plait.core.account.finding import Finding
from plait.core.table.table import Table, from_columns
from plait.formats.archives.packed import as_file
from plait.formats.endings import COLUMNAR, DELIMITED, JSON_LINES
from plait.formats.reading import Tick, open_bytes, opened_batches, read_source
from plait.formats.sources import STANDARD_INPUT, Source
from plait.formats.text.reading import NotRegularError, NotUtf8Error


def first_rows(source: Source, rows: int) -> tuple[Table, bool]:
    """The first rows of a source as they stand.

    Parameters
    ----------
    source : Source
    rows : int
        How many, at most.

    Returns
    -------
    table : Table
    cut : bool
        Whether the source has more.

    Raises
    ------
    SourceError
        When it cannot be opened, or its first part not be read.
    """
    if source.fault:
        raise source.fault
    try:
        table = _some(source, rows + 1)
    except OSError as error:
        raise SourceError(f"it cannot be read: {error.strerror}", source.path) from None
    if table is None:
        table = read_source(source)
    cut = table.rows > rows
    return (table.at(np.arange(rows)) if cut else table), cut


def sampled(source: Source, tick: Tick = lambda _: None, *, rows: int) -> Table | SourceError:
    """The first rows of a source, which says so where it has more; or why it cannot be read."""
    try:
        table, cut = first_rows(source, rows)
    except SourceError as error:
        return error
    tick(source.size)
    if not cut:
        return table
    said = Finding(
        "sample-only",
        "note",
        rows,
        f"all figures are of the first {rows:,} rows of {source.name}; it has more",
        "without --sample all rows are looked at",
        source.name,
    )
    return replace(table, findings=(*table.findings, said))


def _some(source: Source, rows: int) -> Table | None:
    """So many rows, or all; nothing where only the whole source can be read."""
    if source.path == STANDARD_INPUT:
        return None
    if source.ending in DELIMITED and not source.given.footer:
        return _delimited(source, rows)
    if source.ending in JSON_LINES:
        from plait.formats.json.reading import read_json

        with open_bytes(source) as stream:
            limits = source.given.limits
            return read_json(stream, source.name, source.where, "", True, limits=limits, most=rows)
    if source.ending in COLUMNAR:
        from plait.formats.columnar.reading import read_first

        with as_file(source.path, source.member, source.ending, source.given.limits) as file:
            return read_first(file, source.name, source.where, source.ending, rows)
    return None


def _delimited(source: Source, rows: int) -> Table | None:
    try:
        with opened_batches(source) as opened:
            stretches = list(_until(opened.columns, rows))
            columns = {
                name: pa.chunked_array([part[n] for part in stretches], pa.string())
                for n, name in enumerate(opened.names)
            }
            table = from_columns(source.name, columns, source.where)
            return replace(table, findings=opened.findings, written=opened.written)
    except (NotRegularError, NotUtf8Error):
        return None  # the whole file tells what is right


def _until(stretches: Iterator[list[pa.Array]], rows: int) -> Iterator[list[pa.Array]]:
    """Stretches, until there are so many rows."""
    with closing(stretches) as drawn:  # type: ignore[type-var]
        for columns in drawn:
            yield columns
            rows -= len(columns[0])
            if rows <= 0:
                return
