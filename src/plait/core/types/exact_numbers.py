"""Numbers held exactly: integers and decimals that widen when a result needs more digits.

Integers are 64-bit until a result outgrows them, then decimals; decimals have as
many digits as their result needs, at most 76. Only a quotient is rounded, to 20
places. A number is a float where its source is one, and stays one.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import suppress
from decimal import Decimal
from functools import partial
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.job.spill_columns import apply_in_batches
from plait.core.text.decimals import (
    MOST_DIGITS,
    NARROW_DIGITS,
    DecimalOverflowError,
    Value,
    format_decimal,
    scaled_int64,
    smallest_decimal_type,
    to_arithmetic_type,
)

PLACES = 20
ROUNDING = "half_towards_infinity"
_WHOLE_DIGITS = 19
_EXACT_WHOLE, _EXACT_POWER = 2**53, 22  # up to which whole numbers and powers of ten are floats
_WHOLE = pa.int64()
_FLOAT = pa.float64()


def is_number(kind: pa.DataType) -> bool:
    """Whether values of a type are numbers."""
    tests = (pa.types.is_integer, pa.types.is_floating, pa.types.is_decimal)
    return any(test(kind) for test in tests)


def to_decimal(value: Value) -> Value:
    """An exact number as a decimal.

    >>> to_decimal(pa.scalar(7)).type
    Decimal128Type(decimal128(19, 0))
    """
    if pa.types.is_decimal(value.type):
        return value
    return value.cast(pa.decimal128(_WHOLE_DIGITS, 0))


def narrow_decimal(value: Value) -> Value:
    """A decimal with only as many digits as its largest value needs; the places stay.

    >>> narrow_decimal(pa.scalar(Decimal("12.50"), pa.decimal128(30, 2))).type
    Decimal128Type(decimal128(4, 2))
    """
    return value.cast(smallest_decimal_type(_digits_used(value), value.type.scale))


def _digits_used(value: Value) -> int:
    if isinstance(value, pa.Scalar):
        ends = [value.as_py()]
    else:
        ends = list(pc.min_max(value).as_py().values())
    scale = value.type.scale
    return max(
        (len(str(abs(int(end.scaleb(scale))))) for end in ends if end is not None), default=1
    )


def _widest(value: Value) -> Value:
    kind = value.type
    return value.cast(pa.decimal256(kind.precision, kind.scale))


def _widening(function: Callable[[Value, Value], Value], left: Value, right: Value) -> Value:
    """Reckon with decimals, with more digits, or only those that are needed, where it takes them.

    Raises
    ------
    DecimalOverflowError
    """
    for step in (None, _widest, _narrowed_widest):
        with suppress(pa.ArrowInvalid):
            return function(*((left, right) if step is None else map(step, (left, right))))
    raise DecimalOverflowError


def _narrowed_widest(value: Value) -> Value:
    return _widest(narrow_decimal(value))


def _reckoned(name: str, left: Value, right: Value) -> Value:
    """Addition, subtraction or multiplication."""
    left, right = to_arithmetic_type(left), to_arithmetic_type(right)
    function = getattr(pc, name)
    if _FLOAT in (left.type, right.type):
        return function(to_float(left), to_float(right))
    if left.type == right.type == _WHOLE:
        try:
            return getattr(pc, f"{name}_checked")(left, right)
        except pa.ArrowInvalid:
            pass  # it outgrows 64 bits
    return _widening(function, to_decimal(left), to_decimal(right))


add = partial(_reckoned, "add")
subtract = partial(_reckoned, "subtract")


def multiply(left: Value, right: Value) -> Value:
    """The product; factors of more places are rounded to 20 where else it needs 77 digits.

    >>> multiply(pa.scalar(2**62), pa.scalar(4)).as_py()
    Decimal('18446744073709551616')
    """
    try:
        return _reckoned("multiply", left, right)
    except DecimalOverflowError:
        return _reckoned("multiply", _to_places(left), _to_places(right))


def _to_places(value: Value) -> Value:
    long = pa.types.is_decimal(value.type) and value.type.scale > PLACES
    return round_half_away(value, PLACES) if long else value


def divide(left: Value, right: Value, places: int = PLACES) -> Value:
    """The quotient, rounded to so many places, halves away from zero; missing by zero.

    Raises
    ------
    DecimalOverflowError

    Examples
    --------
    >>> divide(pa.scalar(Decimal("0.3")), pa.scalar(Decimal("0.1"))).as_py().normalize()
    Decimal('3')
    """
    left, right = to_arithmetic_type(left), to_arithmetic_type(right)
    if _FLOAT in (left.type, right.type):
        return pc.divide(to_float(left), _not_zero(to_float(right)))
    quotient = _widening(partial(_quotient, places), to_decimal(left), _not_zero(to_decimal(right)))
    return round_half_away(quotient, places)


def _not_zero(value: Value) -> Value:
    if isinstance(value, pa.Scalar):
        return value if value.as_py() else pa.scalar(None, value.type)
    zero = pa.scalar(0, value.type) if value.type != _FLOAT else 0.0
    return pc.if_else(pc.equal(value, zero), pa.scalar(None, value.type), value)


def _quotient(places: int, left: Value, right: Value) -> Value:
    """The quotient, cut off after more places than are wanted.

    Notes
    -----
    Arrow cuts a quotient off after ``scale1 + precision2 - scale2 + 1`` places.
    """
    kind, other = left.type, right.type
    scale = max(kind.scale, places + 1 - other.precision + other.scale)
    precision = kind.precision - kind.scale + scale
    if precision > MOST_DIGITS:
        raise pa.ArrowInvalid("too many digits")
    return pc.divide(_widest(left).cast(pa.decimal256(precision, scale)), _widest(right))


def remainder(left: Value, right: Value) -> Value:
    """What is left of a division to whole numbers, with the sign of the first; missing by zero.

    >>> remainder(pa.scalar(-7), pa.scalar(Decimal("2.5"))).as_py()
    Decimal('-2.0')
    """
    left, right = to_arithmetic_type(left), to_arithmetic_type(right)
    if _FLOAT in (left.type, right.type):
        left, right = to_float(left), _not_zero(to_float(right))
        whole = pc.trunc(pc.divide(left, right))
        return pc.subtract(left, pc.multiply(whole, right))
    whole_numbers = left.type == right.type == _WHOLE
    divisor = _not_zero(to_decimal(right))
    quotient = _widening(partial(_quotient, 0), to_decimal(left), divisor)
    rest = subtract(left, multiply(round_to_integer(pc.trunc, quotient), divisor))
    return narrow_decimal(rest).cast(_WHOLE) if whole_numbers else rest


def negate(value: Value) -> Value:
    """The number with the other sign."""
    return subtract(pa.scalar(0), value) if value.type != _FLOAT else pc.negate(value)


def absolute_value(value: Value) -> Value:
    """The number without its sign."""
    value = to_arithmetic_type(value)
    if value.type != _WHOLE:
        return pc.abs(value)
    try:
        return pc.abs_checked(value)
    except pa.ArrowInvalid:
        return pc.abs(to_decimal(value))


def round_half_away(value: Value, digits: int) -> Value:
    """A number to so many places, halves away from zero.

    >>> tenths = round_half_away(pa.scalar(Decimal("9.96")), 1)
    >>> tenths.as_py(), round_half_away(pa.scalar(149), -2).as_py()
    (Decimal('10.0'), 100)
    """
    value = to_arithmetic_type(value)
    digits = max(min(digits, 400), -400)
    if value.type == _FLOAT:
        return pc.round(value, digits, round_mode=ROUNDING)
    if digits >= (0 if value.type == _WHOLE else value.type.scale):
        return value
    whole = value.type == _WHOLE
    made = _one_wider(to_decimal(value))
    if -digits >= made.type.precision - made.type.scale:  # less than half of the unit, all of them
        made = multiply(made, pa.scalar(0))
    made = pc.round(made, max(digits, -MOST_DIGITS), round_mode=ROUNDING)
    made = made.cast(
        smallest_decimal_type(
            made.type.precision - made.type.scale + max(digits, 0), max(digits, 0)
        )
    )
    return _whole_again(made) if whole else made


def _one_wider(value: Value) -> Value:
    """With room for one more digit: 9.96 becomes 10.0."""
    kind = value.type
    if kind.precision == MOST_DIGITS:
        value = narrow_decimal(value)
        kind = value.type
    return value.cast(smallest_decimal_type(kind.precision + 1, kind.scale))


def _whole_again(value: Value) -> Value:
    try:
        return value.cast(_WHOLE)
    except pa.ArrowInvalid:
        return value


def round_to_integer(function: Callable[[Value], Value], value: Value) -> Value:
    """A number made whole by ``floor``, ``ceil`` or ``trunc``; a float stays a float.

    >>> round_to_integer(pc.ceil, pa.scalar(Decimal("9.96"))).as_py()
    10
    """
    value = to_arithmetic_type(value)
    if value.type == _WHOLE:
        return value
    if value.type == _FLOAT:
        return function(value)
    made = function(_one_wider(value))
    kind = smallest_decimal_type(made.type.precision - made.type.scale, 0)
    made = made.cast(kind)
    return made.cast(_WHOLE) if kind.precision < _WHOLE_DIGITS else made


def to_float(value: Value) -> Value:
    """The 64-bit float that is nearest to a number.

    Notes
    -----
    After Clinger, "How to read floating point numbers accurately" (1990): a number whose digits
    and whose power of ten are both floats exactly is their quotient, which is rounded once; any
    other goes by way of text, which is read to the nearest float. Arrow's own cast of decimals
    is off by one in the last place now and then.

    Examples
    --------
    >>> to_float(pa.scalar(Decimal("0.3"))).as_py()
    0.3
    """
    kind = value.type
    if kind == _FLOAT:
        return value
    if not pa.types.is_decimal(kind):
        return pc.cast(value, _FLOAT, safe=False)
    if isinstance(value, pa.Scalar):
        number = value.as_py()
        return pa.scalar(None if number is None else float(number), _FLOAT)
    whole = scaled_int64(value) if isinstance(value, pa.Array) else None
    if whole is not None and 0 <= kind.scale <= _EXACT_POWER:
        ends = int(whole.max(initial=0)), int(whole.min(initial=0))
        if max(ends[0], -ends[1]) <= _EXACT_WHOLE:
            return pa.array(whole.astype(np.float64) / 10.0**kind.scale)
    return apply_in_batches(lambda decimals: format_decimal(decimals).cast(_FLOAT), value)


def common_type(kinds: Sequence[pa.DataType]) -> pa.DataType:
    """The type that holds numbers of several types exactly; a float where one is a float.

    Raises
    ------
    DecimalOverflowError

    Examples
    --------
    >>> common_type([pa.int64(), pa.decimal128(5, 2)])
    Decimal128Type(decimal128(21, 2))
    """
    if any(map(pa.types.is_floating, kinds)):
        return _FLOAT
    decimals = [kind for kind in kinds if pa.types.is_decimal(kind)]
    if not decimals:
        return _WHOLE
    scale = max(kind.scale for kind in decimals)
    whole = max(kind.precision - kind.scale for kind in decimals)
    whole = max(whole, _WHOLE_DIGITS) if len(decimals) < len(kinds) else whole
    return smallest_decimal_type(whole + scale, scale)


def unify_numbers(values: Sequence[Value]) -> list[Value]:
    """Numbers brought to one type, exactly where none is a float.

    Raises
    ------
    DecimalOverflowError
    """
    values = [to_arithmetic_type(value) for value in values]
    try:
        kind = common_type([one.type for one in values])
    except DecimalOverflowError:
        values = [narrow_decimal(to_decimal(one)) for one in values]
        kind = common_type([one.type for one in values])
    return [to_float(v) if kind == _FLOAT else _in_type(v, kind) for v in values]


def _in_type(value: Value, kind: pa.DataType) -> Value:
    if value.type == kind:
        return value
    if kind == _WHOLE:
        return value.cast(_WHOLE)
    return to_decimal(value).cast(kind)


def parse_decimals(texts: pa.Array) -> pa.Array:
    """Texts of plain numbers, also with an exponent, as decimals with all their digits.

    Raises
    ------
    DecimalOverflowError

    Examples
    --------
    >>> parse_decimals(pa.array(["1.50", "1e3", None])).to_pylist()
    [Decimal('1.50'), Decimal('1000.00'), None]
    """
    plain_ones = pc.match_substring_regex(texts, r"^[+-]?[0-9]*\.?[0-9]*$")
    if not pc.all(plain_ones).as_py() and pc.any(pc.invert(plain_ones)).as_py():
        texts = _without_exponents(texts)
    before, after = max_digits(pc.utf8_ltrim(texts, "+-0"))
    kind = smallest_decimal_type(before + after, after)
    return texts.cast(kind)


def _without_exponents(texts: pa.Array) -> pa.Array:
    made = []
    for text in texts.to_pylist():
        one = None if text is None else Decimal(text)
        if one is not None and not -MOST_DIGITS <= one.adjusted() <= MOST_DIGITS:
            raise DecimalOverflowError
        made.append(None if one is None else format(one, "f"))
    return pa.array(made, pa.string())


def max_digits(texts: pa.Array) -> tuple[int, int]:
    """The most digits before and after the point of texts of plain numbers without signs.

    >>> max_digits(pa.array(["12.5", "7"]))
    (2, 1)
    """
    lengths = pc.binary_length(texts)
    point = pc.find_substring(texts, ".")
    whole = pc.if_else(pc.less(point, 0), lengths, point)
    after = pc.if_else(pc.less(point, 0), 0, pc.subtract(pc.subtract(lengths, point), 1))
    return pc.max(whole).as_py() or 0, pc.max(after).as_py() or 0


def decimals_from_words(words: np.ndarray[Any, Any], scale: int) -> pa.Array:
    """Decimals from 64-bit words in two's complement, the lowest first: two or four a row.

    >>> decimals_from_words(np.array([[-125, -1]]), 2).to_pylist()
    [Decimal('-1.25')]
    """
    kind = (
        pa.decimal128(NARROW_DIGITS, scale)
        if words.shape[1] == 2
        else pa.decimal256(MOST_DIGITS, scale)
    )
    return pa.Array.from_buffers(
        kind, len(words), [None, pa.py_buffer(np.ascontiguousarray(words))]
    )
