"""Traps: a shared column that means something else on either side, and spoils a key."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from itertools import combinations

import numpy as np

from plait.core.account.finding import Finding
from plait.core.codes.coding import code_keys
from plait.core.codes.counting import count
from plait.core.codes.mixing import mix
from plait.core.keys.match import Match, Matching, match_keys
from plait.core.table.keyspec import Key, quoted, spelt
from plait.core.table.table import Table
from plait.core.text.wordtable import Codes
from plait.core.unmatched.elsewhere import elsewhere

_POOR, _GOOD, _TIMES = 0.5, 0.5, 2
_NEXT_TO_NONE = 0.05
_MOST_PARTS = 12
_MANY = "many-to-many"


@dataclass(frozen=True)
class _Part:
    """Some columns of the key, the left rows that they match, and the cardinality."""

    key: Key
    rows: int
    cardinality: str


def trap_findings(
    left: Table, right: Table, pairs: Key, matching: Matching, match: Match
) -> Iterator[Finding]:
    """Say so when a part of the key would match far more rows than the whole.

    Notes
    -----
    Looked at only when less than half of the left rows match. Every key column
    is left out in turn, and each is tried by itself.
    """
    rows = match.left_matched + match.left_unmatched
    if not rows or match.left_matched > _POOR * rows:
        return
    least = max(_GOOD * rows, _TIMES * match.left_matched)
    best = _best_part(pairs, matching, least)
    if best is not None and best.rows >= least:
        dropped = ", ".join(quoted(name) for name, _ in pairs if (name, _) not in best.key)
        yield Finding(
            "key-trap",
            "warning",
            best.rows - match.left_matched,
            f"{match.left_matched / rows:.1%} of the rows of {left.name} match on "
            f"{spelt(pairs)}; {best.rows / rows:.1%} would match on {spelt(best.key)} ("
            f"{best.cardinality}). {dropped} may mean different things in {left.name} "
            f"and {right.name}",
            _way_out(left, right, best),
            right.name,
        )
    elif match.left_matched <= _NEXT_TO_NONE * rows:
        yield from _elsewhere_findings(left, right, pairs, matching)


def _way_out(left: Table, right: Table, best: _Part) -> str:
    """The key to take, unless it is one on neither side."""
    if best.cardinality != _MANY:
        return f"--key {spelt(best.key)}"
    return _which(left, right)


def _which(left: Table, right: Table) -> str:
    return f"check which rows match: plait keys {left.name} {right.name}"


def _best_part(pairs: Key, matching: Matching, least: float) -> _Part | None:
    """The part that matches most; one that is a key on a side, where that matches enough."""
    if not 2 <= len(pairs) <= _MOST_PARTS:
        return None
    keys = matching.coding.distinct
    sizes = dict.fromkeys((len(pairs) - 1, 1))
    tried = [
        _part(pairs, matching, keys, chosen)
        for size in sizes
        for chosen in combinations(range(len(pairs)), size)
    ]
    safe = [one for one in tried if one.cardinality != _MANY and one.rows >= least]
    return max(safe or tried, key=lambda one: (round(one.rows, -1), len(one.key)), default=None)


def _part(pairs: Key, matching: Matching, keys: list[Codes], chosen: tuple[int, ...]) -> _Part:
    codes, size = keys[chosen[0]], matching.coding.columns[chosen[0]].size
    for number in chosen[1:]:
        column = matching.coding.columns[number]
        (codes,), size = mix([codes], size, [keys[number]], column.size)
    sums = [
        _summed(codes, counts, size) for counts in (matching.left_counts, matching.right_counts)
    ]
    both = (sums[0] > 0) & (sums[1] > 0)
    sides = ["many" if (one[both] > 1).any() else "one" for one in sums]
    key = tuple(pairs[number] for number in chosen)
    return _Part(key, int(sums[0][both].sum()), "-to-".join(sides))


def _summed(codes: Codes, counts: np.ndarray, size: int) -> np.ndarray:
    """Rows of each partial key."""
    there = codes >= 0
    if (counts <= 1).all():
        return count(np.where(counts > 0, codes, -1), size)
    return np.bincount(codes[there], weights=counts[there], minlength=size).astype(np.int64)


def _elsewhere_findings(
    left: Table, right: Table, pairs: Key, matching: Matching
) -> Iterator[Finding]:
    """The values may be in another column."""
    for one in elsewhere(left, right, pairs, matching):
        here = one.table == left.name
        pair = (one.column, one.better) if here else (one.better, one.column)
        yield Finding(
            "key-elsewhere",
            "warning",
            1,
            f"{one.better_share:.0%} of the values of {one.column} in {one.table} are "
            f"found in {one.better} of {one.other}, but only {one.named_share:.0%} in "
            f"{one.named}",
            f"--key {spelt((pair,))}" if _is_key(left, right, pair) else _which(left, right),
            one.other,
        )


def _is_key(left: Table, right: Table, pair: tuple[str, str]) -> bool:
    """Whether a join on two columns would not be many-to-many."""
    coding = code_keys([left, right], ((pair[0],), (pair[1],)))
    return match_keys(coding).cardinality != _MANY
