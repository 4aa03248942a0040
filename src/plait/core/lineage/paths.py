"""From a row of a table back to the source rows it was made from.

Through its fragments a table knows the stored rows that it shows. Where several
rows were brought together, by settling or grouping, the origin of the fragment is
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

from plait.core.base.findings import SourceRow
from plait.core.base.names import unused_name
from plait.core.codes.dense_codes import position_in_group
from plait.core.codes.key_codes import Flags, RowGroups
from plait.core.table.columns import has_value_mask
from plait.core.table.fragment import DerivedOrigin, Fragment, GroupOrigin, RowNumbers, SourceOrigin
from plait.core.table.provenance import (
    Provenance,
    ProvenanceTerm,
    locate_origin_rows,
    make_source_row,
)
from plait.core.table.table import Column, Table
from plait.core.text.cells import to_text
from plait.core.text.words import PIECE, TextBuffers

Numbers = npt.NDArray[np.int64]

Sums = npt.NDArray[np.uint64]

_SPREAD, _SHIFT = np.uint64(0x9E3779B97F4A7C15), np.uint64(29)
_MISSING = np.uint64(0xD1B54A32D192ED03)


class GroupProvenance:
    """The fragments of what was made of groups of a table's rows, and what each cell rests on.

    Parameters
    ----------
    groups : RowGroups
        Of its rows.
    row_numbers : array of int, optional
        The groups that there is a row for; without it all of them.
    number : int
        The number that the first fragment will have in the result.
    made : mapping of str to pyarrow.Array, optional
        Cells that were made of the groups kept.
    beside : bool
        Whether the groups' rows go into those cells only.

    Attributes
    ----------
    fragments : list of Fragment
        The first knows all the rows of each group; others, made where they are
        wanted, only those whose cells went into a column.

    Examples
    --------
    >>> from plait.core.codes.key_codes import group_rows
    >>> from plait.core.table.table import table_from_columns
    >>> visits = table_from_columns("visits", {"hive": ["1", "2", "1"]})
    >>> pools = GroupProvenance(visits, group_rows(np.array([0, 1, 0]), 2), None, 0)
    >>> hives = Table("hives", (), tuple(pools.fragments), 2)
    >>> [str(place) for place in source_rows_of_row(hives, 0)]
    ['visits row 1', 'visits row 3']
    """

    def __init__(
        self,
        table: Table,
        groups: RowGroups,
        row_numbers: RowNumbers | None,
        number: int,
        made: Mapping[str, pa.Array] | None = None,
        beside: bool = False,
    ) -> None:
        self.number, self._table, self._beside = number, table, beside
        rows, offsets = groups.member_rows, groups.offsets
        if row_numbers is not None and len(row_numbers) < groups.size:
            times = groups.counts[row_numbers]
            at = np.repeat(offsets[row_numbers], times) + position_in_group(times)
            rows, offsets = rows[at], np.concatenate([[0], np.cumsum(times)])
        self._rows, self._offsets = rows, offsets
        stored = {name: pa.chunked_array([cells]) for name, cells in (made or {}).items()}
        group_origin = GroupOrigin(table, rows, offsets)
        self.fragments = [Fragment(table.name, stored, (group_origin,), None, beside)]
        self._known: dict[tuple[int, bytes], int] = {}

    def column_provenance(self, name: str) -> Provenance:
        """What cells made of a column rest on: its cells that have a value, of each group."""
        flags = has_value_mask(self._table, name)
        return tuple(
            ProvenanceTerm(
                self._fragment_number(term.fragment, flags & term_row_mask(self._table, term)),
                term.source_columns,
            )
            for term in self._table.provenance(name)
        )

    def _fragment_number(self, fragment: int, flags: Flags) -> int:
        """The number of the fragment whose groups have only those member rows that a mask keeps."""
        member = flags.take(self._rows)
        every = bool(member.all())
        key = fragment, b"" if every else np.packbits(member).tobytes()
        if key not in self._known:
            line = Table(self._table.name, (), (self._table.fragments[fragment],), self._table.rows)
            rows, offsets = self._rows, self._offsets
            if not every:
                times = np.add.reduceat(member, offsets[:-1], dtype=np.int64)
                rows, offsets = rows[member], np.concatenate([[0], np.cumsum(times)])
            pool = GroupOrigin(line, rows, offsets)
            self._known[key] = self.number + len(self.fragments)
            self.fragments.append(Fragment(self._table.name, {}, (pool,), None, True))
        return self._known[key]


def term_row_mask(table: Table, term: ProvenanceTerm) -> Flags:
    """The rows of a table on which a provenance term counts."""
    holds = np.ones(table.rows, bool)
    for number in term.where_absent:
        index = table.fragments[number].selection
        holds &= False if index is None else index < 0
    for number, name, value in term.where_equal:
        shown = table.cells(Column("which", ((number, name),)), 0, table.rows)
        holds &= pc.fill_null(pc.equal(shown, value), False).to_numpy(zero_copy_only=False)
    return holds


def _members(pool: GroupOrigin[Table], rows: RowNumbers) -> tuple[Numbers, RowNumbers]:
    """The earlier table's rows that went into some rows, and which of them each belongs to."""
    begin = pool.group_offsets.take(rows)
    times = pool.group_offsets.take(rows + 1) - begin
    which: Numbers = np.repeat(np.arange(len(rows)), times)
    return which, pool.member_rows.take(np.repeat(begin, times) + position_in_group(times))


def source_rows_of_row(table: Table, row: int) -> tuple[SourceRow, ...]:
    """All the source rows that went into a row, each once."""
    found: dict[SourceRow, None] = {}
    for path in lineage_paths(table):
        if path.fragment.cells_only:
            continue
        _, origin, within = path.rows(row, row + 1)
        for one, number in zip(origin.tolist(), within.tolist(), strict=True):
            found[make_source_row(path.origins[one], number)] = None
    return tuple(found)


@dataclass(frozen=True, eq=False)
class LineagePath:
    """One line by which rows of a table lead back to rows of sources.

    Parameters
    ----------
    fragment : Fragment
        Of the table; with pools on the way several rows may stand for one.
    """

    name: str
    fragment: Fragment

    @property
    def has_groups(self) -> bool:
        """Whether several source rows may stand for one row."""
        return any(isinstance(origin, GroupOrigin) for origin in self.fragment.origins)

    @cached_property
    def origins(self) -> tuple[SourceOrigin, ...]:
        """The sources that the line may end in."""
        found: dict[int, SourceOrigin] = {}
        for origin in self.fragment.origins:
            if isinstance(origin, GroupOrigin):
                found |= {id(end): end for end in _source_origins(origin)}
            if isinstance(origin, SourceOrigin):
                found[id(origin)] = origin
        return tuple(found.values())

    def rows(self, start: int, stop: int) -> tuple[Numbers, RowNumbers, RowNumbers]:
        """The source rows of rows ``start`` to ``stop`` of the table: ``rows_at``."""
        return self.rows_at(np.arange(start, stop))

    def rows_at(self, rows: RowNumbers) -> tuple[Numbers, RowNumbers, RowNumbers]:
        """The source rows of some rows of the table.

        Returns
        -------
        which : array of int
            Which of these, from 0, in order; those without a source row are not there.
        origin, row : array of int
            The place of the source in ``origins``, and the row in it, from 0.
        """
        which, origin, within = _followed(self.fragment, rows, self._source_row)
        if self.has_groups:
            order = np.argsort(which, kind="stable")
            which, origin, within = which[order], origin[order], within[order]
        return which, origin, within

    @cached_property
    def _source_row(self) -> dict[int, int]:
        return {id(origin): place for place, origin in enumerate(self.origins)}


_Rows = tuple[Numbers, RowNumbers, RowNumbers]


def _source_origins(pool: GroupOrigin[Table]) -> tuple[SourceOrigin, ...]:
    return tuple(end for path in lineage_paths(pool.input_table) for end in path.origins)


def _followed(fragment: Fragment, rows: RowNumbers, place: Mapping[int, int]) -> _Rows:
    """The source rows of some rows of a fragment, through all pools."""
    origin, within = locate_origin_rows(fragment, rows)
    to = np.array([place.get(id(one), -1) for one in fragment.origins] or [-1])
    if all(isinstance(o, SourceOrigin) for o in fragment.origins):
        there = np.flatnonzero(origin >= 0)
        if len(there) == len(rows):
            return np.arange(len(rows)), to[origin], within
        return there, to[origin[there]], within[there]
    nothing = np.zeros(0, np.int64)
    parts: list[_Rows] = [(nothing, nothing, nothing)]
    for number, one in enumerate(fragment.origins):
        here = np.flatnonzero(origin == number)
        if isinstance(one, SourceOrigin):
            parts.append((here, np.full(len(here), to[number]), within[here]))
        if not isinstance(one, GroupOrigin):
            continue
        which, members = _members(one, within[here])
        for path in lineage_paths(one.input_table):
            inner, ends, found = _followed(path.fragment, members, place)
            parts.append((here[which[inner]], ends, found))
    which, ends, found = (np.concatenate(p) for p in zip(*parts, strict=True))
    return which, ends, found


def lineage_paths(table: Table) -> list[LineagePath]:
    """Every line by which a table's rows lead to sources; equal ones are one.

    Returns
    -------
    list of LineagePath
        With names that differ.
    """
    paths: list[LineagePath] = []
    names: set[str] = set()
    for fragment in table.fragments:
        if not _leads_on(fragment) or any(_same(path.fragment, fragment) for path in paths):
            continue
        name = unused_name(fragment.name, names)
        names.add(name)
        paths.append(LineagePath(name, fragment))
    return paths


def _leads_on(fragment: Fragment) -> bool:
    return any(not isinstance(origin, DerivedOrigin) for origin in fragment.origins)


def _same(fragment: Fragment, other: Fragment) -> bool:
    if fragment is other:
        return True
    if fragment.origins is not other.origins or fragment.cells_only != other.cells_only:
        return False
    mine, its = fragment.selection, other.selection
    return mine is its or (mine is not None and its is not None and np.array_equal(mine, its))


def lineage_path(fragment: Fragment, paths: Iterable[LineagePath]) -> LineagePath:
    """The thread that a fragment of the table is."""
    return next(path for path in paths if _same(path.fragment, fragment))


def row_checksums(columns: Iterable[pa.Array], rows: int) -> Sums:
    """A sum for each row, of the texts of its cells in their order.

    Parameters
    ----------
    columns : iterable of pyarrow.Array
        Of one length, of any type.
    rows : int
        That length.

    Notes
    -----
    Each word of seven bytes is mixed in by multiplication and a shift, as in D. E. Knuth,
    The Art of Computer Programming, vol. 3, section 6.4. It shows a change that somebody
    made, to all but one of 2**64; it is no protection from somebody who wants to hide one.

    Examples
    --------
    >>> one, other, same = row_checksums([pa.array(["A", "B", "A"]), pa.array([7, 7, 7])], 3)
    >>> bool(one == other), bool(one == same)
    (False, True)
    """
    sums = np.zeros(rows, np.uint64)
    for column in columns:
        _mix_in(sums, column)
    return sums


def _mix_in(sums: Sums, column: pa.Array) -> None:
    text = to_text(column)
    cells = TextBuffers(text)
    absent = text.is_null().to_numpy(zero_copy_only=False)
    here: npt.NDArray[np.int64] | None = None
    for piece in range(max(1, -(-cells.longest // PIECE))):
        if piece:
            here = np.flatnonzero(cells.lengths > piece * PIECE)
        words = cells.words(piece, here)
        if not piece:
            words = np.where(absent, _MISSING, words)
        at = slice(None) if here is None else here
        mixed = (sums[at] ^ words) * _SPREAD
        sums[at] = mixed ^ (mixed >> _SHIFT)
