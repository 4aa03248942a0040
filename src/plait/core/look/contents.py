"""What the columns of tables hold, and how much of each is missing in which source."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from plait.core.account.parallel import ordered_map
from plait.core.look.profile import Profile, Tally, profile, tallied, through
from plait.core.store.room import by_column
from plait.core.table.absent import present
from plait.core.table.strand import Strand
from plait.core.table.table import Column, Table
from plait.core.table.whence import source_rows


@dataclass(frozen=True)
class Content:
    """What one column holds.

    Parameters
    ----------
    name : str
    profile : Profile
    came : tuple of (str, str)
        The sources and their columns that its cells were made from.
    missing_by : tuple of int
        Rows without a value, for each of the sources that ``shares`` names.
    """

    name: str
    profile: Profile
    came: tuple[tuple[str, str], ...]
    missing_by: tuple[int, ...] = ()


def contents(
    table: Table, known: Mapping[int, Profile] | None = None, sources: Sequence[str] = ()
) -> list[Content]:
    """What every column of a table holds.

    Parameters
    ----------
    table : Table
    known : mapping of int to Profile, optional
        Profiles of stored columns, by their identity: columns that show one as it
        stands are not looked at again.
    sources : sequence of str
        The sources for which missing values are counted apart: those of the
        first strand.

    Examples
    --------
    >>> from plait.core.table.table import from_columns
    >>> (found,) = contents(from_columns("t", {"kg": ["7", "", "12"]}))
    >>> found.profile.kind, found.profile.missing, found.profile.largest
    ('integer', 1, '12')
    """
    of_row = _source_of_row(table) if len(sources) > 1 else None

    def one(column: Column) -> Content:
        stored = table.stored(column.name)
        made = (known or {}).get(id(stored)) if stored is not None else None
        if made is None:
            made = profile(_tally(table, column), doubts=False)
        by: tuple[int, ...] = ()
        if of_row is not None:
            absent = ~present(table, column.name)
            counts = np.bincount(of_row[absent], minlength=len(sources))
            by = tuple(counts[: len(sources)].tolist())
        return Content(column.name, made, table.came(column.name), by)

    return list(by_column(one, table.columns))


def _tally(table: Table, column: Column) -> Tally:
    """The tally of a column; of few stored cells that many rows show, those are looked at once."""
    if len(column.parts) == 1:
        (number, name) = column.parts[0]
        strand = table.strands[number]
        if strand.index is not None and 2 * strand.stored_rows <= table.rows:
            return through(tallied([strand.stored[name]], column.kind), strand.index)
    return tallied([table.whole(column.name)], column.kind)


def shares(table: Table) -> list[str]:
    """The sources that the first strand of a table has rows of, in order."""
    return [one.name for first in _sourced(table)[:1] for one in first.origins]


def rows_by_source(table: Table) -> tuple[int, ...]:
    """How many rows a table has of each source of its first strand."""
    return tuple(rows for first in _sourced(table)[:1] for rows in _counts(table, first).tolist())


def _sourced(table: Table) -> list[Strand]:
    return [one for one in table.strands if one.has_sources]


def _source_of_row(table: Table) -> np.ndarray:
    """For each row the number of its source in the first strand; the last for none."""
    (first, *_) = _sourced(table)
    origin, _ = source_rows(first, np.arange(table.rows))
    return np.where(origin < 0, len(first.origins), origin)


def _counts(table: Table, first: Strand, other: Strand | None = None) -> np.ndarray:
    """Rows of each source of a strand; of another too, only those that it has a row for."""
    size = len(first.origins)

    def part(span: tuple[int, int]) -> np.ndarray:
        there = np.ones(span[1] - span[0], bool)
        if other is not None and other.index is not None:
            there = other.index[slice(*span)] >= 0
        if size == 1:
            if first.index is not None:
                there &= first.index[slice(*span)] >= 0
            return np.array([np.count_nonzero(there)])
        origin, _ = source_rows(first, np.arange(*span))
        return np.bincount(origin[there & (origin >= 0)], minlength=size)

    total = np.zeros(size, np.int64)
    for counts in ordered_map(part, table.spans(1 << 20)):
        total += counts
    return total


@dataclass(frozen=True)
class Partners:
    """How many rows of each source have a partner in each other strand of a table.

    Parameters
    ----------
    sources : tuple of str
    rows : tuple of int
        Rows of each of them in the table.
    others : tuple of str
        The other strands.
    matched : tuple of tuple of int
        For each source, for each other strand, the rows that have one.
    """

    sources: tuple[str, ...]
    rows: tuple[int, ...]
    others: tuple[str, ...]
    matched: tuple[tuple[int, ...], ...]


def partners(table: Table) -> Partners | None:
    """The grid of sources against the tables joined to them; ``None`` where none was."""
    sourced = _sourced(table)
    if len(sourced) < 2:
        return None
    first, *others = sourced
    counts = [_counts(table, first, other).tolist() for other in others]
    return Partners(
        tuple(shares(table)),
        rows_by_source(table),
        tuple(one.name for one in others),
        tuple(zip(*counts, strict=True)),
    )
