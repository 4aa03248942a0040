"""Sums of groups, exact for integers and decimals of any length, and means."""

from __future__ import annotations

from functools import partial
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.base.errors import UsageError
from plait.core.base.wording import Setting, wording
from plait.core.codes.key_codes import RowGroups
from plait.core.codes.sort import count_numeric_texts
from plait.core.job.spill_columns import (
    apply_in_batches,
    build_column,
    combine_column_chunks,
    fill_in_batches,
)
from plait.core.table.table import Table
from plait.core.text.cells import is_text_type
from plait.core.text.decimals import (
    MOST_DIGITS,
    DecimalOverflowError,
    format_decimal,
    format_decimal_short,
    to_arithmetic_type,
)
from plait.core.types import exact_numbers
from plait.core.types.column_type import EMPTY, TEXT, ColumnType
from plait.core.types.inference import exact_arrow_type, parse_column

_LIMB = np.int64(0xFFFFFFFF)
_LIMB_BITS = 32
_LARGEST = 2.0**62
_MORE_PLACES = 4

Counts = npt.NDArray[np.int64]


def require_numeric(table: Table, name: str, figure: str) -> ColumnType:
    """The type of a column that must hold numbers.

    Raises
    ------
    UsageError
    """
    cells = table.chunks(name)
    type_ = table.column_type(name)
    if not (type_.is_number or type_ == EMPTY or exact_numbers.is_number(cells.type)):
        text = count_numeric_texts(table, name) if type_ == TEXT else ""
        raise UsageError(
            f"{name} is {type_}, and {figure} takes numbers{': ' * bool(text)}{text}",
            table.name,
            wording(
                Setting("type", "decimal", name), Setting("unfit", "missing"), ", or another figure"
            ),
        )
    return type_


def read_exact_numbers(table: Table, name: str, figure: str) -> pa.Array:
    """The numbers of a column, exact unless its source has floats: int64, a decimal, float64.

    Raises
    ------
    UsageError
        For a column of what is no number.

    Examples
    --------
    >>> from plait.core.table.table import table_from_columns
    >>> kg = table_from_columns("t", {"kg": ["0.10", "", "NA"]})
    >>> read_exact_numbers(kg, "kg", "sum").to_pylist()
    [Decimal('0.10'), None, None]
    """
    type_ = require_numeric(table, name, figure)
    cells = table.chunks(name)
    if type_ == EMPTY:
        return pa.nulls(table.rows, pa.int64())
    to = exact_arrow_type(type_, cells)
    return to_arithmetic_type(
        combine_column_chunks(
            build_column((parse_column(chunk, type_, to) for chunk in cells.chunks), to)
        )
    )


def sum_groups(values: pa.Array, groups: RowGroups) -> pa.Array:
    """The sum of each group; missing where all its values are.

    Parameters
    ----------
    values : pyarrow.Array
        One a row, as ``read_exact_numbers`` gives them.

    Returns
    -------
    pyarrow.Array
        Decimals with as many places as the values, or floats.

    Raises
    ------
    UsageError
        When a sum needs more than 76 digits.

    Notes
    -----
    Values of more than 62 bits are cut into limbs of 32 bits, each of which is
    summed by itself, and the carries brought on afterwards (Knuth vol. 2,
    section 4.3.1).

    Examples
    --------
    >>> from plait.core.codes.key_codes import group_rows
    >>> cells = exact_numbers.parse_decimals(pa.array(["99999999999999", "0.5", "0.000001", None]))
    >>> sum_groups(cells, group_rows(np.array([0, 0, 0, 1]), 2)).to_pylist()
    [Decimal('99999999999999.500001'), None]
    """
    times = count_values(values, groups)
    if pa.types.is_floating(values.type):
        sums = _added(_plain_numbers(values), groups)
        return pa.array(sums, mask=times == 0)
    scale = 0 if pa.types.is_integer(values.type) else values.type.scale
    words = _words(_limbs(values), groups)
    made = apply_in_batches(lambda some: exact_numbers.decimals_from_words(some, scale), words)
    _check_size(made)
    nothing = pa.scalar(None, made.type)
    return apply_in_batches(
        lambda some, no: pc.if_else(pa.array(no), nothing, some), made, times == 0
    )


def _plain_numbers(values: pa.Array) -> npt.NDArray[Any]:
    """Integers or floats of 64 bits as NumPy has them, 0 for those that are missing."""
    kind = np.int64 if pa.types.is_integer(values.type) else np.float64
    if values.type.bit_width != 64 or values.buffers()[1] is None:
        return np.asarray(values.fill_null(0).to_numpy(zero_copy_only=False))
    stored = np.frombuffer(values.buffers()[1], kind, len(values), values.offset * 8)
    if not values.null_count:
        return stored
    valid = values.is_valid().to_numpy(zero_copy_only=False)
    return fill_in_batches(
        np.empty(len(stored), kind), lambda a, there: np.where(there, a, 0), stored, valid
    )


def count_values(values: pa.Array, groups: RowGroups) -> Counts:
    """How many values there are in each group."""
    if not values.null_count or not len(groups.member_rows):
        return groups.counts.astype(np.int64, copy=False)
    there = values.is_valid().to_numpy(zero_copy_only=False).take(groups.member_rows)
    times: Counts = np.add.reduceat(there, groups.offsets[:-1], dtype=np.int64)
    return times


def _added(values: npt.NDArray[Any], groups: RowGroups) -> npt.NDArray[Any]:
    if not len(groups.member_rows):
        return np.zeros(groups.size, values.dtype)
    sums: npt.NDArray[Any] = np.add.reduceat(values[groups.member_rows], groups.offsets[:-1])
    return sums


def _limbs(values: pa.Array) -> list[npt.NDArray[np.int64]]:
    """The values as whole numbers of their smallest unit: one limb, or several of 32 bits."""
    words = _stored_words(values)
    highest = words[:, -1]
    if words.shape[1] == 1 and np.abs(highest.astype(np.float64)).sum() < _LARGEST:
        return [highest]
    limbs = []
    for number in range(words.shape[1]):
        word = words[:, number]
        limbs += [word & _LIMB, (word >> _LIMB_BITS) & _LIMB]
    limbs[-1] = highest >> _LIMB_BITS  # only the highest has a sign
    return limbs


def _stored_words(values: pa.Array) -> npt.NDArray[np.int64]:
    """The 64-bit words of each value, the lowest first; 0 for one that is missing."""
    if pa.types.is_integer(values.type):
        return _plain_numbers(values).reshape(-1, 1)
    size = values.type.bit_width // 64
    stored = np.frombuffer(values.buffers()[1], np.int64).reshape(-1, size)
    words = stored[values.offset : values.offset + len(values)]
    if values.null_count:
        words = np.where(values.is_valid().to_numpy(zero_copy_only=False)[:, None], words, 0)
    short = words[:, :1]
    # Most decimals are short: what they have above the first word is their sign.
    return short if size > 1 and (words[:, 1:] == short >> np.int64(63)).all() else words


def _words(limbs: list[npt.NDArray[np.int64]], groups: RowGroups) -> npt.NDArray[np.int64]:
    """The sums of each group, as words."""
    if len(limbs) == 1:
        low = _added(limbs[0], groups)
        return np.column_stack([low, low >> np.int64(63)])
    made = np.zeros((groups.size, 8), np.int64)
    carry = np.zeros(groups.size, np.int64)
    for number in range(8):
        total = carry + (_added(limbs[number], groups) if number < len(limbs) else 0)
        made[:, number] = total & _LIMB
        carry = total >> _LIMB_BITS
    low, high = made[:, ::2].astype(np.uint64), made[:, 1::2].astype(np.uint64)
    words: npt.NDArray[np.int64] = (low | (high << np.uint64(_LIMB_BITS))).view(np.int64)
    return words


def _check_size(sums: pa.Array) -> None:
    if sums.type.bit_width == 256 and len(sums):
        try:
            exact_numbers.narrow_decimal(sums)
        except (DecimalOverflowError, pa.ArrowInvalid):
            raise UsageError(
                f"a sum has more than {MOST_DIGITS} digits", remedy="choose another rule"
            ) from None


def mean_groups(values: pa.Array, groups: RowGroups, places: int | None = None) -> pa.Array:
    """The mean of the values of each group; missing without any.

    Parameters
    ----------
    places : int, optional
        To which it is rounded. Without it four more than the values have: a mean of 300 weighings
        to a hundredth says no more than that.

    >>> from plait.core.codes.key_codes import group_rows
    >>> cells = exact_numbers.parse_decimals(pa.array(["0.1", "0.2", "0.3"]))
    >>> mean_groups(cells, group_rows(np.array([0, 0, 0]), 1)).to_pylist()
    [Decimal('0.20000')]
    """
    if places is None:
        scale = values.type.scale if pa.types.is_decimal(values.type) else 0
        places = min(scale + _MORE_PLACES, exact_numbers.PLACES)
    counts = pa.array(count_values(values, groups))
    return divide_aggregates(sum_groups(values, groups), counts, places)


def divide_aggregates(left: pa.Array, right: Any, places: int) -> pa.Array:
    """A quotient of figures, rounded to so many places.

    Raises
    ------
    UsageError
        When it needs more digits than there are.
    """
    try:
        return _divided(left, right, places)
    except DecimalOverflowError:
        raise UsageError(
            f"a figure needs more than {MOST_DIGITS} digits", remedy="choose another figure"
        ) from None


def _divided(left: pa.Array, right: Any, places: int) -> pa.Array:
    divide = partial(exact_numbers.divide, places=places)
    if isinstance(right, pa.Scalar):
        return apply_in_batches(lambda some: divide(some, right), left)
    return apply_in_batches(divide, left, right)


def format_aggregates(values: pa.Array) -> pa.Array:
    """Figures as text: decimals with all their places, floats as short as they can be read back."""
    return apply_in_batches(format_decimal if pa.types.is_decimal(values.type) else _short, values)


def format_aggregates_short(values: pa.Array) -> pa.Array:
    """The same, without zeros at the end of the places."""
    return apply_in_batches(
        format_decimal_short if pa.types.is_decimal(values.type) else _short, values
    )


def _short(values: pa.Array) -> pa.Array:
    return values if is_text_type(values.type) else values.cast(pa.string())
