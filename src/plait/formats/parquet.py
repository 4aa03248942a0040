"""Writing Parquet: each column in the type that was found for it."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pyarrow as pa
import pyarrow.parquet

from plait.core.kinds import typed
from plait.core.table import Table

ROW_GROUP = 1 << 20


def write_parquet(table: Table, target: Path, tick: Callable[[int], None] = lambda _: None) -> None:
    """Write a table as Parquet.

    Parameters
    ----------
    table : Table
        A text column is written as integers, decimals, true/false, dates or
        times where all of its cells are such; empty cells are missing.
    target : Path
    tick : callable
        Told how many rows were written, each time.
    """
    columns = {name: typed(table.whole(name))[1] for name in table.column_names}
    schema = pa.schema([(name, column.type) for name, column in columns.items()])
    with pa.parquet.ParquetWriter(target, schema, compression="zstd", compression_level=1) as out:
        for start, stop in table.spans(ROW_GROUP):
            rows = [column.slice(start, stop - start) for column in columns.values()]
            out.write_table(pa.Table.from_arrays(rows, schema=schema), row_group_size=ROW_GROUP)
            tick(stop - start)
