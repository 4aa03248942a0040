"""Near texts by edit distance, found through the pieces they share, in bounded work."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.account.parallel import cores
from plait.core.codes.counting import rows_by_code, stable_order, within_each

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


@dataclass(frozen=True, eq=False)
class NearTexts:
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


def near_texts(texts: pa.Array, others: pa.Array) -> NearTexts:
    """For each text at most three of the others that are near to it.

    Parameters
    ----------
    texts, others : pyarrow.Array
        Distinct texts.

    Returns
    -------
    NearTexts

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
    codes are not looked at: see ``near_keys``.)

    Examples
    --------
    >>> found = near_texts(pa.array(["Northfeild", "Elm"]), pa.array(["Northfield", "Oak"]))
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
    return NearTexts(text[first], other[first], score[first], bounded)


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
    order, offsets = rows_by_code(other_pieces.astype(np.int32), counts)
    times = np.minimum(counts[pieces], most)
    bounded = bool((counts[pieces] > most).any())
    within = within_each(times)
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
    order = stable_order(rarity, int(rarity.max(initial=0)) + 1)
    order = order[stable_order(rows[order], int(rows.max(initial=0)) + 1)]
    rows, pieces = rows[order], pieces[order]
    first = np.arange(len(rows)) - np.searchsorted(rows, rows) < _PIECES
    return rows[first], pieces[first]


def _plausible(
    texts: pa.Array, others: pa.Array, text: Numbers, other: Numbers
) -> tuple[Numbers, Numbers]:
    """Each pair once, and only those whose lengths allow a score that counts."""
    length = _lengths(texts)[text]
    other_length = _lengths(others)[other]
    longer = np.maximum(length, other_length)
    possible = np.abs(length - other_length) <= (1 - LEAST_SCORE) * longer + 1e-9
    pairs = np.sort(text[possible] * len(others) + other[possible])
    pairs = pairs[np.append(True, pairs[1:] != pairs[:-1])[: len(pairs)]]
    return pairs // max(len(others), 1), pairs % max(len(others), 1)


def _lengths(texts: pa.Array) -> Numbers:
    lengths: Numbers = pc.utf8_length(texts).to_numpy(zero_copy_only=False).astype(np.int64)
    return lengths


def _scores(
    texts: pa.Array, others: pa.Array, text: Numbers, other: Numbers
) -> npt.NDArray[np.float64]:
    from rapidfuzz.distance import OSA
    from rapidfuzz.process import cpdist

    score = np.zeros(len(text))
    for start in range(0, len(text), _AT_ONCE):
        here = slice(start, start + _AT_ONCE)
        one, two = texts.take(pa.array(text[here])), others.take(pa.array(other[here]))
        score[here] = cpdist(
            one.to_pylist(),
            two.to_pylist(),
            scorer=OSA.normalized_similarity,
            score_cutoff=LEAST_SCORE,
            workers=cores(),
        )
        score[here][_other_numbers(one, two)] = 0.0
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
