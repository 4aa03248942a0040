"""Figures of groups: how many, what sum, which middle, how spread, what share."""

from __future__ import annotations

from dataclasses import dataclass
from decimal import Decimal

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.aggregation.sums import (
    Counts,
    count_values,
    divide_aggregates,
    format_aggregates,
    format_aggregates_short,
    mean_groups,
    read_exact_numbers,
    sum_groups,
)
from plait.core.aggregation.survivorship import apply_rule, count_distinct_per_group
from plait.core.base.errors import UsageError
from plait.core.base.names import suggest_name
from plait.core.base.wording import Setting, wording
from plait.core.codes.dense_codes import order_of_codes
from plait.core.codes.key_codes import Flags, RowGroups, Rows, encode_keys, group_rows
from plait.core.codes.sort import dense_ranks
from plait.core.job.spill_columns import apply_in_batches
from plait.core.table.columns import has_value_mask
from plait.core.table.fragment import to_take_indices
from plait.core.table.key_spec import check_column
from plait.core.table.table import Table
from plait.core.text.decimals import DecimalOverflowError, format_decimal
from plait.core.text.hash_table import Codes
from plait.core.types import exact_numbers

WORDS = {
    "median": "middle",
    "stdev": "spread",
    "stddev": "spread",
    "min": "smallest",
    "max": "largest",
    "average": "mean",
    "avg": "mean",
}
RANK = "rank"
CHOOSING = {
    "smallest": "min",
    "largest": "max",
    "first": "first",
    "last": "last",
    "commonest": "commonest",
}
ADDING = ("sum", "mean", "middle", "spread")
COUNTING = ("count", "distinct", "share")
FIGURES = (*COUNTING, *ADDING, *CHOOSING, RANK)
_SHARE_PLACES = 10
_HALF = pa.scalar(Decimal("0.5"))


@dataclass(frozen=True)
class AggregateSpec:
    """A figure to work out: what it is called, what it is, and of which column (or of rows)."""

    name: str
    figure: str
    column: str | None


@dataclass(frozen=True, eq=False)
class AggregateColumn:
    """A figure of every group.

    Parameters
    ----------
    chosen : array of int or None
        For each group the row whose cell it is, -1 without any; or else
    made : pyarrow.Array or None
        the figures themselves.
    values : array of int
        How many cells each rests on.
    of_rows : pyarrow.Array or None
        A figure of every row, and not of the group.
    """

    chosen: Rows | None
    made: pa.Array | None
    values: Rows
    of_rows: pa.Array | None = None


def parse_aggregate(name: str, spec: str, table: Table) -> AggregateSpec:
    """Read ``mean:COLUMN``.

    Raises
    ------
    UsageError
        For a figure or column that there is not.

    Examples
    --------
    >>> from plait.core.table.table import table_from_columns
    >>> parse_aggregate("Honey", "sum:kg", table_from_columns("t", {"kg": []}))
    AggregateSpec(name='Honey', figure='sum', column='kg')
    """
    figure, sign, column = spec.partition(":")
    figure = WORDS.get(figure, figure)
    if figure not in FIGURES:
        raise UsageError(
            f"unknown figure {figure!r}",
            remedy=suggest_name(figure, (*FIGURES, *WORDS)) or f"one of {', '.join(FIGURES)}",
        )
    if sign:
        check_column(column, table)
    elif figure not in ("count", "share"):
        raise UsageError(
            f"{figure} needs a column",
            remedy=wording("write ", Setting("take", f"{figure}:COLUMN", name)),
        )
    return AggregateSpec(name, figure, column or None)


def compute_aggregate(
    table: Table, groups: RowGroups, aggregate_spec: AggregateSpec, places: int | None = None
) -> AggregateColumn:
    """A figure of every group of a table's rows.

    Parameters
    ----------
    groups : RowGroups
        Of all its rows.
    places : int, optional
        To which means, shares and spreads are rounded. Without it means have four more than their
        column, shares ten, and spreads what a float has.

    Raises
    ------
    UsageError
        For a sum, mean, middle or spread of what is no number.

    Notes
    -----
    ``middle`` is the median, of an even number of values the mean of the two in
    the middle; ``spread`` is the standard deviation of a sample (n - 1). ``rank``
    is of every row: 1 for the smallest value of its group, the same for equal ones.
    """
    if aggregate_spec.column is None:
        return _of_rows(table, groups, aggregate_spec, places)
    flags = has_value_mask(table, aggregate_spec.column)
    values = _tally(flags, groups)
    if aggregate_spec.figure == RANK:
        return AggregateColumn(
            None, None, values, _ranks(table, groups, aggregate_spec.column, flags)
        )
    if aggregate_spec.figure in CHOOSING:
        rule = CHOOSING[aggregate_spec.figure]
        return AggregateColumn(
            apply_rule(table, groups, aggregate_spec.column, rule).chosen, None, values
        )
    if aggregate_spec.figure == "count":
        return AggregateColumn(None, pa.array(values), values)
    if aggregate_spec.figure == "distinct":
        return AggregateColumn(
            None, pa.array(_distinct(table, groups, aggregate_spec.column, flags)), values
        )
    numbers = read_exact_numbers(table, aggregate_spec.column, aggregate_spec.figure)
    if aggregate_spec.figure == "middle":
        rank, size = dense_ranks(table, aggregate_spec.column, False, "the figure middle")
        return AggregateColumn(None, _middle(numbers, groups, rank, size), values)
    return AggregateColumn(None, _MAKERS[aggregate_spec.figure](numbers, groups, places), values)


def _of_rows(
    table: Table, groups: RowGroups, aggregate_spec: AggregateSpec, places: int | None
) -> AggregateColumn:
    rows = groups.counts
    if aggregate_spec.figure == "count":
        return AggregateColumn(None, pa.array(rows), rows)
    total = pa.scalar(max(table.rows, 1))
    share = exact_numbers.divide(pa.array(rows), total, _share_places(places))
    return AggregateColumn(None, format_aggregates_short(share), rows)


def _ranks(table: Table, groups: RowGroups, name: str, flags: Flags) -> pa.Array:
    """The rank of each row's value in its group: 1 for the smallest, equal ones alike."""
    rank, size = dense_ranks(table, name, False, "the figure rank")
    among = flags[groups.member_rows]
    rows, group = _in_order(
        groups.member_rows[among], groups.group_of_row[among], rank, size, groups.size
    )
    begin = np.searchsorted(group, group)
    new = np.append(True, (rank[rows][1:] != rank[rows][:-1]) | (group[1:] != group[:-1]))
    first = np.maximum.accumulate(np.where(new[: len(rows)], np.arange(len(rows)), 0))
    made = np.zeros(table.rows, np.int64)
    made[rows] = first - begin + 1
    known = np.zeros(table.rows, bool)
    known[rows] = True
    return pa.array(made, mask=~known)


def _tally(flags: Flags, groups: RowGroups) -> Rows:
    rows: Rows = np.bincount(groups.group_of_row[flags[groups.member_rows]], minlength=groups.size)
    return rows


def _distinct(table: Table, groups: RowGroups, name: str, flags: Flags) -> Rows:
    """Distinct values of each group; numbers of equal value are one."""
    coding = encode_keys([table], [[name]])
    cells = np.where(flags, coding.codes[0], -1)[groups.member_rows].astype(np.int32)
    return count_distinct_per_group(groups, cells, coding.code_count)


def _share_places(places: int | None) -> int:
    return _SHARE_PLACES if places is None else places


def _sum(numbers: pa.Array, groups: RowGroups, places: int | None) -> pa.Array:
    return format_aggregates(sum_groups(numbers, groups))


def _mean(numbers: pa.Array, groups: RowGroups, places: int | None) -> pa.Array:
    return format_aggregates_short(mean_groups(numbers, groups, places))


def _in_order(rows: Rows, group: Rows, rank: Codes, size: int, groups: int) -> tuple[Rows, Rows]:
    """Rows that stand by groups, and their groups, within each group by rank."""
    by_rank = order_of_codes(rank[rows], size + 1)
    by_rank = by_rank[order_of_codes(group[by_rank], groups)]
    return rows[by_rank], group[by_rank]


def _middle(numbers: pa.Array, groups: RowGroups, rank: Codes, size: int) -> pa.Array:
    """The value in the middle, or half way between the two there; exact where the numbers are."""
    there = numbers.is_valid().to_numpy(zero_copy_only=False)[groups.member_rows]
    rows, group = groups.member_rows[there], groups.group_of_row[there]
    inorder, _ = _in_order(rows, group, rank, size, groups.size)
    times = np.bincount(group, minlength=groups.size)
    begin = np.cumsum(times) - times
    low, high = begin + (np.maximum(times, 1) - 1) // 2, begin + times // 2
    spare = np.append(inorder, -1)

    def half_way(none: Flags, low: Rows, high: Rows) -> pa.Array:
        taken = (numbers.take(to_take_indices(np.where(none, -1, spare[at]))) for at in (low, high))
        return _half_way(*taken)

    return apply_in_batches(half_way, times == 0, low, high)


def _half_way(low: pa.Array, high: pa.Array) -> pa.Array:
    if pa.types.is_floating(low.type):
        return format_aggregates(pc.add(pc.divide(low, 2.0), pc.divide(high, 2.0)))
    texts = format_decimal(
        exact_numbers.to_decimal(exact_numbers.multiply(exact_numbers.add(low, high), _HALF))
    )
    even = pc.ends_with(texts, "0")
    return pc.utf8_rtrim(pc.if_else(even, pc.utf8_slice_codeunits(texts, 0, -1), texts), ".")


def _spread(numbers: pa.Array, groups: RowGroups, places: int | None) -> pa.Array:
    """The standard deviation of a sample: the root of an exact variance where there is room."""
    times = count_values(numbers, groups)
    try:
        if pa.types.is_floating(numbers.type):
            raise DecimalOverflowError
        away = _exact_squares(numbers, groups, times)
    except (DecimalOverflowError, UsageError):
        away = _float_squares(exact_numbers.to_float(numbers), groups, times)
    made = np.sqrt(away / np.maximum(times - 1, 1))
    if places is not None:
        made = np.round(made, places)
    return pa.array(made, mask=times < 2).cast(pa.string())


def _exact_squares(numbers: pa.Array, groups: RowGroups, times: Counts) -> npt.NDArray[np.float64]:
    """The sum of squared distances from the mean: sum of squares less square of sum by count."""
    sums = exact_numbers.narrow_decimal(sum_groups(numbers, groups))
    squared = apply_in_batches(lambda some: exact_numbers.multiply(some, some), numbers)
    squares = exact_numbers.narrow_decimal(sum_groups(squared, groups))
    whole = exact_numbers.subtract(
        exact_numbers.multiply(squares, pa.array(times)), exact_numbers.multiply(sums, sums)
    )
    made: npt.NDArray[np.float64] = exact_numbers.to_float(whole).fill_null(0.0).to_numpy()
    return made / np.maximum(times, 1)


def _float_squares(values: pa.Array, groups: RowGroups, times: Counts) -> npt.NDArray[np.float64]:
    """The same, by the mean first: no digits are lost."""
    sums = sum_groups(values, groups).fill_null(0.0).to_numpy()
    mean = sums / np.maximum(times, 1)
    distance = np.zeros(len(values))
    cells = values.fill_null(np.nan).to_numpy(zero_copy_only=False)
    with np.errstate(invalid="ignore", over="ignore"):  # infinities have no distance
        distance[groups.member_rows] = (cells[groups.member_rows] - mean[groups.group_of_row]) ** 2
    missing = values.is_null().to_numpy(zero_copy_only=False)
    away = sum_groups(pa.array(distance, mask=missing), groups)
    made: npt.NDArray[np.float64] = away.fill_null(0.0).to_numpy(zero_copy_only=False)
    return made


def _share(numbers: pa.Array, groups: RowGroups, places: int | None) -> pa.Array:
    """The part that each group's sum is of the sum of all."""
    sums = sum_groups(numbers, groups)
    row_groups = group_rows(np.where(_grouped_rows(groups, len(numbers)), 0, -1), 1)
    total = sum_groups(numbers, row_groups)
    if not len(total):
        return pa.nulls(groups.size, pa.string())
    return format_aggregates_short(divide_aggregates(sums, total[0], _share_places(places)))


def _grouped_rows(groups: RowGroups, rows: int) -> Flags:
    there = np.zeros(rows, bool)
    there[groups.member_rows] = True
    return there


_MAKERS = {"sum": _sum, "mean": _mean, "spread": _spread, "share": _share}
