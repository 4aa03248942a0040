"""The first rows of a source, without reading the rest of it."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from plait.core.account.errors import SourceError
from plait.core.account.finding import Finding
from plait.core.table.table import Table
from plait.formats.places.reader import Tick, said_of
from plait.formats.places.source import STANDARD_INPUT, Source
from plait.formats.readers import reader_of
from plait.formats.reading import read_source


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
        table = None if source.path == STANDARD_INPUT else reader_of(source).first(source, rows + 1)
    except OSError as error:
        raise said_of(error, source) from None
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
        f"only the first {rows:,} rows of {source.name} were read; all figures are for these rows",
        "to use all rows, leave out --sample",
        source.name,
    )
    return replace(table, findings=(*table.findings, said))
