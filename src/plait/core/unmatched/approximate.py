"""Texts and keys a few edits apart."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.codes.dense_codes import (
    combine_codes,
    dense_rank,
    order_of_codes,
    position_in_group,
    rows_grouped_by_code,
)
from plait.core.codes.key_codes import KeyCodes
from plait.core.codes.normalize import SPELLING_WAYS, normalize_texts
from plait.core.job.executor import available_cores
from plait.core.text.hash_table import Codes
from plait.core.types.column_type import TEXT

MOST_NEAR = 3
LEAST_SCORE = 0.7
_FEWEST_BITS, _MOST_BITS = 12, 22  # of the number of a bucket
_SPREAD = np.uint64(0x9E3779B97F4A7C15)
_BASE = np.uint64(0x5851F42D4C957F2D)
_SMALL = 200_000  # texts up to which short pieces are looked up as well
_PIECES = 5  # shared pieces that each text is looked up by
_BUDGET = 2_000_000  # pairs of texts compared, at the least possible for so many texts
_FEWEST, _MOST = 4, 300  # candidates of one piece
_AT_ONCE = 500_000
_LETTERS = 128  # of each end of a long text
_HIGHEST = 0.999  # the texts differ, if only in the middle

Numbers = npt.NDArray[np.int64]

_WORD = r"\p{L}{3}"


@dataclass(frozen=True, eq=False)
class ApproximateMatches:
    """Pairs of near texts, best first within each text.

    Parameters
    ----------
    text, other : arrays of int64
        Positions of the text and of the one near to it.
    score : array of float64
        1 is equal, 0 has nothing in common.
    bounded : bool
        Whether some candidates were left out to bound the work.
    """

    text: Numbers
    other: Numbers
    score: npt.NDArray[np.float64]
    bounded: bool


def find_near_texts(texts: pa.Array, others: pa.Array) -> ApproximateMatches:
    """For each text at most three of the others that are near to it.

    Parameters
    ----------
    texts, others : pyarrow.Array
        Distinct texts.

    Notes
    -----
    Every text is cut into halves, one of which one slip leaves whole, and, where
    there are not too many texts, into overlapping pieces of three bytes (Ukkonen,
    "Approximate string-matching with q-grams", 1992), most of which few slips
    leave whole. Of long texts the two ends are looked at. A text is compared with
    those others that share one of its rarest pieces and have about its length. How many
    others a piece may
    lead to is bounded by how many texts there are, so the work grows in step
    with them. The distance is that of optimal string alignment: one slip is a
    sign too many, too few, another, or two exchanged. Numbers are near only
    when digits are exchanged, or one is missing: 12 is no slip of 13. (Keys that are numbers or
    codes are not looked at: see ``find_near_keys``.)

    Examples
    --------
    >>> found = find_near_texts(pa.array(["Northfeild", "Elm"]), pa.array(["Northfield", "Oak"]))
    >>> found.text.tolist(), found.other.tolist(), found.score.round(2).tolist()
    ([0], [0], [0.9])
    """
    texts, others = _ends(texts), _ends(others)
    text, other, bounded = _candidates(texts, others)
    score = np.minimum(_scores(texts, others, text, other), _HIGHEST)
    keep = score >= LEAST_SCORE
    text, other, score = text[keep], other[keep], score[keep]
    order = np.lexsort((other, -score, text))
    text, other, score = text[order], other[order], score[order]
    begin = np.searchsorted(text, text)
    first = np.arange(len(text)) - begin < MOST_NEAR
    return ApproximateMatches(text[first], other[first], score[first], bounded)


def _ends(texts: pa.Array) -> pa.Array:
    """The texts, of the long ones the beginning and the end: no more letters are compared."""
    longest = pc.max(pc.utf8_length(texts)).as_py() or 0
    if longest <= 2 * _LETTERS:
        return texts
    ends = pc.binary_join_element_wise(
        pc.utf8_slice_codeunits(texts, 0, _LETTERS), pc.utf8_slice_codeunits(texts, -_LETTERS), ""
    )
    return pc.if_else(pc.greater(pc.utf8_length(texts), 2 * _LETTERS), ends, texts)


def _candidates(texts: pa.Array, others: pa.Array) -> tuple[Numbers, Numbers, bool]:
    """Pairs that share a rare piece and are about as long."""
    most = int(np.clip(_BUDGET // (_PIECES * max(len(texts), 1)), _FEWEST, _MOST))
    small = len(others) <= _SMALL
    rows, pieces = _pieces(texts, (0,), small)
    other_rows, other_pieces = _pieces(others, (-1, 0, 1), small)
    bits = _bits(len(other_pieces))
    pieces, other_pieces = (_buckets(one, bits) for one in (pieces, other_pieces))
    buckets = 1 << bits
    standing = np.bincount(other_pieces, minlength=buckets)
    rows, pieces = _rarest(rows, pieces, standing)
    wanted = np.zeros(buckets, bool)
    wanted[pieces] = True
    kept = wanted[other_pieces]
    other_rows, other_pieces = other_rows[kept], other_pieces[kept]
    counts = np.bincount(other_pieces, minlength=buckets)
    order, offsets = rows_grouped_by_code(other_pieces.astype(np.int32), counts)
    times = np.minimum(counts[pieces], most)
    bounded = bool((counts[pieces] > most).any())
    within = position_in_group(times)
    # Where a piece leads to too many, those spread evenly over them are taken.
    step = np.repeat(counts[pieces] / np.maximum(times, 1), times)
    place = np.repeat(offsets[pieces], times) + (within * step).astype(np.int64)
    text, other = np.repeat(rows, times), other_rows[order[place]]
    return (*_plausible(texts, others, text, other), bounded)


def _bits(pieces: int) -> int:
    """So many that few pieces share a bucket, and few keys need no large table."""
    return min(max((16 * pieces).bit_length(), _FEWEST_BITS), _MOST_BITS)


def _buckets(words: Numbers, bits: int) -> Numbers:
    return (words.view(np.uint64) * _SPREAD >> np.uint64(64 - bits)).astype(np.int64)


def _pieces(texts: pa.Array, slips: tuple[int, ...], short: bool) -> tuple[Numbers, Numbers]:
    """The row and the word of every piece.

    The halves of a text, taken as if it had a sign more or less where
    ``slips`` says so; and the short pieces, if they are asked for.
    """
    whole = texts.cast(pa.large_string())
    found = [_halves(whole, slips)] + ([_short_pieces(whole)] if short else [])
    rows, words = (np.concatenate(part) for part in zip(*found, strict=True))
    return rows, words


def _halves(texts: pa.Array, slips: tuple[int, ...]) -> tuple[Numbers, Numbers]:
    """First and last halves: one slip leaves one of them whole.

    A half is known by the sum of its bytes, each times a power of an odd number
    for its place, as in the search of Karp and Rabin (1987), modulo 2**64.
    """
    data, offsets = _bytes(texts)
    powers = np.full(len(data) + 1, _BASE, np.uint64)
    powers[0] = 1
    powers = np.multiply.accumulate(powers)
    sums = np.add.accumulate(np.append(np.uint64(0), data * powers[:-1]))
    back = np.full(len(data) + 1, pow(int(_BASE), -1, 1 << 64), np.uint64)
    back[0] = 1
    back = np.multiply.accumulate(back)
    begin, end = offsets[:-1], offsets[1:]
    rows, words = [], []
    seen: Numbers = np.full(len(begin), -1)
    for slip in slips:
        half = (end - begin + slip) // 2
        new = np.flatnonzero((half > 0) & (half <= end - begin) & (half != seen))
        seen, cut = half, half[new]
        first, last = begin[new], end[new] - cut
        for side, at in ((1, first), (2, last)):
            rows.append(new)
            word = (sums[at + cut] - sums[at]) * back[at]
            words.append((word * np.uint64(3) + np.uint64(side)).view(np.int64))
    return np.concatenate(rows), np.concatenate(words)


def _short_pieces(texts: pa.Array) -> tuple[Numbers, Numbers]:
    """Three bytes from each place; begin and end of a text are part of its pieces."""
    wide = texts.type
    begin, end, between = (pa.scalar(sign, wide) for sign in ("\x02", "\x03", ""))
    data, offsets = _bytes(pc.binary_join_element_wise(begin, texts, end, between))
    rows = np.repeat(np.arange(len(texts)), np.maximum(np.diff(offsets) - 2, 0))
    at = offsets[rows] + np.arange(len(rows)) - np.searchsorted(rows, rows)
    words = data[at] | data[at + 1] << np.uint64(8) | data[at + 2] << np.uint64(16)
    return rows, words.view(np.int64)


def _bytes(texts: pa.Array) -> tuple[npt.NDArray[np.uint64], Numbers]:
    """The bytes of wide texts one after another, and where each text begins."""
    offsets = np.frombuffer(texts.buffers()[1], np.int64)[texts.offset :][: len(texts) + 1]
    data = np.frombuffer(texts.buffers()[2] or b"", np.uint8)[offsets[0] : offsets[-1]]
    return data.astype(np.uint64), offsets - offsets[0]


def _rarest(rows: Numbers, pieces: Numbers, standing: Numbers) -> tuple[Numbers, Numbers]:
    """Of each row the few pieces that the fewest others have, but some."""
    shared = standing[pieces] > 0
    rows, pieces = rows[shared], pieces[shared]
    rarity = np.minimum(standing[pieces], (1 << 20) - 1)
    order = order_of_codes(rarity, int(rarity.max(initial=0)) + 1)
    order = order[order_of_codes(rows[order], int(rows.max(initial=0)) + 1)]
    rows, pieces = rows[order], pieces[order]
    first = np.arange(len(rows)) - np.searchsorted(rows, rows) < _PIECES
    return rows[first], pieces[first]


def _plausible(
    texts: pa.Array, others: pa.Array, text: Numbers, numbers: Numbers
) -> tuple[Numbers, Numbers]:
    """Each pair once, and only those whose lengths allow a score that counts."""
    length = _lengths(texts)[text]
    other_length = _lengths(others)[numbers]
    longer = np.maximum(length, other_length)
    possible = np.abs(length - other_length) <= (1 - LEAST_SCORE) * longer + 1e-9
    pairs = np.sort(text[possible] * len(others) + numbers[possible])
    pairs = pairs[np.append(True, pairs[1:] != pairs[:-1])[: len(pairs)]]
    return pairs // max(len(others), 1), pairs % max(len(others), 1)


def _lengths(texts: pa.Array) -> Numbers:
    lengths: Numbers = pc.utf8_length(texts).to_numpy(zero_copy_only=False).astype(np.int64)
    return lengths


def _scores(
    texts: pa.Array, others: pa.Array, text: Numbers, numbers: Numbers
) -> npt.NDArray[np.float64]:
    from rapidfuzz.distance import OSA
    from rapidfuzz.process import cpdist

    score = np.zeros(len(text))
    for start in range(0, len(text), _AT_ONCE):
        fragment_slice = slice(start, start + _AT_ONCE)
        one, two = (
            texts.take(pa.array(text[fragment_slice])),
            others.take(pa.array(numbers[fragment_slice])),
        )
        score[fragment_slice] = cpdist(
            one.to_pylist(),
            two.to_pylist(),
            scorer=OSA.normalized_similarity,
            score_cutoff=LEAST_SCORE,
            workers=available_cores(),
        )
        score[fragment_slice][_other_numbers(one, two)] = 0.0
    return score


def _other_numbers(one: pa.Array, two: pa.Array) -> npt.NDArray[np.bool_]:
    """Pairs of numbers of one length whose digits are not the same ones."""
    numeric = pc.and_(
        pc.match_substring_regex(one, "^[0-9]+$"), pc.match_substring_regex(two, "^[0-9]+$")
    )
    numeric = pc.and_(numeric, pc.equal(pc.utf8_length(one), pc.utf8_length(two)))
    other = pa.repeat(False, len(one))
    for digit in "0123456789":
        counts = (pc.count_substring(texts, digit) for texts in (one, two))
        other = pc.or_(other, pc.not_equal(*counts))
    flags: npt.NDArray[np.bool_] = pc.and_(numeric, other).to_numpy(zero_copy_only=False)
    return flags


@dataclass(frozen=True, eq=False)
class ApproximateKeyMatches:
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


def find_near_keys(
    coding: KeyCodes, keys: Sequence[Codes], unmatched: Numbers, numbers: Numbers
) -> ApproximateKeyMatches:
    """For each unmatched key at most three near ones of the other side.

    Parameters
    ----------
    keys : sequence of int32 arrays
        For each key column its code in each key.
    unmatched, numbers : arrays of int64
        Codes of the keys looked at, and of the keys they may be meant for.

    Notes
    -----
    In a composite key one part at a time is taken for misspelt: the others must be
    equal. Case, spaces, punctuation, accents and leading zeros do not count. Only words are
    misspelt: numbers, dates and codes that differ by a digit are two things.
    """
    parts = [
        number for number, key_column in enumerate(coding.key_columns) if TEXT in key_column.types
    ]
    if not parts:
        nothing = np.zeros(0, np.int64)
        return ApproximateKeyMatches(nothing, nothing, np.zeros(0), len(unmatched), False)
    found = [_by_part(coding, keys, part, unmatched, numbers) for part in parts]
    key, other, score = (np.concatenate([one[n] for one in found]) for n in range(3))
    order = np.lexsort((other, -score, key))
    key, other, score = key[order], other[order], score[order]
    first = np.arange(len(key)) - np.searchsorted(key, key) < MOST_NEAR
    bounded = any(f[3] for f in found)
    return ApproximateKeyMatches(key[first], other[first], score[first], len(unmatched), bounded)


def _by_part(
    coding: KeyCodes, keys: Sequence[Codes], part: int, unmatched: Numbers, numbers: Numbers
) -> tuple[Numbers, Numbers, npt.NDArray[np.float64], bool]:
    """Near keys that differ in one part only: key, near key, score."""
    texts = normalize_texts(coding.key_columns[part].texts, SPELLING_WAYS)
    mine, mine_of, _ = dense_rank(keys[part][unmatched])
    theirs, theirs_of, _ = dense_rank(keys[part][numbers])
    words = texts.take(pa.array(mine)), texts.take(pa.array(theirs))
    near = _of_words(find_near_texts(*words), *words)
    rest, other_rest = _without(coding, keys, part, unmatched, numbers)
    key, pair = _keys_with_texts(mine_of, len(mine), near.text)
    slots = max(len(theirs), 1)
    wanted = rest[key] * slots + near.other[pair]
    met, at = _looked_up(other_rest * slots + theirs_of, wanted)
    return unmatched[key[met]], numbers[at], near.score[pair[met]], near.bounded


def _of_words(near: ApproximateMatches, texts: pa.Array, others: pa.Array) -> ApproximateMatches:
    """Pairs of texts that differ in their letters, and have words and not only codes in them."""
    left, right = texts.take(pa.array(near.text)), others.take(pa.array(near.other))
    letters = [pc.replace_substring_regex(one, "[0-9]+", "#") for one in (left, right)]
    kept = pc.not_equal(*letters)
    for one in (left, right):
        kept = pc.and_(kept, pc.match_substring_regex(one, _WORD))
    at = np.flatnonzero(pc.fill_null(kept, False).to_numpy(zero_copy_only=False))
    return ApproximateMatches(near.text[at], near.other[at], near.score[at], near.bounded)


def _without(
    coding: KeyCodes, keys: Sequence[Codes], part: int, unmatched: Numbers, numbers: Numbers
) -> tuple[Numbers, Numbers]:
    """Codes of what the other parts of the keys are."""
    left, right = np.zeros(len(unmatched), np.int32), np.zeros(len(numbers), np.int32)
    size = 1
    for number, column in enumerate(coding.key_columns):
        if number != part:
            codes = keys[number]
            (left, right), size = combine_codes(
                [left, right], size, [codes[unmatched], codes[numbers]], column.size
            )
    return left.astype(np.int64), right.astype(np.int64)


def _keys_with_texts(text_of: Numbers, size: int, texts: Numbers) -> tuple[Numbers, Numbers]:
    """The keys that hold each of some texts, and for each which of the texts that was."""
    counts = np.bincount(text_of, minlength=size)
    rows, offsets = rows_grouped_by_code(text_of.astype(np.int32), counts)
    times = counts[texts]
    pair = np.repeat(np.arange(len(texts)), times)
    return rows[offsets[texts][pair] + position_in_group(times)], pair


def _looked_up(known: Numbers, numbers: Numbers) -> tuple[Numbers, Numbers]:
    """Which of the wanted numbers are known, and where; known numbers stand once."""
    order = np.argsort(known, kind="stable")
    at = np.searchsorted(known[order], numbers)
    met = np.flatnonzero(at < len(known))
    met = met[known[order[at[met]]] == numbers[met]]
    return met, order[at[met]]
