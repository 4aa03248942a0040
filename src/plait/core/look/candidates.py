"""Candidate keys: the columns, or few columns together, that tell the rows of a table apart."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from itertools import islice

import numpy as np
import numpy.typing as npt

from plait.core.look.profile import Profile, Tally
from plait.core.text.wordtable import Codes
from plait.core.types.forms import base

MOST_COLUMNS = 4
MOST_TRIED = 400
_KEPT = 40
_FEW_ROWS = 10
_NEARLY = 0.02
_LARGEST = 2**62
_SAMPLE = 4096
_WIDE = 1 << 17
_SURE_PAIRS = 20
_LONGEST_CELL = 40


@dataclass(frozen=True)
class Candidate:
    """Columns that are unique together, or nearly.

    Parameters
    ----------
    columns : tuple of str
    in_the_way : int
        Rows that would have to go for them to be unique: repeats of a key, and
        rows where part of it is missing.
    """

    columns: tuple[str, ...]
    in_the_way: int


@dataclass(frozen=True)
class Candidates:
    """The smallest candidate keys, best first; ``bounded`` when not all could be tried."""

    keys: tuple[Candidate, ...]
    bounded: bool


def candidate_keys(
    tallies: Mapping[str, Tally], profiles: Mapping[str, Profile], rows: int
) -> Candidates:
    """Find the smallest sets of up to four columns that are unique or nearly so.

    Parameters
    ----------
    tallies : mapping of str to Tally
        Of the columns, each of one table.
    profiles : mapping of str to Profile
        Of the same columns.
    rows : int
        How many rows the table has.

    Returns
    -------
    Candidates
        Exact: every one was counted over all rows.

    Notes
    -----
    Level by level, as for frequent sets (Agrawal and Srikant 1994). Three
    things prune: a set is not tried when a part of it is a key already, or when
    its columns have too few values to tell the rows apart (their product is less
    than the rows), or when it already repeats in a sample. From one level to the
    next only the sets that tell most rows apart go on. Decimals and long texts
    are measures and remarks, not keys.
    """
    if not rows:
        return Candidates((), False)
    names = [name for name, found in profiles.items() if _may_identify(found, rows)]
    names.sort(key=lambda name: -profiles[name].distinct)
    coding = _Coding(tallies, rows)
    found: list[Candidate] = []
    level: list[tuple[str, ...]] = [(name,) for name in names]
    bounded = False
    most = max(_NEARLY * rows, min(_FEW_ROWS, rows // 10))
    for size in range(1, MOST_COLUMNS + 1):
        tried = list(islice(_promising(level, found, profiles, rows), MOST_TRIED + 1))
        bounded |= len(tried) > MOST_TRIED
        ranked = coding.ranked(tried[:MOST_TRIED])
        for columns, sampled in ranked:
            worth = sampled * rows <= most and not _has_key(columns, found)
            if worth and not coding.hopeless(columns, most):
                in_the_way = coding.in_the_way(columns)
                if in_the_way <= (0 if _near_part(columns, found) else most):
                    found.append(Candidate(_in_order(columns, profiles), in_the_way))
        if size < MOST_COLUMNS:
            going_on = [columns for columns, _ in ranked if not _has_key(columns, found)][:_KEPT]
            level = list(_longer(going_on, names))
    best = sorted(found, key=lambda one: (one.in_the_way > 0, len(one.columns), one.in_the_way))
    return Candidates(tuple(best), bounded)


def _may_identify(found: Profile, rows: int) -> bool:
    whole = base(found.kind) not in ("decimal", "boolean", "empty")
    short = found.longest <= _LONGEST_CELL
    return whole and short and found.distinct > 1 and found.missing <= _NEARLY * rows


def _has_key(columns: Sequence[str], found: Sequence[Candidate]) -> bool:
    """Whether a part of the columns is unique by itself."""
    return any(set(one.columns) <= set(columns) and not one.in_the_way for one in found)


def _near_part(columns: Sequence[str], found: Sequence[Candidate]) -> bool:
    """Whether a part of the columns is nearly unique by itself."""
    return any(set(one.columns) < set(columns) for one in found)


def _in_order(columns: Sequence[str], profiles: Mapping[str, Profile]) -> tuple[str, ...]:
    return tuple(name for name in profiles if name in columns)


def _promising(
    level: Sequence[tuple[str, ...]],
    found: Sequence[Candidate],
    profiles: Mapping[str, Profile],
    rows: int,
) -> Iterator[tuple[str, ...]]:
    for columns in level:
        possible = 1
        for name in columns:
            possible *= profiles[name].distinct
        enough = possible >= (1 - _NEARLY) * rows or len(columns) < MOST_COLUMNS
        if enough and not _has_key(columns, found):
            yield columns


def _longer(sets: Sequence[tuple[str, ...]], names: Sequence[str]) -> Iterator[tuple[str, ...]]:
    """Each set with one more column, none twice."""
    seen: set[frozenset[str]] = set()
    place = {name: number for number, name in enumerate(names)}
    for columns in sets:
        for name in names:
            more = frozenset((*columns, name))
            if len(more) > len(columns) and more not in seen:
                seen.add(more)
                yield tuple(sorted(more, key=place.__getitem__))


class _Coding:
    """Codes of columns over all rows and over a sample of them."""

    def __init__(self, tallies: Mapping[str, Tally], rows: int) -> None:
        self.tallies, self.rows = tallies, rows
        step = max(1, rows // _SAMPLE)
        # A run of neighbours and rows from all over: repeats often are together.
        near = np.arange(min(rows, _SAMPLE // 2))
        self.sample = np.append(near, np.arange(len(near), rows, 2 * step))
        self.wide = np.arange(0, rows, max(1, rows // _WIDE))

    def ranked(self, sets: Sequence[tuple[str, ...]]) -> list[tuple[tuple[str, ...], float]]:
        """The sets, those first that repeat least in the sample, with that share of its rows."""
        shares = [
            (columns, self._repeating(columns, self.sample) / len(self.sample)) for columns in sets
        ]
        return sorted(shares, key=lambda one: one[1])

    def hopeless(self, columns: Sequence[str], most: float) -> bool:
        """Whether far too many rows repeat, by those that do among a part of all rows.

        Of so many pairs of equal rows a part of the rows holds the square of its
        share, whatever the pairs are.
        """
        if self.rows < 4 * len(self.wide):
            return False
        seen = self._repeating(columns, self.wide)
        estimate = seen * (self.rows / len(self.wide)) ** 2
        return seen >= _SURE_PAIRS and estimate > 3 * most

    def in_the_way(self, columns: Sequence[str]) -> int:
        """How many of all rows repeat a key or have none."""
        return self._repeating(columns, slice(None))

    def _repeating(self, columns: Sequence[str], rows: npt.NDArray[np.int64] | slice) -> int:
        first, *others = columns
        codes, size = self._codes(first)[rows], len(self.tallies[first].texts)
        numbers, absent = codes.astype(np.int64), codes < 0
        for name in others:
            codes, other = self._codes(name)[rows], len(self.tallies[name].texts)
            if size * other >= _LARGEST:
                numbers, size = _dense(numbers), len(numbers)
            numbers *= other
            numbers += codes
            absent |= codes < 0
            size *= other
        whole = numbers[~absent] if absent.any() else numbers
        return len(numbers) - _distinct(whole)

    def _codes(self, name: str) -> Codes:
        (codes,) = self.tallies[name].codes
        assert codes is not None
        return codes


def _distinct(numbers: npt.NDArray[np.int64]) -> int:
    """How many different numbers there are, which are put in order on the way.

    Sorting them costs less here than hashing does.
    """
    if not len(numbers):
        return 0
    numbers.sort()
    return 1 + int(np.count_nonzero(numbers[1:] != numbers[:-1]))


def _dense(numbers: npt.NDArray[np.int64]) -> npt.NDArray[np.int64]:
    """The numbers as their ranks, which are less than how many there are."""
    order = np.argsort(numbers, kind="stable")
    arranged = numbers[order]
    ranks = np.empty(len(numbers), np.int64)
    ranks[order] = np.concatenate([[0], np.cumsum(arranged[1:] != arranged[:-1])])
    return ranks
