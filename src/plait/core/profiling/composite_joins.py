"""Joins on several columns at once."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from itertools import combinations, islice

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.base.names import unused_names
from plait.core.codes.dense_codes import dense_rank
from plait.core.codes.normalize import SAME_WORDS, normalize_texts
from plait.core.profiling.agree_sets import collision_probability, is_chance_unique
from plait.core.profiling.candidate_keys import max_tolerated_duplicates
from plait.core.profiling.equivalence_classes import refine_by_columns, single_class
from plait.core.profiling.join_candidates import (
    FEW_ADDED,
    LEAST_SHARE,
    ColumnOverlap,
    JoinCandidate,
    count_matched_rows,
    count_multiplied_rows,
    without_reused_columns,
)
from plait.core.profiling.minimal_keys import MOST_TOGETHER
from plait.core.profiling.value_sets import (
    MOST_LOOSENED,
    Numbers,
    ProfiledTable,
    ValueDictionary,
    ValueSet,
    likely_key_columns,
)
from plait.core.table.key_spec import quote_name
from plait.core.text.hash_table import Codes
from plait.core.types.column_type import TEXT

MOST_SHARED = 8
_PART_MIN_SHARE = 0.5
_MOST_TRIED = 8
_SUFFICIENT_SHARE = 0.9
_SAMPLES, _SURE = (1 << 11, 1 << 14, 1 << 17), 20
_MANY = 1000

_SEPARATORS = "-_/|:. "
_SAMPLE, _LEAST = 200, 5
_NEARLY_ALL, _JOINED_PART_MIN_SHARE, _JOINED_SUFFICIENT_SHARE = 0.95, 0.5, 0.6


class CompositeJoinSearch:
    """Joins of two tables on several columns together.

    Parameters
    ----------
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

    def __init__(self, sides: Sequence[ProfiledTable], size: int) -> None:
        self._sides, self._size = sides, size
        self._unique: dict[tuple[int, frozenset[str]], bool] = {}
        self._by_row: dict[int, Codes] = {}

    def of(self, pairs: Sequence[ColumnOverlap]) -> Iterator[JoinCandidate]:
        """The sets of shared columns that are a key of either table, and what they match.

        Parameters
        ----------
        pairs : sequence of ColumnOverlap
            Of two tables, with values in common.
        """
        shared = _shared(pairs, self._sides)
        if len(shared) < 2:
            return
        one, other = (self._sides[pair] for pair in (shared[0].left.table, shared[0].right.table))
        rows = one.table.rows, other.table.rows
        for chosen in islice(self._keys(shared), _MOST_TRIED):
            columns = [(pair.left, pair.right) for pair in chosen]
            found, more = measure_join(columns, rows, self._size)
            if max(found.shares) >= LEAST_SHARE and more <= FEW_ADDED * found.left_matched:
                unlikely = sum(pair.match.unlikely for pair in chosen)
                left, right = one.table.name, other.table.name
                found = replace(found, left=left, right=right, unlikely=unlikely)
                if _likely(chosen, found):
                    yield found

    def _keys(self, shared: Sequence[ColumnOverlap]) -> Iterator[list[ColumnOverlap]]:
        """Sets of pairs that are unique, or nearly, on the right or else on the left."""
        found: list[set[int]] = []
        for side in (1, 0):
            columns = [(pair.left, pair.right)[side] for pair in shared]
            found += [{place} for place, column in enumerate(columns) if self._are_unique([column])]
            for together in range(2, min(MOST_TOGETHER, len(shared)) + 1):
                for places in combinations(range(len(shared)), together):
                    if any(f <= set(places) for f in found):
                        continue
                    if self._are_unique([columns[p] for p in places]):
                        found.append(set(places))
                        yield [shared[place] for place in places]

    def _are_unique(self, columns: Sequence[ValueSet]) -> bool:
        """Whether columns tell all rows of their table but a few apart, and not by chance."""
        table = columns[0].table
        key = table, frozenset(column.name for column in columns)
        if key not in self._unique:
            rows = self._sides[table].table.rows
            repeats = self._few_repeats(columns, rows)
            known = len(columns) == 1 or rows <= _MANY
            self._unique[key] = repeats is not None and (
                known or not _by_chance(columns, rows, repeats)
            )
        return self._unique[key]

    def _few_repeats(self, columns: Sequence[ValueSet], rows: int) -> int | None:
        """How many rows repeat, if they are few: in a part of the rows, then in all."""
        if len(columns) > 1 and rows > _MANY and _by_chance(columns, rows, 0):
            return None
        codes = [self._codes(column) for column in columns]
        most = max_tolerated_duplicates(rows)
        for part in _SAMPLES:
            if rows > 4 * part:
                seen = _repeats(codes, slice(0, part), self._size)
                if seen > _SURE and seen * rows / part > most:
                    return None
        repeats = _repeats(codes, slice(None), self._size)
        return repeats if repeats <= most else None

    def _codes(self, value_set: ValueSet) -> Codes:
        if id(value_set) not in self._by_row:
            self._by_row[id(value_set)] = value_set.by_row()
        return self._by_row[id(value_set)]


def _by_chance(columns: Sequence[ValueSet], rows: int, repeats: int) -> bool:
    return is_chance_unique(
        rows, (collision_probability(column.rows) for column in columns), repeats
    )


def _shared(pairs: Sequence[ColumnOverlap], sides: Sequence[ProfiledTable]) -> list[ColumnOverlap]:
    """Pairs of columns that could be parts of a key, best first, each column once."""
    fit = [
        pair
        for pair in pairs
        if max(pair.match.shares) >= _PART_MIN_SHARE
        and (pair.named or pair.sure or _keyed(pair, sides))
        and (
            pair.left.family == pair.right.family or "text" in (pair.left.family, pair.right.family)
        )
    ]
    fit.sort(key=lambda pair: (not pair.named, not pair.sure, -sum(pair.match.shares)))
    return list(without_reused_columns(fit))[:MOST_SHARED]


def _keyed(pair: ColumnOverlap, sides: Sequence[ProfiledTable]) -> bool:
    """Whether either column is part of a likely key of its table, of several columns."""
    both = (pair.left, pair.right)
    return min(pair.match.shares) >= _PART_MIN_SHARE and any(
        one.name in likely_key_columns(sides[one.table]) for one in both
    )


def _repeats(columns: Sequence[Codes], part: slice, size: int) -> int:
    coded = [(codes[part], size) for codes in columns]
    return refine_by_columns(single_class(len(coded[0][0])), coded).repeats


def measure_join(
    chosen: Sequence[tuple[ValueSet, ValueSet]], rows: tuple[int, int], size: int
) -> tuple[JoinCandidate, int]:
    """What a join on some pairs of columns would match, and the rows it would add."""
    left, right = encode_composite_pair(
        [one.by_row() for one, _ in chosen], [one.by_row() for _, one in chosen], size
    )
    length = int(right.max(initial=-1)) + 1
    here = np.bincount(left[left >= 0], minlength=length)
    there = np.bincount(right[right >= 0], minlength=length)
    both = (here > 0) & (there > 0)
    here, there = here[both], there[both]
    key = tuple((one.name, other.name) for one, other in chosen)
    join_candidate = JoinCandidate("", "", key, rows[0], rows[1], *count_matched_rows(here, there))
    return join_candidate, count_multiplied_rows(here, there)


def encode_composite_pair(
    left: Sequence[Codes], right: Sequence[Codes], size: int
) -> tuple[Numbers, Numbers]:
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
    >>> encode_composite_pair([yards[:2], hives[:2]], [yards, hives], 4)[0].tolist()
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
        known, there, _ = dense_rank(there)
        place = np.searchsorted(known, here)
        place[place == len(known)] = 0
        here = np.where((known[place] == here) & (here >= 0), place, -1)
        first = int(known[0] < 0)  # what is missing stands first, and is no key
        there, here = there - first, np.where(here >= 0, here - first, -1)
    return here, there


def _likely(chosen: Sequence[ColumnOverlap], join_candidate: JoinCandidate) -> bool:
    """Whether one would join on it: by its names, or by values that are no chance."""
    known = [pair.named or pair.sure for pair in chosen]
    return all(known) or (any(known) and join_candidate.shares[0] >= _SUFFICIENT_SHARE)


@dataclass(frozen=True, eq=False)
class _Halves:
    """A column whose texts are two parts with a sign between them: the parts as codes."""

    name: str
    sign: str
    parts: tuple[Codes, Codes]
    rows: npt.NDArray[np.int64]


def find_concatenated_keys(
    sides: Sequence[ProfiledTable], columns: Sequence[ValueSet], dictionary: ValueDictionary
) -> Iterator[tuple[tuple[int, int], JoinCandidate]]:
    """The joins that splitting a column in two would make possible, by the tables' numbers.

    Parameters
    ----------
    columns : sequence of ValueSet
        Of all tables, by the loosest comparison.
    dictionary : ValueDictionary
        That they are coded by.
    """
    for number, side in enumerate(sides):
        for halves in _halved(side, dictionary):
            for other, partner in enumerate(sides):
                mine = [column for column in columns if column.table == other]
                if other == number or len(mine) < 2:
                    continue
                chosen = _fitting(halves, mine, len(dictionary))
                if chosen is None:
                    continue
                join_candidate = _relation(halves, chosen, side, partner, len(dictionary))
                if (
                    max(join_candidate.shares) >= _JOINED_SUFFICIENT_SHARE
                    and join_candidate.cardinality != "many-to-many"
                ):
                    yield (
                        (min(number, other), max(number, other)),
                        _turned(join_candidate, number > other),
                    )


def _halved(side: ProfiledTable, dictionary: ValueDictionary) -> Iterator[_Halves]:
    for name, profile in side.profiles.items():
        if profile.kind != TEXT or not _LEAST <= profile.distinct <= MOST_LOOSENED:
            continue
        tally = side.tallies[name]
        sign = _find_separator(tally.texts[:_SAMPLE])
        if sign is None:
            continue
        two = pc.equal(pc.count_substring(tally.texts, sign), 1)
        parts = pc.split_pattern(tally.texts.filter(two), sign, max_splits=1)
        codes = (
            dictionary.find(normalize_texts(pc.list_element(parts, place), SAME_WORDS))
            for place in (0, 1)
        )
        first, second = codes
        yield _Halves(name, sign, (first, second), tally.counts[two.to_numpy(zero_copy_only=False)])


def _find_separator(texts: pa.Array) -> str | None:
    """The sign that stands once in nearly all texts, within them."""
    for sign in _SEPARATORS:
        inside = pc.match_substring_regex(texts, f"^[^{_in_class(sign)}]+[{_in_class(sign)}]"
                                          f"[^{_in_class(sign)}]+$")  # fmt: skip
        if pc.sum(inside).as_py() >= _NEARLY_ALL * len(texts):
            return sign
    return None


def _in_class(sign: str) -> str:
    return f"\\{sign}" if sign in "-|./" else sign


def _fitting(
    halves: _Halves, columns: Sequence[ValueSet], size: int
) -> tuple[ValueSet, ValueSet] | None:
    """The column that holds most of the first parts, and another that holds most of the second."""
    chosen: list[ValueSet] = []
    for codes in halves.parts:
        known = dense_rank(codes)[0]
        shares = {
            place: _share(known, column.codes, size)
            for place, column in enumerate(columns)
            if column not in chosen
        }
        best = max(shares, key=shares.__getitem__, default=None)
        if best is None or shares[best] < _JOINED_PART_MIN_SHARE:
            return None
        chosen.append(columns[best])
    return chosen[0], chosen[1]


def _share(codes: Codes, there: Codes, size: int) -> float:
    standing = np.zeros(size + 1, bool)
    standing[there] = True
    return float(standing[codes[codes >= 0]].sum()) / max(len(codes), 1)


def _relation(
    halves: _Halves,
    chosen: tuple[ValueSet, ValueSet],
    side: ProfiledTable,
    partner: ProfiledTable,
    size: int,
) -> JoinCandidate:
    """What the split column would match, with its table as the left one."""
    here, there = encode_composite_pair(halves.parts, [c.by_row() for c in chosen], size)
    length = int(there.max(initial=-1)) + 1
    mine = np.bincount(here[here >= 0], weights=halves.rows[here >= 0], minlength=length)
    theirs = np.bincount(there[there >= 0], minlength=length)
    both = (mine > 0) & (theirs > 0)
    names = unused_names((column.name for column in chosen), side.table.column_names)
    into = ",".join(map(quote_name, names))
    return JoinCandidate(
        side.table.name,
        partner.table.name,
        tuple(zip(names, (one.name for one in chosen), strict=True)),
        side.table.rows,
        partner.table.rows,
        *count_matched_rows(mine[both].astype(np.int64), theirs[both]),
        split=f"{quote_name(halves.name)}:{halves.sign} into {into}",
        split_of=side.table.name,
        split_path=side.table.path,
    )


def _turned(join_candidate: JoinCandidate, turn: bool) -> JoinCandidate:
    """The relation with left and right exchanged."""
    if not turn:
        return join_candidate
    return replace(
        join_candidate,
        left=join_candidate.right,
        right=join_candidate.left,
        key=tuple((right, left) for left, right in join_candidate.key),
        left_rows=join_candidate.right_rows,
        right_rows=join_candidate.left_rows,
        left_matched=join_candidate.right_matched,
        right_matched=join_candidate.left_matched,
        cardinality="-to-".join(reversed(join_candidate.cardinality.split("-to-"))),
    )
