"""A pair of columns on which two tables could be joined, and the evidence for it."""

from __future__ import annotations

import math
import re
from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
import numpy.typing as npt
from rapidfuzz import fuzz

from plait.core.base.names import fold_heading
from plait.core.base.wording import Command, Setting, Wording, wording
from plait.core.codes.dense_codes import Counts
from plait.core.profiling.value_sets import ProfiledTable, ValueSet, likely_key_columns
from plait.core.table.key_spec import Key

SURE = 0.05
_ALIKE = 75.0

PASSES = 0.2
LEAST_SHARE = 0.3
FEW_ADDED = 0.1
_SURE_SHARE, _PART_SHARE = 0.9, 0.5
_LEAST_VALUES = 3
_NUMBERING = ("", "id", "index", "n", "no", "nr", "num", "number", "row", "rowid", "rownumber")


@lru_cache(maxsize=1 << 16)
def names_similar(left: str, right: str) -> bool:
    """Whether two column names are the same but for spelling, or nearly; other digits are not.

    >>> names_similar("Yard code", "yard_code"), names_similar("yard", "kg")
    (True, False)
    >>> names_similar("grade 1", "grade 2")
    False
    """
    one, other = fold_heading(left), fold_heading(right)
    digits = re.sub(r"\D", "", one), re.sub(r"\D", "", other)
    same = digits[0] == digits[1] or not all(digits)
    return one == other or (same and fuzz.ratio(one, other) >= _ALIKE)


def overlap_significance(left: ValueSet, right: ValueSet, common: int) -> float:
    """How unlikely it is that two columns have so many values in common by chance.

    Parameters
    ----------
    common : int
        How many values are in both.

    Returns
    -------
    float
        The negative natural logarithm of a bound of the probability: 0 for what chance
        gives, more for what it does not.

    Notes
    -----
    If the values of one column were drawn at random from all that could stand there
    (whole numbers and days: all between the least and the greatest of either column; texts:
    all that have letters or digits where some of theirs do),
    the number in common would have the hypergeometric distribution, as in Fisher's exact
    test. Its tail is bounded as by Hoeffding (1963; Chvátal, "The tail of the
    hypergeometric distribution", 1979). So numbers from 1 to 100 and from 1 to 80 tell
    nothing, and five hundred numbers of six digits that are all in the other column do.
    """
    possible = _possible(left, right)
    one, other = len(left.codes), len(right.codes)
    if not common or not possible:
        return 0.0
    return max(
        one * _divergence(common / one, min(1.0, other / possible)),
        other * _divergence(common / other, min(1.0, one / possible)),
    )


def _possible(left: ValueSet, right: ValueSet) -> float:
    if left.low is None or right.low is None:
        return max(left.span, right.span, len(left.codes), len(right.codes))
    high, low = max(left.low + left.span, right.low + right.span), min(left.low, right.low)
    return max(high - low, len(left.codes), len(right.codes))


def _divergence(seen: float, expected: float) -> float:
    """The divergence of Kullback and Leibler of two chances; 0 where less is seen than expected."""
    if seen <= expected or expected <= 0:
        return 0.0
    rest = (1 - seen) * math.log((1 - seen) / (1 - expected)) if seen < 1 else 0.0
    return seen * math.log(seen / expected) + rest


def is_significant(unlikely: float, pairs: int) -> bool:
    """Whether it stands out when so many pairs were looked at (Bonferroni, 1936).

    >>> is_significant(3.0, 1), is_significant(8.0, 10), is_significant(8.0, 1000)
    (True, True, False)
    """
    return unlikely > math.log(max(pairs, 1) / SURE)


@dataclass(frozen=True)
class JoinCandidate:
    """Columns on which two tables could be joined.

    Parameters
    ----------
    left, right : str
        The tables; the right one has fewer rows.
    key : tuple of (str, str)
        Left and right columns.
    left_matched, right_matched : int
        Rows that would match.
    cardinality : str
        Left to right, judged on the keys that match.
    ignore : tuple of str
        What must not count when keys are compared, for so many to match.
    split, split_of, split_path : str
        What ``mend --split`` must be told first, of which table, and its file: one of them
        writes the key in one column and the other in two.
    unlikely : float
        The negative natural logarithm of how likely chance gives so much in common.
    """

    left: str
    right: str
    key: Key
    left_rows: int
    right_rows: int
    left_matched: int
    right_matched: int
    cardinality: str
    ignore: tuple[str, ...] = ()
    split: str = ""
    split_of: str = ""
    split_path: str = ""
    unlikely: float = 0.0

    @property
    def shares(self) -> tuple[float, float]:
        """Shares of the left and the right rows that would match."""
        return (
            self.left_matched / max(self.left_rows, 1),
            self.right_matched / max(self.right_rows, 1),
        )

    @property
    def prepare(self) -> Wording | None:
        """The command that splits the column; nothing where there is none to split."""
        if not self.split:
            return None
        settings = (Setting("split", self.split), Setting("out", "…"))
        return wording(Command("mend", (self.split_path or self.split_of,), settings))

    def columns_of(self, table: str) -> list[str]:
        """The key's columns in one of the tables; none where it is neither."""
        sides = (self.left, self.right)
        return [pair[side] for side in (0, 1) if sides[side] == table for pair in self.key]

    @property
    def named(self) -> bool:
        """Whether the columns are called alike on both sides."""
        return all(names_similar(*pair) for pair in self.key)

    @property
    def worth(self) -> float:
        """How much speaks for it: rows that match, names, one row a key, and no chance."""
        sure = min(self.unlikely / 20, 1.0)
        plain = 0.25 * (not self.ignore and not self.split)
        one = 0.15 * self.cardinality.count("one")
        return self.shares[0] + self.shares[1] / 2 + self.named / 2 + sure / 2 + plain + one


def drop_subsumed_candidates(join_candidates: list[JoinCandidate]) -> list[JoinCandidate]:
    """Of relations whose columns are part of one another, the one that says most.

    More columns are better when they make the key unique on a side, else fewer.
    """
    return [
        join_candidate
        for join_candidate in join_candidates
        if not any(
            (
                set(join_candidate.key) < set(candidate.key)
                and _ones(candidate) > _ones(join_candidate)
            )
            or (
                set(join_candidate.key) > set(candidate.key)
                and _ones(candidate) >= _ones(join_candidate)
            )
            for candidate in join_candidates
        )
    ]


def _ones(join_candidate: JoinCandidate) -> int:
    return join_candidate.cardinality.count("one")


@dataclass(frozen=True, eq=False)
class ColumnOverlap:
    """A column of either table, what a join on them matches, and the rows it would multiply.

    Parameters
    ----------
    sure : bool
        Whether they have more in common than chance gives.
    """

    left: ValueSet
    right: ValueSet
    match: JoinCandidate
    added: int
    sure: bool

    @property
    def named(self) -> bool:
        """Whether the columns are called alike."""
        return names_similar(self.left.name, self.right.name)

    @property
    def likely(self) -> bool:
        """Whether one would join on it."""
        join_candidate = self.match
        if (
            max(join_candidate.shares) < LEAST_SHARE
            or self.added > FEW_ADDED * join_candidate.left_matched
        ):
            return False
        if min(len(self.left.codes), len(self.right.codes)) < _LEAST_VALUES:
            return self.named
        if self.left.family != self.right.family and "text" not in (
            self.left.family,
            self.right.family,
        ):
            return False
        if self.named:
            return self.sure or not self._own_numbers
        whole = join_candidate.shares[0] >= _SURE_SHARE and join_candidate.shares[1] >= _PART_SHARE
        return self.sure and (self.left.family == "text" or whole)

    @property
    def _own_numbers(self) -> bool:
        """Whether either table may just number its own rows from 1."""
        join_candidate = self.match
        numbers = self.left.family == self.right.family == "integer"
        plain = (
            join_candidate.left_rows != join_candidate.right_rows
            or fold_heading(self.left.name) in _NUMBERING
        )
        return numbers and join_candidate.cardinality == "one-to-one" and plain


def find_overlapping_columns(
    columns: Sequence[ValueSet],
    sides: Sequence[ProfiledTable],
    size: int,
    shares: npt.NDArray[np.float64],
    wanted: Collection[tuple[int, int]] | None = None,
) -> dict[tuple[int, int], list[ColumnOverlap]]:
    """The pairs of columns with values in common, by the numbers of their tables.

    Parameters
    ----------
    columns : sequence of ValueSet
        Of all tables.
    sides : sequence of ProfiledTable
        Those with more rows first.
    size : int
        How many codes the dictionary has.
    shares : float64 array, (columns, columns)
        As ``estimate_containment`` estimates them.
    wanted : collection of (int, int), optional
        The pairs of tables that are looked at; all when not given.

    Notes
    -----
    Only pairs whose sketches have a fifth in common are counted.
    """
    tables = np.array([column.table for column in columns], np.int64)
    apart = tables[:, None] < tables[None, :]
    passing = apart & (np.maximum(shares, shares.T) >= PASSES)
    of_table = np.bincount(tables, minlength=len(sides))
    found: dict[tuple[int, int], list[ColumnOverlap]] = {}
    counted = np.zeros(size + 1, np.int64)
    for number, right in enumerate(columns):
        partners = np.flatnonzero(passing[:, number])
        if not len(partners):
            continue
        counted[right.codes] = right.rows
        for place in partners.tolist():
            left = columns[place]
            if wanted is not None and (left.table, right.table) not in wanted:
                continue
            if left.dense and right.dense and not _may_matter(left, right, sides):
                continue
            looked = int(of_table[left.table] * of_table[right.table])
            pair = _pair(left, right, counted[left.codes], sides, looked)
            found.setdefault((left.table, right.table), []).append(pair)
        counted[right.codes] = 0
    return found


def _may_matter(left: ValueSet, right: ValueSet, sides: Sequence[ProfiledTable]) -> bool:
    """Whether two columns of numbers from 1 to n, which chance gives, could join all the same."""
    keyed = any(one.name in likely_key_columns(sides[one.table]) for one in (left, right))
    return keyed or names_similar(left.name, right.name)


def _pair(
    left: ValueSet,
    right: ValueSet,
    there: npt.NDArray[np.int64],
    sides: Sequence[ProfiledTable],
    looked: int,
) -> ColumnOverlap:
    both = there > 0
    here, there = left.rows[both], there[both]
    unlikely = overlap_significance(left, right, int(np.count_nonzero(both)))
    one, other = sides[left.table].table, sides[right.table].table
    match = JoinCandidate(
        one.name,
        other.name,
        ((left.name, right.name),),
        one.rows,
        other.rows,
        *count_matched_rows(here, there),
        unlikely=unlikely,
    )
    return ColumnOverlap(
        left, right, match, count_multiplied_rows(here, there), is_significant(unlikely, looked)
    )


def count_matched_rows(counts: Counts, there: Counts) -> tuple[int, int, str]:
    """The rows of either side that match, and the cardinality, by the rows of each common key.

    >>> count_matched_rows(np.array([2, 1]), np.array([1, 1]))
    (3, 2, 'many-to-one')
    """
    sides = ("many" if (rows > 1).any() else "one" for rows in (counts, there))
    return int(counts.sum()), int(there.sum()), "-to-".join(sides)


def count_multiplied_rows(counts: Counts, there: Counts) -> int:
    """The rows that a join adds, by the rows of each common key: where it stands on several.

    >>> count_multiplied_rows(np.array([2, 1]), np.array([3, 3]))
    4
    """
    several = (counts > 1) & (there > 1)
    return int((counts * (there - 1))[several].sum())


def without_reused_columns(pairs: Sequence[ColumnOverlap]) -> Iterator[ColumnOverlap]:
    """The pairs in their order, without those that name a column of either side again."""
    lefts: set[str] = set()
    rights: set[str] = set()
    for pair in pairs:
        if pair.left.name not in lefts and pair.right.name not in rights:
            lefts.add(pair.left.name)
            rights.add(pair.right.name)
            yield pair
