"""The columns on which pairs of rows agree, and how likely that is by chance."""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator, Sequence
from typing import Any

import numpy as np
import numpy.typing as npt

from plait.core.codes.dense_codes import Counts
from plait.core.text.hash_table import Codes

Rows = npt.NDArray[np.int64]
Flags = npt.NDArray[np.bool_]
Sets = npt.NDArray[Any]

_PAIRS = 1 << 18
_FEW_PAIRS, _LEAST_PAIRS = 1 << 14, 1 << 10

_SURE = 3.0


class SubsetIndex:
    """Which sets of columns are within one of many given sets.

    For the columns that a few sets begin with, the given sets that hold those are
    drawn, and a product of matrices counts how many hold each pair of further ones.
    """

    def __init__(self, flags: Flags) -> None:
        self._flags = _distinct(flags)

    def of(self, sets: Sets) -> Flags:
        """Whether each of some sets of columns, all of one size, is within one."""
        if sets.shape[1] == 0:
            return np.full(len(sets), len(self._flags) > 0)
        found = np.zeros(len(sets), bool)
        first, holding_first = None, self._flags
        for rows, lead in _groups(sets[:, :-2]):
            if lead and lead[0] != first:
                first, holding_first = lead[0], self._flags[self._flags[:, lead[0]]]
            flags = holding_first
            for number in lead[1:]:
                flags = flags[flags[:, number]]
            found[rows] = _together(flags, sets[rows, -2:])
        return found


def agree_sets_of_pairs(columns: Sequence[Codes], left_rows: Rows, right_rows: Rows) -> Flags:
    """For each pair of left_rows the columns on which it agrees: a row of flags a pair."""
    agree = np.empty((len(left_rows), len(columns)), bool)
    for number, codes in enumerate(columns):
        np.equal(codes[left_rows], codes[right_rows], out=agree[:, number])
    return agree


def _groups(leads: Sets) -> Iterator[tuple[Rows, list[int]]]:
    """The places of rows that are equal, and what they are."""
    order = np.lexsort(leads.T[::-1]) if leads.shape[1] else np.arange(len(leads))
    arranged = leads[order]
    ends = np.flatnonzero((arranged[1:] != arranged[:-1]).any(axis=1)) + 1
    for rows in np.split(order, ends):
        if len(rows):
            yield rows, leads[rows[0]].tolist()


def _together(flags: Flags, sets: Sets) -> Flags:
    """Whether some row of flags has all of a set of one or two columns."""
    if not len(flags):
        return np.zeros(len(sets), bool)
    if sets.shape[1] == 1:
        any_has: Flags = np.any(flags, axis=0)
        return any_has[sets[:, 0]]
    lowest = int(sets.min())
    counted = flags[:, lowest:].astype(np.float32)
    several = np.greater(counted.T @ counted, 0)
    held: Flags = several[sets[:, 0] - lowest, sets[:, 1] - lowest]
    return held


class AgreeSets:
    """Sets of columns on which some pair of rows was seen to agree.

    Parameters
    ----------
    columns : sequence of int32 array
        The codes of each column, none of them missing.
    """

    def __init__(self, columns: Sequence[Codes]) -> None:
        self._columns = columns
        self._seen: list[SubsetIndex] = []

    def look_at(self, left_rows: Rows, right_rows: Rows) -> None:
        """Take in pairs of rows."""
        # Asking all that was ever seen takes longer than to look again: the first and the last.
        self._seen = [
            *self._seen[:1],
            SubsetIndex(agree_sets_of_pairs(self._columns, left_rows, right_rows)),
        ]

    def refuted(self, sets: Sets, newest: bool = False) -> Flags:
        """Which sets of columns some pair of rows agrees on, and so are no keys.

        Parameters
        ----------
        sets : integer array, (sets, size)
            Numbers of columns.
        newest : bool
            Ask the pairs that were taken in last, and no others.
        """
        found = np.zeros(len(sets), bool)
        for seen in self._seen[-1:] if newest else self._seen[:1]:
            open_ = np.flatnonzero(~found)
            found[open_] = seen.of(sets[open_])
        return found


def _distinct(flags: Flags) -> Flags:
    """Each row of flags once."""
    if not flags.size:
        return flags[:1]
    packed = np.packbits(flags, axis=1)
    wide = np.pad(packed, ((0, 0), (0, -packed.shape[1] % 8))).view(np.uint64)
    order = np.lexsort(wide.T)
    arranged = wide[order]
    new = np.concatenate([[True], (arranged[1:] != arranged[:-1]).any(axis=1)])
    mask: Flags = flags[order[new]]
    return mask


def all_row_pairs(rows: int) -> tuple[Rows, Rows] | None:
    """Every pair of rows, where they are few enough to be looked at all."""
    if rows * (rows - 1) // 2 > _PAIRS:
        return None
    first, second = np.triu_indices(rows, 1)
    return first.astype(np.int64), second.astype(np.int64)


def sample_row_pairs(columns: Sequence[Codes], sizes: Sequence[int]) -> tuple[Rows, Rows]:
    """Pairs of rows that agree on a column at least, as many for each column.

    Rows of one value that stand near one another and rows of one value from all
    over: the former agree on most, as files are in some order.
    """
    wanted = min(_PAIRS, max(_FEW_PAIRS, 2 * len(columns[0])))
    most = max(_LEAST_PAIRS, wanted // max(len(columns), 1))
    random = np.random.default_rng(len(columns[0]))
    pairs = [
        pair
        for codes, size in zip(columns, sizes, strict=True)
        for pair in _of_one_column(codes, size, most, random)
    ]
    firsts, seconds = zip(*pairs, strict=True)
    return np.concatenate(firsts), np.concatenate(seconds)


def _of_one_column(
    codes: Codes, size: int, most: int, random: np.random.Generator
) -> list[tuple[Rows, Rows]]:
    rows = _drawn(codes, size, most, random)
    near = rows[np.argsort(codes[rows], kind="stable")]
    shuffled = random.permutation(rows)
    far = shuffled[np.argsort(codes[shuffled], kind="stable")]
    found = []
    for order in (near, far):
        same = (codes[order[:-1]] == codes[order[1:]]) & (order[:-1] != order[1:])
        found.append((order[:-1][same], order[1:][same]))
    return found


def _drawn(codes: Codes, size: int, most: int, random: np.random.Generator) -> Rows:
    """About so many rows: of some values all of them, unless the values are few."""
    if len(codes) <= most:
        return np.arange(len(codes))
    if size * 16 < most:
        begin = int(random.integers(len(codes) - most // 2))
        block = np.arange(begin, begin + most // 2)
        return np.append(block, random.integers(0, len(codes), most // 2))
    counts = np.bincount(codes, minlength=size)
    order = random.permutation(np.flatnonzero(counts > 1))
    chosen = np.zeros(size, bool)
    chosen[order[: 1 + int(np.searchsorted(np.cumsum(counts[order]), most))]] = True
    return np.flatnonzero(chosen[codes])[: 2 * most]


def collision_probability(counts: Counts) -> float:
    """The chance that two different rows, taken at random, have the same value of a column.

    Parameters
    ----------
    counts : int64 array
        The rows of each value.

    Examples
    --------
    >>> import numpy as np
    >>> round(collision_probability(np.array([2, 2])), 3)
    0.333
    """
    rows = int(counts.sum())
    same = float((counts.astype(float) * (counts - 1)).sum())
    return same / (rows * (rows - 1)) if rows > 1 else 0.0


def expected_duplicates(rows: int, coincidences: Iterable[float]) -> float:
    """How many pairs of rows would agree on some columns if these had nothing to do with another.

    The birthday problem for values of any frequencies (von Mises, 1939): the pairs of
    rows, times the chance that a pair agrees on each column.
    """
    return rows * (rows - 1) / 2 * math.prod(coincidences)


def is_chance_unique(rows: int, coincidences: Iterable[float], repeats: int = 0) -> bool:
    """Whether so few repeats are no more than chance gives: one time in twenty or oftener.

    With three pairs expected none is seen one time in twenty (Poisson).

    >>> is_chance_unique(1000, [1 / 10, 1 / 10]), is_chance_unique(1000, [1 / 900, 1 / 900])
    (False, True)
    """
    return expected_duplicates(rows, coincidences) <= _SURE + 2 * repeats
