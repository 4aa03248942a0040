"""Figures of groups: how many, what sum, which middle, how spread, what share."""

from __future__ import annotations

from dataclasses import dataclass
from decimal import Decimal

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.account.errors import UsageError
from plait.core.account.names import nearest
from plait.core.codes.coding import code_keys
from plait.core.codes.counting import stable_order
from plait.core.codes.groups import Flags, Groups, Rows, grouped
from plait.core.codes.order import ranks
from plait.core.figures.rules import decide, distinct_in_each
from plait.core.figures.sums import (
    Counts,
    as_cells,
    as_short_cells,
    counted,
    exact_sums,
    means,
    numbers_of,
    quotient,
)
from plait.core.store.shelf import stepwise
from plait.core.table.absent import present
from plait.core.table.keyspec import check_column
from plait.core.table.strand import arrow_rows
from plait.core.table.table import Table
from plait.core.text.digits import TooManyDigitsError, decimal_text
from plait.core.text.wordtable import Codes
from plait.core.types import exact

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
_HALF = pa.scalar(Decimal("0.5"))


@dataclass(frozen=True)
class Wanted:
    """A figure to work out: what it is called, what it is, and of which column (or of rows)."""

    name: str
    figure: str
    column: str | None


@dataclass(frozen=True, eq=False)
class Figure:
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


def wanted(name: str, spec: str, table: Table) -> Wanted:
    """Read ``mean:COLUMN``.

    Raises
    ------
    UsageError
        For a figure or column that there is not.

    Examples
    --------
    >>> from plait.core.table.table import from_columns
    >>> wanted("Honey", "sum:kg", from_columns("t", {"kg": []}))
    Wanted(name='Honey', figure='sum', column='kg')
    """
    figure, sign, column = spec.partition(":")
    figure = WORDS.get(figure, figure)
    if figure not in FIGURES:
        raise UsageError(
            f"unknown figure {figure!r}",
            remedy=nearest(figure, (*FIGURES, *WORDS)) or f"one of {', '.join(FIGURES)}",
        )
    if sign:
        check_column(column, table)
    elif figure not in ("count", "share"):
        raise UsageError(
            f"{figure} needs a column", remedy=f"write --take '{name}={figure}:COLUMN'"
        )
    return Wanted(name, figure, column or None)


def work_out(table: Table, groups: Groups, one: Wanted) -> Figure:
    """A figure of every group of a table's rows.

    Parameters
    ----------
    table : Table
    groups : Groups
        Of all its rows.
    one : Wanted

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
    if one.column is None:
        return _of_rows(table, groups, one)
    there = present(table, one.column)
    values = _tally(there, groups)
    if one.figure == RANK:
        return Figure(None, None, values, _ranks(table, groups, one.column, there))
    if one.figure in CHOOSING:
        rule = CHOOSING[one.figure]
        return Figure(decide(table, groups, one.column, rule).chosen, None, values)
    if one.figure == "count":
        return Figure(None, pa.array(values), values)
    if one.figure == "distinct":
        return Figure(None, pa.array(_distinct(table, groups, one.column, there)), values)
    numbers = numbers_of(table, one.column, one.figure)
    if one.figure == "middle":
        rank, size = ranks(table, one.column, False, "the figure middle")
        return Figure(None, _middle(numbers, groups, rank, size), values)
    return Figure(None, _MAKERS[one.figure](numbers, groups), values)


def _of_rows(table: Table, groups: Groups, one: Wanted) -> Figure:
    rows = groups.counts
    if one.figure == "count":
        return Figure(None, pa.array(rows), rows)
    share = exact.divide(pa.array(rows), pa.scalar(max(table.rows, 1)))
    return Figure(None, as_short_cells(share), rows)


def _ranks(table: Table, groups: Groups, name: str, there: Flags) -> pa.Array:
    """The rank of each row's value in its group: 1 for the smallest, equal ones alike."""
    rank, size = ranks(table, name, False, "the figure rank")
    among = there[groups.rows]
    rows, group = _in_order(groups.rows[among], groups.group[among], rank, size, groups.size)
    begin = np.searchsorted(group, group)
    new = np.append(True, (rank[rows][1:] != rank[rows][:-1]) | (group[1:] != group[:-1]))
    first = np.maximum.accumulate(np.where(new[: len(rows)], np.arange(len(rows)), 0))
    made = np.zeros(table.rows, np.int64)
    made[rows] = first - begin + 1
    known = np.zeros(table.rows, bool)
    known[rows] = True
    return pa.array(made, mask=~known)


def _tally(flags: Flags, groups: Groups) -> Rows:
    made: Rows = np.bincount(groups.group[flags[groups.rows]], minlength=groups.size)
    return made


def _distinct(table: Table, groups: Groups, name: str, there: Flags) -> Rows:
    """Distinct values of each group; numbers of equal value are one."""
    coding = code_keys([table], [[name]])
    cells = np.where(there, coding.codes[0], -1)[groups.rows].astype(np.int32)
    return distinct_in_each(groups, cells, coding.size)


def _sum(numbers: pa.Array, groups: Groups) -> pa.Array:
    return as_cells(exact_sums(numbers, groups))


def _mean(numbers: pa.Array, groups: Groups) -> pa.Array:
    return as_short_cells(means(numbers, groups))


def _in_order(rows: Rows, group: Rows, rank: Codes, size: int, groups: int) -> tuple[Rows, Rows]:
    """Rows that stand by groups, and their groups, within each group by rank."""
    by_rank = stable_order(rank[rows], size + 1)
    by_rank = by_rank[stable_order(group[by_rank], groups)]
    return rows[by_rank], group[by_rank]


def _middle(numbers: pa.Array, groups: Groups, rank: Codes, size: int) -> pa.Array:
    """The value in the middle, or half way between the two there; exact where the numbers are."""
    there = numbers.is_valid().to_numpy(zero_copy_only=False)[groups.rows]
    rows, group = groups.rows[there], groups.group[there]
    inorder, _ = _in_order(rows, group, rank, size, groups.size)
    times = np.bincount(group, minlength=groups.size)
    begin = np.cumsum(times) - times
    low, high = begin + (np.maximum(times, 1) - 1) // 2, begin + times // 2
    spare = np.append(inorder, -1)

    def half_way(none: Flags, low: Rows, high: Rows) -> pa.Array:
        taken = (numbers.take(arrow_rows(np.where(none, -1, spare[at]))) for at in (low, high))
        return _half_way(*taken)

    return stepwise(half_way, times == 0, low, high)


def _half_way(low: pa.Array, high: pa.Array) -> pa.Array:
    if pa.types.is_floating(low.type):
        return as_cells(pc.add(pc.divide(low, 2.0), pc.divide(high, 2.0)))
    texts = decimal_text(exact.as_decimal(exact.multiply(exact.add(low, high), _HALF)))
    even = pc.ends_with(texts, "0")
    return pc.utf8_rtrim(pc.if_else(even, pc.utf8_slice_codeunits(texts, 0, -1), texts), ".")


def _spread(numbers: pa.Array, groups: Groups) -> pa.Array:
    """The standard deviation of a sample: the root of an exact variance where there is room."""
    times = counted(numbers, groups)
    try:
        if pa.types.is_floating(numbers.type):
            raise TooManyDigitsError
        away = _exact_squares(numbers, groups, times)
    except (TooManyDigitsError, UsageError):
        away = _float_squares(exact.to_float(numbers), groups, times)
    made = np.sqrt(away / np.maximum(times - 1, 1))
    return pa.array(made, mask=times < 2).cast(pa.string())


def _exact_squares(numbers: pa.Array, groups: Groups, times: Counts) -> npt.NDArray[np.float64]:
    """The sum of squared distances from the mean: sum of squares less square of sum by count."""
    sums = exact.narrowed(exact_sums(numbers, groups))
    squared = stepwise(lambda some: exact.multiply(some, some), numbers)
    squares = exact.narrowed(exact_sums(squared, groups))
    whole = exact.subtract(exact.multiply(squares, pa.array(times)), exact.multiply(sums, sums))
    made: npt.NDArray[np.float64] = exact.to_float(whole).fill_null(0.0).to_numpy()
    return made / np.maximum(times, 1)


def _float_squares(values: pa.Array, groups: Groups, times: Counts) -> npt.NDArray[np.float64]:
    """The same, by the mean first: no digits are lost."""
    sums = exact_sums(values, groups).fill_null(0.0).to_numpy()
    mean = sums / np.maximum(times, 1)
    distance = np.zeros(len(values))
    cells = values.fill_null(np.nan).to_numpy(zero_copy_only=False)
    with np.errstate(invalid="ignore", over="ignore"):  # infinities have no distance
        distance[groups.rows] = (cells[groups.rows] - mean[groups.group]) ** 2
    missing = values.is_null().to_numpy(zero_copy_only=False)
    away = exact_sums(pa.array(distance, mask=missing), groups)
    made: npt.NDArray[np.float64] = away.fill_null(0.0).to_numpy(zero_copy_only=False)
    return made


def _share(numbers: pa.Array, groups: Groups) -> pa.Array:
    """The part that each group's sum is of the sum of all."""
    sums = exact_sums(numbers, groups)
    every = grouped(np.where(_grouped_rows(groups, len(numbers)), 0, -1), 1)
    total = exact_sums(numbers, every)
    if not len(total):
        return pa.nulls(groups.size, pa.string())
    return as_short_cells(quotient(sums, total[0]))


def _grouped_rows(groups: Groups, rows: int) -> Flags:
    there = np.zeros(rows, bool)
    there[groups.rows] = True
    return there


_MAKERS = {"sum": _sum, "mean": _mean, "spread": _spread, "share": _share}
