"""What is in each column of a result, and what of it is worth a note."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from plait.core.job.current import by_column
from plait.core.job.executor import map_ordered
from plait.core.profiling.profile import (
    ColumnProfile,
    ValueCounts,
    count_values,
    counts_of_selected_rows,
    profile_column,
)
from plait.core.table.columns import has_value_mask
from plait.core.table.fragment import Fragment
from plait.core.table.provenance import locate_source_rows
from plait.core.table.table import Column, Table

_NUMBERED = re.compile(r"^(.*?)([0-9]+)([^0-9]*)$", re.DOTALL)


@dataclass(frozen=True)
class ColumnContents:
    """What one column holds.

    Parameters
    ----------
    came : tuple of (str, str)
        The sources and their columns that its cells were made from.
    missing_by : tuple of int
        Rows without a value, for each of the sources that ``source_names`` names.
    """

    name: str
    profile: ColumnProfile
    came: tuple[tuple[str, str], ...]
    missing_by: tuple[int, ...] = ()


def profile_columns(
    table: Table, known: Mapping[int, ColumnProfile] | None = None, sources: Sequence[str] = ()
) -> list[ColumnContents]:
    """What every column of a table holds.

    Parameters
    ----------
    known : mapping of int to ColumnProfile, optional
        Profiles of stored columns, by their identity: columns that show one as it
        stands are not looked at again.
    sources : sequence of str
        The sources for which missing values are counted apart: those of the
        first fragment.

    Examples
    --------
    >>> from plait.core.table.table import table_from_columns
    >>> (found,) = profile_columns(table_from_columns("t", {"kg": ["7", "", "12"]}))
    >>> found.profile.kind.family, found.profile.missing, found.profile.largest
    ('integer', 1, '12')
    """
    of_row = _source_of_row(table) if len(sources) > 1 else None

    def one(column: Column) -> ColumnContents:
        stored = table.stored_chunks(column.name)
        made = (known or {}).get(id(stored)) if stored is not None else None
        if made is None:
            made = profile_column(_tally(table, column), doubts=False)
        by: tuple[int, ...] = ()
        if of_row is not None:
            absent = ~has_value_mask(table, column.name)
            counts = np.bincount(of_row[absent], minlength=len(sources))
            by = tuple(counts[: len(sources)].tolist())
        return ColumnContents(column.name, made, table.source_columns(column.name), by)

    return list(by_column(one, table.columns))


def _tally(table: Table, column: Column) -> ValueCounts:
    """The tally of a column; of few stored cells that many rows show, those are looked at once."""
    if len(column.cell_refs) == 1:
        (number, name) = column.cell_refs[0]
        fragment = table.fragments[number]
        if fragment.selection is not None and 2 * fragment.stored_rows <= table.rows:
            return counts_of_selected_rows(
                count_values([fragment.columns[name]], column.declared_type), fragment.selection
            )
    return count_values([table.chunks(column.name)], column.declared_type)


def source_names(table: Table) -> list[str]:
    """The sources that the first fragment of a table has rows of, in order."""
    return [origin.name for t in _sourced(table)[:1] for origin in t.origins]


def count_rows_by_source(table: Table) -> tuple[int, ...]:
    """How many rows a table has of each source of its first fragment."""
    return tuple(rows for t in _sourced(table)[:1] for rows in _counts(table, t).tolist())


def _sourced(table: Table) -> list[Fragment]:
    return [fragment for fragment in table.fragments if fragment.shows_source_rows]


def _source_of_row(table: Table) -> np.ndarray:
    """For each row the number of its source in the first fragment; the last for none."""
    (first, *_) = _sourced(table)
    origin, _ = locate_source_rows(first, np.arange(table.rows))
    return np.where(origin < 0, len(first.origins), origin)


def _counts(table: Table, fragment: Fragment, other: Fragment | None = None) -> np.ndarray:
    """Rows of each source of a fragment; of another too, only those that it has a row for."""
    size = len(fragment.origins)

    def part(span: tuple[int, int]) -> np.ndarray:
        there = np.ones(span[1] - span[0], bool)
        if other is not None and other.selection is not None:
            there = other.selection[slice(*span)] >= 0
        if size == 1:
            if fragment.selection is not None:
                there &= fragment.selection[slice(*span)] >= 0
            return np.array([np.count_nonzero(there)])
        origin, _ = locate_source_rows(fragment, np.arange(*span))
        return np.bincount(origin[there & (origin >= 0)], minlength=size)

    total = np.zeros(size, np.int64)
    for counts in map_ordered(part, table.row_ranges(1 << 20)):
        total += counts
    return total


@dataclass(frozen=True)
class MatchCoverage:
    """How many rows of each source have a partner in each other fragment of a table.

    Parameters
    ----------
    rows : tuple of int
        Rows of each of them in the table.
    others : tuple of str
        The other fragments.
    matched : tuple of tuple of int
        For each source, for each other fragment, the rows that have one.
    """

    sources: tuple[str, ...]
    rows: tuple[int, ...]
    others: tuple[str, ...]
    matched: tuple[tuple[int, ...], ...]


def match_coverage(table: Table) -> MatchCoverage | None:
    """The grid of sources against the tables joined to them; ``None`` where none was."""
    sourced = _sourced(table)
    if len(sourced) < 2:
        return None
    first, *others = sourced
    counts = [_counts(table, first, o).tolist() for o in others]
    return MatchCoverage(
        tuple(source_names(table)),
        count_rows_by_source(table),
        tuple(other.name for other in others),
        tuple(zip(*counts, strict=True)),
    )


def select_notable_columns(names: Sequence[str], first: Iterable[str], most: int) -> list[str]:
    """So many columns, in their order: those that are named first, then the first ones.

    >>> select_notable_columns(["a", "b", "c", "d"], ["d"], 2)
    ['a', 'd']
    """
    if len(names) <= most:
        return list(names)
    chosen = [name for name in dict.fromkeys(first) if name in names][:most]
    chosen += [name for name in names if name not in chosen][: most - len(chosen)]
    return [name for name in names if name in set(chosen)]


def collapse_numbered_names(names: Sequence[str]) -> list[str]:
    """Names that differ only in a number as one: ``q1 … q500``.

    >>> collapse_numbered_names(["q1", "q2", "q3", "note", "Q1 2030", "Q2 2030"])
    ['q1 … q3', 'note', 'Q1 2030', 'Q2 2030']
    """
    made: list[str] = []
    run: list[str] = []
    for name in names:
        if run and not _follows(run[-1], name):
            made += _named(run)
            run = []
        run.append(name)
    return made + _named(run)


def _follows(before: str, name: str) -> bool:
    one, other = _NUMBERED.match(before), _NUMBERED.match(name)
    if one is None or other is None or (one[1], one[3]) != (other[1], other[3]):
        return False
    return int(other[2]) > int(one[2])


def _named(run: Sequence[str]) -> list[str]:
    return [f"{run[0]} … {run[-1]}"] if len(run) > 2 else list(run)
