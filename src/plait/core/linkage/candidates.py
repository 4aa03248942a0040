"""Candidates: which records are set against one another, from blocks and never from all pairs."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from itertools import combinations

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.codes.dense_codes import (
    combine_codes,
    count_codes,
    dense_rank,
    position_in_group,
    rows_grouped_by_code,
)
from plait.core.linkage.evidence import Evidence
from plait.core.text.dictionary import TextDictionary
from plait.core.text.hash_table import Codes
from plait.core.unmatched.approximate import find_near_texts

Numbers = npt.NDArray[np.int64]

FEW_PAIRS = 100_000  # up to so many, all pairs are compared
MOST_OF_BLOCK = 20_000  # pairs: a block with more is cut by another piece of evidence
MOST_HOLDERS = 20  # of a word, for it to be rare
PAIRS_PER_RECORD = 6  # that rare words may bring; fewer holders are rare where it is more
_SHORTEST_WORD = 3


@dataclass(frozen=True, eq=False)
class Candidates:
    """Pairs of records that may mean the same, each once, in the order of their numbers.

    Parameters
    ----------
    left, right : arrays of int64
        Records.
    possible : int
        How many pairs there are in all.
    cut : tuple of str
        Pieces of evidence whose values, two at a time, are shared by so many records that a
        third had to be equal too.
    """

    left: Numbers
    right: Numbers
    possible: int
    cut: tuple[str, ...] = ()

    def __len__(self) -> int:
        return len(self.left)


def find_candidates(
    evidence: Sequence[Evidence],
    named: Iterable[tuple[Numbers, Numbers]],
    same_table: bool = False,
) -> Candidates:
    """Pairs of records that agree in any two pieces of evidence, or share a rare word.

    In one of the two pieces it is enough that they are spelt nearly alike.

    Parameters
    ----------
    named : iterable of pairs of int64 arrays
        Records to set against one another in any case, on the left and on the right: those whose
        keys are near, those that a person decided on.
    same_table : bool
        Whether both sides are one table: then each two records are a pair once.

    Notes
    -----
    Blocking: Newcombe, Kennedy, Axford and James, "Automatic linkage of vital records"
    (Science, 1959). Where there are few records, every pair is compared.
    """
    sizes = len(evidence[0].loose[0]), len(evidence[0].loose[1])
    possible = sizes[0] * (sizes[0] - 1) // 2 if same_table else sizes[0] * sizes[1]
    if possible <= FEW_PAIRS:
        left = np.repeat(np.arange(sizes[0]), sizes[1])
        right = np.tile(np.arange(sizes[1]), sizes[0])
        kept = left < right if same_table else np.ones(len(left), bool)
        return Candidates(left[kept], right[kept], possible)
    cut: dict[str, None] = {}
    parts = [*named, *_equal_in_two(evidence, cut)]
    for piece in evidence:
        if piece.has_words:
            parts.append(_sharing_rare_word(piece))
            parts += _near_in_one(piece, [other for other in evidence if other is not piece])
    left, right = (np.concatenate([pair[side] for pair in parts]) for side in (0, 1))
    if same_table:
        left, right = np.minimum(left, right), np.maximum(left, right)
    numbers = np.sort(left * sizes[1] + right)
    numbers = numbers[np.append(True, numbers[1:] != numbers[:-1])[: len(numbers)]]
    left, right = numbers // max(sizes[1], 1), numbers % max(sizes[1], 1)
    if same_table:
        left, right = left[left < right], right[left < right]
    return Candidates(left, right, possible, tuple(cut))


def _equal_in_two(
    evidence: Sequence[Evidence], cut: dict[str, None]
) -> Iterator[tuple[Numbers, Numbers]]:
    """Pairs that are equal, also loosely, in two pieces; in three and more where those are many."""
    for first, second in combinations(range(len(evidence)), 2):
        waiting: list[tuple[int, ...]] = [(first, second)]
        while waiting:
            pieces = waiting.pop()
            pairs, is_cut = _of_blocks([evidence[number].loose for number in pieces])
            yield pairs
            if is_cut:
                cut[" and ".join(evidence[number].name for number in pieces)] = None
                # Pairs that are equal in an earlier piece as well come with that piece.
                waiting += [(*pieces, later) for later in range(pieces[-1] + 1, len(evidence))]


def _of_blocks(
    loose: Sequence[tuple[Codes, Codes]],
) -> tuple[tuple[Numbers, Numbers], bool]:
    """The pairs of records that are equal in all pieces, but for blocks that are too large."""
    (left, right), *more = loose
    size = int(max(left.max(initial=-1), right.max(initial=-1))) + 1
    codes = (left, right)
    for piece in more:
        other = int(max(piece[0].max(initial=-1), piece[1].max(initial=-1))) + 1
        pair, size = combine_codes(list(codes), size, list(piece), other)
        codes = (pair[0], pair[1])
    counts = [count_codes(side, size) for side in codes]
    pairs = counts[0] * counts[1]
    large = pairs > MOST_OF_BLOCK
    return _paired(codes, counts, np.flatnonzero((pairs > 0) & ~large)), bool(large.any())


def _paired(
    codes: tuple[Codes, Codes], counts: Sequence[Numbers], blocks: Numbers
) -> tuple[Numbers, Numbers]:
    """Every record of the left with every one of the right, block by block."""
    rows = [rows_grouped_by_code(side, count) for side, count in zip(codes, counts, strict=True)]
    left_counts, right_counts = counts[0][blocks], counts[1][blocks]
    block = np.repeat(np.arange(len(blocks)), left_counts)
    left = rows[0][0][rows[0][1][blocks][block] + position_in_group(left_counts)]
    times = right_counts[block]
    begin = np.repeat(rows[1][1][blocks][block], times)
    return (
        np.repeat(left, times).astype(np.int64),
        rows[1][0][begin + position_in_group(times)].astype(np.int64),
    )


def _near_in_one(piece: Evidence, others: Sequence[Evidence]) -> Iterator[tuple[Numbers, Numbers]]:
    """Pairs that are spelt nearly alike in a piece, and equal in another one."""
    values = [dense_rank(codes[codes >= 0])[0] for codes in piece.exact]
    in_order, _ = piece.orders[-1]
    words = [in_order.take(pa.array(codes)) for codes in values]
    near = find_near_texts(*words)
    if not len(near.text):
        return
    # A pair of values is a block: the records of the left that have the one, those of the right
    # that have the other. So each record is there once for each value near to its own.
    sides = []
    for side, (of_pair, codes) in enumerate(
        ((values[0][near.text], piece.exact[0]), (values[1][near.other], piece.exact[1]))
    ):
        size = int(codes.max(initial=0)) + 1
        rows, offsets = rows_grouped_by_code(codes, count_codes(codes, size))
        times = np.diff(offsets)[of_pair]
        block = np.repeat(np.arange(len(of_pair), dtype=np.int32), times)
        records = rows[np.repeat(offsets[of_pair], times) + position_in_group(times)]
        sides.append((block, records.astype(np.int64), side))
    for other in others:
        equal = [other.loose[side][records] for _, records, side in sides]
        size = int(max(part.max(initial=0) for part in equal)) + 1
        blocks, every = combine_codes([side[0] for side in sides], len(near.text), equal, size)
        counts = [count_codes(part, every) for part in blocks]
        pairs = counts[0] * counts[1]
        few = np.flatnonzero((pairs > 0) & (pairs <= MOST_OF_BLOCK))
        left, right = _paired((blocks[0], blocks[1]), counts, few)
        yield sides[0][1][left], sides[1][1][right]


def _sharing_rare_word(piece: Evidence) -> tuple[Numbers, Numbers]:
    """Pairs that share a word that few records have."""
    sides = [_words_of_records(piece.words, codes) for codes in piece.exact]
    records = [record for record, _ in sides]
    dictionary = TextDictionary()
    codes = dictionary.encode(sides[0][1]), dictionary.encode(sides[1][1])
    counts = [count_codes(side, len(dictionary)) for side in codes]
    lengths = np.asarray(pc.utf8_length(dictionary.texts()))
    pairs = counts[0] * counts[1]
    for holders in range(MOST_HOLDERS, 0, -1):
        rare = (pairs > 0) & (np.maximum(*counts) <= holders) & (lengths >= _SHORTEST_WORD)
        if int(pairs[rare].sum()) <= PAIRS_PER_RECORD * sum(map(len, piece.exact)):
            break
    left, right = _paired(codes, counts, np.flatnonzero(rare))
    return records[0][left], records[1][right]


def _words_of_records(words: pa.Array, codes: Codes) -> tuple[Numbers, pa.Array]:
    """Each word of each record, and whose it is."""
    with_words = np.flatnonzero(codes >= 0)
    lists = pc.split_pattern(words.take(pa.array(codes[with_words])).cast(pa.string()), " ")
    return with_words[np.asarray(pc.list_parent_indices(lists))], lists.flatten()
