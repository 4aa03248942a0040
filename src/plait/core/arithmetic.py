"""Arithmetic of expressions: exact on integers and decimals, and on dates by the calendar."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from sqlglot import exp

from plait.core.errors import UsageError
from plait.core.operators import Rows, Value, family, spread, wanted, worked_out

_DAYS = {"DAY": 1, "WEEK": 7}
_MONTHS = {"MONTH": 1, "QUARTER": 3, "YEAR": 12}
_SECONDS = {"SECOND": 1, "MINUTE": 60, "HOUR": 3600}


def calculated(function: Callable[[Value, Value], Value], sign: int = 0) -> Any:
    """An operator on two numbers; with a sign also on a date and days, or an interval."""

    def operator(node: Any, rows: Rows) -> Value:
        if sign and isinstance(node.expression, exp.Interval):
            return _moved_by_interval(node, rows, sign)
        left, right = worked_out(node.this, rows), worked_out(node.expression, rows)
        if sign and family(left) in ("date", "datetime"):
            return _moved(left, right, node, rows, sign)
        return number(function, wanted(left, "number", node), wanted(right, "number", node), node)

    return operator


def number(
    function: Callable[[Value, Value], Value], left: Value, right: Value, node: Any
) -> Value:
    """Integers and decimals exactly; decimals that would need more than 38 digits as floats.

    Raises
    ------
    UsageError
        When an integer grows past 64 bits.
    """
    if "nothing" in (family(left), family(right)):
        return pa.scalar(None, pa.int64())
    try:
        return function(left, right)
    except pa.ArrowInvalid as error:
        if pa.types.is_integer(left.type) and pa.types.is_integer(right.type):
            raise UsageError(
                f"an integer grows too large: {error}", node.sql(), "CAST(… AS DOUBLE)"
            ) from None
        return function(left.cast(pa.float64()), right.cast(pa.float64()))


def divide(node: Any, rows: Rows) -> Value:
    """One number by another, as a float; missing where the second is zero."""
    left = wanted(worked_out(node.this, rows), "number", node).cast(pa.float64())
    right = wanted(worked_out(node.expression, rows), "number", node).cast(pa.float64())
    return pc.divide(left, _not_zero(right))


def _not_zero(value: Value) -> Value:
    if isinstance(value, pa.Scalar):
        return value if value.as_py() else pa.scalar(None, value.type)
    return pc.if_else(pc.equal(value, 0), pa.scalar(None, value.type), value)


def remainder(node: Any, rows: Rows) -> Value:
    """What is left of a division of integers, with the sign of the first, as in ISO 9075."""
    left = wanted(worked_out(node.this, rows), "number", node)
    right = wanted(worked_out(node.expression, rows), "number", node)
    if not (pa.types.is_integer(left.type) and pa.types.is_integer(right.type)):
        left, right = left.cast(pa.float64()), right.cast(pa.float64())
    right = _not_zero(right)
    whole = pc.divide(left, right)
    whole = pc.trunc(whole) if pa.types.is_floating(whole.type) else whole
    return pc.subtract(left, pc.multiply(whole, right))


def negative(node: Any, rows: Rows) -> Value:
    """The number with the other sign."""
    return pc.negate(wanted(worked_out(node.this, rows), "number", node))


def _moved(left: Value, right: Value, node: Any, rows: Rows, sign: int) -> Value:
    """A date and so many days more or less; of two dates the days between them."""
    if family(right) == "nothing":
        return pa.scalar(None, pa.null())
    if sign < 0 and family(right) in ("date", "datetime"):
        days = pc.days_between(right.cast(pa.date32()), left.cast(pa.date32()))
        return days.cast(pa.int64())
    if not pa.types.is_integer(right.type) or family(left) != "date":
        raise UsageError(
            "to a date, whole days or an interval are added", node.sql(), "… + INTERVAL '7' DAY"
        )
    days = spread(left, rows).view(pa.int32()).cast(pa.int64())
    return pc.add(days, pc.multiply(right, sign)).cast(pa.int32()).view(pa.date32())


def _moved_by_interval(node: Any, rows: Rows, sign: int) -> Value:
    left = spread(worked_out(node.this, rows), rows)
    if family(left) == "nothing":
        return left
    interval = node.expression
    unit = str(interval.args.get("unit") or "").upper().removesuffix("S")
    try:
        amount = sign * int(interval.this.name)
    except (ValueError, AttributeError):
        raise UsageError(
            "an interval is a whole number and a unit", node.sql(), "INTERVAL '7' DAY"
        ) from None
    if family(left) not in ("date", "datetime"):
        raise UsageError("an interval is added to a date or a moment", node.sql())
    if unit in _MONTHS:
        return _months_on(left, amount * _MONTHS[unit])
    if unit in _DAYS and family(left) == "date":
        days = left.view(pa.int32()).cast(pa.int64())
        return pc.add(days, amount * _DAYS[unit]).cast(pa.int32()).view(pa.date32())
    seconds = {**_SECONDS, **{name: 86400 * days for name, days in _DAYS.items()}}.get(unit)
    if seconds is None:
        known = (*_DAYS, *_MONTHS, *_SECONDS)
        raise UsageError(f"{unit!r} is no unit of time", node.sql(), f"one of {', '.join(known)}")
    kind = left.type if family(left) == "datetime" else pa.timestamp("us")
    return pc.add(
        left.cast(kind), pa.scalar(amount * seconds, pa.duration("s")).cast(pa.duration("us"))
    )


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


def _checked(name: str) -> Callable[[Value, Value], Value]:
    """Addition and the like: of integers with a look for overflow, of decimals as they are."""
    plain, careful = getattr(pc, name), getattr(pc, f"{name}_checked")

    def function(left: Value, right: Value) -> Value:
        whole = pa.types.is_integer(left.type) and pa.types.is_integer(right.type)
        made: Value = (careful if whole else plain)(left, right)
        return made

    return function


ARITHMETIC: dict[type, Any] = {
    exp.Add: calculated(_checked("add"), 1),
    exp.Sub: calculated(_checked("subtract"), -1),
    exp.Mul: calculated(_checked("multiply")),
    exp.Div: divide,
    exp.Mod: remainder,
    exp.Neg: negative,
}
