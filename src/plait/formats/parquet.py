"""Writing Parquet: each column in the type that was found for it."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path

import pyarrow as pa
import pyarrow.parquet

from plait.core.kinds import arrow_type, as_kind, form_of, kind_of
from plait.core.parallel import ordered_map
from plait.core.table import Table

ROW_GROUP = 1 << 19

Tick = Callable[[int], None]


def write_parquet(table: Table, target: Path, tick: Tick = lambda _: None) -> None:
    """Write a table as Parquet.

    Parameters
    ----------
    table : Table
        A text column is written as integers, decimals, true/false, dates or
        times where all of its cells are such; empty cells are missing.
    target : Path
    tick : callable
        Told how many rows were written, each time.

    Notes
    -----
    The form of the cells decides at first, since that is quick; should a cell
    turn out to have the form and no value (a 30th of February), the columns are
    decided by their values and the file is written once more.
    """
    columns = {name: table.whole(name) for name in table.column_names}
    try:
        _write(columns, form_of, target, tick)
    except pa.ArrowInvalid:
        _write(columns, kind_of, target, lambda _: None)


def _write(
    columns: Mapping[str, pa.ChunkedArray],
    decide: Callable[[pa.ChunkedArray], str],
    target: Path,
    tick: Tick,
) -> None:
    types = {name: arrow_type(decide(column), column) for name, column in columns.items()}
    schema = pa.schema(list(types.items()))
    rows = len(next(iter(columns.values()))) if columns else 0

    def group(start: int) -> pa.Table:
        cells = [
            pa.chunked_array(
                [as_kind(chunk, types[name]) for chunk in column.slice(start, ROW_GROUP).chunks],
                types[name],
            )
            for name, column in columns.items()
        ]
        return pa.Table.from_arrays(cells, schema=schema)

    with pa.parquet.ParquetWriter(target, schema) as writer:
        for made in ordered_map(group, range(0, rows, ROW_GROUP)):
            writer.write_table(made, row_group_size=ROW_GROUP)
            tick(made.num_rows)
