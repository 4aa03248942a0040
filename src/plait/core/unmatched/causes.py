"""Which part of a key has no match, and keys that match in another column."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from plait.core.codes.key_codes import KeyCodes
from plait.core.keys.match import KeyMatch
from plait.core.table.key_spec import Key
from plait.core.table.table import Table
from plait.core.text.dictionary import TextDictionary
from plait.core.text.hash_table import Codes

MOST_SHOWN = 6

_SAMPLE = 50_000
_MOST_ROWS = 1_000_000
_MOST_COLUMNS = 60
_LEAST_SHARE = 0.5
_BETTER = 1.5


@dataclass(frozen=True)
class FailingKeyParts:
    """Unmatched keys that fail in the same way.

    Parameters
    ----------
    known, unknown : tuple of str
        Key columns whose values are on the other side, and those whose do not.
        With nothing unknown, the values are there, but never together.
    """

    known: tuple[str, ...]
    unknown: tuple[str, ...]
    keys: int
    rows: int


def count_failing_parts(
    coding: KeyCodes,
    keys: Sequence[Codes],
    names: Sequence[str],
    unmatched: npt.NDArray[np.bool_],
    counts: npt.NDArray[np.int64],
    other: int,
) -> list[FailingKeyParts]:
    """Count the unmatched keys by the parts that the other side does not have.

    Parameters
    ----------
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
    list of FailingKeyParts
        Those of most rows first.
    """
    some = np.flatnonzero(unmatched)
    if not len(some):
        return []
    pattern = np.zeros(len(some), np.int64)
    for number, (column, part) in enumerate(zip(coding.key_columns, keys, strict=True)):
        there = np.zeros(column.size + 1, bool)
        there[column.codes[other]] = True
        pattern |= there[part[some]].astype(np.int64) << number
    rows = np.bincount(pattern, weights=counts[some], minlength=1)
    times = np.bincount(pattern)
    failing_key_partss = [
        FailingKeyParts(
            tuple(name for n, name in enumerate(names) if mask >> n & 1),
            tuple(name for n, name in enumerate(names) if not mask >> n & 1),
            int(times[mask]),
            int(rows[mask]),
        )
        for mask in np.flatnonzero(times).tolist()
    ]
    return sorted(failing_key_partss, key=lambda f: -f.rows)[:MOST_SHOWN]


@dataclass(frozen=True)
class BetterKeyColumn:
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


def find_better_columns(
    left: Table, right: Table, key: Key, key_match: KeyMatch
) -> list[BetterKeyColumn]:
    """For each key column on either side, a better one on the other, if there is one.

    Notes
    -----
    Looks at up to 50,000 distinct values, and at the first million rows and sixty
    columns of the other table.
    """
    found: list[BetterKeyColumn] = []
    coding = key_match.coding
    standing = [
        np.flatnonzero(counts) for counts in (key_match.left_counts, key_match.right_counts)
    ]
    for (here, there), column, part in zip(key, coding.key_columns, coding.distinct, strict=True):
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
) -> Iterator[BetterKeyColumn]:
    dictionary = TextDictionary()
    size = len(dictionary.encode(texts))
    shares = {
        column: _share(dictionary, size, other, column)
        for column in other.column_names[:_MOST_COLUMNS]
        if column != named
    }
    best = max(shares, key=shares.__getitem__, default=None)
    if best is not None and shares[best] >= max(_LEAST_SHARE, _BETTER * share):
        yield BetterKeyColumn(table, name, other.name, named, best, share, shares[best])


def _share(dictionary: TextDictionary, size: int, table: Table, column: str) -> float:
    """The share of the dictionary's first texts that are in a column."""
    there = np.zeros(size, bool)
    step = 1 << 17
    for start in range(0, min(table.rows, _MOST_ROWS), step):
        cells = table.cells(table.column(column), start, min(start + step, table.rows))
        codes = dictionary.encode(cells)
        there[codes[(codes >= 0) & (codes < size)]] = True
    return float(there.mean())
