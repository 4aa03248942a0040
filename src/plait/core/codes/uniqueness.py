"""What would make a key unique: a further column, or a few rows fewer."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from plait.core.codes.coding import Coding, code_column
from plait.core.codes.counting import Counts, by_code, count
from plait.core.codes.mixing import mix
from plait.core.table.table import Table

_SAMPLE_KEYS = 20_000
_MOST_TRIED = 30


@dataclass(frozen=True)
class Uniqueness:
    """What is between a key and being unique.

    Parameters
    ----------
    in_the_way : int
        Rows beyond the first of each key.
    with_column : tuple of (str, int)
        Columns that would make it unique, or nearly, together with it, and how
        many rows would be in the way then; best first.
    """

    in_the_way: int
    with_column: tuple[tuple[str, int], ...]

    @property
    def complete(self) -> tuple[str, ...]:
        """Columns each of which would make the key unique."""
        return tuple(name for name, rows in self.with_column if not rows)


def what_would_be_unique(
    table: Table, key: Sequence[str], coding: Coding, counts: Counts
) -> Uniqueness | None:
    """Look for a further column that tells rows of one key apart.

    Returns
    -------
    Uniqueness or None
        ``None`` when the key is unique.

    Notes
    -----
    A column that fails on the rows of some keys fails on all of them, so the
    columns are tried on up to 20,000 keys first, and the best three on the rest.
    """
    repeated = np.flatnonzero(counts > 1)
    if not len(repeated):
        return None
    others = [name for name in table.column_names if name not in key][:_MOST_TRIED]
    sample = repeated[:: max(1, len(repeated) // _SAMPLE_KEYS)]
    if len(sample) < len(repeated):
        tried = _in_the_way(table, coding, sample, others)
        others = [name for name, _ in tried[:3]]
    found = _in_the_way(table, coding, repeated, others)
    excess = int((counts[repeated] - 1).sum())
    return Uniqueness(excess, tuple(one for one in found[:3] if 2 * one[1] <= excess))


def _in_the_way(
    table: Table, coding: Coding, some: Counts, others: Sequence[str]
) -> list[tuple[str, int]]:
    wanted = np.zeros(coding.size, bool)
    wanted[some] = True
    rows = np.flatnonzero(by_code(wanted, coding.codes[0], False))
    taken, codes = table.at(rows), coding.codes[0][rows]
    found = []
    for name in others:
        column = code_column([taken.whole(name)])
        # A missing cell tells no row apart.
        cells = np.where(column.codes[0] < 0, np.int32(column.size), column.codes[0])
        (both,), size = mix([codes], coding.size, [cells], column.size + 1)
        found.append((name, len(rows) - int((count(both, size) > 0).sum())))
    return sorted(found, key=lambda one: one[1])
