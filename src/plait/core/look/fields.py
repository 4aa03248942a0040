"""The columns of a table for a page to work with: each distinct cell once, in order, and codes."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.codes.counting import count
from plait.core.look.profile import Tally, binned, by_value, typed_values
from plait.core.text.cells import as_text
from plait.core.text.digits import short_text
from plait.core.types.forms import base

Numbers = npt.NDArray[np.int64]


@dataclass(frozen=True, eq=False)
class Field:
    """A column whose cells are known by codes.

    Parameters
    ----------
    name, kind : str
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
    kind: str
    texts: pa.Array
    codes: Numbers
    value: Numbers
    literals: list[str] | None
    bins: Numbers


def field(name: str, tally: Tally, kind: str, rows: Numbers | None = None) -> Field:
    """A column of tables of one shape, over all of them.

    Parameters
    ----------
    name : str
    tally : Tally
        With codes for every row of all the tables, as of one.
    kind : str
    rows : array of int64, optional
        Some rows only.

    Examples
    --------
    >>> from plait.core.look.profile import tallied
    >>> tally = tallied([pa.chunked_array([["12.50", "7", "NA", "12.5", ""]])])
    >>> found = field("kg", tally, "decimal")
    >>> found.texts.to_pylist(), found.codes.tolist(), found.value.tolist()
    (['7', '12.50', '12.5', 'NA'], [1, 0, 3, 2, -1], [0, 1, 1, -1])
    >>> found.literals, found.bins.tolist()
    (['7', '12.5'], [0, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 2])
    """
    (codes,) = tally.codes
    assert codes is not None
    codes = codes if rows is None else codes[rows]
    counts = count(codes, len(tally.texts))
    there = np.flatnonzero(counts)
    texts, times = tally.texts.take(pa.array(there)), counts[there]
    if base(kind) in ("text", "empty"):
        order = np.argsort(-times, kind="stable")
        value, literals, bins = np.arange(len(order)), None, np.zeros(0, np.int64)
    else:
        order, value, literals, bins = _by_value(texts, times, kind)
    place = np.full(len(tally.texts) + 1, -1, np.int64)
    place[there[order]] = np.arange(len(order))
    return Field(name, kind, texts.take(pa.array(order)), place[codes], value, literals, bins)


def _by_value(
    texts: pa.Array, times: Numbers, kind: str
) -> tuple[Numbers, Numbers, list[str], Numbers]:
    """The order of the values, their numbers, how SQL writes them, and where the spread's begin."""
    values, kept = typed_values(texts, kind)
    order = by_value(values)
    ordered = values.take(pa.array(order))
    shortest = short_text if pa.types.is_decimal(ordered.type) else as_text
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
    literals = [written[place] for place in first]
    bins = _stretches(ordered.take(pa.array(first)), kind)
    value = np.concatenate([number, np.full(len(others), -1)])
    return np.concatenate([kept[order], others]), value, literals, bins


def _differ(ordered: pa.Array) -> npt.NDArray[np.bool_]:
    """Whether each value but the first is another than the one before it."""
    same = pc.equal(ordered.slice(1), ordered.slice(0, len(ordered) - 1))
    alike: npt.NDArray[np.bool_] = same.to_numpy(zero_copy_only=False)
    return ~alike


def _stretches(values: pa.Array, kind: str) -> Numbers:
    """The first value of each stretch of the spread, and how many values there are."""
    found = binned(values, kind)
    if found is None:
        return np.zeros(0, np.int64)
    place, bins = found
    inside = np.flatnonzero(place >= 0)  # infinite ones stand before and after
    if not len(inside):
        return np.zeros(0, np.int64)
    begin, end = int(inside[0]), int(inside[-1]) + 1
    return np.append(begin + np.searchsorted(place[begin:end], np.arange(bins)), end)
