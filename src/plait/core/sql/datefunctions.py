"""Functions of dates and times: their parts."""

from __future__ import annotations

from collections.abc import Callable
from decimal import Decimal

import pyarrow as pa
import pyarrow.compute as pc

from plait.core.account.errors import UsageError
from plait.core.sql.sorts import Operator, Rows, Value, sort_of
from plait.core.sql.syntax import Node
from plait.core.types import exact

_MICROSECONDS = {"DAY": 86_400_000_000, "HOUR": 3_600_000_000, "MINUTE": 60_000_000}
_MICROSECOND = pa.scalar(Decimal("0.000001"))


def _seconds(microseconds: Value) -> Value:
    """Microseconds as seconds: whole numbers where all of them are, else decimals."""
    apart = pc.subtract(microseconds, pc.multiply(pc.divide(microseconds, 1_000_000), 1_000_000))
    split = apart if isinstance(apart, pa.Array) else pa.array([apart.as_py()], pa.int64())
    if not pc.any(pc.not_equal(split, 0)).as_py():
        return pc.divide(microseconds, 1_000_000)
    return exact.multiply(microseconds, _MICROSECOND)


def _second(value: Value) -> Value:
    """The second of a moment, with its fraction."""
    small = pc.add(pc.multiply(pc.millisecond(value), 1000), pc.microsecond(value))
    return _seconds(pc.add(pc.multiply(pc.second(value), 1_000_000), small))


def _of_stretch(part: str, stretch: Value, node: Node) -> Value:
    """A part of a stretch of time, as a clock shows it, or all its seconds."""
    microseconds = stretch.cast(pa.int64())
    if part == "EPOCH":
        return _seconds(microseconds)
    above = {"HOUR": "DAY", "MINUTE": "HOUR", "SECOND": "MINUTE"}
    if part not in (*_MICROSECONDS, "SECOND"):
        raise UsageError(
            f"nothing called {part} is in a stretch of time",
            node.sql(),
            "one of EPOCH (all its seconds), DAY, HOUR, MINUTE, SECOND",
        )
    if part in above:
        larger = _MICROSECONDS[above[part]]
        whole = pc.multiply(pc.divide(microseconds, larger), larger)
        microseconds = pc.subtract(microseconds, whole)
    if part == "SECOND":
        return _seconds(microseconds)
    return pc.divide(microseconds, _MICROSECONDS[part])


_PARTS: dict[str, Callable[[Value], Value]] = {
    "YEAR": pc.year,
    "QUARTER": pc.quarter,
    "MONTH": pc.month,
    "WEEK": pc.iso_week,
    "DAY": pc.day,
    "DOY": pc.day_of_year,
    "DOW": lambda value: pc.day_of_week(value, count_from_zero=False),
    "HOUR": pc.hour,
    "MINUTE": pc.minute,
    "SECOND": _second,
}


def _extract(node: Node, rows: Rows) -> Value:
    if node.word == "EPOCH":
        value = rows.value(node.parts[0])
        if sort_of(value) in ("interval", "nothing"):
            return _extracted(node.word, value, node)
    if node.word not in _PARTS:
        raise UsageError(
            f"nothing called {node.word} can be extracted",
            node.sql(),
            f"one of {', '.join(_PARTS)}",
        )
    return _extracted(node.word, rows.value(node.parts[0]), node)


def _extracted(part: str, value: Value, node: Node) -> Value:
    """A part of a date, a moment or a time, as an integer."""
    sort = sort_of(value)
    if sort == "interval":
        return _of_stretch(part, value, node)
    clock = part in ("HOUR", "MINUTE", "SECOND")
    allowed = ("datetime", "time") if clock else ("date", "datetime")
    if sort == "nothing":
        return pa.scalar(None, pa.int64())
    if sort not in allowed:
        raise UsageError(
            f"{part} is extracted from a {' or a '.join(allowed)}, this is a {sort}",
            node.sql(),
            "CAST(… AS DATE), or set its format: --type COLUMN=date:%d.%m.%Y",
        )
    return _second(value) if part == "SECOND" else _PARTS[part](value).cast(pa.int64())


def _part(part: str) -> Operator:
    return lambda node, rows: _extracted(part, rows.value(node.parts[0]), node)


DATE_FUNCTIONS: dict[str, Operator] = {
    "extract": _extract,
    "YEAR": _part("YEAR"),
    "MONTH": _part("MONTH"),
    "DAY": _part("DAY"),
}
