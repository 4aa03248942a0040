"""Which rows of two tables belong together, from the codes of their keys alone.

The size of a join, its cardinality and what stays unmatched are known here
from counts, before one row is built.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from plait.core.codes.coding import Coding
from plait.core.codes.counting import Counts, by_code, first_rows, rows_by_code
from plait.core.codes.groups import Rows
from plait.core.table.strand import rows_dtype
from plait.core.text.wordtable import Codes

JOIN_KINDS = ("inner", "left", "right", "full", "semi", "anti", "cross")
ONE_SIDED = ("semi", "anti")
CARDINALITIES = ("one-to-one", "many-to-one", "one-to-many", "many-to-many")


@dataclass(frozen=True)
class Match:
    """The account of a join, in rows where nothing else is said.

    ``left_duplicate_keys`` and ``right_duplicate_keys`` are in keys, and
    ``cardinality`` is as found, left to right, on the keys that match.
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


@dataclass(frozen=True, eq=False)
class Matching:
    """Two tables' keys set against each other.

    Parameters
    ----------
    coding : Coding
        Of the left table, then the right.
    left_counts, right_counts : array of int64
        Rows of each key on that side.
    pairs : int
        How many pairs of rows have equal keys.
    unmatched : pair of arrays of int
        Left and right rows that match nothing, those without a key included.
    """

    coding: Coding
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

    def account(self, kind: str) -> Match:
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
        return Match(
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


def match_keys(coding: Coding) -> Matching:
    """Set the keys of two tables against each other.

    Parameters
    ----------
    coding : Coding
        Of two tables.

    Returns
    -------
    Matching
    """
    left, right = coding.counts(0), coding.counts(1)
    alone = tuple(
        np.flatnonzero(by_code(other == 0, codes, True))
        for codes, other in zip(coding.codes, (right, left), strict=True)
    )
    return Matching(coding, left, right, int(left @ right), (alone[0], alone[1]))


def kept_rows(matching: Matching, kind: str) -> Rows:
    """The left rows of a join that only asks whether a row has a match.

    Parameters
    ----------
    matching : Matching
    kind : {"semi", "anti"}
        Those with a match, or those without one.

    Examples
    --------
    >>> from plait.core.codes.coding import Coding
    >>> codes = np.array([0, 1, -1], np.int32), np.array([0, 0], np.int32)
    >>> matching = match_keys(Coding(codes, 2, ()))
    >>> kept_rows(matching, "semi").tolist(), kept_rows(matching, "anti").tolist()
    ([0], [1, 2])
    """
    if kind == "anti":
        return matching.unmatched[0]
    return np.flatnonzero(by_code(matching.right_counts > 0, matching.coding.codes[0], False))


def row_pairs(matching: Matching, kind: str) -> tuple[Rows | None, Rows]:
    """The rows of a join: for each result row the left row and the right row, -1 for none.

    Parameters
    ----------
    matching : Matching
    kind : {"inner", "left", "right", "full", "cross"}

    Returns
    -------
    left : array of int, or None when each left row stands once, in order
    right : array of int

    Notes
    -----
    Left rows keep their order; the right rows of one left row keep theirs; right
    rows without a partner follow last, in theirs. Where no right key repeats
    this is one look-up for each row; else left rows are repeated as often as
    they have partners, and the right rows follow from counts and offsets.
    """
    left, right = _left_part(matching, keep_all=kind in ("left", "full"))
    if kind in ("right", "full"):
        rest = matching.unmatched[1].astype(right.dtype)
        if len(rest):
            if left is None:
                left = np.arange(len(right), dtype=rows_dtype(len(right)))
            left = np.concatenate([left, np.full(len(rest), -1, left.dtype)])
            right = np.concatenate([right, rest])
    return left, right


def _left_part(matching: Matching, keep_all: bool) -> tuple[Rows | None, Rows]:
    codes = matching.coding.codes[0]
    if (matching.right_counts <= 1).all():
        right = _partner(matching, codes)
        if keep_all or (len(right) and right.min() >= 0):
            return None, right
        kept = np.flatnonzero(right >= 0).astype(rows_dtype(len(codes)))
        return kept, right[kept]
    return _repeated(matching, codes, keep_all)


def _partner(matching: Matching, codes: Codes) -> Rows:
    """The one right row of each left row, -1 for none."""
    size = len(matching.right_counts)
    first = first_rows(matching.coding.codes[1], size)
    return by_code(first.astype(rows_dtype(len(matching.coding.codes[1]))), codes, -1)


def _repeated(matching: Matching, codes: Codes, keep_all: bool) -> tuple[Rows, Rows]:
    """Left rows as often as they have partners, and those partners."""
    rows, offsets = rows_by_code(matching.coding.codes[1], matching.right_counts)
    partners = by_code(matching.right_counts, codes, 0)
    times = np.maximum(partners, 1) if keep_all else partners
    left = np.repeat(np.arange(len(codes), dtype=rows_dtype(len(codes))), times)
    first = np.repeat(np.cumsum(times) - times, times)
    begin = by_code(offsets[:-1], codes, 0)
    place = np.arange(len(left)) - first + begin[left]
    alone = partners[left] == 0
    place[alone] = 0
    right = rows[place].astype(rows_dtype(len(rows)))
    right[alone] = -1
    return left, right
