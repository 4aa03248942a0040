"""The rows and columns of a join's result."""

from __future__ import annotations

from collections.abc import Container
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.coding import Coding
from plait.core.finding import MOST_EXAMPLES, Example, Finding, counted
from plait.core.keyspec import Key
from plait.core.kinds import NUMBERS
from plait.core.match import Matching, row_pairs
from plait.core.names import distinct_name
from plait.core.table import Column, Table
from plait.core.text import as_text


def joined_table(
    left: Table, right: Table, pairs: Key, matching: Matching, kind: str, loose: bool
) -> tuple[Table, list[Finding]]:
    """The result, and findings about columns that both tables have."""
    left_rows, right_rows = row_pairs(matching, kind)
    here = left if left_rows is None else left.at(left_rows)
    there = _near(right).at(right_rows)
    shift = len(here.strands)
    theirs = {column.name: _shifted(column, shift) for column in there.columns}
    both = Table(left.name, here.columns, here.strands + there.strands, len(right_rows))

    columns = {column.name: column for column in here.columns}
    ours = set(columns)
    paired = {right_name: left_name for left_name, right_name in pairs}
    findings = []
    for name, column in theirs.items():
        twin = paired.get(name, name)
        same_key = name in paired
        if twin not in columns or (not same_key and name not in ours):
            columns[_free(name, right.name, columns)] = column
            continue
        difference = _Difference(0, 0, ())
        if not same_key or loose or _respelt(matching.coding, pairs, name):
            difference = _compare(both, columns[twin], column, left_rows, right_rows)
        if difference.none:
            if kind in ("right", "full"):
                parts = columns[twin].parts + column.parts
                columns[twin] = replace(columns[twin], parts=parts)
            continue
        kept = distinct_name(f"{right.name}.{name}", columns)
        columns[kept] = column
        if same_key:
            findings.append(_respelt_finding(right, name, kept, difference))
        elif difference.conflicts:
            findings.append(_conflict_finding(left, right, name, kept, difference))
    named = tuple(replace(column, name=name) for name, column in columns.items())
    return replace(both, columns=named, name=f"{left.name}+{right.name}"), findings


def _free(name: str, table: str, taken: Container[str]) -> str:
    return name if name not in taken else distinct_name(f"{table}.{name}", taken)


def _near(table: Table) -> Table:
    """The table with columns from which rows are quickly taken in any order."""
    wanted: dict[int, list[str]] = {}
    for column in table.columns:
        for strand, name in column.parts:
            wanted.setdefault(strand, []).append(name)
    strands = tuple(
        strand.near(wanted.get(number, [])) for number, strand in enumerate(table.strands)
    )
    return replace(table, strands=strands)


def _shifted(column: Column, shift: int) -> Column:
    return replace(column, parts=tuple((strand + shift, name) for strand, name in column.parts))


def _respelt(coding: Coding, pairs: Key, right_name: str) -> bool:
    """Whether equal keys may be spelt differently in this column: 7 and 7.0."""
    number = [right for _, right in pairs].index(right_name)
    kinds = coding.columns[number].kinds
    return all(kind in NUMBERS for kind in kinds) and "decimal" in kinds


@dataclass(frozen=True)
class _Difference:
    conflicts: int
    one_sided: int
    examples: tuple[tuple[int, str, str], ...]

    @property
    def none(self) -> bool:
        return not (self.conflicts or self.one_sided)

    def shown(self) -> tuple[Example, ...]:
        return tuple(
            Example(f"result row {row + 1:,}: {ours!r} / {theirs!r}")
            for row, ours, theirs in self.examples
        )


def _compare(
    table: Table,
    here: Column,
    there: Column,
    left_rows: npt.NDArray[Any] | None,
    right_rows: npt.NDArray[Any],
) -> _Difference:
    """Compare two columns on the matched rows; examples are row, left cell, right cell."""
    conflicts = one_sided = 0
    examples: list[tuple[int, str, str]] = []
    for start, stop in table.spans():
        matched = right_rows[start:stop] >= 0
        if left_rows is not None:
            matched = matched & (left_rows[start:stop] >= 0)
        ours = pc.fill_null(as_text(table.cells(here, start, stop)), "")
        theirs = pc.fill_null(as_text(table.cells(there, start, stop)), "")
        differ = pc.not_equal(ours, theirs).to_numpy(zero_copy_only=False) & matched
        if not differ.any():
            continue
        rows = np.flatnonzero(differ)
        empty = [_empty(cells)[rows] for cells in (ours, theirs)]
        conflict = rows[~(empty[0] | empty[1])]
        conflicts += len(conflict)
        one_sided += len(rows) - len(conflict)
        for row in conflict[: MOST_EXAMPLES - len(examples)]:
            examples.append((start + int(row), ours[row].as_py(), theirs[row].as_py()))
    return _Difference(conflicts, one_sided, tuple(examples))


def _empty(cells: pa.Array) -> npt.NDArray[np.bool_]:
    empty: npt.NDArray[np.bool_] = pc.equal(cells, "").to_numpy(zero_copy_only=False)
    return empty


def _respelt_finding(right: Table, name: str, kept: str, difference: _Difference) -> Finding:
    return Finding(
        "key-respelt",
        "note",
        difference.conflicts,
        f"{counted(difference.conflicts, 'row')} matched on keys that {right.name} spells "
        f"otherwise; its spelling is kept as {kept}",
        where=f"{right.name}, column {name}",
        examples=difference.shown(),
    )


def _conflict_finding(
    left: Table, right: Table, name: str, kept: str, difference: _Difference
) -> Finding:
    return Finding(
        "source-conflict",
        "warning",
        difference.conflicts,
        f"{left.name} and {right.name} give different values for {name} on matched rows; "
        f"the second is kept as {kept}",
        "compare the two columns in the result",
        f"{right.name}, column {name}",
        difference.shown(),
    )
