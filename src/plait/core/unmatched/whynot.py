"""Why the keys of two tables do not match, and what each might be meant for."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from plait.core.codes.coding import Coding
from plait.core.codes.counting import distinct, rows_by_code, within_each
from plait.core.keys.match import Matching
from plait.core.table.keyspec import Key
from plait.core.table.table import Table
from plait.core.text.wordtable import Codes
from plait.core.unmatched.elsewhere import Elsewhere, elsewhere
from plait.core.unmatched.failing import Failing, failing_parts
from plait.core.unmatched.gains import Gain, best_gain, loose_keys, single_gains, useful_ways
from plait.core.unmatched.near import MOST_NEAR
from plait.core.unmatched.nearkeys import near_keys

Numbers = npt.NDArray[np.int64]


@dataclass(frozen=True, eq=False)
class Suggestions:
    """Pairs of keys that may be meant for one another; those of one key beside each other.

    Parameters
    ----------
    left, right : arrays of int64
        Codes of the keys.
    score : array of float64
        1 where only what may be ignored differs.
    ignoring : array of bool
        Whether it is a looser comparison that brings them together.
    sure : array of bool
        Whether nothing but the looser comparison tells the keys apart, and there is one such
        key. Near keys may be two things: a person decides on them.
    """

    left: Numbers
    right: Numbers
    score: npt.NDArray[np.float64]
    ignoring: npt.NDArray[np.bool_]
    sure: npt.NDArray[np.bool_]

    def of_near(self) -> Numbers:
        """Which pairs are of near keys, not of a looser comparison."""
        return np.flatnonzero(~self.ignoring)


@dataclass(frozen=True, eq=False)
class WhyNot:
    """Why the keys of two tables do not match.

    Parameters
    ----------
    side : int
        Whose unmatched keys near ones were looked for: 0 left, 1 right.
    gains : tuple of Gain
        What each looser comparison would bring by itself.
    best : Gain or None
        The fewest that together bring as much as all.
    failing : pair of tuples of Failing
        Of composite keys, left and right: which part fails.
    elsewhere : tuple of Elsewhere
        Other columns that hold more of the keys.
    suggestions : Suggestions
    tried, near, lonely : int
        Keys that no looser comparison matches; of them those with a near key,
        and those without.
    bounded : bool
        Whether candidates for near keys were left out to bound the work.
    """

    side: int
    gains: tuple[Gain, ...]
    best: Gain | None
    failing: tuple[tuple[Failing, ...], tuple[Failing, ...]]
    elsewhere: tuple[Elsewhere, ...]
    suggestions: Suggestions
    tried: int
    near: int
    lonely: int
    bounded: bool


def why_not(left: Table, right: Table, key: Key, matching: Matching) -> WhyNot | None:
    """Explain the keys of two tables that do not match.

    Parameters
    ----------
    left, right : Table
    key : Key
    matching : Matching

    Returns
    -------
    WhyNot or None
        ``None`` when all keys match. Near keys are looked for those of the left
        without a match; of the right where the left has none.
    """
    here, there = matching.left_counts > 0, matching.right_counts > 0
    alone = here & ~there, there & ~here
    sizes = int(alone[0].sum()), int(alone[1].sum())
    if not any(sizes):
        return None
    side = 0 if sizes[0] else 1
    keys = matching.coding.distinct
    ways = useful_ways(matching.coding)
    best = best_gain(matching, ways)
    gained = _gained(matching.coding, keys, best, (here, there), alone[side], side)
    still = alone[side].copy()
    still[gained[0]] = False
    lost = np.flatnonzero(still)
    near = near_keys(matching.coding, keys, lost, _free(matching, (here, there), side))
    with_near = len(distinct(near.key)[0])
    suggestions = _suggested(gained, (near.key, near.other), near.score, side, alone[0])
    return WhyNot(
        side,
        tuple(single_gains(matching, ways)),
        best,
        _failing(key, matching, keys, alone),
        tuple(elsewhere(left, right, key, matching)),
        suggestions,
        len(lost),
        with_near,
        len(lost) - with_near,
        near.bounded,
    )


def _free(
    matching: Matching, present: tuple[npt.NDArray[np.bool_], npt.NDArray[np.bool_]], side: int
) -> Numbers:
    """The keys of the other side that a key without a match may be meant for.

    Where no key of its side comes twice, one with a match of its own is taken; else further
    rows may be meant for it.
    """
    counts = (matching.left_counts, matching.right_counts)[side]
    if counts.max(initial=0) > 1:
        return np.flatnonzero(present[1 - side])
    return np.flatnonzero(present[1 - side] & ~present[side])


def _failing(
    key: Key,
    matching: Matching,
    keys: list[Codes],
    alone: tuple[npt.NDArray[np.bool_], npt.NDArray[np.bool_]],
) -> tuple[tuple[Failing, ...], tuple[Failing, ...]]:
    """Which part fails, on either side; nothing for a key of one column."""
    if len(key) < 2:
        return (), ()
    names = tuple(zip(*key, strict=True))
    counts = matching.left_counts, matching.right_counts
    left, right = (
        tuple(
            failing_parts(matching.coding, keys, names[side], alone[side], counts[side], 1 - side)
        )
        for side in (0, 1)
    )
    return left, right


def _gained(
    coding: Coding,
    keys: list[Codes],
    best: Gain | None,
    present: tuple[npt.NDArray[np.bool_], npt.NDArray[np.bool_]],
    alone: npt.NDArray[np.bool_],
    side: int,
) -> tuple[Numbers, Numbers]:
    """Unmatched keys of a side with the keys of the other that the best comparison gives them."""
    if best is None:
        return np.zeros(0, np.int64), np.zeros(0, np.int64)
    loose = loose_keys(coding, keys, best.ways)
    mine, theirs = (loose.left, loose.right) if side == 0 else (loose.right, loose.left)
    others = np.flatnonzero(present[1 - side])
    codes = theirs[others]
    counts = np.bincount(codes[codes >= 0], minlength=loose.size)
    rows, offsets = rows_by_code(codes, counts)
    lost = np.flatnonzero(alone)
    lost = lost[mine[lost] >= 0]
    form = mine[lost]
    times = np.minimum(counts[form], MOST_NEAR)
    first = np.repeat(offsets[form], times)
    return np.repeat(lost, times), others[rows[first + within_each(times)]]


def _suggested(
    gained: tuple[Numbers, Numbers],
    near: tuple[Numbers, Numbers],
    near_score: npt.NDArray[np.float64],
    side: int,
    left_alone: npt.NDArray[np.bool_],
) -> Suggestions:
    """The pairs of both sorts, the keys in order and the best first.

    Sure is a pair that differs by nothing but the looser comparison, of a key with no other
    such pair. A left key that has a match already, or is sure of another, is not sure.
    """
    key, other = (np.concatenate(pair) for pair in zip(gained, near, strict=True))
    score = np.concatenate([np.ones(len(gained[0])), near_score])
    ignoring = np.arange(len(key)) < len(gained[0])
    order = np.lexsort((-score, key))
    key, other, score, ignoring = key[order], other[order], score[order], ignoring[order]
    first = np.searchsorted(key, key)
    is_first = first == np.arange(len(key))
    candidates = np.bincount(key[ignoring], minlength=int(key.max(initial=-1)) + 1)
    sure = is_first & ignoring & (candidates[key] == 1)
    left, right = (key, other) if side == 0 else (other, key)
    sure &= left_alone[left]
    chosen = np.flatnonzero(sure)
    once = distinct(left[chosen])[2]
    sure[np.delete(chosen, once)] = False
    return Suggestions(left, right, score, ignoring, sure)


def key_texts(coding: Coding, codes: Numbers) -> list[str]:
    """Keys as messages show them, their parts joined by commas."""
    parts = [
        column.texts.take(pa.array(part[codes])).to_pylist()
        for part, column in zip(coding.distinct, coding.columns, strict=True)
    ]
    return [", ".join(text or "(missing)" for text in key) for key in zip(*parts, strict=True)]


def suggestion_table(
    found: Suggestions, names: tuple[list[str], list[str]], coding: Coding, why: Gain | None
) -> dict[str, pa.Array]:
    """The suggestions as columns: left key, right key, score, why, whether to use it.

    Parameters
    ----------
    found : Suggestions
    names : pair of lists of str
        Names for the key columns of the left and the right.
    coding : Coding
    why : Gain or None
        The looser comparison that was meant.
    """
    keys = coding.distinct
    made: dict[str, pa.Array] = {}
    for codes, side_names in zip((found.left, found.right), names, strict=True):
        for name, part, column in zip(side_names, keys, coding.columns, strict=True):
            made[name] = column.texts.take(pa.array(part[codes]))
    ways = ",".join(why.ways) if why else ""
    made["score"] = pa.array([f"{score:.2f}" for score in found.score.tolist()], pa.string())
    made["why"] = pa.array([f"ignoring {ways}" if one else "near" for one in found.ignoring])
    made["use"] = pa.array(["yes" if one else "no" for one in found.sure])
    return made
