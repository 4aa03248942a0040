"""The columns of a table for a page to work with: each distinct cell once, in order, and codes."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.codes.dense_codes import count_codes
from plait.core.profiling.profile import (
    ValueCounts,
    argsort_values,
    assign_bins,
    distinct_typed_values,
)
from plait.core.text.cells import to_text
from plait.core.text.decimals import format_decimal_short
from plait.core.types.column_type import ColumnType

Numbers = npt.NDArray[np.int64]


@dataclass(frozen=True, eq=False)
class FacetColumn:
    """A column whose cells are known by codes.

    Parameters
    ----------
    texts : pyarrow.Array
        Each distinct cell once: in the order of the values where the column has a type, the
        commonest first where it is text. What only counts as missing is last.
    codes : array of int64
        For each row the place of its cell in ``texts``; -1 where there is none.
    value : array of int64
        For each text the number of its value, from 0: texts of equal value have the same.
        -1 for what counts as missing.
    literals : list of str or None
        Each value as SQL writes it without quotes; ``None`` where it is the text.
    bins : array of int64
        The first value of each stretch of the spread, and the number of values at the end;
        empty where the column has no spread.
    """

    name: str
    type: ColumnType
    texts: pa.Array
    codes: Numbers
    value: Numbers
    literals: list[str] | None
    bins: Numbers


def make_facet_column(
    name: str, tally: ValueCounts, type_: ColumnType, rows: Numbers | None = None
) -> FacetColumn:
    """A column of tables of one shape, over all of them.

    Parameters
    ----------
    tally : ValueCounts
        With codes for every row of all the tables, as of one.
    rows : array of int64, optional
        Some rows only.

    Examples
    --------
    >>> from plait.core.profiling.profile import count_values
    >>> tally = count_values([pa.chunked_array([["12.50", "7", "NA", "12.5", ""]])])
    >>> found = make_facet_column("kg", tally, ColumnType("decimal"))
    >>> found.texts.to_pylist(), found.codes.tolist(), found.value.tolist()
    (['7', '12.50', '12.5', 'NA'], [1, 0, 3, 2, -1], [0, 1, 1, -1])
    >>> found.literals, found.bins.tolist()
    (['7', '12.5'], [0, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 2])
    """
    (codes,) = tally.codes
    assert codes is not None
    codes = codes if rows is None else codes[rows]
    counts = count_codes(codes, len(tally.texts))
    there = np.flatnonzero(counts)
    texts, times = tally.texts.take(pa.array(there)), counts[there]
    if type_.family in ("text", "empty"):
        order = np.argsort(-times, kind="stable")
        value, literals, bins = np.arange(len(order)), None, np.zeros(0, np.int64)
    else:
        order, value, literals, bins = _by_value(texts, times, type_)
    place = np.full(len(tally.texts) + 1, -1, np.int64)
    place[there[order]] = np.arange(len(order))
    return FacetColumn(
        name, type_, texts.take(pa.array(order)), place[codes], value, literals, bins
    )


def _by_value(
    texts: pa.Array, times: Numbers, type_: ColumnType
) -> tuple[Numbers, Numbers, list[str], Numbers]:
    """The order of the values, their numbers, how SQL writes them, and where the spread's begin."""
    values, kept = distinct_typed_values(texts, type_)
    order = argsort_values(values)
    ordered = values.take(pa.array(order))
    shortest = format_decimal_short if pa.types.is_decimal(ordered.type) else to_text
    written = shortest(ordered).to_pylist()
    changes = np.ones(len(ordered), bool)
    if len(ordered) > 1:
        changes[1:] = _differ(ordered)
    # Texts of one value stand together, the commonest first.
    number = np.cumsum(changes) - 1
    within = np.lexsort((-times[kept[order]], number))
    order, first = order[within], np.flatnonzero(changes)
    left = np.ones(len(texts), bool)
    left[kept] = False
    others = np.flatnonzero(left)
    literals = [written[f] for f in first]
    bins = _stretches(ordered.take(pa.array(first)), type_)
    value = np.concatenate([number, np.full(len(others), -1)])
    return np.concatenate([kept[order], others]), value, literals, bins


def _differ(ordered: pa.Array) -> npt.NDArray[np.bool_]:
    """Whether each value but the first is another than the one before it."""
    same = pc.equal(ordered.slice(1), ordered.slice(0, len(ordered) - 1))
    alike: npt.NDArray[np.bool_] = same.to_numpy(zero_copy_only=False)
    return ~alike


def _stretches(values: pa.Array, type_: ColumnType) -> Numbers:
    """The first value of each stretch of the spread, and how many values there are."""
    found = assign_bins(values, type_)
    if found is None:
        return np.zeros(0, np.int64)
    place, bins = found
    inside = np.flatnonzero(place >= 0)  # infinite ones stand before and after
    if not len(inside):
        return np.zeros(0, np.int64)
    begin, end = int(inside[0]), int(inside[-1]) + 1
    return np.append(begin + np.searchsorted(place[begin:end], np.arange(bins)), end)
