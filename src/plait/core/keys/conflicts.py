"""Cells on which matched rows differ, and the list of them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from itertools import pairwise
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.base.findings import MOST_EXAMPLES, FindingExample, SourceRow
from plait.core.base.ledger import ListingKey
from plait.core.base.names import unused_name
from plait.core.keys.duplicates import format_key
from plait.core.table.columns import nonmissing_mask
from plait.core.table.fragment import Fragment
from plait.core.table.table import Column, Table
from plait.core.text.cells import to_text

_LEAST_DIFFERING, _LEAST_SHARE = 20, 0.9


@dataclass(frozen=True, eq=False)
class CellConflicts:
    """A list of cells that differ. Their rows are in the result all the same.

    Parameters
    ----------
    name : str
        Names the file they are written to.
    table : Table
        A row for each pair of cells: the key, the column, both values, both places.
    sides : tuple of Table
        For each row of the list the row of either side, without its cells.
    source : str
        The table whose cells differ from what was there.
    """

    name: str
    table: Table
    sides: tuple[Table, ...]
    source: str = ""

    kind = "conflicts"
    in_result = True
    cause = ""
    cells_only = True

    @property
    def listing(self) -> ListingKey:
        """What a line of the ledger calls the list."""
        return ListingKey(self.source, self.kind)

    @property
    def rows(self) -> int:
        """How many pairs of cells."""
        return self.table.rows

    def listed(self) -> Table:
        """The list itself."""
        return self.table

    def places(self, row: int) -> tuple[SourceRow, ...]:
        """Where the two cells of a row of the list are."""
        return tuple(source_row for side in self.sides for source_row in side.source_rows(row)[:1])


@dataclass(frozen=True, eq=False)
class ConflictingColumn:
    """The rows on which two columns of a joined table differ, and the columns."""

    name: str
    here: Column
    there: Column
    rows: npt.NDArray[np.int64]


def list_cell_conflicts(
    table: Table,
    left_strands: int,
    key: Sequence[str],
    conflicting_columns: Sequence[ConflictingColumn],
    source: str = "",
) -> CellConflicts:
    """List the differing cells of a join.

    Parameters
    ----------
    table : Table
        The joined rows; the left table's fragments come first.
    left_strands : int
        How many those are.
    key : sequence of str
        The left table's key columns.
    source : str
        The table whose cells differ from what was there.
    """
    rows = np.concatenate([conflicting_column.rows for conflicting_column in conflicting_columns])
    result = table.take(rows)
    ends = np.cumsum([0, *(len(c.rows) for c in conflicting_columns)]).tolist()
    spans = list(pairwise(ends))
    names = pa.array([column.name for column in conflicting_columns])
    which = np.repeat(np.arange(len(conflicting_columns), dtype=np.int32), np.diff(ends))
    made = {"column": pa.chunked_array([pa.DictionaryArray.from_arrays(which, names)])}
    for side in ("left", "right"):
        cells = [
            to_text(result.cells(one.here if side == "left" else one.there, *span)).cast(
                pa.string()
            )
            for one, span in zip(conflicting_columns, spans, strict=True)
        ]
        made[f"{side} value"] = pa.chunked_array(cells, pa.string())
    sides = tuple(
        Table(name, (), fragments, table.rows).take(rows)
        for name, fragments in (
            ("left", table.fragments[:left_strands]),
            ("right", table.fragments[left_strands:]),
        )
    )
    for one_side in sides:
        made[f"{one_side.name} source"], made[f"{one_side.name} place"] = (
            one_side.describe_source_rows()
        )
    return CellConflicts(f"{table.name}-conflicts", _beside(result, key, made), sides, source)


def _beside(table: Table, key: Sequence[str], made: dict[str, pa.ChunkedArray]) -> Table:
    """The key's columns, and the made ones behind them."""
    columns = [table.column(name) for name in key if table.has_column(name)]
    stored = {unused_name(name, [column.name for column in columns]): c for name, c in made.items()}
    number = len(table.fragments)
    columns += [Column(name, ((number, name),)) for name in stored]
    fragments = (*table.fragments, Fragment("conflicts", stored, ()))
    return Table("conflicts", tuple(columns), fragments, table.rows)


@dataclass(frozen=True, eq=False)
class MissingMarkers:
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
        return self.left.column_type(self.left_name).allows_missing_markers

    @cached_property
    def there(self) -> bool:
        """Of the right table's."""
        return self.right.column_type(self.right_name).allows_missing_markers


@dataclass(frozen=True, eq=False)
class ColumnDifference:
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

    def shown(self, table: Table, key: Sequence[str]) -> tuple[FindingExample, ...]:
        """The first cells that differ, with the key and both places."""
        return tuple(
            FindingExample(
                f"{format_key(table, key, row)}: {ours} / {theirs}", table.source_rows(row)
            )
            for row, ours, theirs in self.examples
        )


NONE = ColumnDifference(np.empty(0, np.int64), 0, 0, ())


def compare_joined_columns(
    table: Table,
    column: Column,
    there: Column,
    left_rows: npt.NDArray[Any] | None,
    right_rows: npt.NDArray[Any],
    marked: MissingMarkers,
) -> ColumnDifference:
    """Compare two columns on the matched rows; examples are row, left cell, right cell."""
    only_left = only_right = on_both = 0
    rows: list[npt.NDArray[np.int64]] = []
    examples: list[tuple[int, str, str]] = []
    for start, stop in table.row_ranges():
        matched = right_rows[start:stop] >= 0
        if left_rows is not None:
            matched = matched & (left_rows[start:stop] >= 0)
        ours = pc.fill_null(to_text(table.cells(column, start, stop)), "")
        theirs = pc.fill_null(to_text(table.cells(there, start, stop)), "")
        filled = pc.and_(pc.not_equal(ours, ""), pc.not_equal(theirs, ""))
        on_both += int(np.count_nonzero(filled.to_numpy(zero_copy_only=False) & matched))
        differ = pc.not_equal(ours, theirs).to_numpy(zero_copy_only=False) & matched
        if not differ.any():
            continue
        some = np.flatnonzero(differ)
        no_left = ~nonmissing_mask(ours, marked.here)[some]
        no_right = ~nonmissing_mask(theirs, marked.there)[some]
        only_left += int((no_right & ~no_left).sum())
        only_right += int((no_left & ~no_right).sum())
        conflict = some[~(no_left | no_right)]
        rows.append(start + conflict)
        for row in conflict[: MOST_EXAMPLES - len(examples)]:
            examples.append((start + int(row), ours[row].as_py(), theirs[row].as_py()))
    every = np.concatenate(rows) if rows else np.empty(0, np.int64)
    return ColumnDifference(every, only_left, only_right, tuple(examples), on_both)
