"""Which rows of an old and a new table are the same record."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from plait.core.account.parallel import ordered_map
from plait.core.codes.coding import Coding, code_keys
from plait.core.codes.counting import (
    Counts,
    by_code,
    count,
    distinct,
    first_rows,
    rows_by_code,
    within_each,
)
from plait.core.codes.groups import Rows
from plait.core.lineage.rowsums import Sums, row_sums
from plait.core.table.table import Table
from plait.core.text.wordtable import Codes
from plait.core.verbs.comparing.unequal import unequal_rows

Names = Sequence[tuple[str, str]]
_NO_ROWS = np.empty(0, np.int64)


@dataclass(frozen=True, eq=False)
class Pairing:
    """Rows of two tables that are one record, and those that have no partner.

    Parameters
    ----------
    old, new : arrays of int
        The partners, of equal length: row ``old[n]`` became ``new[n]``.
    gone, added : arrays of int
        Rows of the old table only, rows of the new one only.
    repeated : pair of arrays of int
        The first row of each key that is on several rows of a table: rows of the old table,
        and of the new one for keys that only it has.
    keys_repeated : int
        How many keys are on several rows of either.
    """

    old: Rows
    new: Rows
    gone: Rows
    added: Rows
    repeated: tuple[Rows, Rows]
    keys_repeated: int = 0


def paired_by_key(old: Table, new: Table, coding: Coding, shared: Names) -> Pairing:
    """Pair the rows of keys that are on one row of each table.

    Parameters
    ----------
    old, new : Table
    coding : Coding
        Of their keys; missing parts match one another.
    shared : sequence of (str, str)
        The columns that both have, by their old and their new names.

    Returns
    -------
    Pairing

    Notes
    -----
    Which of several rows of a key became which is never guessed: those that are equal
    as wholes are partners, as many as there are on both sides; the others have none.
    """
    counts = coding.counts(0), coding.counts(1)
    both = (counts[0] > 0) & (counts[1] > 0)
    single = both & (counts[0] == 1) & (counts[1] == 1)
    here = np.flatnonzero(by_code(single, coding.codes[0], False))
    there = first_rows(coding.codes[1], coding.size)[coding.codes[0][here]]
    several = (counts[0] > 1) | (counts[1] > 1)
    if not several.any():
        return Pairing(here, there, *_alone(coding, both), (_NO_ROWS, _NO_ROWS))
    wanted = both & several
    some = [np.flatnonzero(by_code(wanted, codes, False)) for codes in coding.codes]
    equal = _equal_wholes(old, new, shared, some)
    alone = [
        np.sort(np.concatenate([lonely, _without(every, rows)]))
        for lonely, every, rows in zip(_alone(coding, both), some, equal, strict=True)
    ]
    partners = [np.concatenate(one) for one in zip((here, there), equal, strict=True)]
    order = np.argsort(partners[0], kind="stable")
    return Pairing(
        partners[0][order],
        partners[1][order],
        alone[0],
        alone[1],
        _first_of(coding, several),
        int(several.sum()),
    )


def paired_as_wholes(old: Table, new: Table, shared: Names) -> Pairing:
    """Pair equal rows, as many as there are on both sides; nothing else is a partner."""
    every = [np.arange(table.rows) for table in (old, new)]
    here, there = _equal_wholes(old, new, shared, every)
    order = np.argsort(here, kind="stable")
    gone, added = _without(every[0], here), _without(every[1], there)
    return Pairing(here[order], there[order], gone, added, (_NO_ROWS, _NO_ROWS))


def _without(rows: Rows, taken: Rows) -> Rows:
    """Rows, in order, but for those that were taken."""
    left = np.zeros(int(rows.max(initial=-1)) + 1, bool)
    left[rows] = True
    left[taken] = False
    found: Rows = np.flatnonzero(left)
    return found


def _alone(coding: Coding, both: npt.NDArray[np.bool_]) -> tuple[Rows, Rows]:
    """The rows of each table whose key is not on the other side."""
    old, new = (np.flatnonzero(~by_code(both, codes, False)) for codes in coding.codes)
    return old, new


def _first_of(coding: Coding, several: npt.NDArray[np.bool_]) -> tuple[Rows, Rows]:
    """The first rows of keys that are on several: old ones, and new ones of keys only there."""
    old = first_rows(coding.codes[0], coding.size)[several]
    new = first_rows(coding.codes[1], coding.size)[several]
    return old[old >= 0], new[old < 0]


def _equal_wholes(old: Table, new: Table, shared: Names, rows: Sequence[Rows]) -> tuple[Rows, Rows]:
    """Pairs of rows, among some of both tables, that are equal in all columns.

    Notes
    -----
    Most rows are equal to the letter, and many are where they were. The others of them are
    found by a sum over each row's cells, and compared then, so that nothing is left to the
    sum. What is left, rows of equal value that are written otherwise among them, is coded
    column by column.
    """
    found: list[tuple[Rows, Rows]] = []
    rest = list(rows)
    for way in (_where_they_were, _equal_letters, _equal_values):
        if shared and len(rest[0]) and len(rest[1]):
            found.append(way(old, new, shared, rest))
            rest = [_without(every, one) for every, one in zip(rest, found[-1], strict=True)]
    here, there = (np.concatenate([_NO_ROWS, *(one[side] for one in found)]) for side in (0, 1))
    return here, there


def _where_they_were(
    old: Table, new: Table, shared: Names, rows: Sequence[Rows]
) -> tuple[Rows, Rows]:
    """Pairs of the first rows, the second rows, …, that are the same texts."""
    number = min(map(len, rows))
    here, there = rows[0][:number], rows[1][:number]
    same = _are_the_same(old, new, shared, (here, there))
    return here[same], there[same]


def _are_the_same(
    old: Table, new: Table, shared: Names, rows: tuple[Rows, Rows]
) -> npt.NDArray[np.bool_]:
    """Whether the cells of rows are the same texts."""
    same = np.ones(len(rows[0]), bool)
    sides = old.at(rows[0]), new.at(rows[1])
    for before, after in shared:
        same[unequal_rows(*sides, (before, after))] = False
    return same


def _equal_letters(
    old: Table, new: Table, shared: Names, rows: Sequence[Rows]
) -> tuple[Rows, Rows]:
    """Pairs of rows whose cells are the same texts, in the order of the old ones."""
    old_rows, new_rows = rows
    pairs = _equal_sums(old.at(old_rows), new.at(new_rows), shared)
    order = np.argsort(pairs[0], kind="stable")
    here, there = old_rows[pairs[0][order]], new_rows[pairs[1][order]]
    same = _are_the_same(old, new, shared, (here, there))
    return here[same], there[same]


def _equal_sums(old: Table, new: Table, shared: Names) -> tuple[Rows, Rows]:
    """Pairs of rows of equal sums."""
    sums = [_sums(old, [one for one, _ in shared]), _sums(new, [one for _, one in shared])]
    values, which, _ = distinct(np.concatenate(sums))
    return _paired(np.split(which, [old.rows]), len(values))


def _sums(table: Table, names: Sequence[str]) -> Sums:
    columns = [table.column(name) for name in names]

    def part(span: tuple[int, int]) -> Sums:
        return row_sums((table.cells(one, *span) for one in columns), span[1] - span[0])

    return np.concatenate(list(ordered_map(part, list(table.spans()))))


def _equal_values(old: Table, new: Table, shared: Names, rows: Sequence[Rows]) -> tuple[Rows, Rows]:
    """Pairs of rows, among some of both tables, whose cells have the same values."""
    # What its cells are is a question of a whole column, not of these rows of it.
    old = old.with_kinds({name: old.kind_in_words(name) for name, _ in shared})
    new = new.with_kinds({name: new.kind_in_words(name) for _, name in shared})
    names = [list(side) for side in zip(*shared, strict=True)]
    coding = code_keys([old.at(rows[0]), new.at(rows[1])], names, missing_match=True)
    here, there = _paired(coding.codes, coding.size)
    return rows[0][here], rows[1][there]


def _paired(codes: Sequence[Codes], size: int) -> tuple[Rows, Rows]:
    """Rows of equal codes, as many of each as are on both sides."""
    counts = [count(one, size) for one in codes]
    common = np.minimum(*counts)
    old, new = (_first_few(one, own, common) for one, own in zip(codes, counts, strict=True))
    return old, new


def _first_few(codes: Codes, counts: Counts, few: Counts) -> Rows:
    """The first rows of each code, so many of each, code after code."""
    rows, _ = rows_by_code(codes, counts)
    kept: Rows = rows[within_each(counts) < np.repeat(few, counts)]
    return kept
