"""Rows dealt into classes by their words; equal words are in one class, their rows in order."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Any, TypeVar

import numpy as np
import numpy.typing as npt

from plait.core.job.executor import map_ordered

Span = TypeVar("Span")
Rows = npt.NDArray[Any]
Words = npt.NDArray[np.uint64]

_MOST = 1 << 12
# Another factor than that of the hash table which a class is worked through with: with the same one
# all words of a class would want the same few of its slots.
_SPREAD, _BITS = np.uint64(0xD6E8FEB86659FD93), 64


@dataclass(frozen=True, eq=False)
class PartitionedWords:
    """Words and their rows, those of a class beside one another.

    Parameters
    ----------
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


def partition_words(
    words_of: Callable[[Span], tuple[Rows, Words]],
    spans: Sequence[Span],
    class_of: Callable[[Words], Rows],
    classes: int,
) -> PartitionedWords:
    """Deal words into classes.

    Parameters
    ----------
    words_of : callable
        From a span to rows, ascending, and the word of each; asked twice for each span.
    class_of : callable
        From words to their classes, as 16-bit numbers: see ``hash_partitioner``.
    classes : int
        How many there are.

    Notes
    -----
    Counted first, then put in their places: a counting sort (Knuth vol. 3, section 5.2,
    algorithm D) of which both passes go through the rows in order.

    Examples
    --------
    >>> words = np.array([7, 9, 7, 5, 9], np.uint64)
    >>> def words_of(at):
    ...     return np.arange(*at), words[slice(*at)]
    >>> dealt = partition_words(words_of, [(0, 3), (3, 5)], *hash_partitioner(5, 1))
    >>> sorted((of.tolist(), rows.tolist()) for rows, of in dealt.classes())
    [([5], [3]), ([7, 7], [0, 2]), ([9, 9], [1, 4])]
    """

    def counted(span: Span) -> Rows:
        return np.bincount(class_of(words_of(span)[1]), minlength=classes)

    counts = np.zeros(classes, np.int64)
    for found in map_ordered(counted, spans):
        counts += found
    offsets = np.concatenate([[0], np.cumsum(counts)])
    rows = np.empty(int(offsets[-1]), np.int64)
    words = np.empty(len(rows), np.uint64)
    free = offsets[:-1].copy()
    for its_rows, its_words, which, times in map_ordered(
        lambda span: _arranged(words_of(span), class_of, classes), spans
    ):
        begin = np.cumsum(times) - times
        to = (free - begin)[which] + np.arange(len(which))
        rows[to], words[to] = its_rows, its_words
        free += times
    return PartitionedWords(rows, words, offsets)


def hash_partitioner(most: int, each: int) -> tuple[Callable[[Words], Rows], int]:
    """Classes of equal size, about: the upper bits of a word's product with an odd number.

    Parameters
    ----------
    most : int
        How many words there can be.
    each : int
        About how many of them a class should have.
    """
    bits = min(max(most // each, 1), _MOST).bit_length()
    shift = np.uint64(_BITS - bits)
    return lambda words: ((words * _SPREAD) >> shift).astype(np.uint16), 1 << bits


def _arranged(
    dealt: tuple[Rows, Words], class_of: Callable[[Words], Rows], size: int
) -> tuple[Rows, Words, Rows, Rows]:
    """Rows and words in the order of their classes, the class of each, and how many of each."""
    rows, words = dealt
    of = class_of(words)
    order = np.argsort(of, kind="stable")
    which = of[order]
    return rows[order], words[order], which, np.bincount(which, minlength=size)
