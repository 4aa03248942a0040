"""Dense codes of pairs of codes: how the columns of a composite key become one."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import pairwise
from typing import Any

import numpy as np
import numpy.typing as npt

from plait.core.account.parallel import ordered_map
from plait.core.codes.dealing import by_hash, deal
from plait.core.store.room import rows_at_once
from plait.core.text.dictionary import MISSING
from plait.core.text.wordtable import Codes, WordTable

_DIRECT_SLOTS, _MOST_SLOTS = 1 << 20, 1 << 26
_STEP = 1 << 17


def mix(
    left: Sequence[Codes], left_size: int, right: Sequence[Codes], right_size: int
) -> tuple[tuple[Codes, ...], int]:
    """Dense codes of pairs of codes; -1 where either is.

    >>> a, b = np.array([0, 1, 0], np.int32), np.array([2, 2, -1], np.int32)
    >>> codes, size = mix([a], 2, [b], 3)
    >>> codes[0].tolist(), size
    ([0, 1, -1], 2)
    """
    rows, slots = sum(map(len, left)), left_size * right_size
    if slots <= max(_DIRECT_SLOTS, min(4 * rows, _MOST_SLOTS)):
        return _mix_directly(left, right, slots, right_size)
    if rows <= rows_at_once():
        return _mix_by_hash(left, right, right_size)
    return _mix_dealt(left, right, right_size)


def _pairs(a: Codes, b: Codes, right_size: int) -> npt.NDArray[np.int64]:
    """Each pair of codes as one number, -1 where either is missing."""
    pairs = a.astype(np.int64) * right_size + b
    if a.min(initial=0) < 0 or b.min(initial=0) < 0:
        pairs[(a < 0) | (b < 0)] = MISSING
    return pairs


def _mix_directly(
    left: Sequence[Codes], right: Sequence[Codes], slots: int, right_size: int
) -> tuple[tuple[Codes, ...], int]:
    """Through an array with a slot for every possible pair; a missing pair takes a spare last."""
    seen = np.zeros(slots + 1, bool)

    def mark(step: tuple[Codes, Codes]) -> None:
        seen[_pairs(*step, right_size)] = True

    for one, other in zip(left, right, strict=True):
        for _ in ordered_map(mark, _steps(one, other)):
            pass
    seen[slots] = False
    codes = np.cumsum(seen, dtype=np.int32)
    codes -= np.int32(1)
    size = int(codes[slots]) + 1
    codes[slots] = MISSING
    mixed = tuple(np.empty(len(one), np.int32) for one in left)
    for one, other, made in zip(left, right, mixed, strict=True):

        def look_up(start: int, one: Codes = one, other: Codes = other, made: Codes = made) -> None:
            stop = start + _STEP
            pairs = _pairs(one[start:stop], other[start:stop], right_size)
            codes.take(pairs, out=made[start:stop], mode="wrap")

        for _ in ordered_map(look_up, range(0, len(one), _STEP)):
            pass
    return mixed, size


def _mix_by_hash(
    left: Sequence[Codes], right: Sequence[Codes], right_size: int
) -> tuple[tuple[Codes, ...], int]:
    """Through the word table, where there are too many possible pairs."""
    table = WordTable()
    mixed = []
    for one, other in zip(left, right, strict=True):
        codes = np.full(len(one), MISSING, np.int32)
        for start, step in zip(range(0, len(one), _STEP), _steps(one, other), strict=True):
            pairs = _pairs(*step, right_size)
            there = np.flatnonzero(pairs >= 0)
            codes[start + there] = table.encode((pairs[there] + 1).view(np.uint64))[0]
        mixed.append(codes)
    return tuple(mixed), table.size


def _mix_dealt(
    left: Sequence[Codes], right: Sequence[Codes], right_size: int
) -> tuple[tuple[Codes, ...], int]:
    """The same for very many rows: equal pairs are dealt to one class, each with its own table.

    So the table that is looked into at random stays small, however many pairs there are
    (as in a hash join in parts: DeWitt et al., "Implementation techniques for main memory
    database systems", SIGMOD 1984).
    """
    begins = np.cumsum([0, *map(len, left)])

    def words(at: tuple[int, int]) -> tuple[npt.NDArray[np.int64], npt.NDArray[np.uint64]]:
        table, start = at
        pairs = _pairs(
            left[table][start : start + _STEP], right[table][start : start + _STEP], right_size
        )
        there = np.flatnonzero(pairs >= 0)
        return begins[table] + start + there, (pairs[there] + 1).view(np.uint64)

    spans = [(n, start) for n, one in enumerate(left) for start in range(0, len(one), _STEP)]
    dealt = deal(words, spans, *by_hash(int(begins[-1]), rows_at_once() >> 2))
    codes, size = np.full(int(begins[-1]), MISSING, np.int32), 0
    for rows, of_class, found in ordered_map(_coded_class, dealt.classes()):
        codes[rows] = of_class + np.int32(size)
        size += found
    return tuple(codes[begin:end] for begin, end in pairwise(begins.tolist())), size


def _coded_class(
    one: tuple[npt.NDArray[Any], npt.NDArray[np.uint64]],
) -> tuple[npt.NDArray[Any], Codes, int]:
    """Codes of the words of one class, and how many there are."""
    rows, words = one
    table, codes = WordTable(), np.empty(len(words), np.int32)
    for start in range(0, len(words), _STEP):
        codes[start : start + _STEP] = table.encode(words[start : start + _STEP])[0]
    return rows, codes, table.size


def _steps(one: Codes, other: Codes) -> Iterator[tuple[Codes, Codes]]:
    for start in range(0, len(one), _STEP):
        yield one[start : start + _STEP], other[start : start + _STEP]
