"""Arithmetic of expressions: exact on integers and decimals, and on dates by the calendar."""

from __future__ import annotations

import re
from collections.abc import Callable
from functools import partial

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.account.errors import UsageError
from plait.core.sql.sorts import Operator, Rows, Value, numbers, sort_of, spread, wanted
from plait.core.sql.syntax import Node
from plait.core.text.digits import TooManyDigitsError
from plait.core.types import exact

_DAYS = {"DAY": 1, "WEEK": 7}
_MONTHS = {"MONTH": 1, "QUARTER": 3, "YEAR": 12}
_SECONDS = {"SECOND": 1, "MINUTE": 60, "HOUR": 3600}


def _of_two(function: Callable[[Value, Value], Value]) -> Operator:
    """An operator on two numbers."""

    def operator(node: Node, rows: Rows) -> Value:
        left, right = (numbers(part, node, rows) for part in node.parts)
        return reckoned(partial(function, left, right), node)

    return operator


def reckoned(function: Callable[[], Value], node: Node) -> Value:
    """What a function makes of numbers.

    Raises
    ------
    UsageError
        When the result needs more digits than there are.
    """
    try:
        return function()
    except TooManyDigitsError as error:
        raise UsageError(
            f"a number grows too large: {error}", node.sql(), "CAST(… AS DOUBLE), or ROUND(…, 10)"
        ) from None


def _of_numbers_or_dates(function: Callable[[Value, Value], Value], sign: int) -> Operator:
    """Addition or subtraction: of numbers, of days and intervals and dates."""
    plain = _of_two(function)

    def operator(node: Node, rows: Rows) -> Value:
        left, right = node.parts
        if right.op == "interval":
            return _moved_by_interval(node, rows, sign)
        value = rows.value(left)
        if sort_of(value) in ("date", "datetime"):
            return _moved(value, rows.value(right), node, rows, sign)
        return plain(node, rows)

    return operator


def _negative(node: Node, rows: Rows) -> Value:
    value = numbers(node.parts[0], node, rows)
    return reckoned(lambda: exact.negative(value), node)


def _moved(left: Value, right: Value, node: Node, rows: Rows, sign: int) -> Value:
    """A date and so many days more or less; of two dates the days between them."""
    if sort_of(right) == "nothing":
        return pa.scalar(None, pa.null())
    if sign < 0 and sort_of(right) in ("date", "datetime"):
        days = pc.days_between(right.cast(pa.date32()), left.cast(pa.date32()))
        return days.cast(pa.int64())
    if not pa.types.is_integer(right.type) or sort_of(left) != "date":
        raise UsageError(
            "to a date, whole days or an interval are added", node.sql(), "… + INTERVAL '7' DAY"
        )
    return _days_on(spread(left, rows), pc.multiply_checked(right, sign))


def _days_on(dates: pa.Array, days: Value) -> pa.Array:
    moved = pc.add_checked(dates.view(pa.int32()).cast(pa.int64()), days)
    return moved.cast(pa.int32()).view(pa.date32())


def _moved_by_interval(node: Node, rows: Rows, sign: int) -> Value:
    left = spread(rows.value(node.parts[0]), rows)
    if sort_of(left) == "nothing":
        return left
    if sort_of(left) not in ("date", "datetime"):
        raise UsageError("an interval is added to a date or a moment", node.sql())
    interval = node.parts[1]
    unit, amount = interval.word, sign * _amount(interval, node)
    if unit in _MONTHS:
        return _months_on(left, amount * _MONTHS[unit])
    if unit in _DAYS and sort_of(left) == "date":
        return _days_on(left, amount * _DAYS[unit])
    seconds = {**_SECONDS, **{name: 86400 * days for name, days in _DAYS.items()}}.get(unit)
    if seconds is None:
        known = (*_DAYS, *_MONTHS, *_SECONDS)
        raise UsageError(f"{unit!r} is no unit of time", node.sql(), f"one of {', '.join(known)}")
    kind = left.type if sort_of(left) == "datetime" else pa.timestamp("us")
    moment = pa.scalar(amount * seconds, pa.duration("s")).cast(pa.duration("us"))
    return pc.add_checked(left.cast(kind), moment)


def _amount(interval: Node, node: Node) -> int:
    (part,) = interval.parts
    sign, part = (-1, part.parts[0]) if part.op == "negative" else (1, part)
    if part.op not in ("text", "number") or not re.fullmatch(r"[+-]?[0-9]{1,9}", part.word):
        raise UsageError("an interval is a whole number and a unit", node.sql(), "INTERVAL '7' DAY")
    return sign * int(part.word)


def _months_on(left: pa.Array, months: int) -> pa.Array:
    """So many months later on the same day, or the last one of a shorter month."""
    moments = left.cast(pa.timestamp("us")).to_numpy(zero_copy_only=False)
    month = moments.astype("M8[M]")
    day = moments - month.astype("M8[us]")
    target = month + months
    last = (target + 1).astype("M8[D]").astype("M8[us]") - target.astype("M8[us]")
    whole = day.astype("m8[D]")
    kept = np.minimum(whole, (last - np.timedelta64(1, "D")).astype("m8[D]"))
    made = target.astype("M8[us]") + kept + (day - whole)
    return pa.array(made, from_pandas=True).cast(pa.timestamp("us")).cast(left.type)


def _wanted_number(function: Callable[[Value], Value]) -> Operator:
    def operator(node: Node, rows: Rows) -> Value:
        value = numbers(node.parts[0], node, rows)
        return reckoned(lambda: function(value), node)

    return operator


def _of_float(function: Callable[..., Value]) -> Operator:
    """A transcendental function, in floats: missing where it is not there."""

    def operator(node: Node, rows: Rows) -> Value:
        values = [exact.to_float(numbers(part, node, rows)) for part in node.parts]
        made = function(*values)
        if isinstance(made, pa.Scalar):
            there = made.is_valid and pc.is_finite(made).as_py()
            return made if there else pa.scalar(None, pa.float64())
        return pc.if_else(pc.is_finite(made), made, pa.scalar(None, pa.float64()))

    return operator


def _sign(value: Value) -> Value:
    return pc.sign(value).cast(pa.int64())


def _round(node: Node, rows: Rows) -> Value:
    """Halves away from zero."""
    digits = 0 if len(node.parts) < 2 else _written_out(node.parts[1], node)
    value = numbers(node.parts[0], node, rows)
    return reckoned(lambda: exact.rounded(value, digits), node)


def _written_out(part: Node, node: Node) -> int:
    sign, part = (-1, part.parts[0]) if part.op == "negative" else (1, part)
    if part.op != "number" or not part.word.isdecimal() or len(part.word) > 9:
        raise UsageError("the places are a whole number, written out", node.sql())
    return sign * int(part.word)


def to_integer(value: Value, node: Node) -> Value:
    """A number that must be whole, as a 64-bit integer."""
    made = wanted(value, "number", node)
    if sort_of(made) == "nothing":
        return made.cast(pa.int64())
    if not pa.types.is_integer(made.type):
        raise UsageError("this wants a whole number", node.sql(), "CAST(… AS INTEGER) makes one")
    return made


ARITHMETIC: dict[str, Operator] = {
    "+": _of_numbers_or_dates(exact.add, 1),
    "-": _of_numbers_or_dates(exact.subtract, -1),
    "*": _of_two(exact.multiply),
    "/": _of_two(exact.divide),
    "%": _of_two(exact.remainder),
    "MOD": _of_two(exact.remainder),
    "negative": _negative,
    "ABS": _wanted_number(exact.absolute),
    "SIGN": _wanted_number(_sign),
    "ROUND": _round,
    "FLOOR": _wanted_number(partial(exact.to_whole, pc.floor)),
    "CEILING": _wanted_number(partial(exact.to_whole, pc.ceil)),
    "SQRT": _of_float(pc.sqrt),
    "LN": _of_float(pc.ln),
    "EXP": _of_float(pc.exp),
    "POWER": _of_float(pc.power),
}
