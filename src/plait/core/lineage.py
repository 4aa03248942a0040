"""Lineage: the rows of sources that every row of a table came from.

Through its strands a table knows one stored row a strand. Where several rows
were brought together, by settling or grouping, a *pool* keeps all of them.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from plait.core.coding import within_each
from plait.core.finding import Place
from plait.core.groups import Groups
from plait.core.names import distinct_name
from plait.core.table import Index, Strand, Table, source_rows

Numbers = npt.NDArray[np.int64]


@dataclass(frozen=True, eq=False)
class Pool:
    """Rows of an earlier table that went together into each row of a later one.

    Parameters
    ----------
    table : Table
        The earlier one.
    rows, offsets : array of int
        ``rows[offsets[g]:offsets[g + 1]]`` are the rows of group ``g``.
    index : array of int
        For each row of the later table its group, or -1.
    """

    table: Table
    rows: Index
    offsets: Index
    index: Index

    def at(self, rows: Index) -> Pool:
        """The pool of a table that shows these rows of the later one; -1 shows nothing."""
        if not len(self.index):
            return replace(self, index=np.full(len(rows), -1, np.int32))
        taken = self.index.take(rows, mode="clip")
        taken[rows < 0] = -1
        return replace(self, index=taken)

    def members(self, rows: Index) -> tuple[Numbers, Numbers]:
        """The earlier table's rows that went into some rows.

        Returns
        -------
        which : array of int
            For each member which of ``rows`` it belongs to, from 0, in order.
        members : array of int
            Its row in the earlier table.
        """
        group = self.index.take(rows)
        begin = self.offsets.take(np.maximum(group, 0))
        times = np.where(group < 0, 0, self.offsets.take(np.maximum(group, 0) + 1) - begin)
        which = np.repeat(np.arange(len(rows)), times)
        at = np.repeat(begin, times) + within_each(times)
        return which, self.rows.take(at).astype(np.int64)


def pooled(table: Table, groups: Groups, result: Table, index: Index | None = None) -> Table:
    """A result that knows all the rows of an earlier table that went into each of its rows.

    Parameters
    ----------
    table : Table
        The earlier one.
    groups : Groups
        Of its rows.
    result : Table
    index : array of int, optional
        The group of each row of the result; without it row ``g`` is group ``g``.

    Examples
    --------
    >>> from plait.core.groups import grouped
    >>> from plait.core.table import from_columns
    >>> visits = from_columns("visits", {"hive": ["1", "2", "1"]})
    >>> groups = grouped(np.array([0, 1, 0]), 2)
    >>> hives = pooled(visits, groups, visits.at(np.array([0, 1])))
    >>> [str(place) for place in places(hives, 0)]
    ['visits row 1', 'visits row 3']
    """
    at = np.arange(groups.size, dtype=np.int32) if index is None else index
    pool = Pool(table, groups.rows, groups.offsets, at)
    return replace(result, pools=(*result.pools, pool))


def joint_pools(tables: Iterable[Table], rows: int) -> tuple[Pool, ...]:
    """The pools of tables that are stacked to so many rows."""
    made, begin = [], 0
    for table in tables:
        for pool in table.pools:
            index = np.full(rows, -1, np.int32)
            index[begin : begin + table.rows] = pool.index
            made.append(replace(pool, index=index))
        begin += table.rows
    return tuple(made)


def members(table: Table, rows: Index) -> Iterator[tuple[Strand, Index, Index, Index]]:
    """Every source row that went into some rows of a table.

    Yields
    ------
    strand : Strand
        Whose origins the next name.
    which : array of int
        Which of ``rows``, from 0.
    origin, row : array of int
        The number of the origin in the strand, and the row in it, from 0.
    """
    for strand in table.strands:
        if strand.origins:
            origin, within = source_rows(strand, rows)
            there = np.flatnonzero(origin >= 0)
            yield strand, there, origin[there], within[there]
    for pool in table.pools:
        which, earlier = pool.members(rows)
        for strand, inner, origin, within in members(pool.table, earlier):
            yield strand, which[inner], origin, within


def places(table: Table, row: int) -> tuple[Place, ...]:
    """All the source rows that went into a row, each once."""
    found: dict[Place, None] = {}
    for strand, _, origin, within in members(table, np.array([row])):
        for one, number in zip(origin.tolist(), within.tolist(), strict=True):
            found[Place(strand.origins[one].name, number + 1)] = None
    return tuple(found)


@dataclass(frozen=True, eq=False)
class Thread:
    """One line by which rows of a table lead back to rows of sources.

    Parameters
    ----------
    name : str
    strand : Strand
        Where it ends.
    pools : tuple of Pool
        What it leads through; with any, several rows may stand for one.
    """

    name: str
    strand: Strand
    pools: tuple[Pool, ...] = ()

    def rows(self, start: int, stop: int) -> tuple[Numbers, Index, Index]:
        """The source rows of rows ``start`` to ``stop`` of the table.

        Returns
        -------
        which : array of int
            Which of the rows, from 0, in order; those without a source row are not there.
        origin, row : array of int
            The number of the origin in the strand, and the row in it, from 0.
        """
        rows: Index = np.arange(start, stop)
        which: Numbers = np.arange(stop - start)
        for pool in self.pools:
            inner, rows = pool.members(rows)
            which = which[inner]
        origin, within = source_rows(self.strand, rows)
        there = origin >= 0
        if there.all():
            return which, origin, within
        return which[there], origin[there], within[there]


def threads(table: Table) -> list[Thread]:
    """Every line by which a table's rows lead to sources; equal ones are one.

    Returns
    -------
    list of Thread
        With names that differ.
    """
    found: list[Thread] = []
    names: set[str] = set()
    for strand, pools in _ends(table, ()):
        if any(_same(one, strand, pools) for one in found):
            continue
        name = distinct_name(strand.name, names)
        names.add(name)
        found.append(Thread(name, strand, pools))
    return found


def _ends(table: Table, through: tuple[Pool, ...]) -> Iterator[tuple[Strand, tuple[Pool, ...]]]:
    for strand in table.strands:
        if strand.origins:
            yield strand, through
    for pool in table.pools:
        yield from _ends(pool.table, (*through, pool))


def _same(one: Thread, strand: Strand, pools: tuple[Pool, ...]) -> bool:
    if one.strand.origins is not strand.origins or one.pools != pools:
        return False
    mine, other = one.strand.index, strand.index
    return mine is other or (mine is not None and other is not None and np.array_equal(mine, other))


def thread_of(table: Table, column: str, every: Iterable[Thread]) -> list[str]:
    """The names of the threads by which the cells of a column themselves are found."""
    strands = [table.strands[number] for number, _ in table.column(column).parts]
    return [
        thread.name
        for strand in strands
        for thread in every
        if strand.origins and _same(thread, strand, ())
    ]
