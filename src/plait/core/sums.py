"""Sums of groups, exact for integers and decimals, and means."""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.errors import UsageError
from plait.core.forms import base
from plait.core.groups import Groups
from plait.core.kinds import NUMBERS, as_kind, kind_of
from plait.core.table import Table

_MOST_DIGITS = 18
_LARGEST = 9.2e18

Numbers = npt.NDArray[np.int64]


def check_numbers(table: Table, name: str, figure: str) -> str:
    """The kind of a column that must hold numbers.

    Raises
    ------
    UsageError
    """
    kind = table.column(name).kind or kind_of(table.whole(name))
    if base(kind) not in NUMBERS and kind != "empty" and not _numeric(table, name):
        raise UsageError(
            f"{name} is {kind}, and {figure} takes numbers",
            table.name,
            f"--type '{name}=decimal' --unfit missing, or another figure",
        )
    return kind


def _numeric(table: Table, name: str) -> bool:
    kind = table.whole(name).type
    tests = (pa.types.is_integer, pa.types.is_floating, pa.types.is_decimal)
    return any(test(kind) for test in tests)


def exact_sums(cells: pa.ChunkedArray, kind: str, exact: pa.DataType, groups: Groups) -> pa.Array:
    """The sum of each group as text, missing where all its cells are.

    Parameters
    ----------
    cells : pyarrow.ChunkedArray
    kind : str
        ``integer`` or ``decimal``, with a written form perhaps.
    exact : pyarrow.DataType
        In which sums are exact, as ``kinds.exact_type`` gives it.
    groups : Groups

    Returns
    -------
    pyarrow.Array
        Of text. Decimals have as many places as the longest of the column.

    Raises
    ------
    UsageError
        When a sum is too large for 64 bits.

    Examples
    --------
    >>> from plait.core.groups import grouped
    >>> cells = pa.chunked_array([["0.10", "0.2", ""]])
    >>> exact_sums(cells, "decimal", pa.decimal128(3, 2), grouped(np.array([0, 0, 1]), 2))
    <pyarrow.lib.StringArray object at ...>
    [
      "0.30",
      null
    ]
    """
    values, there, places = scaled(cells, kind, exact)
    if places is not None and _too_large(values, there, groups):
        raise UsageError("a sum is too large for 64 bits", remedy="choose another rule")
    sums, times = summed(values, there, groups)
    if places is None:
        return pa.array(sums, mask=times == 0).cast(pa.string())
    return as_decimals(sums, places, times == 0)


def means(cells: pa.ChunkedArray, kind: str, exact: pa.DataType, groups: Groups) -> pa.Array:
    """The mean of the cells that are not missing, as text of a 64-bit float."""
    values, there, places = scaled(cells, kind, exact)
    if places is not None and _too_large(values, there, groups):
        values = values.astype(np.float64)
    sums, times = summed(values, there, groups)
    sums = sums / 10 ** (places or 0)
    return pa.array(sums / np.maximum(times, 1), mask=times == 0).cast(pa.string())


def _too_large(values: Numbers, there: npt.NDArray[np.bool_], groups: Groups) -> bool:
    rough, _ = summed(values.astype(np.float64), there, groups)
    return bool(np.abs(rough).max(initial=0) > _LARGEST)


def scaled(
    cells: pa.ChunkedArray, kind: str, exact: pa.DataType
) -> tuple[npt.NDArray[Any], npt.NDArray[np.bool_], int | None]:
    """The cells as whole numbers of the smallest unit, or as floats where 64 bits do not hold them.

    Returns
    -------
    values : array of int64 or float64
        0 where there is none.
    there : array of bool
    places : int or None
        How many digits stand behind the point; ``None`` for floats.
    """
    if pa.types.is_decimal(exact) and exact.precision <= _MOST_DIGITS:
        made = _typed(cells, kind, exact)
        whole = [_shifted(chunk, exact.scale) for chunk in made.chunks]
        values = pa.chunked_array(whole, pa.int64()).fill_null(0).to_numpy()
        return values, made.is_valid().to_numpy(), exact.scale
    if pa.types.is_integer(exact):
        made = _typed(cells, kind, pa.int64())
        return made.fill_null(0).to_numpy(), made.is_valid().to_numpy(), 0
    made = _typed(cells, kind, pa.float64())
    return made.fill_null(0.0).to_numpy(), made.is_valid().to_numpy(), None


def _shifted(chunk: pa.Array, scale: int) -> pa.Array:
    """Decimals without their point: the 128-bit integers that hold them, which are short."""
    words = np.frombuffer(chunk.buffers()[1], np.int64)[2 * chunk.offset :: 2][: len(chunk)]
    return pa.array(words, mask=chunk.is_null().to_numpy(zero_copy_only=False))


def _typed(cells: pa.ChunkedArray, kind: str, to: pa.DataType) -> pa.ChunkedArray:
    if pa.types.is_floating(to):
        chunks = [as_kind(chunk, "text", pa.string()).cast(to) for chunk in cells.chunks]
    else:
        chunks = [as_kind(chunk, kind, to) for chunk in cells.chunks]
    return pa.chunked_array(chunks, to)


def summed(
    values: npt.NDArray[Any], there: npt.NDArray[np.bool_], groups: Groups
) -> tuple[npt.NDArray[Any], Numbers]:
    """Sums and numbers of values of each group."""
    if not len(groups.rows):
        return np.zeros(groups.size, values.dtype), np.zeros(groups.size, np.int64)
    begin = groups.offsets[:-1]
    inorder = np.where(there, values, 0)[groups.rows]
    sums = np.add.reduceat(inorder, begin)
    times: Numbers = np.add.reduceat(there[groups.rows].astype(np.int64), begin)
    return sums, times


def as_decimals(sums: Numbers, places: int, absent: npt.NDArray[np.bool_]) -> pa.Array:
    """Whole numbers of the smallest unit as text, with so many digits behind the point.

    >>> as_decimals(np.array([-5, 120]), 2, np.array([False, False])).to_pylist()
    ['-0.05', '1.20']
    """
    texts = pa.array(sums, mask=absent).cast(pa.string())
    if not places:
        return texts
    sign = pc.if_else(pc.starts_with(texts, "-"), "-", "")
    digits = pc.utf8_lpad(pc.utf8_ltrim(texts, "-"), places + 1, "0")
    whole = pc.utf8_slice_codeunits(digits, 0, -places)
    part = pc.utf8_slice_codeunits(digits, -places)
    return pc.binary_join_element_wise(pc.binary_join_element_wise(sign, whole, ""), part, ".")
