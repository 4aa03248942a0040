"""Rows that agree with another row on some columns: what is left to be told apart."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from plait.core.codes.dense_codes import WORD_BITS, count_codes, sort_with_places
from plait.core.job.executor import map_ordered
from plait.core.text.hash_table import Codes

Numbers = npt.NDArray[np.int64]

_ROOM = 2
_LEAST_ROOM = 1 << 12
_BUCKET_BITS = 20
_BUCKET = np.uint64(64 - _BUCKET_BITS)
_AT_ONCE = 1 << 15
_SPREAD = np.uint64(0x9E3779B97F4A7C15)


@dataclass(frozen=True, eq=False)
class EquivalenceClasses:
    """Rows that are equal to another on some columns.

    Parameters
    ----------
    rows : int64 array
        The rows; without those that no other row is equal to.
    numbers : int64 array
        For each of them the number of its cluster.
    clusters : int
        How many there are: numbers are less.

    Notes
    -----
    Known as a stripped partition (Huhtala, Kärkkäinen, Porkka and Toivonen, "TANE", 1999).
    """

    rows: Numbers
    numbers: Numbers
    clusters: int

    @property
    def repeats(self) -> int:
        """Rows that would have to go, for all rows to differ."""
        return len(self.rows) - self.clusters

    @property
    def pairs(self) -> float:
        """How many pairs of rows agree."""
        sizes = count_codes(self.numbers, self.clusters).astype(float)
        return float((sizes * (sizes - 1) / 2).sum())


def single_class(rows: int) -> EquivalenceClasses:
    """One cluster of all rows: they agree on no columns at all."""
    if rows < 2:
        return EquivalenceClasses(np.zeros(0, np.int64), np.zeros(0, np.int64), 0)
    return EquivalenceClasses(np.arange(rows), np.zeros(rows, np.int64), 1)


def refine_by_column(parent: EquivalenceClasses, codes: Codes, size: int) -> EquivalenceClasses:
    """Take the clusters apart by one more column; a missing cell agrees with none.

    Parameters
    ----------
    codes : int32 array
        Of the column, for all rows of the table; negative where it is missing.
    size : int
        Codes are less.

    Examples
    --------
    >>> codes = np.array([0, 1, 0, 0], np.int32)
    >>> found = refine_by_column(single_class(4), codes, 2)
    >>> found.rows.tolist(), found.repeats
    ([0, 2, 3], 2)
    """
    mine = codes[parent.rows]
    rows, numbers = parent.rows, parent.numbers * size + mine
    if mine.size and mine.min() < 0:
        there = mine >= 0
        rows, numbers = rows[there], numbers[there]
    most = parent.clusters * size
    if most <= max(_ROOM * len(rows), _LEAST_ROOM):
        return _counted(rows, numbers, most)
    if most.bit_length() + len(rows).bit_length() >= WORD_BITS:
        rows, numbers = _crowded(rows, numbers)
    return _sorted(rows, numbers, most)


def refine_by_columns(
    parent: EquivalenceClasses, columns: Iterable[tuple[Codes, int]]
) -> EquivalenceClasses:
    """Take the clusters apart by several columns, each with its size; those of most codes first."""
    for codes, size in sorted(columns, key=lambda column: -column[1]):
        parent = refine_by_column(parent, codes, size)
    return parent


def classes_of_equal_hash(columns: Sequence[Codes]) -> EquivalenceClasses:
    """The rows that may be equal to another in everything: those of one hash."""
    hashes = _hashes(columns)
    arranged = np.sort(hashes)
    several = arranged[1:][arranged[1:] == arranged[:-1]]
    if not len(several):
        return EquivalenceClasses(np.zeros(0, np.int64), np.zeros(0, np.int64), 0)
    crowded = np.zeros(1 << _BUCKET_BITS, bool)
    crowded[several >> _BUCKET] = True
    rows = np.flatnonzero(crowded[hashes >> _BUCKET])
    place = np.searchsorted(several, hashes[rows])
    place[place == len(several)] = 0
    rows = rows[several[place] == hashes[rows]]
    return EquivalenceClasses(rows, np.zeros(len(rows), np.int64), 1)


def _hashes(columns: Sequence[Codes]) -> npt.NDArray[np.uint64]:
    """A word for each row, made of its codes; of as many rows at a time as caches hold."""
    made = np.zeros(len(columns[0]), np.uint64)

    def fill(begin: int) -> None:
        hashes = made[begin : begin + _AT_ONCE]
        for codes in columns:
            hashes ^= hashes >> np.uint64(29)
            hashes *= _SPREAD
            hashes += codes[begin : begin + _AT_ONCE].astype(np.uint64)
        hashes *= _SPREAD

    for _ in map_ordered(fill, range(0, len(made), _AT_ONCE)):
        pass
    return made


def _counted(rows: Numbers, numbers: Numbers, size: int) -> EquivalenceClasses:
    several = count_codes(numbers, size) > 1
    mask = several.take(numbers)
    dense = np.cumsum(several) - 1
    return EquivalenceClasses(rows[mask], dense.take(numbers[mask]), int(np.count_nonzero(several)))


def _crowded(rows: Numbers, numbers: Numbers) -> tuple[Numbers, Numbers]:
    """Without rows that are alone in one of many buckets: they surely differ from all others."""
    bits = max(12, len(rows).bit_length())
    buckets = ((numbers.view(np.uint64) * _SPREAD) >> np.uint64(64 - bits)).view(np.int64)
    mask = (count_codes(buckets, 1 << bits) > 1).take(buckets)
    return rows[mask], numbers[mask]


def _sorted(rows: Numbers, numbers: Numbers, most: int) -> EquivalenceClasses:
    if not len(rows):
        return EquivalenceClasses(rows, numbers, 0)
    order, arranged = _arranged(numbers, most)
    begins = np.concatenate([[True], arranged[1:] != arranged[:-1]])
    place = np.cumsum(begins) - 1
    mask = (count_codes(place, int(place[-1]) + 1) > 1).take(place)
    begins, order = begins[mask], order[mask]
    return EquivalenceClasses(rows[order], np.cumsum(begins) - 1, int(np.count_nonzero(begins)))


def _arranged(numbers: Numbers, most: int) -> tuple[Numbers, Numbers]:
    """The places in order of their numbers, and the numbers in order."""
    words, bits = sort_with_places(numbers, most)
    if words is not None:
        return words & ((1 << bits) - 1), words >> bits
    order = np.argsort(numbers, kind="stable")
    return order, numbers[order]


def agreement_probability(codes: Codes, size: int) -> float:
    """The chance that two rows, taken at random, agree on a column.

    >>> agreement_probability(np.array([0, 0, 1, 1], np.int32), 2)
    0.5
    """
    counts = np.bincount(codes, minlength=size) / len(codes)
    return float(counts @ counts)


def pairs_within_classes(
    equivalence_classes: EquivalenceClasses, most: int | None = None
) -> tuple[Numbers, Numbers]:
    """The pairs of rows of each cluster: all of them, or some neighbours where there are many."""
    order, numbers = _arranged(equivalence_classes.numbers, equivalence_classes.clusters)
    rows = equivalence_classes.rows[order]
    if most is not None:
        same = np.flatnonzero(numbers[:-1] == numbers[1:])
        same = same[:: max(1, len(same) // most)]
        return rows[same], rows[same + 1]
    firsts, seconds = [], []
    far = 1
    while (same := np.flatnonzero(numbers[:-far] == numbers[far:])).size:
        firsts.append(rows[same])
        seconds.append(rows[same + far])
        far += 1
    nothing = [np.zeros(0, np.int64)]
    return np.concatenate(firsts or nothing), np.concatenate(seconds or nothing)
