"""Whence the rows of a table are: the source, and the row in it, that each of them shows."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.account.finding import Place
from plait.core.table.strand import Index, Origin, Strand


def source_rows(strand: Strand, rows: Index) -> tuple[Index, Index]:
    """For rows of the table: the number of the source and the row in it, from 0; -1 for none."""
    origin, within = origin_rows(strand, rows)
    others = [not isinstance(one, Origin) for one in strand.origins]
    if not any(others):
        return origin, within
    made = np.array([*others, False])[origin]
    return np.where(made, -1, origin), np.where(made, -1, within)


def origin_rows(strand: Strand, rows: Index) -> tuple[Index, Index]:
    """The same, pools counted as origins too."""
    if not strand.origins:
        return np.full(len(rows), -1), np.full(len(rows), -1)
    stored = rows if strand.index is None else strand.index.take(rows)
    ends = np.cumsum([origin.rows for origin in strand.origins])
    origin = np.searchsorted(ends, stored, side="right")
    starts = np.concatenate([[0], ends[:-1]])
    within = stored - starts.take(origin, mode="clip")
    for number, one in enumerate(strand.origins):
        if isinstance(one, Origin) and one.numbers is not None:
            here = (origin == number) & (stored >= 0)
            within[here] = one.numbers[within[here]]
    return np.where(stored < 0, -1, origin), np.where(stored < 0, -1, within)


def place_of(strand: Strand, row: int) -> Place | None:
    """Where a row of the table is in its source, if this strand has it."""
    if strand.beside:
        return None
    origin, within = source_rows(strand, np.array([row]))
    if origin[0] < 0:
        return None
    found = strand.origins[int(origin[0])]
    return place_in(found, int(within[0]))


def place_in(origin: Any, row: int) -> Place:
    """A row of a source, from 0, as findings name it."""
    if not isinstance(origin, Origin):
        return Place(origin.name, row + 1)
    here = np.array([row])
    if origin.known:
        return Place(origin.name, row + 1, origin.known.said(here)[0].as_py())
    if origin.lines:
        return Place(origin.name, row + 1, "", int(origin.lines.of(here)[0]), origin.lines.unit)
    return Place(origin.name, row + 1)


def _rows_said(strand: Strand, origin: Index, within: Index) -> pa.Array:
    """What each row is called in its source: ``line 12``, ``sheet row 12``, ``row 12``, its key.

    ``origin`` is -1 for rows that are in none.
    """
    absent = origin < 0
    numbers, units = within + 1, ["row"] * len(strand.origins)
    for number, one in enumerate(strand.origins):
        if isinstance(one, Origin) and one.lines:
            here = np.flatnonzero(origin == number)
            numbers[here], units[number] = one.lines.of(within[here]), one.lines.unit
    unit = pa.array(units, pa.string()).take(pa.array(origin, mask=absent))
    count = pa.array(numbers, pa.int64(), mask=absent).cast(pa.string())
    parts = [pc.binary_join_element_wise(unit, count, " ")]
    place = np.arange(len(origin))
    for number, one in enumerate(strand.origins):
        if isinstance(one, Origin) and one.known:
            here = np.flatnonzero(origin == number)
            place[here] = sum(map(len, parts)) + np.arange(len(here))
            parts.append(one.known.said(within[here]))
    return parts[0] if len(parts) == 1 else pa.concat_arrays(parts).take(pa.array(place))


def whence(strands: Sequence[Strand], table_rows: int) -> tuple[pa.Array, pa.Array]:
    """For each row the name of its source, and its place there: ``line 12``, or its key."""
    sourced = [strand for strand in strands if strand.has_sources]
    rows = np.arange(table_rows)
    if len(sourced) == 1:
        origin, within = source_rows(sourced[0], rows)
        absent = origin < 0
        names = pa.array([origin.name for origin in sourced[0].origins], pa.string())
        numbers = _rows_said(sourced[0], origin, within)
        return names.take(pa.array(origin, mask=absent)), numbers
    return _joined_whence(sourced, rows)


def _joined_whence(
    strands: Sequence[Strand], rows: npt.NDArray[np.int64]
) -> tuple[pa.Array, pa.Array]:
    names, numbers = [], []
    seen: list[tuple[Strand, npt.NDArray[np.integer[Any]], npt.NDArray[np.integer[Any]]]] = []
    for strand in strands:
        origin, within = source_rows(strand, rows)
        absent = origin < 0
        for other, its_origin, its_within in seen:
            # A row that two strands of one source both show is one row.
            if other.origins is strand.origins:
                absent |= (its_origin == origin) & (its_within == within)
        seen.append((strand, origin, within))
        known = pa.array([one.name for one in strand.origins], pa.string())
        names.append(known.take(pa.array(origin, mask=absent)))
        numbers.append(_rows_said(strand, np.where(absent, -1, origin), within))
    return (
        pc.binary_join_element_wise(*names, "+", null_handling="skip"),
        pc.binary_join_element_wise(*numbers, "+", null_handling="skip"),
    )
