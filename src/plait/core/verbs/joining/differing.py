"""Where two columns of joined rows differ."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow.compute as pc

from plait.core.account.finding import MOST_EXAMPLES, Example
from plait.core.keys.duplicates import key_text
from plait.core.table.absent import value_there
from plait.core.table.table import Column, Table
from plait.core.text.cells import as_text
from plait.core.types.kinds import takes_markers

_LEAST_DIFFERING, _LEAST_SHARE = 20, 0.9


@dataclass(frozen=True, eq=False)
class Marked:
    """Whether markers for missing are no value in a column of either table.

    Asked only where cells differ: it takes a look at every cell.
    """

    left: Table
    left_name: str
    right: Table
    right_name: str

    @cached_property
    def here(self) -> bool:
        """Of the left table's column."""
        return takes_markers(self.left.kind(self.left_name))

    @cached_property
    def there(self) -> bool:
        """Of the right table's."""
        return takes_markers(self.right.kind(self.right_name))


@dataclass(frozen=True, eq=False)
class Difference:
    """Rows whose cells differ, how many have a cell on one side only, and how many on both."""

    rows: npt.NDArray[np.int64]
    only_left: int
    only_right: int
    examples: tuple[tuple[int, str, str], ...]
    on_both: int = 0

    @property
    def of_something_else(self) -> bool:
        """Whether the columns plainly mean something else: hardly any two cells are equal."""
        many = len(self.rows) >= _LEAST_DIFFERING
        return many and len(self.rows) > _LEAST_SHARE * self.on_both

    @property
    def none(self) -> bool:
        """Whether no cell differs, and none is on one side only."""
        return not (len(self.rows) or self.only_left or self.only_right)

    def shown(self, both: Table, key: Sequence[str]) -> tuple[Example, ...]:
        """The first cells that differ, with the key and both places."""
        return tuple(
            Example(f"{key_text(both, key, row)}: {ours} / {theirs}", both.places(row))
            for row, ours, theirs in self.examples
        )


NONE = Difference(np.empty(0, np.int64), 0, 0, ())


def compare(
    table: Table,
    here: Column,
    there: Column,
    left_rows: npt.NDArray[Any] | None,
    right_rows: npt.NDArray[Any],
    marked: Marked,
) -> Difference:
    """Compare two columns on the matched rows; examples are row, left cell, right cell."""
    only_left = only_right = on_both = 0
    rows: list[npt.NDArray[np.int64]] = []
    examples: list[tuple[int, str, str]] = []
    for start, stop in table.spans():
        matched = right_rows[start:stop] >= 0
        if left_rows is not None:
            matched = matched & (left_rows[start:stop] >= 0)
        ours = pc.fill_null(as_text(table.cells(here, start, stop)), "")
        theirs = pc.fill_null(as_text(table.cells(there, start, stop)), "")
        filled = pc.and_(pc.not_equal(ours, ""), pc.not_equal(theirs, ""))
        on_both += int(np.count_nonzero(filled.to_numpy(zero_copy_only=False) & matched))
        differ = pc.not_equal(ours, theirs).to_numpy(zero_copy_only=False) & matched
        if not differ.any():
            continue
        some = np.flatnonzero(differ)
        no_left = ~value_there(ours, marked.here)[some]
        no_right = ~value_there(theirs, marked.there)[some]
        only_left += int((no_right & ~no_left).sum())
        only_right += int((no_left & ~no_right).sum())
        conflict = some[~(no_left | no_right)]
        rows.append(start + conflict)
        for row in conflict[: MOST_EXAMPLES - len(examples)]:
            examples.append((start + int(row), ours[row].as_py(), theirs[row].as_py()))
    every = np.concatenate(rows) if rows else np.empty(0, np.int64)
    return Difference(every, only_left, only_right, tuple(examples), on_both)
