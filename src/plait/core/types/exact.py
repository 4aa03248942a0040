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

from plait.core.store.shelf import stepwise
from plait.core.text.digits import (
    MOST_DIGITS,
    NARROW_DIGITS,
    TooManyDigitsError,
    Value,
    decimal_text,
    decimal_type,
    plain,
)

PLACES = 20
ROUNDING = "half_towards_infinity"
_WHOLE_DIGITS = 19
_WHOLE = pa.int64()
_FLOAT = pa.float64()


def is_number(kind: pa.DataType) -> bool:
    """Whether values of a type are numbers."""
    tests = (pa.types.is_integer, pa.types.is_floating, pa.types.is_decimal)
    return any(test(kind) for test in tests)


def as_decimal(value: Value) -> Value:
    """An exact number as a decimal.

    >>> as_decimal(pa.scalar(7)).type
    Decimal128Type(decimal128(19, 0))
    """
    if pa.types.is_decimal(value.type):
        return value
    return value.cast(pa.decimal128(_WHOLE_DIGITS, 0))


def narrowed(value: Value) -> Value:
    """A decimal with only as many digits as its largest value needs; the places stay.

    >>> narrowed(pa.scalar(Decimal("12.50"), pa.decimal128(30, 2))).type
    Decimal128Type(decimal128(4, 2))
    """
    return value.cast(decimal_type(_digits_used(value), value.type.scale))


def _digits_used(value: Value) -> int:
    if isinstance(value, pa.Scalar):
        ends = [value.as_py()]
    else:
        ends = list(pc.min_max(value).as_py().values())
    scale = value.type.scale
    return max(
        (len(str(abs(int(one.scaleb(scale))))) for one in ends if one is not None), default=1
    )


def _widest(value: Value) -> Value:
    kind = value.type
    return value.cast(pa.decimal256(kind.precision, kind.scale))


def _widening(function: Callable[[Value, Value], Value], left: Value, right: Value) -> Value:
    """Reckon with decimals, with more digits, or only those that are needed, where it takes them.

    Raises
    ------
    TooManyDigitsError
    """
    for step in (None, _widest, _narrowed_widest):
        with suppress(pa.ArrowInvalid):
            return function(*((left, right) if step is None else map(step, (left, right))))
    raise TooManyDigitsError


def _narrowed_widest(value: Value) -> Value:
    return _widest(narrowed(value))


def _reckoned(name: str, left: Value, right: Value) -> Value:
    """Addition, subtraction or multiplication."""
    left, right = plain(left), plain(right)
    function = getattr(pc, name)
    if _FLOAT in (left.type, right.type):
        return function(to_float(left), to_float(right))
    if left.type == right.type == _WHOLE:
        try:
            return getattr(pc, f"{name}_checked")(left, right)
        except pa.ArrowInvalid:
            pass  # it outgrows 64 bits
    return _widening(function, as_decimal(left), as_decimal(right))


add = partial(_reckoned, "add")
subtract = partial(_reckoned, "subtract")


def multiply(left: Value, right: Value) -> Value:
    """The product; factors of more places are rounded to 20 where else it needs 77 digits.

    >>> multiply(pa.scalar(2**62), pa.scalar(4)).as_py()
    Decimal('18446744073709551616')
    """
    try:
        return _reckoned("multiply", left, right)
    except TooManyDigitsError:
        return _reckoned("multiply", _to_places(left), _to_places(right))


def _to_places(value: Value) -> Value:
    long = pa.types.is_decimal(value.type) and value.type.scale > PLACES
    return rounded(value, PLACES) if long else value


def divide(left: Value, right: Value) -> Value:
    """The quotient, rounded to 20 places, halves away from zero; missing by zero.

    Raises
    ------
    TooManyDigitsError

    Examples
    --------
    >>> divide(pa.scalar(Decimal("0.3")), pa.scalar(Decimal("0.1"))).as_py().normalize()
    Decimal('3')
    """
    left, right = plain(left), plain(right)
    if _FLOAT in (left.type, right.type):
        return pc.divide(to_float(left), _not_zero(to_float(right)))
    quotient = _widening(partial(_quotient, PLACES), as_decimal(left), _not_zero(as_decimal(right)))
    return rounded(quotient, PLACES)


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
    left, right = plain(left), plain(right)
    if _FLOAT in (left.type, right.type):
        left, right = to_float(left), _not_zero(to_float(right))
        whole = pc.trunc(pc.divide(left, right))
        return pc.subtract(left, pc.multiply(whole, right))
    whole_numbers = left.type == right.type == _WHOLE
    divisor = _not_zero(as_decimal(right))
    quotient = _widening(partial(_quotient, 0), as_decimal(left), divisor)
    rest = subtract(left, multiply(to_whole(pc.trunc, quotient), divisor))
    return narrowed(rest).cast(_WHOLE) if whole_numbers else rest


def negative(value: Value) -> Value:
    """The number with the other sign."""
    return subtract(pa.scalar(0), value) if value.type != _FLOAT else pc.negate(value)


def absolute(value: Value) -> Value:
    """The number without its sign."""
    value = plain(value)
    if value.type != _WHOLE:
        return pc.abs(value)
    try:
        return pc.abs_checked(value)
    except pa.ArrowInvalid:
        return pc.abs(as_decimal(value))


def rounded(value: Value, digits: int) -> Value:
    """A number to so many places, halves away from zero.

    >>> rounded(pa.scalar(Decimal("9.96")), 1).as_py(), rounded(pa.scalar(149), -2).as_py()
    (Decimal('10.0'), 100)
    """
    value = plain(value)
    digits = max(min(digits, 400), -400)
    if value.type == _FLOAT:
        return pc.round(value, digits, round_mode=ROUNDING)
    if digits >= (0 if value.type == _WHOLE else value.type.scale):
        return value
    whole = value.type == _WHOLE
    made = _one_wider(as_decimal(value))
    if -digits >= made.type.precision - made.type.scale:  # less than half of the unit, all of them
        made = multiply(made, pa.scalar(0))
    made = pc.round(made, max(digits, -MOST_DIGITS), round_mode=ROUNDING)
    made = made.cast(
        decimal_type(made.type.precision - made.type.scale + max(digits, 0), max(digits, 0))
    )
    return _whole_again(made) if whole else made


def _one_wider(value: Value) -> Value:
    """With room for one more digit: 9.96 becomes 10.0."""
    kind = value.type
    if kind.precision == MOST_DIGITS:
        value = narrowed(value)
        kind = value.type
    return value.cast(decimal_type(kind.precision + 1, kind.scale))


def _whole_again(value: Value) -> Value:
    try:
        return value.cast(_WHOLE)
    except pa.ArrowInvalid:
        return value


def to_whole(function: Callable[[Value], Value], value: Value) -> Value:
    """A number made whole by ``floor``, ``ceil`` or ``trunc``; a float stays a float.

    >>> to_whole(pc.ceil, pa.scalar(Decimal("9.96"))).as_py()
    10
    """
    value = plain(value)
    if value.type == _WHOLE:
        return value
    if value.type == _FLOAT:
        return function(value)
    made = function(_one_wider(value))
    kind = decimal_type(made.type.precision - made.type.scale, 0)
    made = made.cast(kind)
    return made.cast(_WHOLE) if kind.precision < _WHOLE_DIGITS else made


def to_float(value: Value) -> Value:
    """The 64-bit float that is nearest to a number.

    Notes
    -----
    By way of text, which is read to the nearest float (Clinger, "How to read
    floating point numbers accurately", 1990); Arrow's own cast of decimals is
    off by one in the last place now and then.

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
    return stepwise(lambda decimals: decimal_text(decimals).cast(_FLOAT), value)


def common_type(kinds: Sequence[pa.DataType]) -> pa.DataType:
    """The type that holds numbers of several types exactly; a float where one is a float.

    Raises
    ------
    TooManyDigitsError

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
    return decimal_type(whole + scale, scale)


def alike(values: Sequence[Value]) -> list[Value]:
    """Numbers brought to one type, exactly where none is a float.

    Raises
    ------
    TooManyDigitsError
    """
    values = [plain(one) for one in values]
    try:
        kind = common_type([one.type for one in values])
    except TooManyDigitsError:
        values = [narrowed(as_decimal(one)) for one in values]
        kind = common_type([one.type for one in values])
    return [to_float(one) if kind == _FLOAT else _in_type(one, kind) for one in values]


def _in_type(value: Value, kind: pa.DataType) -> Value:
    if value.type == kind:
        return value
    if kind == _WHOLE:
        return value.cast(_WHOLE)
    return as_decimal(value).cast(kind)


def from_texts(texts: pa.Array) -> pa.Array:
    """Texts of plain numbers, also with an exponent, as decimals with all their digits.

    Raises
    ------
    TooManyDigitsError

    Examples
    --------
    >>> from_texts(pa.array(["1.50", "1e3", None])).to_pylist()
    [Decimal('1.50'), Decimal('1000.00'), None]
    """
    plain_ones = pc.match_substring_regex(texts, r"^[+-]?[0-9]*\.?[0-9]*$")
    if not pc.all(plain_ones).as_py() and pc.any(pc.invert(plain_ones)).as_py():
        texts = _without_exponents(texts)
    before, after = digits_of(pc.utf8_ltrim(texts, "+-0"))
    kind = decimal_type(before + after, after)
    return texts.cast(kind)


def _without_exponents(texts: pa.Array) -> pa.Array:
    made = []
    for text in texts.to_pylist():
        one = None if text is None else Decimal(text)
        if one is not None and not -MOST_DIGITS <= one.adjusted() <= MOST_DIGITS:
            raise TooManyDigitsError
        made.append(None if one is None else format(one, "f"))
    return pa.array(made, pa.string())


def digits_of(texts: pa.Array) -> tuple[int, int]:
    """The most digits before and after the point of texts of plain numbers without signs.

    >>> digits_of(pa.array(["12.5", "7"]))
    (2, 1)
    """
    lengths = pc.binary_length(texts)
    point = pc.find_substring(texts, ".")
    whole = pc.if_else(pc.less(point, 0), lengths, point)
    after = pc.if_else(pc.less(point, 0), 0, pc.subtract(pc.subtract(lengths, point), 1))
    return pc.max(whole).as_py() or 0, pc.max(after).as_py() or 0


def from_words(words: np.ndarray[Any, Any], scale: int) -> pa.Array:
    """Decimals from 64-bit words in two's complement, the lowest first: two or four a row.

    >>> from_words(np.array([[-125, -1]]), 2).to_pylist()
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
