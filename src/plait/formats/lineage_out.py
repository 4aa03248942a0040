"""Writing lineage: for every row of a result the rows of the sources that it came from."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.parquet

from plait.core.lineage import Thread, threads
from plait.core.parallel import ordered_map
from plait.core.strand import rows_dtype
from plait.core.table import Table

ROW_GROUP = 1 << 20
STATED = b"plait"


def write_lineage(
    table: Table, starts: Mapping[str, int], stated: Mapping[str, Any], target: Path
) -> None:
    """Write the lineage of a table as Parquet.

    Parameters
    ----------
    table : Table
    starts : mapping of str to int
        Where each source begins when the rows of all are numbered through from 0.
    stated : mapping
        What is written beside the rows, as JSON, in the file's metadata.
    target : Path

    Notes
    -----
    A column for each way that leads to sources: a number in each row, missing
    where no source row went in; lists of numbers where several rows were brought
    together. Numbers are written by their differences, so that rows in order
    take next to no room.
    """
    ways = threads(table)
    total = max([*starts.values(), 0]) + max((one.rows for one in _origins(ways)), default=0)
    kind = pa.from_numpy_dtype(rows_dtype(total))
    schema = pa.schema(
        [pa.field(way.name, pa.list_(kind) if way.several else kind) for way in ways],
        {STATED: json.dumps(stated, ensure_ascii=False).encode()},
    )
    encoding = {way.name: "DELTA_BINARY_PACKED" for way in ways if not way.several}
    with pa.parquet.ParquetWriter(
        target,
        schema,
        compression="zstd",
        compression_level=1,
        use_dictionary=False,
        column_encoding=encoding or None,
        write_statistics=False,
    ) as writer:
        for made in ordered_map(
            lambda span: _group(ways, starts, schema, *span), list(table.spans(ROW_GROUP))
        ):
            writer.write_table(made, row_group_size=ROW_GROUP)


def _origins(ways: Sequence[Thread]) -> Iterator[Any]:
    for way in ways:
        yield from way.origins


def _group(
    ways: Sequence[Thread], starts: Mapping[str, int], schema: pa.Schema, start: int, stop: int
) -> pa.Table:
    columns = [
        _column(way, starts, field.type, start, stop)
        for way, field in zip(ways, schema, strict=True)
    ]
    return pa.Table.from_arrays(columns, schema=schema)


def _column(
    way: Thread, starts: Mapping[str, int], kind: pa.DataType, start: int, stop: int
) -> pa.Array:
    """The numbers of the source rows of some rows."""
    which, origin, within = way.rows(start, stop)
    begin = np.array([starts[one.name] for one in way.origins], np.int64)
    numbers = within + (begin[0] if len(begin) == 1 else begin.take(origin))
    if way.several:
        times = np.bincount(which, minlength=stop - start)
        offsets = np.concatenate([[0], np.cumsum(times)]).astype(np.int32)
        values = pa.array(numbers.astype(kind.value_type.to_pandas_dtype()))
        return pa.ListArray.from_arrays(pa.array(offsets), values)
    if len(which) == stop - start:
        return pa.array(numbers.astype(kind.to_pandas_dtype()))
    made = np.zeros(stop - start, kind.to_pandas_dtype())
    there = np.zeros(stop - start, bool)
    made[which], there[which] = numbers, True
    return pa.array(made, mask=~there)


def read_lineage(path: Path, rows: Sequence[int]) -> tuple[dict[str, Any], list[dict[str, Any]]]:
    """What is stated beside a lineage, and the lineage of some rows.

    Parameters
    ----------
    path : Path
    rows : sequence of int
        From 0.

    Returns
    -------
    stated : dict
    lineage : list of dict
        For each row the number, numbers or ``None`` of each way.
    """
    with pa.parquet.ParquetFile(path) as file:
        stated = json.loads(file.schema_arrow.metadata[STATED])
        found, begin = {}, 0
        for number in range(file.num_row_groups):
            size = file.metadata.row_group(number).num_rows
            here = [row for row in rows if begin <= row < begin + size]
            if here:
                group = file.read_row_group(number)
                for row in here:
                    found[row] = group.slice(row - begin, 1).to_pylist()[0]
            begin += size
    return stated, [found[row] for row in rows]
