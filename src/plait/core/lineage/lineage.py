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
import pyarrow.compute as pc

from plait.core.account.finding import Place
from plait.core.account.names import distinct_name
from plait.core.codes.counting import within_each
from plait.core.codes.groups import Flags, Groups
from plait.core.table.absent import present
from plait.core.table.leaf import Leaf, Leaves
from plait.core.table.strand import Index, Made, Origin, Pool, Strand
from plait.core.table.table import Column, Table
from plait.core.table.whence import origin_rows, place_in

Numbers = npt.NDArray[np.int64]


class Pools:
    """The strands of what was made of groups of a table's rows, and what each cell rests on.

    Parameters
    ----------
    table : Table
    groups : Groups
        Of its rows.
    kept : array of int, optional
        The groups that there is a row for; without it all of them.
    number : int
        The number that the first strand will have in the result.
    made : mapping of str to pyarrow.Array, optional
        Cells that were made of the groups kept.
    beside : bool
        Whether the groups' rows go into those cells only.

    Attributes
    ----------
    strands : list of Strand
        The first knows all the rows of each group; others, made where they are
        wanted, only those whose cells went into a column.

    Examples
    --------
    >>> from plait.core.codes.groups import grouped
    >>> from plait.core.table.table import from_columns
    >>> visits = from_columns("visits", {"hive": ["1", "2", "1"]})
    >>> pools = Pools(visits, grouped(np.array([0, 1, 0]), 2), None, 0)
    >>> [str(place) for place in places(Table("hives", (), tuple(pools.strands), 2), 0)]
    ['visits row 1', 'visits row 3']
    """

    def __init__(
        self,
        table: Table,
        groups: Groups,
        kept: Index | None,
        number: int,
        made: Mapping[str, pa.Array] | None = None,
        beside: bool = False,
    ) -> None:
        self.number, self._table, self._beside = number, table, beside
        rows, offsets = groups.rows, groups.offsets
        if kept is not None and len(kept) < groups.size:
            times = groups.counts[kept]
            at = np.repeat(offsets[kept], times) + within_each(times)
            rows, offsets = rows[at], np.concatenate([[0], np.cumsum(times)])
        self._rows, self._offsets = rows, offsets
        stored = {name: pa.chunked_array([cells]) for name, cells in (made or {}).items()}
        whole = Pool(table, rows, offsets)
        self.strands = [Strand(table.name, stored, (whole,), None, beside)]
        self._known: dict[tuple[int, bytes], int] = {}

    def leaves_of(self, name: str) -> Leaves:
        """What cells made of a column rest on: its cells that have a value, of each group."""
        there = present(self._table, name)
        return tuple(
            Leaf(self._number_of(leaf.strand, there & holding(self._table, leaf)), leaf.came)
            for leaf in self._table.leaves(name)
        )

    def _number_of(self, strand: int, there: Flags) -> int:
        """The number of the strand of the members that there are, in one line of the table."""
        member = there.take(self._rows)
        every = bool(member.all())
        key = strand, b"" if every else np.packbits(member).tobytes()
        if key not in self._known:
            line = Table(self._table.name, (), (self._table.strands[strand],), self._table.rows)
            rows, offsets = self._rows, self._offsets
            if not every:
                times = np.add.reduceat(member, offsets[:-1], dtype=np.int64)
                rows, offsets = rows[member], np.concatenate([[0], np.cumsum(times)])
            pool = Pool(line, rows, offsets)
            self._known[key] = self.number + len(self.strands)
            self.strands.append(Strand(self._table.name, {}, (pool,), None, True))
        return self._known[key]


def holding(table: Table, leaf: Leaf) -> Flags:
    """The rows of a table on which a leaf counts."""
    holds = np.ones(table.rows, bool)
    for number in leaf.absent:
        index = table.strands[number].index
        holds &= False if index is None else index < 0
    for number, name, value in leaf.which:
        shown = table.cells(Column("which", ((number, name),)), 0, table.rows)
        holds &= pc.fill_null(pc.equal(shown, value), False).to_numpy(zero_copy_only=False)
    return holds


def _members(pool: Pool[Table], rows: Index) -> tuple[Numbers, Index]:
    """The earlier table's rows that went into some rows, and which of them each belongs to."""
    begin = pool.offsets.take(rows)
    times = pool.offsets.take(rows + 1) - begin
    which: Numbers = np.repeat(np.arange(len(rows)), times)
    return which, pool.members.take(np.repeat(begin, times) + within_each(times))


def places(table: Table, row: int) -> tuple[Place, ...]:
    """All the source rows that went into a row, each once."""
    found: dict[Place, None] = {}
    for thread in threads(table):
        if thread.strand.beside:
            continue
        _, origin, within = thread.rows(row, row + 1)
        for one, number in zip(origin.tolist(), within.tolist(), strict=True):
            found[place_in(thread.origins[one], number)] = None
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
            if isinstance(one, Pool):
                found |= {id(end): end for end in _ends_of(one)}
            if isinstance(one, Origin):
                found[id(one)] = one
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


def _ends_of(pool: Pool[Table]) -> tuple[Origin, ...]:
    return tuple(end for thread in threads(pool.table) for end in thread.origins)


def _followed(strand: Strand, rows: Index, place: Mapping[int, int]) -> _Rows:
    """The source rows of some rows of a strand, through all pools."""
    origin, within = origin_rows(strand, rows)
    to = np.array([place.get(id(one), -1) for one in strand.origins] or [-1])
    if all(isinstance(one, Origin) for one in strand.origins):
        there = np.flatnonzero(origin >= 0)
        if len(there) == len(rows):
            return np.arange(len(rows)), to[origin], within
        return there, to[origin[there]], within[there]
    nothing = np.zeros(0, np.int64)
    parts: list[_Rows] = [(nothing, nothing, nothing)]
    for number, one in enumerate(strand.origins):
        here = np.flatnonzero(origin == number)
        if isinstance(one, Origin):
            parts.append((here, np.full(len(here), to[number]), within[here]))
        if not isinstance(one, Pool):
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
        if not _leads_on(strand) or any(_same(one.strand, strand) for one in found):
            continue
        name = distinct_name(strand.name, names)
        names.add(name)
        found.append(Thread(name, strand))
    return found


def _leads_on(strand: Strand) -> bool:
    return any(not isinstance(one, Made) for one in strand.origins)


def _same(one: Strand, other: Strand) -> bool:
    if one is other:
        return True
    if one.origins is not other.origins or one.beside != other.beside:
        return False
    mine, its = one.index, other.index
    return mine is its or (mine is not None and its is not None and np.array_equal(mine, its))


def thread_of(strand: Strand, every: Iterable[Thread]) -> Thread:
    """The thread that a strand of the table is."""
    return next(thread for thread in every if _same(thread.strand, strand))
