"""Rows dealt into classes by their words: equal words are in one class, in the order of the rows."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Any, TypeVar

import numpy as np
import numpy.typing as npt

from plait.core.account.parallel import ordered_map

Span = TypeVar("Span")
Rows = npt.NDArray[Any]
Words = npt.NDArray[np.uint64]

_EACH = 1 << 22  # words of a class, about: what a table of them takes stays small
_MOST = 1 << 12
_SPREAD, _BITS = np.uint64(0x9E3779B97F4A7C15), 64


@dataclass(frozen=True, eq=False)
class Dealt:
    """Words and their rows, those of a class beside one another.

    Parameters
    ----------
    rows : array of int
    words : array of uint64
    offsets : array of int
        Where each class begins, and the end.
    """

    rows: Rows
    words: Words
    offsets: Rows

    def classes(self) -> Iterator[tuple[Rows, Words]]:
        """The rows and the words of each class."""
        for begin, end in pairwise(self.offsets.tolist()):
            if end > begin:
                yield self.rows[begin:end], self.words[begin:end]


def deal(
    words_of: Callable[[Span], tuple[Rows, Words]],
    spans: Sequence[Span],
    most: int,
    each: int = _EACH,
) -> Dealt:
    """Deal words into classes.

    Parameters
    ----------
    words_of : callable
        From a span to rows, ascending, and the word of each; asked twice for each span.
    spans : sequence
    most : int
        How many words there can be.
    each : int
        About how many words a class should have.

    Returns
    -------
    Dealt

    Notes
    -----
    The class of a word is the upper bits of its product with an odd number. Counted first,
    then put in their places: a counting sort (Knuth vol. 3, section 5.2, algorithm D) of
    which both passes go through the rows in order.

    Examples
    --------
    >>> words = np.array([7, 9, 7, 5, 9], np.uint64)
    >>> dealt = deal(lambda at: (np.arange(*at), words[slice(*at)]), [(0, 3), (3, 5)], 5, 1)
    >>> sorted((of.tolist(), rows.tolist()) for rows, of in dealt.classes())
    [([5], [3]), ([7, 7], [0, 2]), ([9, 9], [1, 4])]
    """
    bits = min(max(most // each, 1), _MOST).bit_length()
    shift = np.uint64(_BITS - bits)

    def counted(span: Span) -> Rows:
        return np.bincount(_class_of(words_of(span)[1], shift), minlength=1 << bits)

    counts = np.zeros(1 << bits, np.int64)
    for found in ordered_map(counted, spans):
        counts += found
    offsets = np.concatenate([[0], np.cumsum(counts)])
    rows = np.empty(int(offsets[-1]), np.int32 if most < 2**31 else np.int64)
    words = np.empty(len(rows), np.uint64)
    free = offsets[:-1].copy()
    for its_rows, its_words, which, times in ordered_map(
        lambda span: _arranged(words_of(span), shift, 1 << bits), spans
    ):
        begin = np.cumsum(times) - times
        to = (free - begin)[which] + np.arange(len(which))
        rows[to], words[to] = its_rows, its_words
        free += times
    return Dealt(rows, words, offsets)


def _class_of(words: Words, shift: np.uint64) -> Rows:
    of: Rows = ((words * _SPREAD) >> shift).astype(np.uint16)
    return of


def _arranged(found: tuple[Rows, Words], shift: np.uint64, size: int) -> Any:
    """Rows and words in the order of their classes, the class of each, and how many of each."""
    rows, words = found
    of = _class_of(words, shift)
    order = np.argsort(of, kind="stable")
    which = of[order]
    return rows[order], words[order], which, np.bincount(which, minlength=size)
