"""Functions of dates and times: their parts."""

from __future__ import annotations

from collections.abc import Callable

import pyarrow as pa
import pyarrow.compute as pc

from plait.core.account.errors import UsageError
from plait.core.sql.sorts import Operator, Rows, Value, sort_of
from plait.core.sql.syntax import Node

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
    "SECOND": pc.second,
}


def _extract(node: Node, rows: Rows) -> Value:
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
    clock = part in ("HOUR", "MINUTE", "SECOND")
    allowed = ("datetime", "time") if clock else ("date", "datetime")
    if sort == "nothing":
        return pa.scalar(None, pa.int64())
    if sort not in allowed:
        raise UsageError(
            f"{part} is extracted from a {' or a '.join(allowed)}, this is a {sort}",
            node.sql(),
            "CAST(… AS DATE), or say how it is written: --type COLUMN=date:%d.%m.%Y",
        )
    return _PARTS[part](value).cast(pa.int64())


def _part(part: str) -> Operator:
    return lambda node, rows: _extracted(part, rows.value(node.parts[0]), node)


DATE_FUNCTIONS: dict[str, Operator] = {
    "extract": _extract,
    "YEAR": _part("YEAR"),
    "MONTH": _part("MONTH"),
    "DAY": _part("DAY"),
}
