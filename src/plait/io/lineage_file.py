"""The lineage of a dataset as a Parquet file.

Lineage numbers the rows of a source as they were read. Here each number has its key, and a
sum of the row's cells, which tells later whether the row is as it was.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.parquet

from plait.core.job.executor import map_ordered
from plait.core.lineage.paths import LineagePath, lineage_path, lineage_paths, row_checksums
from plait.core.table.fragment import (
    Fragment,
    PrimaryKeyCells,
    SourceOrigin,
    gather_cells,
    row_number_dtype,
)
from plait.core.table.table import Column, Table

ROW_GROUP = 1 << 20
AT = " at"
STATED = b"plait"

Numbers = npt.NDArray[np.int64]

KEYS = "lineage-keys.parquet"
_SCHEMA = pa.schema([("key", pa.string()), ("sum", pa.int64())])


def write_lineage(
    table: Table, starts: Mapping[str, int], stated: Mapping[str, Any], target: Path
) -> None:
    """Write the lineage of a table as Parquet.

    Parameters
    ----------
    starts : mapping of str to int
        Where each source begins when the rows of all are numbered through from 0.
    stated : mapping
        What is written beside the rows, as JSON, in the file's metadata.

    Notes
    -----
    A column for each way that leads to sources: a number in each row, missing
    where no source row went in; lists of numbers where several rows were brought
    together. A list that many rows have is in the first of them, and a column
    ``at`` beside it says which row that is. Numbers that tell which of several
    cells a cell was made of are in columns of their own. Numbers are written by
    their differences, so that rows in order take next to no room.
    """
    ways = lineage_paths(table)
    total = max([*starts.values(), 0]) + max((origin.rows for origin in _origins(ways)), default=0)
    kind = pa.from_numpy_dtype(row_number_dtype(total))
    makers = [maker for way in ways for maker in _columns(way, starts, kind, table.rows)]
    makers += [_numbered(table, *t) for t in _told_apart(table)]
    schema = pa.schema(
        [pa.field(one.name, one.kind) for one in makers],
        {STATED: json.dumps(stated, ensure_ascii=False).encode()},
    )
    encoding = {m.name: "DELTA_BINARY_PACKED" for m in makers if pa.types.is_integer(m.kind)}
    with pa.parquet.ParquetWriter(
        target,
        schema,
        compression="zstd",
        compression_level=1,
        use_dictionary=False,
        column_encoding=encoding or None,
        write_statistics=False,
    ) as writer:

        def group(span: tuple[int, int]) -> pa.Table:
            return pa.Table.from_arrays([maker.make(*span) for maker in makers], schema=schema)

        for made in map_ordered(group, list(table.row_ranges(ROW_GROUP))):
            writer.write_table(made, row_group_size=ROW_GROUP)


@dataclass(frozen=True)
class _Maker:
    """A column of the file, and what makes it for rows ``start`` to ``stop``."""

    name: str
    kind: pa.DataType
    make: Callable[[int, int], pa.Array]


def describe_column_provenance(
    table: Table, name: str, ways: Sequence[LineagePath]
) -> list[dict[str, Any]]:
    """Which source cells a column was made of, as it is beside the lineage.

    ``ways`` are the table's threads.

    Returns
    -------
    list of dict
        ``way`` (a column of the lineage), ``columns`` (source to its columns),
        ``absent`` (ways that lead nowhere on the rows for which this holds),
        ``which`` (columns of numbers, and the number that is there then).
    """

    def way(number: int) -> str:
        return lineage_path(table.fragments[number], ways).name

    made = []
    for term in table.provenance(name):
        columns: dict[str, list[str]] = {}
        for source, column in term.source_columns:
            columns.setdefault(source, []).append(column)
        made.append(
            {
                "way": way(term.fragment),
                "columns": columns,
                "absent": [way(number) for number in term.where_absent],
                "which": [[_which_name(n, stored), value] for n, stored, value in term.where_equal],
            }
        )
    return made


def _told_apart(table: Table) -> list[tuple[int, str]]:
    """The stored columns of numbers that tell which cells went into a cell."""
    every = (term for name in table.column_names for term in table.provenance(name))
    return list(dict.fromkeys((n, stored) for term in every for n, stored, _ in term.where_equal))


def _which_name(fragment: int, stored: str) -> str:
    return f"{stored.strip()} {fragment}"


def _numbered(table: Table, fragment: int, stored: str) -> _Maker:
    column = Column(stored, ((fragment, stored),))

    def make(start: int, stop: int) -> pa.Array:
        return table.cells(column, start, stop).cast(pa.int32())

    return _Maker(_which_name(fragment, stored), pa.int32(), make)


def _columns(
    way: LineagePath, starts: Mapping[str, int], kind: pa.DataType, rows: int
) -> Iterator[_Maker]:
    """The column of a way, and the one that leads to a list that stands elsewhere."""
    if not way.has_groups:
        yield _Maker(way.name, kind, partial(_column, way, starts, kind))
        return
    lists = pa.list_(kind)
    numbers = _first_of_same(way.fragment, rows)
    yield _Maker(way.name, lists, partial(_lists, way, starts, lists, numbers))
    if numbers is None:
        return
    leading: Numbers = numbers

    def at(start: int, stop: int) -> pa.Array:
        return pa.array(leading[start:stop], mask=leading[start:stop] < 0)

    yield _Maker(f"{way.name}{AT}", pa.int64(), at)


def _first_of_same(fragment: Fragment, rows: int) -> Numbers | None:
    """For each row the first that shows the same stored row; ``None`` if no two do."""
    if fragment.selection is None:
        return None
    shown = fragment.selection.astype(np.int64)
    first = np.full(fragment.stored_rows + 1, -1, np.int64)
    first[shown[::-1]] = np.arange(rows - 1, -1, -1)
    first[-1] = -1
    numbers: Numbers = first[shown]
    return None if (numbers[shown >= 0] == np.flatnonzero(shown >= 0)).all() else numbers


def _origins(ways: Sequence[LineagePath]) -> Iterator[Any]:
    for way in ways:
        yield from way.origins


def _numbers(way: LineagePath, starts: Mapping[str, int], rows: Numbers) -> tuple[Numbers, Numbers]:
    """The numbers of the source rows of some rows, and which of these each belongs to."""
    which, origin, within = way.rows_at(rows)
    begin = np.array([starts[o.name] for o in way.origins], np.int64)
    return within + (begin[0] if len(begin) == 1 else begin.take(origin)), which


def _lists(
    way: LineagePath,
    starts: Mapping[str, int],
    kind: pa.DataType,
    first: Numbers | None,
    start: int,
    stop: int,
) -> pa.Array:
    """Of each row the list; where many rows have the same, in the first of them only.

    No other list is made: rows that have one together may be many times as many as it is long.
    """
    rows = np.arange(start, stop)
    own = np.ones(len(rows), bool) if first is None else first[start:stop] == rows
    numbers, which = _numbers(way, starts, rows[own])
    times = np.zeros(len(rows), np.int64)
    times[own] = np.bincount(which, minlength=int(own.sum()))
    offsets = np.concatenate([[0], np.cumsum(times)]).astype(np.int32)
    values = pa.array(numbers.astype(np.dtype(str(kind.value_type))))
    absent = None if own.all() else pa.array(~own)
    return pa.ListArray.from_arrays(pa.array(offsets), values, mask=absent)


def _column(
    way: LineagePath, starts: Mapping[str, int], kind: pa.DataType, start: int, stop: int
) -> pa.Array:
    numbers, which = _numbers(way, starts, np.arange(start, stop))
    if len(which) == stop - start:
        return pa.array(numbers.astype(np.dtype(str(kind))))
    made = np.zeros(stop - start, np.dtype(str(kind)))
    there = np.zeros(stop - start, bool)
    made[which], there[which] = numbers, True
    return pa.array(made, mask=~there)


def read_lineage(path: Path, rows: Sequence[int]) -> tuple[dict[str, Any], list[dict[str, Any]]]:
    """What is stated beside a lineage, and the lineage of some rows.

    Parameters
    ----------
    rows : sequence of int
        From 0.

    Returns
    -------
    lineage : list of dict
        For each row the number, numbers or ``None`` of each way.
    """
    with pa.parquet.ParquetFile(path) as file:
        stated = json.loads(file.schema_arrow.metadata[STATED])
        lineage_rows = read_lineage_rows(file, rows)
        there = {row[key] for row in lineage_rows.values() for key in row if key.endswith(AT)} - {
            None
        }
        lists = read_lineage_rows(file, sorted(there))
    for lineage_row in lineage_rows.values():
        for key in [key for key in lineage_row if key.endswith(AT)]:
            at = lineage_row.pop(key)
            lineage_row[key.removesuffix(AT)] = (
                None if at is None else lists[at][key.removesuffix(AT)]
            )
    return stated, [lineage_rows[row] for row in rows]


def read_lineage_rows(file: Any, rows: Sequence[int]) -> dict[int, dict[str, Any]]:
    """Some rows of the file, by their numbers from 0."""
    found, begin = {}, 0
    for number in range(file.num_row_groups):
        size = file.metadata.row_group(number).num_rows
        here = [row for row in rows if begin <= row < begin + size]
        if here:
            group = file.read_row_group(number)
            for row in here:
                found[row] = group.slice(row - begin, 1).to_pylist()[0]
        begin += size
    return found


def find_primary_key(table: Table) -> PrimaryKeyCells | None:
    """The key by which the rows of a table, as it was read, are known."""
    origins = table.fragments[0].origins
    return next(
        (origin.primary_key for origin in origins if isinstance(origin, SourceOrigin)), None
    )


def key_offsets(tables: Sequence[Table]) -> dict[str, int]:
    """Where the keys of each table begin that has some, by the tables' names."""
    starts, begin = {}, 0
    for table in tables:
        if find_primary_key(table):
            starts[table.name] = begin
            begin += table.fragments[0].stored_rows
    return starts


def write_row_keys(tables: Sequence[Table], target: Path) -> int:
    """Write the keys of all rows that are known by one, table by table; how many rows.

    Parameters
    ----------
    tables : sequence of Table
        As they were read.
    """
    rows = 0
    with pa.parquet.ParquetWriter(
        target, _SCHEMA, compression="zstd", compression_level=1, use_dictionary=False
    ) as writer:
        for made in map_ordered(_key_batch, list(_spans(tables)), ahead=1):
            writer.write_batch(made, row_group_size=ROW_GROUP)
            rows += len(made)
    return rows


def _spans(tables: Sequence[Table]) -> Iterator[tuple[PrimaryKeyCells, int, int]]:
    for table in tables:
        known, rows = find_primary_key(table), table.fragments[0].stored_rows
        for start in range(0, rows if known else 0, ROW_GROUP):
            assert known
            yield known, start, min(start + ROW_GROUP, rows)


def _key_batch(span: tuple[PrimaryKeyCells, int, int]) -> pa.RecordBatch:
    known, start, stop = span
    rows = np.arange(start, stop)
    sums = row_checksums(
        (gather_cells(column, rows) for column in known.columns.values()), len(rows)
    )
    made = [known.to_json_texts(rows), pa.array(sums.view(np.int64))]
    return pa.RecordBatch.from_arrays(made, schema=_SCHEMA)


def read_row_keys(path: Path, rows: Sequence[int]) -> Mapping[int, tuple[str, int]]:
    """The keys and sums of some rows of the file, by their numbers in it."""
    with pa.parquet.ParquetFile(path) as file:
        lineage_rows = read_lineage_rows(file, rows)
    return {
        row: (lineage_row["key"], lineage_row["sum"]) for row, lineage_row in lineage_rows.items()
    }
