"""Keys that match another column better than the one that was named."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
import pyarrow as pa

from plait.core.keys.match import Matching
from plait.core.table.keyspec import Key
from plait.core.table.table import Table
from plait.core.text.dictionary import TextDictionary

_SAMPLE = 50_000
_MOST_ROWS = 1_000_000
_MOST_COLUMNS = 60
_LEAST_SHARE = 0.5
_BETTER = 1.5


@dataclass(frozen=True)
class Elsewhere:
    """A key column whose values are in another column of the other table.

    Parameters
    ----------
    table, column : str
        Where the values come from.
    other, named, better : str
        The other table, the column named for the key, and the one that has more
        of the values.
    named_share, better_share : float
        Shares of the distinct values that are there.
    """

    table: str
    column: str
    other: str
    named: str
    better: str
    named_share: float
    better_share: float


def elsewhere(left: Table, right: Table, key: Key, matching: Matching) -> list[Elsewhere]:
    """For each key column on either side, a better one on the other, if there is one.

    Notes
    -----
    Looks at up to 50,000 distinct values, and at the first million rows and sixty
    columns of the other table.
    """
    found: list[Elsewhere] = []
    coding = matching.coding
    standing = [np.flatnonzero(counts) for counts in (matching.left_counts, matching.right_counts)]
    for (here, there), column, part in zip(key, coding.columns, coding.distinct, strict=True):
        for side, table, name, other, named in (
            (0, left, here, right, there),
            (1, right, there, left, here),
        ):
            known = np.zeros(column.size + 1, bool)
            known[part[standing[side]]] = True
            mine = np.flatnonzero(known[: column.size])
            mine = mine[:: max(1, len(mine) // _SAMPLE)]
            if not len(mine):
                continue
            known[:] = False
            known[part[standing[1 - side]]] = True
            share = float(known[mine].mean())
            if share * _BETTER >= 1:
                continue
            texts = column.texts.take(pa.array(mine))
            found += _better(texts, table.name, name, other, named, share)
    return found


def _better(
    texts: pa.Array, table: str, name: str, other: Table, named: str, share: float
) -> Iterator[Elsewhere]:
    dictionary = TextDictionary()
    size = len(dictionary.encode(texts))
    shares = {
        column: _share(dictionary, size, other, column)
        for column in other.column_names[:_MOST_COLUMNS]
        if column != named
    }
    best = max(shares, key=shares.__getitem__, default=None)
    if best is not None and shares[best] >= max(_LEAST_SHARE, _BETTER * share):
        yield Elsewhere(table, name, other.name, named, best, share, shares[best])


def _share(dictionary: TextDictionary, size: int, other: Table, column: str) -> float:
    """The share of the dictionary's first texts that are in a column."""
    there = np.zeros(size, bool)
    step = 1 << 17
    for start in range(0, min(other.rows, _MOST_ROWS), step):
        cells = other.cells(other.column(column), start, min(start + step, other.rows))
        codes = dictionary.encode(cells)
        there[codes[(codes >= 0) & (codes < size)]] = True
    return float(there.mean())
