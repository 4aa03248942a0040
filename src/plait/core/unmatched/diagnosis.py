"""Why the keys of two tables do not match, and what each might be meant for."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from plait.core.codes.dense_codes import dense_rank, position_in_group, rows_grouped_by_code
from plait.core.codes.key_codes import KeyCodes
from plait.core.keys.match import KeyMatch
from plait.core.table.key_spec import Key
from plait.core.table.table import Table
from plait.core.text.hash_table import Codes
from plait.core.unmatched.approximate import MOST_NEAR, find_near_keys
from plait.core.unmatched.causes import (
    BetterKeyColumn,
    FailingKeyParts,
    count_failing_parts,
    find_better_columns,
)
from plait.core.unmatched.normalization_gains import (
    NormalizationGain,
    best_normalization_gain,
    normalize_keys,
    single_normalization_gains,
    useful_normalizations,
    words_gain,
)

Numbers = npt.NDArray[np.int64]


@dataclass(frozen=True, eq=False)
class KeySuggestions:
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
class UnmatchedDiagnosis:
    """Why the keys of two tables do not match.

    Parameters
    ----------
    side : int
        Whose unmatched keys near ones were looked for: 0 left, 1 right.
    gains : tuple of NormalizationGain
        What each looser comparison would bring by itself.
    best : NormalizationGain or None
        The fewest that together bring as much as all.
    words : NormalizationGain or None
        Words that bring some where they do not count.
    failing : pair of tuples of FailingKeyParts
        Of composite keys, left and right: which part fails.
    elsewhere : tuple of BetterKeyColumn
        Other columns that hold more of the keys.
    tried, near, lonely : int
        Keys that no looser comparison matches; of them those with a near key,
        and those without.
    bounded : bool
        Whether candidates for near keys were left out to bound the work.
    """

    side: int
    gains: tuple[NormalizationGain, ...]
    best: NormalizationGain | None
    failing: tuple[tuple[FailingKeyParts, ...], tuple[FailingKeyParts, ...]]
    elsewhere: tuple[BetterKeyColumn, ...]
    suggestions: KeySuggestions
    tried: int
    near: int
    lonely: int
    bounded: bool
    words: NormalizationGain | None = None


def diagnose_unmatched(
    left: Table, right: Table, key: Key, key_match: KeyMatch
) -> UnmatchedDiagnosis | None:
    """Explain the keys of two tables that do not match.

    Returns
    -------
    UnmatchedDiagnosis or None
        ``None`` when all keys match. Near keys are looked for those of the left
        without a match; of the right where the left has none.
    """
    here, there = key_match.left_counts > 0, key_match.right_counts > 0
    alone = here & ~there, there & ~here
    sizes = int(alone[0].sum()), int(alone[1].sum())
    if not any(sizes):
        return None
    side = 0 if sizes[0] else 1
    keys = key_match.coding.distinct
    ways = useful_normalizations(key_match.coding)
    best = best_normalization_gain(key_match, ways)
    gained = _gained(key_match.coding, keys, best, (here, there), alone[side], side)
    still = alone[side].copy()
    still[gained[0]] = False
    lost = np.flatnonzero(still)
    near = find_near_keys(key_match.coding, keys, lost, _free(key_match, (here, there), side))
    with_near = len(dense_rank(near.key)[0])
    suggestions = _suggested(gained, (near.key, near.other), near.score, side, alone[0])
    return UnmatchedDiagnosis(
        side,
        tuple(single_normalization_gains(key_match, ways)),
        best,
        _failing(key, key_match, keys, alone),
        tuple(find_better_columns(left, right, key, key_match)),
        suggestions,
        len(lost),
        with_near,
        len(lost) - with_near,
        near.bounded,
        words_gain(key_match),
    )


def _free(
    key_match: KeyMatch, present: tuple[npt.NDArray[np.bool_], npt.NDArray[np.bool_]], side: int
) -> Numbers:
    """The keys of the other side that a key without a match may be meant for.

    Where no key of its side comes twice, one with a match of its own is taken; else further
    rows may be meant for it.
    """
    counts = (key_match.left_counts, key_match.right_counts)[side]
    if counts.max(initial=0) > 1:
        return np.flatnonzero(present[1 - side])
    return np.flatnonzero(present[1 - side] & ~present[side])


def _failing(
    key: Key,
    key_match: KeyMatch,
    keys: list[Codes],
    alone: tuple[npt.NDArray[np.bool_], npt.NDArray[np.bool_]],
) -> tuple[tuple[FailingKeyParts, ...], tuple[FailingKeyParts, ...]]:
    """Which part fails, on either side; nothing for a key of one column."""
    if len(key) < 2:
        return (), ()
    names = tuple(zip(*key, strict=True))
    counts = key_match.left_counts, key_match.right_counts
    left, right = (
        tuple(
            count_failing_parts(
                key_match.coding, keys, names[side], alone[side], counts[side], 1 - side
            )
        )
        for side in (0, 1)
    )
    return left, right


def _gained(
    coding: KeyCodes,
    keys: list[Codes],
    best: NormalizationGain | None,
    present: tuple[npt.NDArray[np.bool_], npt.NDArray[np.bool_]],
    alone: npt.NDArray[np.bool_],
    side: int,
) -> tuple[Numbers, Numbers]:
    """Unmatched keys of a side with the keys of the other that the best comparison gives them."""
    if best is None:
        return np.zeros(0, np.int64), np.zeros(0, np.int64)
    loose = normalize_keys(coding, keys, best.ways)
    mine, theirs = (loose.left, loose.right) if side == 0 else (loose.right, loose.left)
    others = np.flatnonzero(present[1 - side])
    codes = theirs[others]
    counts = np.bincount(codes[codes >= 0], minlength=loose.size)
    rows, offsets = rows_grouped_by_code(codes, counts)
    lost = np.flatnonzero(alone)
    lost = lost[mine[lost] >= 0]
    form = mine[lost]
    times = np.minimum(counts[form], MOST_NEAR)
    first = np.repeat(offsets[form], times)
    return np.repeat(lost, times), others[rows[first + position_in_group(times)]]


def _suggested(
    gained: tuple[Numbers, Numbers],
    near: tuple[Numbers, Numbers],
    near_score: npt.NDArray[np.float64],
    side: int,
    left_alone: npt.NDArray[np.bool_],
) -> KeySuggestions:
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
    once = dense_rank(left[chosen])[2]
    sure[np.delete(chosen, once)] = False
    return KeySuggestions(left, right, score, ignoring, sure)


def format_keys(coding: KeyCodes, codes: Numbers) -> list[str]:
    """Keys as messages show them, their parts joined by commas."""
    parts = [
        column.texts.take(pa.array(part[codes])).to_pylist()
        for part, column in zip(coding.distinct, coding.key_columns, strict=True)
    ]
    return [", ".join(text or "(missing)" for text in key) for key in zip(*parts, strict=True)]


def suggestion_columns(
    key_suggestions: KeySuggestions,
    names: tuple[list[str], list[str]],
    coding: KeyCodes,
    why: NormalizationGain | None,
) -> dict[str, pa.Array]:
    """The suggestions as columns: left key, right key, score, why, whether to use it.

    Parameters
    ----------
    names : pair of lists of str
        Names for the key columns of the left and the right.
    why : NormalizationGain or None
        The looser comparison that was meant.
    """
    keys = coding.distinct
    made: dict[str, pa.Array] = {}
    for codes, side_names in zip((key_suggestions.left, key_suggestions.right), names, strict=True):
        for name, part, column in zip(side_names, keys, coding.key_columns, strict=True):
            made[name] = column.texts.take(pa.array(part[codes]))
    ways = ",".join(why.ways) if why else ""
    made["score"] = pa.array(
        [f"{score:.2f}" for score in key_suggestions.score.tolist()], pa.string()
    )
    made["why"] = pa.array([f"ignoring {ways}" if i else "near" for i in key_suggestions.ignoring])
    made["use"] = pa.array(["yes" if s else "no" for s in key_suggestions.sure])
    return made
