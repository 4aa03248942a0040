"""Figures of groups: how many, what sum, which middle, how spread, what share."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.coding import code_keys
from plait.core.errors import UsageError
from plait.core.groups import Flags, Groups, Rows
from plait.core.keyspec import check_column
from plait.core.kinds import MARKERS, exact_type, kind_of, takes_markers
from plait.core.names import nearest
from plait.core.rules import decide, distinct_in_each
from plait.core.sums import as_decimals, check_numbers, scaled, summed
from plait.core.table import Table
from plait.core.text import as_text

CHOOSING = {
    "smallest": "min",
    "largest": "max",
    "first": "first",
    "last": "last",
    "commonest": "commonest",
}
ADDING = ("sum", "mean", "middle", "spread")
COUNTING = ("count", "distinct", "share")
FIGURES = (*COUNTING, *ADDING, *CHOOSING)
_SAFE = 9 * 10**17


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
    """

    chosen: Rows | None
    made: pa.Array | None
    values: Rows


def wanted(name: str, spec: str, table: Table) -> Wanted:
    """Read ``mean:COLUMN``.

    Raises
    ------
    UsageError
        For a figure or column that there is not.

    Examples
    --------
    >>> from plait.core.table import from_columns
    >>> wanted("Honey", "sum:kg", from_columns("t", {"kg": []}))
    Wanted(name='Honey', figure='sum', column='kg')
    """
    figure, sign, column = spec.partition(":")
    if figure not in FIGURES:
        raise UsageError(
            f"there is no figure {figure!r}",
            remedy=nearest(figure, FIGURES) or f"one of {', '.join(FIGURES)}",
        )
    if sign:
        check_column(column, table)
    elif figure not in ("count", "share"):
        raise UsageError(f"{figure} of what?", remedy=f"write --take '{name}={figure}:COLUMN'")
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
    the middle; ``spread`` is the standard deviation of a sample (n - 1).
    """
    if one.column is None:
        rows = groups.counts
        made = rows if one.figure == "count" else rows / max(table.rows, 1)
        return Figure(None, pa.array(made), rows)
    there = present(table, one.column)
    values = _tally(there, groups)
    if one.figure in CHOOSING:
        rule = CHOOSING[one.figure]
        return Figure(decide(table, groups, one.column, rule).chosen, None, values)
    if one.figure == "count":
        return Figure(None, pa.array(values), values)
    if one.figure == "distinct":
        return Figure(None, pa.array(_distinct(table, groups, one.column, there)), values)
    if one.figure in ("sum", "mean"):
        check_numbers(table, one.column, one.figure)
        return Figure(None, decide(table, groups, one.column, one.figure).made, values)
    cells, found, places = numbers_of(table, one.column, one.figure)
    makers = {"middle": _middle, "spread": _spread, "share": _share}
    return Figure(None, makers[one.figure](cells, found, places, groups), values)


def present(table: Table, name: str) -> Flags:
    """Whether there is a value in a column on each row; markers among numbers are none."""
    cells = table.whole(name)
    marked = takes_markers(table.column(name).kind or kind_of(cells))

    def there(chunk: pa.Array) -> pa.Array:
        texts = as_text(chunk)
        found = pc.fill_null(pc.not_equal(texts, ""), False)
        if marked:
            found = pc.and_not(found, pc.is_in(texts, pa.array(MARKERS, texts.type)))
        return found

    chunks = [there(chunk) for chunk in cells.chunks]
    flags: Flags = pa.chunked_array(chunks, pa.bool_()).to_numpy()
    return flags


def numbers_of(table: Table, name: str, figure: str) -> tuple[npt.NDArray[Any], Flags, int | None]:
    """The numbers of a column, as ``scaled`` gives them."""
    kind = check_numbers(table, name, figure)
    cells = table.whole(name)
    if kind == "empty":
        return np.zeros(table.rows), np.zeros(table.rows, bool), None
    return scaled(cells, kind, exact_type(kind, cells))


def _tally(flags: Flags, groups: Groups) -> Rows:
    made: Rows = np.bincount(groups.group[flags[groups.rows]], minlength=groups.size)
    return made


def _distinct(table: Table, groups: Groups, name: str, there: Flags) -> Rows:
    """Distinct values of each group; numbers of equal value are one."""
    coding = code_keys([table], [[name]])
    cells = np.where(there, coding.codes[0], -1)[groups.rows].astype(np.int32)
    return distinct_in_each(groups, cells, coding.size)


def _middle(cells: npt.NDArray[Any], there: Flags, places: int | None, groups: Groups) -> pa.Array:
    """The value in the middle, exact where the numbers are."""
    at = there[groups.rows]
    group, values = groups.group[at], cells[groups.rows[at]]
    values = values[np.lexsort((values, group))]
    times = np.bincount(group, minlength=groups.size)
    begin = np.cumsum(times) - times
    absent = times == 0
    last = max(len(values) - 1, 0)
    values = values if len(values) else np.zeros(1, cells.dtype)
    low = values[np.minimum(begin + (np.maximum(times, 1) - 1) // 2, last)]
    high = values[np.minimum(begin + times // 2, last)]
    if places is None or np.abs(values).max() > _SAFE:
        scale = 1 if places is None else 10.0**places
        return pa.array((low / scale + high / scale) / 2, mask=absent).cast(pa.string())
    both = low + high
    even = as_decimals(both // 2, places, absent)
    return pc.if_else(pa.array(both % 2 == 0), even, as_decimals(both * 5, places + 1, absent))


def _spread(cells: npt.NDArray[Any], there: Flags, places: int | None, groups: Groups) -> pa.Array:
    """The standard deviation of a sample, by the mean first: no digits are lost."""
    values = cells / 10.0 ** (places or 0)
    sums, times = summed(values, there, groups)
    mean = sums / np.maximum(times, 1)
    away = np.zeros(len(values))
    away[groups.rows] = (values[groups.rows] - mean[groups.group]) ** 2
    squares, _ = summed(away, there, groups)
    made = np.sqrt(squares / np.maximum(times - 1, 1))
    return pa.array(made, mask=times < 2).cast(pa.string())


def _share(cells: npt.NDArray[Any], there: Flags, places: int | None, groups: Groups) -> pa.Array:
    """The part that each group's sum is of the sum of all."""
    sums, times = summed(cells, there, groups)
    total = sums.sum()
    made = sums / total if total else np.zeros(len(sums))
    return pa.array(made, mask=(times == 0) | (total == 0))
