"""Rules that decide, for the rows of one key, which cell of a column is kept."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.aggregation.sums import (
    format_aggregates,
    format_aggregates_short,
    mean_groups,
    read_exact_numbers,
    sum_groups,
)
from plait.core.base.errors import UsageError
from plait.core.base.names import suggest_name
from plait.core.codes.dense_codes import combine_codes, count_codes, gather_by_code
from plait.core.codes.key_codes import Flags, RowGroups, Rows, encode_keys
from plait.core.codes.sort import dense_ranks
from plait.core.table.key_spec import check_column
from plait.core.table.table import Table
from plait.core.text.hash_table import Codes

CHOOSING = ("agree", "first", "last", "min", "max", "longest", "commonest")
MAKING = ("sum", "mean")
BY = ("newest-by", "oldest-by")
WHOLE = ("first", "last", "fullest")


@dataclass(frozen=True)
class RuleDecision:
    """What the rule of a column decided, in keys.

    Parameters
    ----------
    differing : int
        Keys whose cells in this column are not all the same.
    decided : int
        Those of them that got a cell all the same; the others are in conflict.
    """

    column: str
    rule: str
    differing: int
    decided: int


@dataclass(frozen=True, eq=False)
class RuleOutcome:
    """What a rule made of a column.

    Parameters
    ----------
    chosen : array of int
        For each group the row whose cell is taken; -1 where all are missing.
    differing : array of bool
        Groups whose cells are not all the same, a missing one beside a value
        included.
    conflict : array of bool
        Groups that the rule cannot decide.
    made : pyarrow.Array or None
        Instead of ``chosen``, the cells themselves: sums and means.
    """

    chosen: Rows
    differing: Flags
    conflict: Flags
    made: pa.Array | None = None


def parse_rule(rule: str, table: Table, whole: bool = False) -> str:
    """The rule, once it is known to be one.

    Raises
    ------
    UsageError
        With the nearest right word, or the columns there are.
    """
    known = WHOLE if whole else (*CHOOSING, *MAKING)
    word, _, column = rule.partition(":")
    if word in BY and column:
        check_column(column, table)
    elif rule not in known:
        shown = [*known, *(f"{by}:COLUMN" for by in BY)]
        raise UsageError(
            f"unknown rule {rule!r}",
            remedy=suggest_name(rule, shown) or f"one of {', '.join(shown)}",
        )
    return rule


def deciding_column(rule: str) -> str | None:
    """The column that a rule goes by, if it goes by another.

    >>> deciding_column("newest-by:updated"), deciding_column("max")
    ('updated', None)
    """
    word, _, column = rule.partition(":")
    return column if word in BY and column else None


def apply_rule(table: Table, groups: RowGroups, name: str, rule: str) -> RuleOutcome:
    """Apply a rule to a column.

    Parameters
    ----------
    groups : RowGroups
        Of the table's rows.
    rule : str
        One that ``parse_rule`` passes. A missing cell is never chosen where
        there is another.

    Raises
    ------
    UsageError
        For sums and means of what is no number.
    """
    codes, size = encode_values(table, name)
    cells = codes[groups.member_rows]
    present = cells >= 0
    differing = _several(groups, np.where(present, cells, size))
    nothing = np.zeros(groups.size, bool)
    if rule in MAKING:
        made = _computed(table, groups, name, rule)
        return RuleOutcome(groups.first_row(present), differing, nothing, made)
    chosen = groups.first_row(present, _rank(table, groups, name, rule, cells, size))
    conflict = nothing
    if rule == "agree":
        conflict = _several(groups, cells)
    return RuleOutcome(chosen, differing, conflict)


def choose_whole_rows(table: Table, groups: RowGroups, rule: str) -> Rows:
    """For each group the row that is kept whole.

    Raises
    ------
    UsageError
        For a column to go by that is not there.
    """
    every = np.ones(len(groups.member_rows), bool)
    if rule == "fullest":
        missing = np.zeros(table.rows, np.int64)
        for name in table.column_names:
            missing += encode_values(table, name)[0] < 0
        return groups.first_row(every, missing[groups.member_rows])
    return groups.first_row(every, _position(table, groups, rule))


def encode_values(table: Table, name: str) -> tuple[Codes, int]:
    """A code for each value of a column; -1 where it is missing. Equal numbers have one.

    >>> from plait.core.table.table import table_from_columns
    >>> encode_values(table_from_columns("t", {"kg": ["7", "7.0", "NA", ""]}), "kg")[0].tolist()
    [0, 0, -1, -1]
    """
    coding = encode_keys([table], [[name]])
    return coding.codes[0], coding.code_count


def count_distinct_per_group(groups: RowGroups, cells: Codes, size: int) -> Rows:
    """How many distinct cells each group has; -1 is none."""
    (pairs,), both = combine_codes(
        [groups.group_of_row.astype(np.int32)], groups.size, [cells], size
    )
    first = np.full(both + 1, -1, np.int64)
    first[pairs] = groups.group_of_row
    times: Rows = np.bincount(first[:both], minlength=groups.size)
    return times


def _several(groups: RowGroups, cells: Codes) -> Flags:
    """Groups with more than one distinct cell, which is one that the first is not; -1 is none."""
    there = np.flatnonzero(cells >= 0)
    group, cells = groups.group_of_row[there], cells[there]
    first = np.zeros(groups.size, cells.dtype)
    first[group[::-1]] = cells[::-1]
    several = np.zeros(groups.size, bool)
    several[group[first[group] != cells]] = True
    return several


def _rank(
    table: Table, groups: RowGroups, name: str, rule: str, cells: Codes, size: int
) -> Rows | None:
    """The rank by which a row is chosen; the least wins."""
    makers: dict[str, Callable[[], Rows]] = {
        "min": lambda: dense_ranks(table, name, False, "the rule min")[0][groups.member_rows],
        "max": lambda: dense_ranks(table, name, True, "the rule max")[0][groups.member_rows],
        "longest": lambda: _by_length(table, name)[groups.member_rows],
        "commonest": lambda: _by_count(groups, cells, size),
    }
    return makers[rule]() if rule in makers else _position(table, groups, rule)


def _position(table: Table, groups: RowGroups, rule: str) -> Rows | None:
    """First, last, or by another column: newest-by takes its greatest value."""
    if rule in ("first", "agree"):
        return None
    if rule == "last":
        return np.arange(len(groups.member_rows))[::-1]
    word, _, column = rule.partition(":")
    by: Rows = dense_ranks(table, column, word == "newest-by", f"the rule {rule}")[0]
    return by[groups.member_rows]


def _by_length(table: Table, name: str) -> Rows:
    lengths = [pc.fill_null(pc.utf8_length(c.cast(pa.string())), 0) for c in _chunks(table, name)]
    found: Any = pa.chunked_array(lengths, pa.int32()).to_numpy()
    longest: Rows = found.max(initial=0) - found.astype(np.int64)
    return longest


def _chunks(table: Table, name: str) -> list[pa.Array]:
    return list(table.chunks(name).chunks)


def _by_count(groups: RowGroups, cells: Codes, size: int) -> Rows:
    """How much more often than this cell the commonest of all stands."""
    (pairs,), both = combine_codes(
        [groups.group_of_row.astype(np.int32)], groups.size, [cells], size
    )
    times = gather_by_code(count_codes(pairs, both), pairs, 0)
    rank: Rows = times.max(initial=0) - times
    return rank


def _computed(table: Table, groups: RowGroups, name: str, rule: str) -> pa.Array:
    """Sums or means of each group, as text."""
    numbers = read_exact_numbers(table, name, rule)
    if rule == "sum":
        return format_aggregates(sum_groups(numbers, groups))
    return format_aggregates_short(mean_groups(numbers, groups))
