"""The keys by which rows of databases are known, kept beside the lineage.

Lineage numbers the rows of a source as they were read. Here each number has its key, and a
sum of the row's cells, which tells later whether the row is as it was.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.parquet

from plait.core.account.parallel import ordered_map
from plait.core.lineage.rowsums import row_sums
from plait.core.table.strand import Known, Origin, gather
from plait.core.table.table import Table
from plait.formats.lineage_out import ROW_GROUP, rows_of

KEYS = "lineage-keys.parquet"
_SCHEMA = pa.schema([("key", pa.string()), ("sum", pa.int64())])


def known_of(table: Table) -> Known | None:
    """The key by which the rows of a table, as it was read, are known."""
    origins = table.strands[0].origins
    return next((one.known for one in origins if isinstance(one, Origin)), None)


def key_starts(tables: Sequence[Table]) -> dict[str, int]:
    """Where the keys of each table begin that has some, by the tables' names."""
    starts, begin = {}, 0
    for table in tables:
        if known_of(table):
            starts[table.name] = begin
            begin += table.strands[0].stored_rows
    return starts


def write_keys(tables: Sequence[Table], target: Path) -> int:
    """Write the keys of all rows that are known by one, table by table; how many rows.

    Parameters
    ----------
    tables : sequence of Table
        As they were read.
    target : Path
    """
    rows = 0
    with pa.parquet.ParquetWriter(
        target, _SCHEMA, compression="zstd", compression_level=1, use_dictionary=False
    ) as writer:
        for made in ordered_map(_made, list(_spans(tables)), ahead=1):
            writer.write_batch(made, row_group_size=ROW_GROUP)
            rows += len(made)
    return rows


def _spans(tables: Sequence[Table]) -> Iterator[tuple[Known, int, int]]:
    for table in tables:
        known, rows = known_of(table), table.strands[0].stored_rows
        for start in range(0, rows if known else 0, ROW_GROUP):
            assert known
            yield known, start, min(start + ROW_GROUP, rows)


def _made(span: tuple[Known, int, int]) -> pa.RecordBatch:
    known, start, stop = span
    rows = np.arange(start, stop)
    sums = row_sums((gather(one, rows) for one in known.columns.values()), len(rows))
    made = [known.texts(rows), pa.array(sums.view(np.int64))]
    return pa.RecordBatch.from_arrays(made, schema=_SCHEMA)


def read_keys(path: Path, rows: Sequence[int]) -> Mapping[int, tuple[str, int]]:
    """The keys and sums of some rows of the file, by their numbers in it."""
    with pa.parquet.ParquetFile(path) as file:
        found = rows_of(file, rows)
    return {row: (one["key"], one["sum"]) for row, one in found.items()}
