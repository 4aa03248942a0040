"""Writing lineage: for every row of a result the rows of the sources that it came from."""

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
import pyarrow.compute as pc
import pyarrow.parquet

from plait.core.account.parallel import ordered_map
from plait.core.lineage.lineage import Thread, thread_of, threads
from plait.core.table.strand import Strand, rows_dtype
from plait.core.table.table import Column, Table

ROW_GROUP = 1 << 20
AT = " at"
STATED = b"plait"

Numbers = npt.NDArray[np.int64]


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
    together. A list that many rows have is in the first of them, and a column
    ``at`` beside it says which row that is. Numbers that tell which of several
    cells a cell was made of are in columns of their own. Numbers are written by
    their differences, so that rows in order take next to no room.
    """
    ways = threads(table)
    total = max([*starts.values(), 0]) + max((one.rows for one in _origins(ways)), default=0)
    kind = pa.from_numpy_dtype(rows_dtype(total))
    makers = [maker for way in ways for maker in _columns(way, starts, kind, table.rows)]
    makers += [_numbered(table, *one) for one in _told_apart(table)]
    schema = pa.schema(
        [pa.field(one.name, one.kind) for one in makers],
        {STATED: json.dumps(stated, ensure_ascii=False).encode()},
    )
    encoding = {one.name: "DELTA_BINARY_PACKED" for one in makers if pa.types.is_integer(one.kind)}
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
            return pa.Table.from_arrays([one.make(*span) for one in makers], schema=schema)

        for made in ordered_map(group, list(table.spans(ROW_GROUP))):
            writer.write_table(made, row_group_size=ROW_GROUP)


@dataclass(frozen=True)
class _Maker:
    """A column of the file, and what makes it for rows ``start`` to ``stop``."""

    name: str
    kind: pa.DataType
    make: Callable[[int, int], pa.Array]


def cells_stated(table: Table, name: str, ways: Sequence[Thread]) -> list[dict[str, Any]]:
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
        return thread_of(table.strands[number], ways).name

    made = []
    for leaf in table.leaves(name):
        columns: dict[str, list[str]] = {}
        for source, column in leaf.came:
            columns.setdefault(source, []).append(column)
        made.append(
            {
                "way": way(leaf.strand),
                "columns": columns,
                "absent": [way(number) for number in leaf.absent],
                "which": [[_which_name(n, stored), value] for n, stored, value in leaf.which],
            }
        )
    return made


def _told_apart(table: Table) -> list[tuple[int, str]]:
    """The stored columns of numbers that tell which cells went into a cell."""
    every = (leaf for name in table.column_names for leaf in table.leaves(name))
    return list(dict.fromkeys((n, stored) for leaf in every for n, stored, _ in leaf.which))


def _which_name(strand: int, stored: str) -> str:
    return f"{stored.strip()} {strand}"


def _numbered(table: Table, strand: int, stored: str) -> _Maker:
    column = Column(stored, ((strand, stored),))

    def make(start: int, stop: int) -> pa.Array:
        return table.cells(column, start, stop).cast(pa.int32())

    return _Maker(_which_name(strand, stored), pa.int32(), make)


def _columns(
    way: Thread, starts: Mapping[str, int], kind: pa.DataType, rows: int
) -> Iterator[_Maker]:
    """The column of a way, and the one that leads to a list that stands elsewhere."""
    if not way.several:
        yield _Maker(way.name, kind, partial(_column, way, starts, kind))
        return
    lists = pa.list_(kind)
    first = _first_of_same(way.strand, rows)
    yield _Maker(way.name, lists, partial(_lists, way, starts, lists, first))
    if first is None:
        return
    leading: Numbers = first

    def at(start: int, stop: int) -> pa.Array:
        return pa.array(leading[start:stop], mask=leading[start:stop] < 0)

    yield _Maker(f"{way.name}{AT}", pa.int64(), at)


def _first_of_same(strand: Strand, rows: int) -> Numbers | None:
    """For each row the first that shows the same stored row; ``None`` if no two do."""
    if strand.index is None:
        return None
    shown = strand.index.astype(np.int64)
    first = np.full(strand.stored_rows + 1, -1, np.int64)
    first[shown[::-1]] = np.arange(rows - 1, -1, -1)
    first[-1] = -1
    found: Numbers = first[shown]
    return None if (found[shown >= 0] == np.flatnonzero(shown >= 0)).all() else found


def _origins(ways: Sequence[Thread]) -> Iterator[Any]:
    for way in ways:
        yield from way.origins


def _numbers(
    way: Thread, starts: Mapping[str, int], start: int, stop: int
) -> tuple[Numbers, Numbers]:
    """The numbers of the source rows of some rows, and which row each belongs to."""
    which, origin, within = way.rows(start, stop)
    begin = np.array([starts[one.name] for one in way.origins], np.int64)
    return within + (begin[0] if len(begin) == 1 else begin.take(origin)), which


def _lists(
    way: Thread,
    starts: Mapping[str, int],
    kind: pa.DataType,
    first: Numbers | None,
    start: int,
    stop: int,
) -> pa.Array:
    """Of each row the list; where many rows have the same, in the first of them only."""
    numbers, which = _numbers(way, starts, start, stop)
    times = np.bincount(which, minlength=stop - start)
    offsets = np.concatenate([[0], np.cumsum(times)]).astype(np.int32)
    values = pa.array(numbers.astype(np.dtype(str(kind.value_type))))
    made = pa.ListArray.from_arrays(pa.array(offsets), values)
    if first is None:
        return made
    own = first[start:stop] == np.arange(start, stop)
    return pc.if_else(pa.array(own), made, pa.scalar(None, kind))


def _column(
    way: Thread, starts: Mapping[str, int], kind: pa.DataType, start: int, stop: int
) -> pa.Array:
    numbers, which = _numbers(way, starts, start, stop)
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
        found = rows_of(file, rows)
        there = {one[key] for one in found.values() for key in one if key.endswith(AT)} - {None}
        lists = rows_of(file, sorted(there))
    for one in found.values():
        for key in [key for key in one if key.endswith(AT)]:
            at = one.pop(key)
            one[key.removesuffix(AT)] = None if at is None else lists[at][key.removesuffix(AT)]
    return stated, [found[row] for row in rows]


def rows_of(file: Any, rows: Sequence[int]) -> dict[int, dict[str, Any]]:
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
