"""Arithmetic of expressions: exact on integers and decimals, and on dates by the calendar."""

from __future__ import annotations

import re
from collections.abc import Callable
from functools import partial

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.base.errors import UsageError
from plait.core.expressions.operands import (
    EvaluationBatch,
    InvalidOperandError,
    Operator,
    Value,
    as_number,
    broadcast,
    require_family,
    require_number,
    type_family,
)
from plait.core.expressions.parser import SyntaxNode
from plait.core.text.decimals import DecimalOverflowError
from plait.core.types import exact_numbers
from plait.core.types.date_formats import FIRST_DAY, LAST_DAY

_DAYS = {"DAY": 1, "WEEK": 7}
_MONTHS = {"MONTH": 1, "QUARTER": 3, "YEAR": 12}
_DAY_MICROSECONDS = 86_400_000_000
_STRETCH = pa.duration("us")
_SECONDS = {"SECOND": 1, "MINUTE": 60, "HOUR": 3600}


def _of_two(function: Callable[[Value, Value], Value]) -> Operator:
    """An operator on two numbers."""

    def operator(node: SyntaxNode, rows: EvaluationBatch) -> Value:
        left, right = (require_number(part, node, rows) for part in node.parts)
        return apply_arithmetic(partial(function, left, right), node)

    return operator


def apply_arithmetic(function: Callable[[], Value], node: SyntaxNode) -> Value:
    """What a function makes of numbers.

    Raises
    ------
    UsageError
        When the result needs more digits than there are.
    """
    try:
        return function()
    except DecimalOverflowError as error:
        raise UsageError(
            f"a number is too large: {error}", node.sql(), "CAST(… AS DOUBLE), or ROUND(…, 10)"
        ) from None


def _of_numbers_or_dates(function: Callable[[Value, Value], Value], sign: int) -> Operator:
    """Addition or subtraction: of numbers, of days and intervals and dates."""

    def operator(node: SyntaxNode, rows: EvaluationBatch) -> Value:
        left, right = node.parts
        # Months have no fixed length, so an interval written out is not worked out by itself.
        if right.op == "interval" and left.op != "interval":
            return _moved_by_interval(rows.value(left), right, node, rows, sign)
        if left.op == "interval" and right.op != "interval" and sign > 0:
            return _moved_by_interval(rows.value(right), left, node, rows, sign)
        # Each side is worked out once: a chain of a thousand sums takes a thousand steps.
        values = rows.value(left), rows.value(right)
        sorts = {type_family(value) for value in values}
        if sorts & {"date", "datetime", "interval"}:
            return _moved(*values, node, rows, sign)
        one, other = (as_number(value, node) for value in values)
        return apply_arithmetic(partial(function, one, other), node)

    return operator


def _negative(node: SyntaxNode, rows: EvaluationBatch) -> Value:
    value = require_number(node.parts[0], node, rows)
    return apply_arithmetic(lambda: exact_numbers.negate(value), node)


def _moved(left: Value, right: Value, node: SyntaxNode, rows: EvaluationBatch, sign: int) -> Value:
    """A date and so many days, a moment and a stretch of time; of two dates the days between.

    Of two moments the stretch of time between them, which is no number: hours and days of it
    are taken by ``EXTRACT``.
    """
    sorts = type_family(left), type_family(right)
    if "nothing" in sorts:
        return pa.scalar(None, pa.null())
    if sign < 0 and sorts == ("date", "date"):
        return pc.days_between(right, left).cast(pa.int64())
    if sign < 0 and set(sorts) <= {"date", "datetime"}:
        kind = next(v.type for v in (left, right) if type_family(v) == "datetime")
        return pc.subtract_checked(left.cast(kind), right.cast(kind)).cast(_STRETCH)
    if sorts[1] == "date" and sign > 0 and sorts[0] == "number":
        left, right, sorts = right, left, (sorts[1], sorts[0])
    if sorts == ("interval", "interval"):
        return (pc.add_checked if sign > 0 else pc.subtract_checked)(left, right)
    if sorts[1] == "interval" and sorts[0] in ("date", "datetime"):
        return _later(broadcast(left, rows), right if sign > 0 else pc.negate(right), node)
    if sorts[0] != "date" or not pa.types.is_integer(right.type):
        raise UsageError(
            "only whole days or an interval can be added to a date; the hours of an interval are "
            "EXTRACT(EPOCH FROM …) / 3600",
            node.sql(),
            "… + INTERVAL '7' DAY",
        )
    return _days_on(broadcast(left, rows), pc.multiply_checked(right, sign), node)


def _days_on(dates: pa.Array, days: Value, node: SyntaxNode) -> pa.Array:
    moved = pc.add_checked(dates.view(pa.int32()).cast(pa.int64()), days)
    return _in_calendar(moved, 1, node).cast(pa.int32()).view(pa.date32())


def _in_calendar(numbers: pa.Array, a_day: int, node: SyntaxNode) -> pa.Array:
    """Days, or smaller units, from 1970-01-01, once all of them are of the years 1 to 9999.

    Raises
    ------
    InvalidOperandError
    """
    low, high = FIRST_DAY * a_day, (LAST_DAY + 1) * a_day - 1
    out = pc.or_(pc.less(numbers, low), pc.greater(numbers, high))
    row = pc.index(out, pa.scalar(True)).as_py()
    if row >= 0:
        raise InvalidOperandError(
            "this leads out of the years 1 to 9999", row, f"leave such rows out of {node.sql()}"
        )
    return numbers


def _later(left: pa.Array, stretch: Value, node: SyntaxNode) -> pa.Array:
    """Moments moved by a stretch of time."""
    kind = left.type if type_family(left) == "datetime" else pa.timestamp("us")
    moved = pc.add_checked(left.cast(kind).cast(pa.timestamp("us", kind.tz)), stretch)
    _in_calendar(moved.view(pa.int64()), _DAY_MICROSECONDS, node)
    return moved


def _moved_by_interval(
    value: Value, interval: SyntaxNode, node: SyntaxNode, rows: EvaluationBatch, sign: int
) -> Value:
    left = broadcast(value, rows)
    if type_family(left) == "nothing":
        return left
    unit = interval.word
    if type_family(left) == "interval" and unit not in _MONTHS:
        return pc.add_checked(left, _stretch(interval, node, sign))
    if type_family(left) not in ("date", "datetime"):
        raise UsageError("an interval is added to a date or a moment", node.sql())
    amount = sign * _amount(interval, node)
    if unit in _MONTHS:
        return _months_on(left, amount * _MONTHS[unit], node)
    if unit in _DAYS and type_family(left) == "date":
        return _days_on(left, pa.scalar(amount * _DAYS[unit]), node)
    return _later(left, _stretch(interval, node, sign), node)


def _stretch(interval: SyntaxNode, node: SyntaxNode, sign: int = 1) -> pa.Scalar:
    """An interval of a fixed length as a stretch of time.

    Raises
    ------
    UsageError
        For months and years, which have none, and for what is no unit.
    """
    seconds = {**_SECONDS, **{name: 86400 * days for name, days in _DAYS.items()}}
    if interval.word in _MONTHS:
        raise UsageError(
            f"a {interval.word.lower()} has no fixed length", node.sql(), "add it to a date"
        )
    if interval.word not in seconds:
        names = (*_DAYS, *_MONTHS, *_SECONDS)
        raise UsageError(
            f"{interval.word!r} is not a unit of time", node.sql(), f"one of {', '.join(names)}"
        )
    amount = sign * _amount(interval, node) * seconds[interval.word]
    return pa.scalar(amount, pa.duration("s")).cast(_STRETCH)


def _interval(node: SyntaxNode, rows: EvaluationBatch) -> Value:
    return _stretch(node, node)


def _amount(interval: SyntaxNode, node: SyntaxNode) -> int:
    (part,) = interval.parts
    sign, part = (-1, part.parts[0]) if part.op == "negative" else (1, part)
    if part.op not in ("text", "number") or not re.fullmatch(r"[+-]?[0-9]{1,9}", part.word):
        raise UsageError(
            "an interval needs a whole number and a unit", node.sql(), "INTERVAL '7' DAY"
        )
    return sign * int(part.word)


def _months_on(left: pa.Array, months: int, node: SyntaxNode) -> pa.Array:
    """So many months later on the same day, or the last one of a shorter month."""
    moments = left.cast(pa.timestamp("us")).to_numpy(zero_copy_only=False)
    month = moments.astype("M8[M]")
    day = moments - month.astype("M8[us]")
    target = month + np.timedelta64(months, "M")
    following = (target + np.timedelta64(1, "M")).astype("M8[us]")
    last = following - target.astype("M8[us]")
    whole = day.astype("m8[D]")
    kept = np.minimum(whole, (last - np.timedelta64(1, "D")).astype("m8[D]"))
    made = target.astype("M8[us]") + kept + (day - whole)
    _in_calendar(
        pa.array(made.astype("M8[us]"), from_pandas=True).cast(pa.int64()), _DAY_MICROSECONDS, node
    )
    return pa.array(made, from_pandas=True).cast(pa.timestamp("us")).cast(left.type)


def _wanted_number(function: Callable[[Value], Value]) -> Operator:
    def operator(node: SyntaxNode, rows: EvaluationBatch) -> Value:
        value = require_number(node.parts[0], node, rows)
        return apply_arithmetic(lambda: function(value), node)

    return operator


def _of_float(function: Callable[..., Value]) -> Operator:
    """A transcendental function, in floats: missing where it is not there."""

    def operator(node: SyntaxNode, rows: EvaluationBatch) -> Value:
        values = [exact_numbers.to_float(require_number(part, node, rows)) for part in node.parts]
        made = function(*values)
        if isinstance(made, pa.Scalar):
            there = made.is_valid and pc.is_finite(made).as_py()
            return made if there else pa.scalar(None, pa.float64())
        return pc.if_else(pc.is_finite(made), made, pa.scalar(None, pa.float64()))

    return operator


def _signum(value: Value) -> Value:
    return pc.sign(value).cast(pa.int64())


def _round(node: SyntaxNode, rows: EvaluationBatch) -> Value:
    """Halves away from zero."""
    digits = 0 if len(node.parts) < 2 else _written_out(node.parts[1], node)
    value = require_number(node.parts[0], node, rows)
    return apply_arithmetic(lambda: exact_numbers.round_half_away(value, digits), node)


def _written_out(part: SyntaxNode, node: SyntaxNode) -> int:
    sign, part = (-1, part.parts[0]) if part.op == "negative" else (1, part)
    if part.op != "number" or not part.word.isdecimal() or len(part.word) > 9:
        raise UsageError("the number of places must be a literal whole number", node.sql())
    return sign * int(part.word)


def require_integer(value: Value, node: SyntaxNode) -> Value:
    """A number that must be whole, as a 64-bit integer."""
    made = require_family(value, "number", node)
    if type_family(made) == "nothing":
        return made.cast(pa.int64())
    if not pa.types.is_integer(made.type):
        raise UsageError("expected a whole number", node.sql(), "CAST(… AS INTEGER) makes one")
    return made


ARITHMETIC: dict[str, Operator] = {
    "interval": _interval,
    "+": _of_numbers_or_dates(exact_numbers.add, 1),
    "-": _of_numbers_or_dates(exact_numbers.subtract, -1),
    "*": _of_two(exact_numbers.multiply),
    "/": _of_two(exact_numbers.divide),
    "%": _of_two(exact_numbers.remainder),
    "MOD": _of_two(exact_numbers.remainder),
    "negative": _negative,
    "ABS": _wanted_number(exact_numbers.absolute_value),
    "SIGN": _wanted_number(_signum),
    "ROUND": _round,
    "FLOOR": _wanted_number(partial(exact_numbers.round_to_integer, pc.floor)),
    "CEILING": _wanted_number(partial(exact_numbers.round_to_integer, pc.ceil)),
    "SQRT": _of_float(pc.sqrt),
    "LN": _of_float(pc.ln),
    "EXP": _of_float(pc.exp),
    "POWER": _of_float(pc.power),
}
