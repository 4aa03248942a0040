"""Rows and names of tables that have to be read whole for them."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np

from plait.core.table.table import Table
from plait.core.table.whence import place_in, source_rows
from plait.core.text.cells import as_text
from plait.formats.places.reader import Looked, Tick
from plait.formats.places.source import Source

Read = Callable[[Source, Tick], Table]


def names_of(read: Read) -> Callable[[Source], list[str]]:
    """What tells the names of the columns, for a reader that reads the whole."""

    def columns(source: Source) -> list[str]:
        return list(read(source, lambda _: None).column_names)

    return columns


def rows_of_table(read: Read) -> Callable[..., dict[int, Looked]]:
    """What looks rows up, for a reader that reads the whole."""

    def rows_at(source: Source, rows: Sequence[int], keys: Sequence[str] = ()) -> dict[int, Looked]:
        return looked_up(read(source, lambda _: None), rows)

    return rows_at


def looked_up(table: Table, rows: Sequence[int]) -> dict[int, Looked]:
    """The rows of a table that was read whole, by their numbers in the source."""
    _, numbers = source_rows(table.strands[0], np.arange(table.rows))
    (origin,) = table.strands[0].origins
    looked: dict[int, Looked] = {}
    for row in rows:
        at = np.flatnonzero(numbers == row)
        if len(at):
            place = place_in(origin, row)
            looked[row] = Looked(place.line, cells_at(table, int(at[0])), unit=place.unit)
    return looked


def cells_at(table: Table, row: int) -> dict[str, str]:
    """The cells of a row as text, by column."""
    return {
        column.name: as_text(table.cells(column, row, row + 1))[0].as_py() or ""
        for column in table.columns
    }
