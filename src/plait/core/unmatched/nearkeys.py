"""For keys without a match, the nearest keys on the other side."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.codes.coding import Coding
from plait.core.codes.counting import distinct, rows_by_code, within_each
from plait.core.codes.loosen import WAYS, loosened
from plait.core.codes.mixing import mix
from plait.core.text.wordtable import Codes
from plait.core.unmatched.near import MOST_NEAR, NearTexts, near_texts

_WORD = r"\p{L}{3}"
Numbers = npt.NDArray[np.int64]


@dataclass(frozen=True, eq=False)
class NearKeys:
    """Pairs of a key and one near to it, best first within each key.

    Parameters
    ----------
    key, other : arrays of int64
        Codes of the key without a match, and of the near one.
    score : array of float64
        That of the part which is least alike.
    tried : int
        Keys that were looked at.
    bounded : bool
        Whether some candidates were left out to bound the work.
    """

    key: Numbers
    other: Numbers
    score: npt.NDArray[np.float64]
    tried: int
    bounded: bool


def near_keys(
    coding: Coding, keys: Sequence[Codes], unmatched: Numbers, others: Numbers
) -> NearKeys:
    """For each unmatched key at most three near ones of the other side.

    Parameters
    ----------
    coding : Coding
    keys : sequence of int32 arrays
        For each key column its code in each key.
    unmatched, others : arrays of int64
        Codes of the keys looked at, and of the keys they may be meant for.

    Returns
    -------
    NearKeys

    Notes
    -----
    In a composite key one part at a time is taken for misspelt: the others must be
    equal. Case, spaces, punctuation, accents and leading zeros do not count. Only words are
    misspelt: numbers, dates and codes that differ by a digit are two things.
    """
    parts = [number for number, one in enumerate(coding.columns) if set(one.kinds) & {"text"}]
    if not parts:
        nothing = np.zeros(0, np.int64)
        return NearKeys(nothing, nothing, np.zeros(0), len(unmatched), False)
    found = [_by_part(coding, keys, part, unmatched, others) for part in parts]
    key, other, score = (np.concatenate([one[n] for one in found]) for n in range(3))
    order = np.lexsort((other, -score, key))
    key, other, score = key[order], other[order], score[order]
    first = np.arange(len(key)) - np.searchsorted(key, key) < MOST_NEAR
    bounded = any(one[3] for one in found)
    return NearKeys(key[first], other[first], score[first], len(unmatched), bounded)


def _by_part(
    coding: Coding, keys: Sequence[Codes], part: int, unmatched: Numbers, others: Numbers
) -> tuple[Numbers, Numbers, npt.NDArray[np.float64], bool]:
    """Near keys that differ in one part only: key, near key, score."""
    texts = loosened(coding.columns[part].texts, WAYS)
    mine, mine_of, _ = distinct(keys[part][unmatched])
    theirs, theirs_of, _ = distinct(keys[part][others])
    words = texts.take(pa.array(mine)), texts.take(pa.array(theirs))
    near = _of_words(near_texts(*words), *words)
    rest, other_rest = _without(coding, keys, part, unmatched, others)
    key, pair = _keys_of(mine_of, len(mine), near.text)
    slots = max(len(theirs), 1)
    wanted = rest[key] * slots + near.other[pair]
    met, at = _looked_up(other_rest * slots + theirs_of, wanted)
    return unmatched[key[met]], others[at], near.score[pair[met]], near.bounded


def _of_words(near: NearTexts, texts: pa.Array, others: pa.Array) -> NearTexts:
    """Pairs of texts that differ in their letters, and have words and not only codes in them."""
    left, right = texts.take(pa.array(near.text)), others.take(pa.array(near.other))
    letters = [pc.replace_substring_regex(one, "[0-9]+", "#") for one in (left, right)]
    kept = pc.not_equal(*letters)
    for one in (left, right):
        kept = pc.and_(kept, pc.match_substring_regex(one, _WORD))
    at = np.flatnonzero(pc.fill_null(kept, False).to_numpy(zero_copy_only=False))
    return NearTexts(near.text[at], near.other[at], near.score[at], near.bounded)


def _without(
    coding: Coding, keys: Sequence[Codes], part: int, unmatched: Numbers, others: Numbers
) -> tuple[Numbers, Numbers]:
    """Codes of what the other parts of the keys are."""
    left, right = np.zeros(len(unmatched), np.int32), np.zeros(len(others), np.int32)
    size = 1
    for number, column in enumerate(coding.columns):
        if number != part:
            codes = keys[number]
            (left, right), size = mix(
                [left, right], size, [codes[unmatched], codes[others]], column.size
            )
    return left.astype(np.int64), right.astype(np.int64)


def _keys_of(text_of: Numbers, size: int, texts: Numbers) -> tuple[Numbers, Numbers]:
    """The keys that hold each of some texts, and for each which of the texts that was."""
    counts = np.bincount(text_of, minlength=size)
    rows, offsets = rows_by_code(text_of.astype(np.int32), counts)
    times = counts[texts]
    pair = np.repeat(np.arange(len(texts)), times)
    return rows[offsets[texts][pair] + within_each(times)], pair


def _looked_up(known: Numbers, wanted: Numbers) -> tuple[Numbers, Numbers]:
    """Which of the wanted numbers are known, and where; known numbers stand once."""
    order = np.argsort(known, kind="stable")
    at = np.searchsorted(known[order], wanted)
    met = np.flatnonzero(at < len(known))
    met = met[known[order[at[met]]] == wanted[met]]
    return met, order[at[met]]
