"""Which rows of two tables belong together, from the codes of their keys alone.

The size of a join, its cardinality and what stays unmatched are known here
from counts, before one row is built.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from plait.core.codes.dense_codes import (
    Counts,
    first_row_of_each_code,
    gather_by_code,
    rows_grouped_by_code,
)
from plait.core.codes.key_codes import KeyCodes, Rows
from plait.core.table.fragment import row_number_dtype
from plait.core.text.hash_table import Codes

JOIN_KINDS = ("inner", "left", "right", "full", "semi", "anti", "cross")
ONE_SIDED = ("semi", "anti")
CARDINALITIES = ("one-to-one", "many-to-one", "one-to-many", "many-to-many")


@dataclass(frozen=True)
class MatchedBy:
    """By what the rows of a join came together, in pairs of rows.

    Parameters
    ----------
    equal : int
        By equal keys.
    looser : int
        By keys that differ in nothing but what is ignored.
    pairs : int
        By pairs of a crosswalk.
    evidence : int
        By pairs that odds were given for.
    """

    equal: int
    looser: int
    pairs: int
    evidence: int

    def __str__(self) -> str:
        """In words, what is nothing left out.

        >>> str(MatchedBy(112, 0, 1, 5))
        '112 by equal keys, 1 by a crosswalk, 5 by evidence'
        """
        ways = (
            (self.equal, "by equal keys"),
            (self.looser, "by keys spelt otherwise"),
            (self.pairs, "by a crosswalk"),
            (self.evidence, "by evidence"),
        )
        return ", ".join(f"{number:,} {how}" for number, how in ways if number) or "none"


@dataclass(frozen=True)
class MatchCounts:
    """The account of a join, in rows where nothing else is said.

    ``left_duplicate_keys`` and ``right_duplicate_keys`` are in keys, and
    ``cardinality`` is as found, left to right, on the keys that match. ``matched_by`` is there
    where keys need not be equal to match.
    """

    left_rows: int
    right_rows: int
    left_matched: int
    left_unmatched: int
    right_matched: int
    right_unmatched: int
    left_missing_key: int
    right_missing_key: int
    left_duplicate_keys: int
    right_duplicate_keys: int
    cardinality: str
    output_rows: int
    matched_by: MatchedBy | None = None


@dataclass(frozen=True, eq=False)
class KeyMatch:
    """Two tables' keys set against each other.

    Parameters
    ----------
    coding : KeyCodes
        Of the left table, then the right.
    left_counts, right_counts : array of int64
        Rows of each key on that side.
    pairs : int
        How many pairs of rows have equal keys.
    unmatched : pair of arrays of int
        Left and right rows that match nothing, those without a key included.
    """

    coding: KeyCodes
    left_counts: Counts
    right_counts: Counts
    pairs: int
    unmatched: tuple[Rows, Rows]

    @property
    def matched(self) -> npt.NDArray[np.bool_]:
        """By code: whether the key is on both sides."""
        return (self.left_counts > 0) & (self.right_counts > 0)

    @property
    def cardinality(self) -> str:
        """As found, left to right, judged on the keys that match."""
        both = self.matched
        left = "many" if (self.left_counts[both] > 1).any() else "one"
        right = "many" if (self.right_counts[both] > 1).any() else "one"
        return f"{left}-to-{right}"

    def counts_for(self, kind: str) -> MatchCounts:
        """The numbers of a join of that kind."""
        both = self.matched
        left_rows, right_rows = map(len, self.coding.codes)
        here, there = int(self.left_counts.sum()), int(self.right_counts.sum())
        left_matched = int(self.left_counts[both].sum())
        right_matched = int(self.right_counts[both].sum())
        made = self.pairs
        made += left_rows - left_matched if kind in ("left", "full") else 0
        made += right_rows - right_matched if kind in ("right", "full") else 0
        if kind in ONE_SIDED:
            made = left_matched if kind == "semi" else left_rows - left_matched
        return MatchCounts(
            left_rows=left_rows,
            right_rows=right_rows,
            left_matched=left_matched,
            left_unmatched=here - left_matched,
            right_matched=right_matched,
            right_unmatched=there - right_matched,
            left_missing_key=left_rows - here,
            right_missing_key=right_rows - there,
            left_duplicate_keys=int((self.left_counts > 1).sum()),
            right_duplicate_keys=int((self.right_counts > 1).sum()),
            cardinality=self.cardinality,
            output_rows=made,
        )


def match_keys(coding: KeyCodes) -> KeyMatch:
    """Set the keys of two tables against each other.

    Parameters
    ----------
    coding : KeyCodes
        Of two tables.
    """
    left, right = coding.counts(0), coding.counts(1)
    alone = tuple(
        np.flatnonzero(gather_by_code(other == 0, codes, True))
        for codes, other in zip(coding.codes, (right, left), strict=True)
    )
    return KeyMatch(coding, left, right, int(left @ right), (alone[0], alone[1]))


def semi_join_rows(key_match: KeyMatch, kind: str) -> Rows:
    """The left rows of a join that only asks whether a row has a match.

    Parameters
    ----------
    kind : {"semi", "anti"}
        Those with a match, or those without one.

    Examples
    --------
    >>> from plait.core.codes.key_codes import KeyCodes
    >>> codes = np.array([0, 1, -1], np.int32), np.array([0, 0], np.int32)
    >>> matching = match_keys(KeyCodes(codes, 2, ()))
    >>> semi_join_rows(matching, "semi").tolist(), semi_join_rows(matching, "anti").tolist()
    ([0], [1, 2])
    """
    if kind == "anti":
        return key_match.unmatched[0]
    return np.flatnonzero(
        gather_by_code(key_match.right_counts > 0, key_match.coding.codes[0], False)
    )


def join_rows(key_match: KeyMatch, kind: str) -> tuple[Rows | None, Rows]:
    """The rows of a join: for each result row the left row and the right row, -1 for none.

    Notes
    -----
    Left rows keep their order; the right rows of one left row keep theirs; right
    rows without a partner follow last, in theirs. Where no right key repeats
    this is one look-up for each row; else left rows are repeated as often as
    they have partners, and the right rows follow from counts and offsets.
    """
    left, right = _left_part(key_match, keep_all=kind in ("left", "full"))
    if kind in ("right", "full"):
        rest = key_match.unmatched[1].astype(right.dtype)
        if len(rest):
            if left is None:
                left = np.arange(len(right), dtype=row_number_dtype(len(right)))
            left = np.concatenate([left, np.full(len(rest), -1, left.dtype)])
            right = np.concatenate([right, rest])
    return left, right


def _left_part(key_match: KeyMatch, keep_all: bool) -> tuple[Rows | None, Rows]:
    codes = key_match.coding.codes[0]
    if (key_match.right_counts <= 1).all():
        right = _partner(key_match, codes)
        if keep_all or (len(right) and right.min() >= 0):
            return None, right
        kept = np.flatnonzero(right >= 0).astype(row_number_dtype(len(codes)))
        return kept, right[kept]
    return _repeated(key_match, codes, keep_all)


def _partner(key_match: KeyMatch, codes: Codes) -> Rows:
    """The one right row of each left row, -1 for none."""
    size = len(key_match.right_counts)
    first = first_row_of_each_code(key_match.coding.codes[1], size)
    return gather_by_code(first.astype(row_number_dtype(len(key_match.coding.codes[1]))), codes, -1)


def _repeated(key_match: KeyMatch, codes: Codes, keep_all: bool) -> tuple[Rows, Rows]:
    """Left rows as often as they have partners, and those partners."""
    rows, offsets = rows_grouped_by_code(key_match.coding.codes[1], key_match.right_counts)
    partners = gather_by_code(key_match.right_counts, codes, 0)
    times = np.maximum(partners, 1) if keep_all else partners
    left = np.repeat(np.arange(len(codes), dtype=row_number_dtype(len(codes))), times)
    first = np.repeat(np.cumsum(times) - times, times)
    begin = gather_by_code(offsets[:-1], codes, 0)
    place = np.arange(len(left)) - first + begin[left]
    alone = partners[left] == 0
    place[alone] = 0
    right = rows[place].astype(row_number_dtype(len(rows)))
    right[alone] = -1
    return left, right
