"""Pairs of columns of two tables that have values in common."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from plait.core.account.names import folded
from plait.core.codes.counting import Counts
from plait.core.look.relating.evidence import alike, surprising, unlikeliness
from plait.core.look.relating.relation import Relation
from plait.core.look.relating.values import TalliedTable, Values, key_parts

PASSES = 0.2
LEAST_SHARE = 0.3
FEW_ADDED = 0.1
_SURE_SHARE, _PART_SHARE = 0.9, 0.5
_LEAST_VALUES = 3
_NUMBERING = ("", "id", "index", "n", "no", "nr", "num", "number", "row", "rowid", "rownumber")


@dataclass(frozen=True, eq=False)
class Pair:
    """A column of either table, what a join on them matches, and the rows it would multiply.

    Parameters
    ----------
    left, right : Values
    match : Relation
    added : int
    sure : bool
        Whether they have more in common than chance gives.
    """

    left: Values
    right: Values
    match: Relation
    added: int
    sure: bool

    @property
    def named(self) -> bool:
        """Whether the columns are called alike."""
        return alike(self.left.name, self.right.name)

    @property
    def likely(self) -> bool:
        """Whether one would join on it."""
        one = self.match
        if max(one.shares) < LEAST_SHARE or self.added > FEW_ADDED * one.left_matched:
            return False
        if min(len(self.left.codes), len(self.right.codes)) < _LEAST_VALUES:
            return self.named
        if self.left.kind != self.right.kind and "text" not in (self.left.kind, self.right.kind):
            return False
        if self.named:
            return self.sure or not self._own_numbers
        whole = one.shares[0] >= _SURE_SHARE and one.shares[1] >= _PART_SHARE
        return self.sure and (self.left.kind == "text" or whole)

    @property
    def _own_numbers(self) -> bool:
        """Whether either table may just number its own rows from 1."""
        one = self.match
        numbers = self.left.kind == self.right.kind == "integer"
        plain = one.left_rows != one.right_rows or folded(self.left.name) in _NUMBERING
        return numbers and one.cardinality == "one-to-one" and plain


def related(
    columns: Sequence[Values],
    sides: Sequence[TalliedTable],
    size: int,
    shares: npt.NDArray[np.float64],
    wanted: Collection[tuple[int, int]] | None = None,
) -> dict[tuple[int, int], list[Pair]]:
    """The pairs of columns with values in common, by the numbers of their tables.

    Parameters
    ----------
    columns : sequence of Values
        Of all tables.
    sides : sequence of TalliedTable
        Those with more rows first.
    size : int
        How many codes the dictionary has.
    shares : float64 array, (columns, columns)
        As ``containments`` estimates them.
    wanted : collection of (int, int), optional
        The pairs of tables that are looked at; all when not given.

    Notes
    -----
    Only pairs whose sketches have a fifth in common are counted.
    """
    tables = np.array([one.table for one in columns], np.int64)
    apart = tables[:, None] < tables[None, :]
    passing = apart & (np.maximum(shares, shares.T) >= PASSES)
    of_table = np.bincount(tables, minlength=len(sides))
    found: dict[tuple[int, int], list[Pair]] = {}
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


def _may_matter(left: Values, right: Values, sides: Sequence[TalliedTable]) -> bool:
    """Whether two columns of numbers from 1 to n, which chance gives, could join all the same."""
    keyed = any(one.name in key_parts(sides[one.table]) for one in (left, right))
    return keyed or alike(left.name, right.name)


def _pair(
    left: Values,
    right: Values,
    there: npt.NDArray[np.int64],
    sides: Sequence[TalliedTable],
    looked: int,
) -> Pair:
    both = there > 0
    here, there = left.rows[both], there[both]
    unlikely = unlikeliness(left, right, int(np.count_nonzero(both)))
    one, other = sides[left.table].table, sides[right.table].table
    match = Relation(
        one.name,
        other.name,
        ((left.name, right.name),),
        one.rows,
        other.rows,
        *matched(here, there),
        unlikely=unlikely,
    )
    return Pair(left, right, match, added(here, there), surprising(unlikely, looked))


def matched(here: Counts, there: Counts) -> tuple[int, int, str]:
    """The rows of either side that match, and the cardinality, by the rows of each common key.

    >>> matched(np.array([2, 1]), np.array([1, 1]))
    (3, 2, 'many-to-one')
    """
    sides = ("many" if (rows > 1).any() else "one" for rows in (here, there))
    return int(here.sum()), int(there.sum()), "-to-".join(sides)


def added(here: Counts, there: Counts) -> int:
    """The rows that a join adds, by the rows of each common key: where it stands on several.

    >>> added(np.array([2, 1]), np.array([3, 3]))
    4
    """
    several = (here > 1) & (there > 1)
    return int((here * (there - 1))[several].sum())


def once_each(pairs: Sequence[Pair]) -> Iterator[Pair]:
    """The pairs in their order, without those that name a column of either side again."""
    lefts: set[str] = set()
    rights: set[str] = set()
    for pair in pairs:
        if pair.left.name not in lefts and pair.right.name not in rights:
            lefts.add(pair.left.name)
            rights.add(pair.right.name)
            yield pair
