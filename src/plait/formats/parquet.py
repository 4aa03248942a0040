"""Writing Parquet: each column in the type that was found for it."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path

import pyarrow as pa
import pyarrow.parquet

from plait.core.kinds import arrow_type, as_kind, kind_of, likely_kind, simplest_type
from plait.core.parallel import ordered_map
from plait.core.table import Table
from plait.core.text import is_text

ROW_GROUP = 1 << 20

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
    A glance decides the types at first, and each cell is checked as it is
    converted, while others are written. Should one turn out not to be of the
    type, all cells are looked at and the file is written once more.
    """
    columns = {name: table.whole(name) for name in table.column_names}
    try:
        likely = {name: likely_kind(column) for name, column in columns.items()}
        types = {name: simplest_type(kind) for name, kind in likely.items()}
        _write(columns, likely, types, target, tick)
    except pa.ArrowInvalid:
        sure = {name: kind_of(column) for name, column in columns.items()}
        types = {name: arrow_type(sure[name], column) for name, column in columns.items()}
        _write(columns, sure, types, target, lambda _: None)


def _write(
    columns: Mapping[str, pa.ChunkedArray],
    kinds: Mapping[str, str],
    types: Mapping[str, pa.DataType | None],
    target: Path,
    tick: Tick,
) -> None:
    schema = pa.schema([(name, types[name] or columns[name].type) for name in columns])
    rows = len(next(iter(columns.values()))) if columns else 0

    def group(start: int) -> pa.Table:
        cells = [
            pa.chunked_array(
                [
                    as_kind(chunk, kinds[name], schema.field(number).type)
                    for chunk in column.slice(start, ROW_GROUP).chunks
                ],
                schema.field(number).type,
            )
            for number, (name, column) in enumerate(columns.items())
        ]
        return pa.Table.from_arrays(cells, schema=schema)

    # The least and greatest text of a row group cost more time than any reader gets back.
    ranged = [field.name for field in schema if not is_text(field.type)]
    with pa.parquet.ParquetWriter(target, schema, write_statistics=ranged or False) as writer:
        for made in ordered_map(group, range(0, rows, ROW_GROUP), ahead=1):
            writer.write_table(made, row_group_size=ROW_GROUP)
            tick(made.num_rows)
