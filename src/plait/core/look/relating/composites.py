"""Joins on several columns together, sought from the columns that two tables share."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from itertools import combinations, islice

import numpy as np

from plait.core.codes.counting import distinct
from plait.core.look.candidates import few_in_the_way
from plait.core.look.keysearch.chance import by_chance, coincidence
from plait.core.look.keysearch.clusters import all_rows, split_by
from plait.core.look.keysearch.search import MOST_TOGETHER
from plait.core.look.relating.pairs import (
    FEW_ADDED,
    LEAST_SHARE,
    Pair,
    added,
    matched,
    once_each,
)
from plait.core.look.relating.relation import Relation
from plait.core.look.relating.values import Numbers, TalliedTable, Values, key_parts
from plait.core.text.wordtable import Codes

MOST_SHARED = 8
_PART_SHARE = 0.5
_MOST_TRIED = 8
_ENOUGH = 0.9
_SAMPLES, _SURE = (1 << 11, 1 << 14, 1 << 17), 20
_MANY = 1000


class Composites:
    """Joins of two tables on several columns together.

    Parameters
    ----------
    sides : sequence of TalliedTable
    size : int
        How many codes the dictionary has.

    Notes
    -----
    A column is paired with the one that is called alike, else with the one that holds
    most of its values. Sets of up to four of the best eight pairs are tried, small ones
    first: those that tell the rows of the smaller table apart, or else of the larger,
    and of which no part does. These are matched row by row. Whether a table has a set
    of columns as its key is found out once, for all the tables that it is paired with.
    """

    def __init__(self, sides: Sequence[TalliedTable], size: int) -> None:
        self._sides, self._size = sides, size
        self._unique: dict[tuple[int, frozenset[str]], bool] = {}
        self._by_row: dict[int, Codes] = {}

    def of(self, pairs: Sequence[Pair]) -> Iterator[Relation]:
        """The sets of shared columns that are a key of either table, and what they match.

        Parameters
        ----------
        pairs : sequence of Pair
            Of two tables, with values in common.
        """
        shared = _shared(pairs, self._sides)
        if len(shared) < 2:
            return
        one, other = (self._sides[pair] for pair in (shared[0].left.table, shared[0].right.table))
        rows = one.table.rows, other.table.rows
        for chosen in islice(self._keys(shared), _MOST_TRIED):
            columns = [(pair.left, pair.right) for pair in chosen]
            found, more = match_on(columns, rows, self._size)
            if max(found.shares) >= LEAST_SHARE and more <= FEW_ADDED * found.left_matched:
                unlikely = sum(pair.match.unlikely for pair in chosen)
                left, right = one.table.name, other.table.name
                found = replace(found, left=left, right=right, unlikely=unlikely)
                if _likely(chosen, found):
                    yield found

    def _keys(self, shared: Sequence[Pair]) -> Iterator[list[Pair]]:
        """Sets of pairs that are unique, or nearly, on the right or else on the left."""
        found: list[set[int]] = []
        for side in (1, 0):
            columns = [(pair.left, pair.right)[side] for pair in shared]
            found += [{place} for place, one in enumerate(columns) if self._are_unique([one])]
            for together in range(2, min(MOST_TOGETHER, len(shared)) + 1):
                for places in combinations(range(len(shared)), together):
                    if any(one <= set(places) for one in found):
                        continue
                    if self._are_unique([columns[place] for place in places]):
                        found.append(set(places))
                        yield [shared[place] for place in places]

    def _are_unique(self, columns: Sequence[Values]) -> bool:
        """Whether columns tell all rows of their table but a few apart, and not by chance."""
        table = columns[0].table
        key = table, frozenset(one.name for one in columns)
        if key not in self._unique:
            rows = self._sides[table].table.rows
            repeats = self._few_repeats(columns, rows)
            known = len(columns) == 1 or rows <= _MANY
            self._unique[key] = repeats is not None and (
                known or not _by_chance(columns, rows, repeats)
            )
        return self._unique[key]

    def _few_repeats(self, columns: Sequence[Values], rows: int) -> int | None:
        """How many rows repeat, if they are few: in a part of the rows, then in all."""
        if len(columns) > 1 and rows > _MANY and _by_chance(columns, rows, 0):
            return None
        codes = [self._codes(one) for one in columns]
        most = few_in_the_way(rows)
        for part in _SAMPLES:
            if rows > 4 * part:
                seen = _repeats(codes, slice(0, part), self._size)
                if seen > _SURE and seen * rows / part > most:
                    return None
        repeats = _repeats(codes, slice(None), self._size)
        return repeats if repeats <= most else None

    def _codes(self, one: Values) -> Codes:
        if id(one) not in self._by_row:
            self._by_row[id(one)] = one.by_row()
        return self._by_row[id(one)]


def _by_chance(columns: Sequence[Values], rows: int, repeats: int) -> bool:
    return by_chance(rows, (coincidence(one.rows) for one in columns), repeats)


def _shared(pairs: Sequence[Pair], sides: Sequence[TalliedTable]) -> list[Pair]:
    """Pairs of columns that could be parts of a key, best first, each column once."""
    fit = [
        pair
        for pair in pairs
        if max(pair.match.shares) >= _PART_SHARE
        and (pair.named or pair.sure or _keyed(pair, sides))
        and (pair.left.kind == pair.right.kind or "text" in (pair.left.kind, pair.right.kind))
    ]
    fit.sort(key=lambda pair: (not pair.named, not pair.sure, -sum(pair.match.shares)))
    return list(once_each(fit))[:MOST_SHARED]


def _keyed(pair: Pair, sides: Sequence[TalliedTable]) -> bool:
    """Whether either column is part of a likely key of its table, of several columns."""
    both = (pair.left, pair.right)
    return min(pair.match.shares) >= _PART_SHARE and any(
        one.name in key_parts(sides[one.table]) for one in both
    )


def _repeats(columns: Sequence[Codes], part: slice, size: int) -> int:
    coded = [(codes[part], size) for codes in columns]
    return split_by(all_rows(len(coded[0][0])), coded).repeats


def match_on(
    chosen: Sequence[tuple[Values, Values]], rows: tuple[int, int], size: int
) -> tuple[Relation, int]:
    """What a join on some pairs of columns would match, and the rows it would add."""
    left, right = together(
        [one.by_row() for one, _ in chosen], [one.by_row() for _, one in chosen], size
    )
    length = int(right.max(initial=-1)) + 1
    here = np.bincount(left[left >= 0], minlength=length)
    there = np.bincount(right[right >= 0], minlength=length)
    both = (here > 0) & (there > 0)
    here, there = here[both], there[both]
    key = tuple((one.name, other.name) for one, other in chosen)
    found = Relation("", "", key, rows[0], rows[1], *matched(here, there))
    return found, added(here, there)


def together(left: Sequence[Codes], right: Sequence[Codes], size: int) -> tuple[Numbers, Numbers]:
    """For each row of two tables the number of its key among the right's; -1 for none.

    Parameters
    ----------
    left, right : sequence of int32 arrays
        For each column the codes of the rows.
    size : int
        Codes are less.

    Examples
    --------
    >>> yards, hives = np.array([0, 0, 1]), np.array([2, 3, 2])
    >>> together([yards[:2], hives[:2]], [yards, hives], 4)[0].tolist()
    [0, 1]
    """
    standing = np.zeros(size + 1, bool)
    standing[right[0]] = True
    standing[size] = False  # where -1 leads: what is missing is no key
    there = right[0].astype(np.int64)
    here = np.where(standing[left[0]], left[0], -1).astype(np.int64)
    for one, other in zip(left[1:], right[1:], strict=True):
        there = np.where((there < 0) | (other < 0), -1, there * size + other)
        here = np.where((here < 0) | (one < 0), -1, here * size + one)
        known, there, _ = distinct(there)
        place = np.searchsorted(known, here)
        place[place == len(known)] = 0
        here = np.where((known[place] == here) & (here >= 0), place, -1)
        first = int(known[0] < 0)  # what is missing stands first, and is no key
        there, here = there - first, np.where(here >= 0, here - first, -1)
    return here, there


def _likely(chosen: Sequence[Pair], found: Relation) -> bool:
    """Whether one would join on it: by its names, or by values that are no chance."""
    known = [pair.named or pair.sure for pair in chosen]
    return all(known) or (any(known) and found.shares[0] >= _ENOUGH)
