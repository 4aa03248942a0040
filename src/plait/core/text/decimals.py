"""Decimals as the digits that they are written with: how many, and where the point stands."""

from __future__ import annotations

from typing import Any, TypeAlias

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

Value: TypeAlias = Any  # a pyarrow.Array or a pyarrow.Scalar

MOST_DIGITS = 76
NARROW_DIGITS = 38
_DIGITS_OF_64_BITS, _HALVES = 18, 2
_WHOLE = pa.int64()
_FLOAT = pa.float64()


class DecimalOverflowError(Exception):
    """A result needs more digits than a number may have."""

    def __init__(self) -> None:
        super().__init__(f"a result needs more than {MOST_DIGITS} digits")


def smallest_decimal_type(precision: int, scale: int) -> pa.DataType:
    """The narrowest type that holds so many digits, so many of them behind the point.

    Raises
    ------
    DecimalOverflowError

    Examples
    --------
    >>> smallest_decimal_type(5, 2), smallest_decimal_type(40, 2)
    (Decimal128Type(decimal128(5, 2)), Decimal256Type(decimal256(40, 2)))
    """
    precision = max(precision, scale, 1)
    if precision > MOST_DIGITS:
        raise DecimalOverflowError
    make = pa.decimal128 if precision <= NARROW_DIGITS else pa.decimal256
    return make(precision, scale)


def to_arithmetic_type(value: Value) -> Value:
    """A number in one of the types that are reckoned with: int64, a decimal, a 64-bit float.

    >>> to_arithmetic_type(pa.scalar(7, pa.uint8())).type
    DataType(int64)
    """
    kind = value.type
    if pa.types.is_floating(kind):
        return value if kind == _FLOAT else value.cast(_FLOAT)
    if pa.types.is_decimal(kind):
        return value if kind.bit_width >= 128 else value.cast(smallest_decimal_type(38, kind.scale))
    if kind == pa.uint64():
        return value.cast(smallest_decimal_type(20, 0))
    return value if kind == _WHOLE else value.cast(_WHOLE)


def scaled_int64(array: pa.Array) -> npt.NDArray[np.int64] | None:
    """Decimals as whole numbers of their smallest unit, without a copy of them.

    Returns
    -------
    array of int64 or None
        ``None`` where more than 18 digits are allowed for, or a value is missing.

    Examples
    --------
    >>> from decimal import Decimal
    >>> cells = pa.array([Decimal("-2.50"), Decimal("1.25")], pa.decimal128(9, 2))
    >>> scaled_int64(cells).tolist(), scaled_int64(cells.cast(pa.decimal128(20, 2)))
    ([-250, 125], None)
    """
    kind = array.type
    if not pa.types.is_decimal(kind) or kind.precision > _DIGITS_OF_64_BITS or array.null_count:
        return None
    if not len(array):
        return np.zeros(0, np.int64)
    if kind.bit_width != _HALVES * 64:
        array = array.cast(pa.decimal128(kind.precision, kind.scale))
    halves = np.frombuffer(array.buffers()[1], "<i8")
    halves = halves[_HALVES * array.offset : _HALVES * (array.offset + len(array))]
    lower: npt.NDArray[np.int64] = halves[::_HALVES]
    # A file may claim fewer digits than its values have.
    return lower if (halves[1::_HALVES] == lower >> 63).all() else None


def to_scaled_integers(array: pa.Array) -> pa.Array:
    """Decimals as whole numbers of their smallest unit: the same digits without the point.

    >>> from decimal import Decimal
    >>> to_scaled_integers(pa.array([Decimal("-2.50")])).to_pylist()
    [Decimal('-250')]
    """
    array = to_arithmetic_type(array)
    precision = array.type.precision
    whole = (
        smallest_decimal_type(precision, 0)
        if array.type.bit_width == 128
        else pa.decimal256(precision, 0)
    )
    return pa.Array.from_buffers(whole, len(array), array.buffers(), offset=array.offset)


def format_decimal(array: pa.Array) -> pa.Array:
    """Decimals as text, with all their places and never with an exponent.

    >>> from decimal import Decimal
    >>> format_decimal(pa.array([Decimal("0.00000001"), Decimal("-2.5")])).to_pylist()
    ['0.00000001', '-2.50000000']
    """
    return format_scaled_integer(to_scaled_integers(array).cast(pa.string()), array.type.scale)


def format_scaled_integer(texts: pa.Array, places: int) -> pa.Array:
    """Whole numbers of the smallest unit, as text, with so many digits behind the point.

    >>> format_scaled_integer(pa.array(["-5", "120"]), 2).to_pylist()
    ['-0.05', '1.20']
    """
    if places < 0:
        return pc.if_else(
            pc.equal(texts, "0"), texts, pc.binary_join_element_wise(texts, "0" * -places, "")
        )
    if not places:
        return texts
    sign = pc.if_else(pc.starts_with(texts, "-"), "-", "")
    digits = pc.utf8_lpad(pc.utf8_ltrim(texts, "-"), places + 1, "0")
    whole = pc.utf8_slice_codeunits(digits, 0, -places)
    part = pc.utf8_slice_codeunits(digits, -places)
    return pc.binary_join_element_wise(pc.binary_join_element_wise(sign, whole, ""), part, ".")


def format_decimal_short(array: pa.Array) -> pa.Array:
    """Decimals as text without zeros at the end of their places.

    >>> from decimal import Decimal
    >>> cells = pa.array([Decimal("2.50"), Decimal("3.00"), Decimal("100.00")])
    >>> format_decimal_short(cells).to_pylist()
    ['2.5', '3', '100']
    """
    texts = format_decimal(array)
    if array.type.scale <= 0:
        return texts
    return pc.utf8_rtrim(pc.utf8_rtrim(texts, "0"), ".")
