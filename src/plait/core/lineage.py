"""Lineage: the rows of sources that every row of a table came from.

Through its strands a table knows the stored rows that it shows. Where several
rows were brought together, by settling or grouping, the origin of the strand is
a *pool*, which keeps all of them.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from plait.core.coding import within_each
from plait.core.finding import Place
from plait.core.groups import Groups
from plait.core.names import distinct_name
from plait.core.strand import Index, Origin, Pool, Strand, origin_rows
from plait.core.table import Table

Numbers = npt.NDArray[np.int64]


def pooled(
    table: Table,
    groups: Groups,
    kept: Index | None = None,
    made: Mapping[str, pa.Array] | None = None,
) -> Strand:
    """A strand of the groups of a table's rows, which knows all the rows of each.

    Parameters
    ----------
    table : Table
    groups : Groups
        Of its rows.
    kept : array of int, optional
        The groups that there is a row for; without it all of them.
    made : mapping of str to pyarrow.Array, optional
        Cells that were made of the groups kept.

    Examples
    --------
    >>> from plait.core.groups import grouped
    >>> from plait.core.table import from_columns
    >>> visits = from_columns("visits", {"hive": ["1", "2", "1"]})
    >>> strand = pooled(visits, grouped(np.array([0, 1, 0]), 2))
    >>> [str(place) for place in places(Table("hives", (), (strand,), 2), 0)]
    ['visits row 1', 'visits row 3']
    """
    rows, offsets = groups.rows, groups.offsets
    if kept is not None and len(kept) < groups.size:
        times = groups.counts[kept]
        at = np.repeat(offsets[kept], times) + within_each(times)
        rows, offsets = rows[at], np.concatenate([[0], np.cumsum(times)])
    stored = {name: pa.chunked_array([cells]) for name, cells in (made or {}).items()}
    return Strand(table.name, stored, (Pool(table, rows, offsets),))


def _members(pool: Pool, rows: Index) -> tuple[Numbers, Index]:
    """The earlier table's rows that went into some rows, and which of them each belongs to."""
    begin = pool.offsets.take(rows)
    times = pool.offsets.take(rows + 1) - begin
    which: Numbers = np.repeat(np.arange(len(rows)), times)
    return which, pool.members.take(np.repeat(begin, times) + within_each(times))


def places(table: Table, row: int) -> tuple[Place, ...]:
    """All the source rows that went into a row, each once."""
    found: dict[Place, None] = {}
    for thread in threads(table):
        _, origin, within = thread.rows(row, row + 1)
        for one, number in zip(origin.tolist(), within.tolist(), strict=True):
            found[Place(thread.origins[one].name, number + 1)] = None
    return tuple(found)


@dataclass(frozen=True, eq=False)
class Thread:
    """One line by which rows of a table lead back to rows of sources.

    Parameters
    ----------
    name : str
    strand : Strand
        Of the table; with pools on the way several rows may stand for one.
    """

    name: str
    strand: Strand

    @property
    def several(self) -> bool:
        """Whether several source rows may stand for one row."""
        return any(isinstance(one, Pool) for one in self.strand.origins)

    @cached_property
    def origins(self) -> tuple[Origin, ...]:
        """The sources that the line may end in."""
        found: dict[int, Origin] = {}
        for one in self.strand.origins:
            ends = (one,) if isinstance(one, Origin) else _ends_of(one)
            found |= {id(end): end for end in ends}
        return tuple(found.values())

    def rows(self, start: int, stop: int) -> tuple[Numbers, Index, Index]:
        """The source rows of rows ``start`` to ``stop`` of the table.

        Returns
        -------
        which : array of int
            Which of the rows, from 0, in order; those without a source row are not there.
        origin, row : array of int
            The place of the source in ``origins``, and the row in it, from 0.
        """
        which, origin, within = _followed(self.strand, np.arange(start, stop), self._place)
        if self.several:
            order = np.argsort(which, kind="stable")
            which, origin, within = which[order], origin[order], within[order]
        return which, origin, within

    @cached_property
    def _place(self) -> dict[int, int]:
        return {id(one): place for place, one in enumerate(self.origins)}


_Rows = tuple[Numbers, Index, Index]


def _ends_of(pool: Pool) -> tuple[Origin, ...]:
    return tuple(end for thread in threads(pool.table) for end in thread.origins)


def _followed(strand: Strand, rows: Index, place: Mapping[int, int]) -> _Rows:
    """The source rows of some rows of a strand, through all pools."""
    origin, within = origin_rows(strand, rows)
    to = np.array([place.get(id(one), -1) for one in strand.origins] or [-1])
    if not any(isinstance(one, Pool) for one in strand.origins):
        there = np.flatnonzero(origin >= 0)
        if len(there) == len(rows):
            return np.arange(len(rows)), to[origin], within
        return there, to[origin[there]], within[there]
    parts: list[_Rows] = []
    for number, one in enumerate(strand.origins):
        here = np.flatnonzero(origin == number)
        if isinstance(one, Origin):
            parts.append((here, np.full(len(here), to[number]), within[here]))
            continue
        which, members = _members(one, within[here])
        for thread in threads(one.table):
            inner, ends, found = _followed(thread.strand, members, place)
            parts.append((here[which[inner]], ends, found))
    which, ends, found = (np.concatenate(each) for each in zip(*parts, strict=True))
    return which, ends, found


def threads(table: Table) -> list[Thread]:
    """Every line by which a table's rows lead to sources; equal ones are one.

    Returns
    -------
    list of Thread
        With names that differ.
    """
    found: list[Thread] = []
    names: set[str] = set()
    for strand in table.strands:
        if not strand.origins or any(_same(one.strand, strand) for one in found):
            continue
        name = distinct_name(strand.name, names)
        names.add(name)
        found.append(Thread(name, strand))
    return found


def _same(one: Strand, other: Strand) -> bool:
    if one.origins is not other.origins:
        return False
    mine, its = one.index, other.index
    return mine is its or (mine is not None and its is not None and np.array_equal(mine, its))


def thread_of(table: Table, column: str, every: Iterable[Thread]) -> list[str]:
    """The names of the threads by which the cells of a column themselves are found."""
    strands = [table.strands[number] for number, _ in table.column(column).parts]
    return [
        thread.name
        for strand in strands
        for thread in every
        if strand.origins and _same(thread.strand, strand)
    ]
