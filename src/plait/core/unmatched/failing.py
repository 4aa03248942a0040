"""Which part of a composite key fails: the yard is known there, the hive is not."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from plait.core.codes.coding import Coding
from plait.core.text.wordtable import Codes

MOST_SHOWN = 6


@dataclass(frozen=True)
class Failing:
    """Unmatched keys that fail in the same way.

    Parameters
    ----------
    known, unknown : tuple of str
        Key columns whose values are on the other side, and those whose do not.
        With nothing unknown, the values are there, but never together.
    keys, rows : int
    """

    known: tuple[str, ...]
    unknown: tuple[str, ...]
    keys: int
    rows: int


def failing_parts(
    coding: Coding,
    keys: Sequence[Codes],
    names: Sequence[str],
    unmatched: npt.NDArray[np.bool_],
    counts: npt.NDArray[np.int64],
    other: int,
) -> list[Failing]:
    """Count the unmatched keys by the parts that the other side does not have.

    Parameters
    ----------
    coding : Coding
    keys : sequence of int32 arrays
        For each key column its code in each key.
    names : sequence of str
        The key's columns.
    unmatched : array of bool
        By key.
    counts : array of int64
        Rows of each key.
    other : int
        The table on the other side.

    Returns
    -------
    list of Failing
        Those of most rows first.
    """
    some = np.flatnonzero(unmatched)
    if not len(some):
        return []
    pattern = np.zeros(len(some), np.int64)
    for number, (column, part) in enumerate(zip(coding.columns, keys, strict=True)):
        there = np.zeros(column.size + 1, bool)
        there[column.codes[other]] = True
        pattern |= there[part[some]].astype(np.int64) << number
    rows = np.bincount(pattern, weights=counts[some], minlength=1)
    times = np.bincount(pattern)
    found = [
        Failing(
            tuple(name for n, name in enumerate(names) if mask >> n & 1),
            tuple(name for n, name in enumerate(names) if not mask >> n & 1),
            int(times[mask]),
            int(rows[mask]),
        )
        for mask in np.flatnonzero(times).tolist()
    ]
    return sorted(found, key=lambda one: -one.rows)[:MOST_SHOWN]
