"""The rows and columns of a join's result."""

from __future__ import annotations

from collections.abc import Container, Iterable, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow.compute as pc

from plait.core.account.finding import MOST_EXAMPLES, Example, Finding, counted
from plait.core.account.names import distinct_name
from plait.core.codes.coding import Coding
from plait.core.keys.conflicts import Conflicts, Differing, listed_conflicts
from plait.core.keys.duplicates import key_text
from plait.core.keys.match import Matching, row_pairs
from plait.core.table.absent import value_there
from plait.core.table.keyspec import Key
from plait.core.table.leaf import Leaves, first_of
from plait.core.table.table import Column, Table
from plait.core.text.cells import as_text
from plait.core.types.kinds import NUMBERS, takes_markers

_LEAST_DIFFERING, _LEAST_SHARE = 20, 0.9
_MANY = 1 << 14  # rows from which on preparing the right columns pays

Shown = tuple[Example, ...]


@dataclass(frozen=True, eq=False)
class JoinedTable:
    """The result, what was found about columns of both tables, and where they differ."""

    table: Table
    findings: tuple[Finding, ...]
    conflicts: Conflicts | None


def joined_table(
    left: Table,
    right: Table,
    pairs: Key,
    matching: Matching,
    kind: str,
    loose: bool,
    prefer: str | None = None,
    apart: Container[str] = (),
) -> JoinedTable:
    """The result, and findings about columns that both tables have.

    Parameters
    ----------
    left, right : Table
    pairs : Key
    matching : Matching
    kind : str
        Of those that ``row_pairs`` takes.
    loose : bool
        Whether equal keys may be spelt differently.
    prefer : {"left", "right"}, optional
        Whose cells to take where both tables have a column; the other's fill its
        empty ones. Without it both columns are kept if they differ anywhere.
    apart : container of str
        Columns of the right that are no other column of the left, whatever
        their name.
    """
    left_rows, right_rows = row_pairs(matching, kind)
    here = left if left_rows is None else left.at(left_rows)
    there = (_near(right) if len(right_rows) >= _MANY else right).at(right_rows)
    shift = len(here.strands)
    theirs = {
        one.name: replace(one, leaves=there.leaves(one.name)).shifted(shift)
        for one in there.columns
    }
    both = Table(
        left.name,
        tuple(replace(column, leaves=here.leaves(column.name)) for column in here.columns),
        here.strands + there.strands,
        len(right_rows),
    )
    keyed, ours_key = both, [left_name for left_name, _ in pairs]

    columns = {column.name: column for column in both.columns}
    ours = set(columns)
    paired = {right_name: left_name for left_name, right_name in pairs}
    findings: list[Finding] = []
    differing: list[Differing] = []
    for name, column in theirs.items():
        twin = paired.get(name, name)
        same_key = name in paired
        if twin not in columns or name in apart or (not same_key and name not in ours):
            columns[_free(name, right.name, columns)] = column
            continue
        difference = _Difference(np.empty(0, np.int64), 0, 0, ())
        marked = _Marked(left, twin, right, name)
        if not same_key or loose or _respelt(matching.coding, pairs, name):
            difference = _compare(both, columns[twin], column, left_rows, right_rows, marked)
        if difference.none:
            if kind in ("right", "full"):
                columns[twin] = _followed(columns[twin], column)
            continue
        other = not prefer and not same_key and difference.of_something_else
        if len(difference.rows) and not same_key and not other:
            differing.append(Differing(name, here.column(twin), column, difference.rows))
        shown = difference.shown(keyed, ours_key)
        if prefer and not same_key:
            pair = (columns[twin], marked.here), (column, marked.there)
            columns[twin], both = _preferring(both, pair if prefer == "left" else pair[::-1], twin)
            findings += _preferred_findings(left, right, name, prefer, difference, shown)
            continue
        kept = distinct_name(f"{right.name}.{name}", columns)
        columns[kept] = column
        if same_key:
            findings.append(_respelt_finding(right, name, kept, difference, shown))
        elif other:
            findings.append(_other_finding(left, right, name, kept, difference, shown))
        elif len(difference.rows):
            findings.append(_conflict_finding(left, right, name, kept, difference, shown))
    named = tuple(replace(column, name=name) for name, column in columns.items())
    table = replace(both, columns=named, name=f"{left.name}+{right.name}")
    keyed = replace(keyed, name=table.name)
    conflicts = listed_conflicts(keyed, shift, ours_key, differing) if differing else None
    return JoinedTable(table, tuple(findings), conflicts)


@dataclass(frozen=True, eq=False)
class _Marked:
    """Whether markers for missing are no value in a column of either table.

    Asked only where cells differ: it takes a look at every cell.
    """

    left: Table
    left_name: str
    right: Table
    right_name: str

    @cached_property
    def here(self) -> bool:
        return takes_markers(self.left.kind(self.left_name))

    @cached_property
    def there(self) -> bool:
        return takes_markers(self.right.kind(self.right_name))


def _followed(first: Column, then: Column) -> Column:
    """The first column's cells, and where it has none those of the other."""
    leaves = first_of(first.leaves or (), then.leaves or ())
    return replace(first, parts=first.parts + then.parts, leaves=leaves)


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


def _preferring(
    both: Table, pair: Sequence[tuple[Column, bool]], name: str
) -> tuple[Column, Table]:
    """The cells of the first column, and where it has no value those of the second.

    Each column comes with whether markers for missing are no value in it. Where
    neither has one, the cell of the first stands as it is.
    """
    there = [np.zeros(both.rows, bool) for _ in pair]
    for span in both.spans():
        for flags, (column, marked) in zip(there, pair, strict=True):
            flags[slice(*span)] = value_there(both.cells(column, *span), marked)
    rows, (first, second) = np.arange(both.rows), (one for one, _ in pair)
    from_second = ~there[0] & there[1]
    strands = both.strands
    parts: tuple[tuple[int, str], ...] = ()
    leaves: Leaves = ()
    for column, taken in ((first, ~from_second), (second, from_second)):
        only = replace(both, columns=(replace(column, name=name),))
        moved, own = only.taking(name, np.where(taken, rows, -1))
        moved = moved.shifted(len(strands))
        parts, leaves, strands = parts + moved.parts, leaves + (moved.leaves or ()), strands + own
    kind = first.kind if first.kind == second.kind else None
    return Column(name, parts, kind, leaves=leaves), replace(both, strands=strands)


def _respelt(coding: Coding, pairs: Key, right_name: str) -> bool:
    """Whether equal keys may be spelt differently in this column: 7 and 7.0."""
    number = [right for _, right in pairs].index(right_name)
    kinds = coding.columns[number].kinds
    return all(kind in NUMBERS for kind in kinds) and "decimal" in kinds


@dataclass(frozen=True, eq=False)
class _Difference:
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
        return not (len(self.rows) or self.only_left or self.only_right)

    def shown(self, both: Table, key: Sequence[str]) -> tuple[Example, ...]:
        """The first cells that differ, with the key and both places."""
        return tuple(
            Example(f"{key_text(both, key, row)}: {ours} / {theirs}", both.places(row))
            for row, ours, theirs in self.examples
        )


def _compare(
    table: Table,
    here: Column,
    there: Column,
    left_rows: npt.NDArray[Any] | None,
    right_rows: npt.NDArray[Any],
    marked: _Marked,
) -> _Difference:
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
    return _Difference(every, only_left, only_right, tuple(examples), on_both)


def _respelt_finding(
    right: Table, name: str, kept: str, difference: _Difference, shown: Shown
) -> Finding:
    return Finding(
        "key-respelt",
        "note",
        len(difference.rows),
        f"{counted(len(difference.rows), 'row')} matched on keys that {right.name} spells "
        f"otherwise; its spelling is kept as {kept}",
        where=f"{right.name}, column {name}",
        examples=shown,
    )


def _conflict_finding(
    left: Table, right: Table, name: str, kept: str, difference: _Difference, shown: Shown
) -> Finding:
    return Finding(
        "source-conflict",
        "warning",
        len(difference.rows),
        f"{left.name} and {right.name} give different values for {name} on "
        f"{counted(len(difference.rows), 'matched row')}; the second is kept as {kept}",
        "to take one of them, and fill its gaps from the other: --prefer left, or right",
        f"{right.name}, column {name}",
        shown,
    )


def _other_finding(
    left: Table, right: Table, name: str, kept: str, difference: _Difference, shown: Shown
) -> Finding:
    share = 100 * len(difference.rows) / max(difference.on_both, 1)
    return Finding(
        "source-conflict",
        "warning",
        len(difference.rows),
        f"{name} plainly means something else in {left.name} and in {right.name}: it differs on "
        f"{share:.0f} % of {counted(difference.on_both, 'matched row')} that have both; the second "
        f"is kept as {kept}, and the rows are not listed",
        f"to leave it out: --take; to name it: --rename '{kept}={right.name} {name}'",
        f"{right.name}, column {name}",
        shown,
    )


def _preferred_findings(
    left: Table, right: Table, name: str, prefer: str, difference: _Difference, shown: Shown
) -> Iterable[Finding]:
    taken, other = (left, right) if prefer == "left" else (right, left)
    where = f"{right.name}, column {name}"
    if len(difference.rows):
        yield Finding(
            "source-conflict",
            "note",
            len(difference.rows),
            f"{left.name} and {right.name} give different values for {name} on "
            f"{counted(len(difference.rows), 'matched row')}; those of {taken.name} are taken",
            "",
            where,
            shown,
        )
    filled = difference.only_right if prefer == "left" else difference.only_left
    if filled:
        yield Finding(
            "cells-filled",
            "note",
            filled,
            f"{counted(filled, 'empty cell')} of {name} in {taken.name} filled from {other.name}",
            where=where,
        )
