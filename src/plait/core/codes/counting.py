"""What follows from codes by counting: rows of each code, their order, the value of each."""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt

from plait.core.account.parallel import ordered_map
from plait.core.codes.dealing import deal
from plait.core.store.room import rows_at_once
from plait.core.text.wordtable import Codes

Counts = npt.NDArray[np.int64]

_STEP = 1 << 17
_COUNTED = 1 << 21


def count(codes: npt.NDArray[Any], size: int) -> Counts:
    """How often each code stands; -1 is not counted.

    >>> count(np.array([0, 2, 0, -1], np.int32), 3).tolist()
    [2, 0, 1]
    """
    step = max(_COUNTED, size)

    def part(start: int) -> Counts:
        return np.bincount(codes[start : start + step] + np.int32(1), minlength=size + 1)

    total = np.zeros(size + 1, np.int64)
    for counts in ordered_map(part, range(0, len(codes), step)):
        total += counts
    return total[1:]


def rows_by_code(codes: Codes, counts: Counts) -> tuple[npt.NDArray[Any], Counts]:
    """Rows in order of their codes, and where each code's rows begin: a counting sort.

    Parameters
    ----------
    codes : array of int32
        -1 is left out.
    counts : array of int64
        Rows of each code.

    Returns
    -------
    rows : array of int
        Row numbers; those of one code keep their order.
    offsets : array of int64
        ``rows[offsets[c]:offsets[c + 1]]`` have code ``c``.

    Examples
    --------
    >>> rows, offsets = rows_by_code(np.array([1, 0, 1], np.int32), np.array([1, 2]))
    >>> rows.tolist(), offsets.tolist()
    ([1, 0, 2], [0, 1, 3])
    """
    if len(codes) > rows_at_once():
        rows = _dealt_order(codes, counts)
    else:
        present = np.flatnonzero(codes >= 0)
        rows = present[stable_order(codes.take(present), len(counts))]
    return rows, np.concatenate([[0], np.cumsum(counts)])


def stable_order(codes: npt.NDArray[Any], size: int) -> npt.NDArray[np.int64]:
    """The order that sorts codes below ``size``, ties as they stand.

    Sixteen bits at a time from the lowest (radix sort, Knuth vol. 3, section
    5.2.5): NumPy sorts 16-bit integers by counting, so this is linear. Very many
    codes are first dealt to classes of neighbouring codes.

    >>> stable_order(np.array([70000, 1, 70000, 0]), 70001).tolist()
    [3, 1, 0, 2]
    """
    if len(codes) > rows_at_once():
        return _dealt_order(codes, count(codes, size))
    order = np.argsort((codes & 0xFFFF).astype(np.uint16), kind="stable")
    shift = 16
    while size > 1 << shift:
        digit = ((codes >> shift) & 0xFFFF).astype(np.uint16)
        order = order[np.argsort(digit[order], kind="stable")]
        shift += 16
    return order


def _dealt_order(codes: npt.NDArray[Any], counts: Counts) -> npt.NDArray[np.int64]:
    """The same, class by class, of codes that are not -1: no more than one is sorted at a time."""
    each = max(rows_at_once() >> 2, len(codes) >> 15)
    of_code = ((np.cumsum(counts) - counts) // each).astype(np.uint16)

    def words(start: int) -> tuple[npt.NDArray[np.int64], npt.NDArray[np.uint64]]:
        step = codes[start : start + _STEP]
        there = np.flatnonzero(step >= 0)
        return start + there, step[there].astype(np.uint64)

    spans = range(0, len(codes), _STEP)
    dealt = deal(words, spans, lambda some: of_code[some], int(of_code.max(initial=0)) + 1)
    filled = 0
    for rows in ordered_map(_ordered_class, dealt.classes()):
        dealt.rows[filled : filled + len(rows)] = rows
        filled += len(rows)
    return dealt.rows


def _ordered_class(
    one: tuple[npt.NDArray[np.int64], npt.NDArray[np.uint64]],
) -> npt.NDArray[np.int64]:
    """The rows of one class in order; those of its last code, which may be very many, are so."""
    rows, codes = one
    last = codes == codes.max()
    others = np.flatnonzero(~last)
    if not len(others):
        return rows
    from_first = (codes[others] - codes[others].min()).astype(np.int64)
    order = others[stable_order(from_first, int(from_first.max()) + 1)]
    return np.concatenate([rows[order], rows[last]])


def distinct(
    values: npt.NDArray[Any],
) -> tuple[npt.NDArray[Any], npt.NDArray[np.int64], npt.NDArray[np.int64]]:
    """Distinct numbers in order, for each value which of them it is, and where each first stands.

    >>> values, which, first = distinct(np.array([7, 3, 7]))
    >>> values.tolist(), which.tolist(), first.tolist()
    ([3, 7], [1, 0, 1], [1, 0])
    """
    order = np.argsort(values, kind="stable")
    arranged = values[order]
    new = np.append(True, arranged[1:] != arranged[:-1])[: len(values)]
    which = np.empty(len(values), np.int64)
    which[order] = np.cumsum(new) - 1
    return arranged[new], which, order[new]


def within_each(times: npt.NDArray[Any]) -> npt.NDArray[np.int64]:
    """For groups of so many, one after another, the number of each member in its group.

    >>> within_each(np.array([2, 0, 3])).tolist()
    [0, 1, 0, 1, 2]
    """
    begin: npt.NDArray[np.int64] = np.repeat(np.cumsum(times) - times, times)
    return np.arange(len(begin)) - begin


def first_rows(codes: Codes, size: int) -> npt.NDArray[np.int64]:
    """The first row of each code, -1 for a code without one.

    >>> first_rows(np.array([1, -1, 1], np.int32), 2).tolist()
    [-1, 0]
    """
    first = np.full(size + 1, -1, np.int64)
    first[codes[::-1]] = np.arange(len(codes) - 1, -1, -1)
    return first[:size]


def by_code(values: npt.NDArray[Any], codes: Codes, missing: int | bool) -> npt.NDArray[Any]:
    """The value of each row's code; ``missing`` for code -1.

    >>> by_code(np.array([5, 6]), np.array([1, -1, 0], np.int32), 0).tolist()
    [6, 0, 5]
    """
    values = np.append(values, values.dtype.type(missing))
    made = np.empty(len(codes), values.dtype)

    def fill(start: int) -> None:
        stop = start + _STEP
        values.take(codes[start:stop], out=made[start:stop], mode="wrap")

    for _ in ordered_map(fill, range(0, len(codes), _STEP)):
        pass
    return made
