"""All minimal keys of up to four columns: what sampled pairs do not refute is counted."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import combinations

import numpy as np
import numpy.typing as npt

from plait.core.codes.dense_codes import dense_rank
from plait.core.profiling.agree_sets import (
    AgreeSets,
    Sets,
    SubsetIndex,
    agree_sets_of_pairs,
    all_row_pairs,
    sample_row_pairs,
)
from plait.core.profiling.equivalence_classes import (
    EquivalenceClasses,
    Numbers,
    agreement_probability,
    classes_of_equal_hash,
    pairs_within_classes,
    refine_by_column,
    refine_by_columns,
    single_class,
)
from plait.core.text.hash_table import Codes

MOST_TOGETHER = 4
_LEAST_PAIRS, MOST_PAIRS = 1 << 8, 1 << 16
_PAIRS_A_SET = 16
_MANY_PAIRS, _WANTED_PAIRS = 500, 60
_SOME_PAIRS, _SURE_PAIRS = 20, 10  # that none of ten is among those looked at: once in 22,000
_MANY_ROWS = 1 << 20
_MOST_LOOKS = 1000

Columns = tuple[int, ...]
Flags = npt.NDArray[np.bool_]


@dataclass(frozen=True)
class MinimalKeys:
    """Keys of which no part is one.

    Parameters
    ----------
    keys : list of tuple of int
        Numbers of columns; small sets first.
    repeats : int
        Rows that equal an earlier one on all columns: no key tells them apart, and
        they are left out of account.
    bounded : bool
        Whether some sets were left undecided, to bound the work: of very many columns
        that have nothing to do with one another.
    """

    keys: list[Columns]
    repeats: int
    bounded: bool = False


def find_minimal_keys(columns: Sequence[Codes], sizes: Sequence[int]) -> MinimalKeys:
    """Find every set of up to four columns that tells all rows apart, and of which no part does.

    Parameters
    ----------
    columns : sequence of int32 array
        The codes of each column, one for each row, none missing.
    sizes : sequence of int
        How many codes each has.

    Notes
    -----
    A pair of rows refutes every set of columns on which it agrees. Pairs that
    agree on much are looked at first. What they leave open is decided by all the
    pairs that agree on a part of it, chosen so that they are few; they decide every
    other set with that part too. So it is a hybrid as that of Papenbrock and Naumann
    ("A hybrid approach for efficient unique column combination discovery", 2017),
    without its trees: the sets of up to four of a hundred columns can be written
    down and tried all at once.

    Examples
    --------
    >>> yard, hive = np.array([0, 0, 1, 1], np.int32), np.array([0, 1, 0, 1], np.int32)
    >>> find_minimal_keys([yard, hive], [2, 2]).keys
    [(0, 1)]
    """
    if not columns or len(columns[0]) < 2:
        return MinimalKeys([], 0)
    columns, repeats = _distinct_rows(columns, sizes)
    search = _Search(columns, sizes)
    found: list[Columns] = []
    sets: Sets = np.arange(len(columns), dtype=np.int16)[:, None]
    for size in range(1, MOST_TOGETHER + 1):
        sets = sets[~_with_part(sets, found, len(columns))]
        found += search.keys_among(sets)
        if size < MOST_TOGETHER:
            sets = _longer(sets[~_with_part(sets, found, len(columns))], len(columns))
    return MinimalKeys(found, repeats, search.left <= 0)


def _distinct_rows(columns: Sequence[Codes], sizes: Sequence[int]) -> tuple[list[Codes], int]:
    """The columns without rows that equal an earlier one, and how many those were."""
    clusters = refine_by_columns(classes_of_equal_hash(columns), zip(columns, sizes, strict=True))
    if not clusters.repeats:
        return list(columns), 0
    kept = np.ones(len(columns[0]), bool)
    kept[clusters.rows] = False
    kept[clusters.rows[dense_rank(clusters.numbers)[2]]] = True
    return [codes[kept] for codes in columns], clusters.repeats


def _longer(sets: Sets, columns: int) -> Sets:
    """Each set with each column behind its last."""
    last = sets[:, -1].astype(np.int64)
    each = np.repeat(np.arange(len(sets)), columns - 1 - last)
    begins = np.concatenate([[0], np.cumsum(columns - 1 - last)[:-1]]) if len(sets) else last
    more = last[each] + 1 + np.arange(len(each)) - begins[each]
    return np.column_stack([sets[each], more.astype(np.int16)])


class _Search:
    """What is known of the sets of columns of a table."""

    def __init__(self, columns: Sequence[Codes], sizes: Sequence[int]) -> None:
        self.columns, self.sizes = columns, sizes
        self.rows = len(columns[0])
        self.agreeing = [
            agreement_probability(codes, size) for codes, size in zip(columns, sizes, strict=True)
        ]
        row_pairs = all_row_pairs(self.rows)
        self.complete = row_pairs is not None
        self.agreements = AgreeSets(columns)
        self.agreements.look_at(*(row_pairs or sample_row_pairs(columns, sizes)))
        self.known: dict[Columns, EquivalenceClasses] = {(): single_class(self.rows)}
        self.left = _MOST_LOOKS

    def keys_among(self, sets: Sets) -> list[Columns]:
        """Which sets of columns, all of one size, are keys."""
        # Fewer combinations of values than rows cannot tell the rows apart.
        values = np.asarray(self.sizes, float)[sets].prod(axis=1)
        sets = sets[values >= self.rows]
        open_ = sets[~self.agreements.refuted(sets)]
        keys = [open_[: len(open_) if self.complete else 0]]
        open_ = open_[len(keys[0]) :]
        while len(open_) and self.left > 0:
            self.left -= 1
            if self._refuted_by_some(open_[0]):
                open_ = open_[1:][~self.agreements.refuted(open_[1:], newest=True)]
                continue
            few = min(MOST_PAIRS, max(_LEAST_PAIRS, _PAIRS_A_SET * len(open_)))
            part, clusters = self._part_with_few_pairs(open_[0], few)
            holding = _holding(open_, part)
            if clusters.pairs <= few:
                mine = open_[holding]
                keys.append(mine[~self._refuted(mine, part, clusters)])
                open_ = open_[~holding]
            else:  # the whole set, and no key
                self.agreements.look_at(*pairs_within_classes(clusters, MOST_PAIRS))
                open_ = open_[1:][~self.agreements.refuted(open_[1:], newest=True)]
        return [tuple(t) for key in keys for t in key.tolist()]

    def _refuted_by_some(self, columns: Sets) -> bool:
        """Whether some of the rows agree on the columns, where pairs of all should.

        Where many pairs should, rows are drawn: a part of them holds the square of its share of
        the pairs. Where some should, values of the column that has most are drawn, and all their
        rows looked at: rows that agree have the same value, so a part holds its share of them.
        """
        expected = (
            float(self.rows) ** 2 / 2 * math.prod(self.agreeing[column] for column in columns)
        )
        if expected >= _MANY_PAIRS:
            rows = self._drawn_rows(int(self.rows * math.sqrt(_WANTED_PAIRS / expected)))
        elif expected >= _SOME_PAIRS and self.rows >= _MANY_ROWS:
            rows = self._rows_of_drawn_values(columns, _SURE_PAIRS / expected)
        else:
            return False
        some = [(self.columns[t][rows], self.sizes[t]) for t in columns.tolist()]
        alike = classes_of_equal_hash([codes for codes, _ in some])
        clusters = refine_by_columns(alike, some)
        first, second = (rows[side] for side in pairs_within_classes(clusters, _WANTED_PAIRS))
        self.agreements.look_at(first, second)
        return len(first) > 0

    def _drawn_rows(self, number: int) -> Numbers:
        """Rows from all over, none twice."""
        drawn = np.arange(number) + np.random.default_rng(number).random(number)
        rows = (drawn * (self.rows / number)).astype(np.int64)
        return rows[np.diff(rows, prepend=-1) > 0]

    def _rows_of_drawn_values(self, columns: Sets, share: float) -> Numbers:
        """All rows that have one of some values of the column whose rows agree least."""
        column = min(columns.tolist(), key=lambda number: self.agreeing[number])
        drawn = np.random.default_rng(self.rows).random(self.sizes[column]) < share
        return np.flatnonzero(drawn[self.columns[column]])

    def _part_with_few_pairs(self, columns: Sets, few: int) -> tuple[Columns, EquivalenceClasses]:
        """The fewest of some columns on which few pairs of rows agree; all of them for want."""
        order = sorted(columns.tolist(), key=lambda number: self.agreeing[number])
        expected = float(self.rows) ** 2 / 2
        for place, number in enumerate(order, 1):
            expected *= self.agreeing[number]
            if expected <= few or place == len(order):
                part = tuple(sorted(order[:place]))
                clusters = self._clusters(part)
                if clusters.pairs <= few:
                    break
        return part, clusters

    def _refuted(self, sets: Sets, part: Columns, clusters: EquivalenceClasses) -> Flags:
        """Which sets with a part some pair of rows agrees on, of all that agree on the part."""
        first, second = pairs_within_classes(clusters)
        if not len(first):
            return np.zeros(len(sets), bool)
        wanted = np.array([r for r in dense_rank(sets.ravel())[0] if r not in part])
        agree = agree_sets_of_pairs(
            [self.columns[number] for number in wanted.tolist()], first, second
        )
        others = sets[~np.isin(sets, part)].reshape(len(sets), -1)
        return SubsetIndex(agree).of(np.searchsorted(wanted, others))

    def _clusters(self, columns: Columns) -> EquivalenceClasses:
        """The rows that the columns do not tell apart, beginning with what is known of a part."""
        part = min(_parts(columns, self.known), key=lambda p: len(self.known[p].rows))
        rest = sorted(set(columns) - set(part), key=lambda number: -self.sizes[number])
        clusters = self.known[part]
        if not part and len(rest) > 1 and self.rows >= _MANY_ROWS:
            # Few of many rows are left by their hashes: counting them a column at a time is slow.
            coded = [(self.columns[number], self.sizes[number]) for number in rest]
            clusters = refine_by_columns(
                classes_of_equal_hash([codes for codes, _ in coded]), coded
            )
            self.known[columns] = clusters
            return clusters
        for number in rest:
            clusters = refine_by_column(clusters, self.columns[number], self.sizes[number])
            part = tuple(sorted((*part, number)))
            self.known[part] = clusters
        return clusters


def _parts(columns: Columns, known: dict[Columns, EquivalenceClasses]) -> Iterator[Columns]:
    for size in range(len(columns) + 1):
        for part in combinations(columns, size):
            if part in known:
                yield part


def _holding(sets: Sets, part: Columns) -> npt.NDArray[np.bool_]:
    """Which sets have some columns among theirs."""
    found = np.ones(len(sets), bool)
    for number in part:
        found &= (sets == number).any(axis=1)
    return found


def _with_part(sets: Sets, columnses: Sequence[Columns], columns: int) -> npt.NDArray[np.bool_]:
    """Which sets have a key as a part, or are one."""
    holding = np.zeros(len(sets), bool)
    size = sets.shape[1]
    for part in range(1, size + 1):
        keys = [columnse for columnse in columnses if len(columnse) == part]
        if not keys:
            continue
        flags = np.zeros((columns,) * part, bool)
        flags[tuple(np.array(keys).T)] = True
        for places in combinations(range(size), part):
            holding |= flags[tuple(sets[:, p] for p in places)]
    return holding
