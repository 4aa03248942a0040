"""The source cells that a column's cells were made from (where-provenance)."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.base.findings import SourceRow
from plait.core.table.fragment import Fragment, RowNumbers, SourceOrigin

SourceColumns = tuple[tuple[str, str], ...]

DISCRIMINATOR_PREFIX = (
    " which "  # begins the names of stored columns of numbers, which no heading does
)


@dataclass(frozen=True)
class ProvenanceTerm:
    """Cells of a fragment that went into the cells of a column, on the same rows.

    Parameters
    ----------
    fragment : int
        The number of the fragment, in the column's table.
    source_columns : tuple of (str, str)
        The sources of the fragment, and the column that it is in each.
    where_absent : tuple of int
        Strands: the provenance term counts only on rows that these show nothing on.
    where_equal : tuple of (int, str, int)
        Strands, stored columns and numbers: it counts only where the number stands.
    """

    fragment: int
    source_columns: SourceColumns
    where_absent: tuple[int, ...] = ()
    where_equal: tuple[tuple[int, str, int], ...] = ()

    def with_fragment_offset(self, fragments: int) -> ProvenanceTerm:
        """The provenance term in a table that has so many fragments before those of this one."""
        return self.with_fragments({number: number + fragments for number in self.fragments})

    @property
    def fragments(self) -> tuple[int, ...]:
        """All the fragments that it speaks of."""
        return (self.fragment, *self.where_absent, *(number for number, _, _ in self.where_equal))

    def with_fragments(self, to: Mapping[int, int]) -> ProvenanceTerm:
        """The provenance term in a table that has the same fragments under other numbers."""
        return replace(
            self,
            fragment=to[self.fragment],
            where_absent=tuple(to[number] for number in self.where_absent),
            where_equal=tuple(
                (to[number], name, value) for number, name, value in self.where_equal
            ),
        )

    def restricted_to_value(self, fragment: int, name: str, value: int) -> ProvenanceTerm:
        """The provenance term, where a number is in a stored column."""
        return replace(self, where_equal=(*self.where_equal, (fragment, name, value)))

    def restricted_to_absent(self, fragments: Iterable[int]) -> ProvenanceTerm:
        """The provenance term, on rows that some fragments show nothing on."""
        return replace(self, where_absent=tuple(dict.fromkeys((*self.where_absent, *fragments))))


Provenance = tuple[ProvenanceTerm, ...]


def coalesce_provenance(terms: Provenance, provenance: Provenance) -> Provenance:
    """Those of a column, and where it shows nothing those of another.

    >>> left, right = ProvenanceTerm(0, (("a", "k"),)), ProvenanceTerm(1, (("b", "k"),))
    >>> coalesce_provenance((left,), (right,))[1].where_absent
    (0,)
    """
    fragments = [term.fragment for term in terms]
    return (*terms, *(term.restricted_to_absent(fragments) for term in provenance))


def union_provenance(columns: Iterable[Provenance]) -> Provenance:
    """The leaves of several columns, each once."""
    return tuple(dict.fromkeys(term for terms in columns for term in terms))


def source_columns(terms: Provenance) -> SourceColumns:
    """The sources and their columns that leaves lead to.

    >>> source_columns((ProvenanceTerm(0, (("may", "kg"), ("june", "kg"))),))
    (('may', 'kg'), ('june', 'kg'))
    """
    return tuple(dict.fromkeys(pair for term in terms for pair in term.source_columns))


def locate_source_rows(fragment: Fragment, rows: RowNumbers) -> tuple[RowNumbers, RowNumbers]:
    """For rows of the table: the number of the source and the row in it, from 0; -1 for none."""
    origin, within = locate_origin_rows(fragment, rows)
    others = [not isinstance(o, SourceOrigin) for o in fragment.origins]
    if not any(others):
        return origin, within
    made = np.array([*others, False])[origin]
    return np.where(made, -1, origin), np.where(made, -1, within)


def locate_origin_rows(fragment: Fragment, rows: RowNumbers) -> tuple[RowNumbers, RowNumbers]:
    """The same, pools counted as origins too."""
    if not fragment.origins:
        return np.full(len(rows), -1), np.full(len(rows), -1)
    stored = rows if fragment.selection is None else fragment.selection.take(rows)
    ends = np.cumsum([origin.rows for origin in fragment.origins])
    origin = np.searchsorted(ends, stored, side="right")
    starts = np.concatenate([[0], ends[:-1]])
    within = stored - starts.take(origin, mode="clip")
    for number, one in enumerate(fragment.origins):
        if isinstance(one, SourceOrigin) and one.row_numbers is not None:
            here = (origin == number) & (stored >= 0)
            within[here] = one.row_numbers[within[here]]
    return np.where(stored < 0, -1, origin), np.where(stored < 0, -1, within)


def locate_source_row(fragment: Fragment, row: int) -> SourceRow | None:
    """Where a row of the table is in its source, if this fragment has it."""
    if fragment.cells_only:
        return None
    origin, within = locate_source_rows(fragment, np.array([row]))
    if origin[0] < 0:
        return None
    found = fragment.origins[int(origin[0])]
    return make_source_row(found, int(within[0]))


def make_source_row(origin: Any, row: int) -> SourceRow:
    """A row of a source, from 0, as findings name it."""
    if not isinstance(origin, SourceOrigin):
        return SourceRow(origin.name, row + 1)
    here = np.array([row])
    if origin.primary_key:
        return SourceRow(origin.name, row + 1, origin.primary_key.format_keys(here)[0].as_py())
    if origin.lines:
        return SourceRow(origin.name, row + 1, "", int(origin.lines.of(here)[0]), origin.lines.unit)
    return SourceRow(origin.name, row + 1)


def _row_labels(fragment: Fragment, origin: RowNumbers, within: RowNumbers) -> pa.Array:
    """What each row is called in its source: ``line 12``, ``sheet row 12``, ``row 12``, its key.

    ``origin`` is -1 for rows that are in none.
    """
    absent = origin < 0
    numbers, units = within + 1, ["row"] * len(fragment.origins)
    for number, one in enumerate(fragment.origins):
        if isinstance(one, SourceOrigin) and one.lines:
            here = np.flatnonzero(origin == number)
            numbers[here], units[number] = one.lines.of(within[here]), one.lines.unit
    unit = pa.array(units, pa.string()).take(pa.array(origin, mask=absent))
    count = pa.array(numbers, pa.int64(), mask=absent).cast(pa.string())
    parts = [pc.binary_join_element_wise(unit, count, " ")]
    place = np.arange(len(origin))
    for number, one in enumerate(fragment.origins):
        if isinstance(one, SourceOrigin) and one.primary_key:
            here = np.flatnonzero(origin == number)
            place[here] = sum(map(len, parts)) + np.arange(len(here))
            parts.append(one.primary_key.format_keys(within[here]))
    return parts[0] if len(parts) == 1 else pa.concat_arrays(parts).take(pa.array(place))


def describe_source_rows(
    fragments: Sequence[Fragment], table_rows: int
) -> tuple[pa.Array, pa.Array]:
    """For each row the name of its source, and its place there: ``line 12``, or its key."""
    sourced = [fragment for fragment in fragments if fragment.shows_source_rows]
    rows = np.arange(table_rows)
    if len(sourced) == 1:
        origin, within = locate_source_rows(sourced[0], rows)
        absent = origin < 0
        names = pa.array([origin.name for origin in sourced[0].origins], pa.string())
        numbers = _row_labels(sourced[0], origin, within)
        return names.take(pa.array(origin, mask=absent)), numbers
    return _describe_joined_source_rows(sourced, rows)


def _describe_joined_source_rows(
    fragments: Sequence[Fragment], rows: npt.NDArray[np.int64]
) -> tuple[pa.Array, pa.Array]:
    names, numbers = [], []
    seen: list[tuple[Fragment, npt.NDArray[np.integer[Any]], npt.NDArray[np.integer[Any]]]] = []
    for fragment in fragments:
        origin, within = locate_source_rows(fragment, rows)
        absent = origin < 0
        for other, its_origin, its_within in seen:
            # A row that two fragments of one source both show is one row.
            if other.origins is fragment.origins:
                absent |= (its_origin == origin) & (its_within == within)
        seen.append((fragment, origin, within))
        known = pa.array([o.name for o in fragment.origins], pa.string())
        names.append(known.take(pa.array(origin, mask=absent)))
        numbers.append(_row_labels(fragment, np.where(absent, -1, origin), within))
    return (
        pc.binary_join_element_wise(*names, "+", null_handling="skip"),
        pc.binary_join_element_wise(*numbers, "+", null_handling="skip"),
    )
