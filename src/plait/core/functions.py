"""The functions of expressions: of text, of numbers, of dates, and casts."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
from sqlglot import exp

from plait.core.arithmetic import ARITHMETIC
from plait.core.casts import cast, try_cast
from plait.core.errors import UsageError
from plait.core.operators import (
    NOTHING,
    Operator,
    Rows,
    Value,
    alike,
    chosen,
    compare,
    family,
    spread,
    text_of,
    together,
    wanted,
    worked_out,
)

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


def _of_text(function: Callable[[Value], Value]) -> Operator:
    def operator(node: Any, rows: Rows) -> Value:
        return function(_text(node.this, node, rows))

    return operator


def _text(part: Any, node: Any, rows: Rows) -> Value:
    value = wanted(worked_out(part, rows), "text", node)
    return value.cast(pa.string()) if family(value) == "nothing" else value


def _of_number(function: Callable[[Value], Value]) -> Operator:
    def operator(node: Any, rows: Rows) -> Value:
        value = wanted(worked_out(node.this, rows), "number", node)
        return pa.scalar(None, pa.int64()) if family(value) == "nothing" else function(value)

    return operator


def _of_float(function: Callable[[Value], Value]) -> Operator:
    """A function that is not there for some numbers: missing for those."""

    def guarded(value: Value) -> Value:
        made = function(value.cast(pa.float64()))
        if isinstance(made, pa.Scalar):
            return made if pc.is_finite(made).as_py() else pa.scalar(None, pa.float64())
        return pc.if_else(pc.is_finite(made), made, pa.scalar(None, pa.float64()))

    return _of_number(guarded)


def _whole_number(part: Any, node: Any) -> int:
    sign = -1 if isinstance(part, exp.Neg) else 1
    part = part.this if isinstance(part, exp.Neg) else part
    if isinstance(part, exp.Literal) and not part.is_string and part.this.isdecimal():
        return sign * int(part.this)
    raise UsageError("this wants a whole number, written out", node.sql())


def _plain_text(part: Any, node: Any) -> str:
    if isinstance(part, exp.Literal) and part.is_string:
        return str(part.this)
    raise UsageError("this wants a text in quotes", node.sql())


def _trim(node: Any, rows: Rows) -> Value:
    signs = node.args.get("expression")
    signs = " " if signs is None else _plain_text(signs, node)
    side = node.args.get("position") or "BOTH"
    function = {"LEADING": pc.utf8_ltrim, "TRAILING": pc.utf8_rtrim}.get(side, pc.utf8_trim)
    return function(_text(node.this, node, rows), characters=signs)


def _substring(node: Any, rows: Rows) -> Value:
    """From a place that counts from 1; what lies before it counts towards the length."""
    start = _whole_number(node.args["start"], node) - 1
    length = node.args.get("length")
    stop = None if length is None else max(0, start + _whole_number(length, node))
    return pc.utf8_slice_codeunits(_text(node.this, node, rows), max(0, start), stop)


def _position(node: Any, rows: Rows) -> Value:
    return _place_of(
        spread(_text(node.this, node, rows), rows), _plain_text(node.args["substr"], node)
    )


def _place_of(cells: pa.Array, text: str) -> pa.Array:
    """Where a text first stands, counted in signs from 1; 0 where it does not."""
    head = pc.split_pattern(cells, text, max_splits=1)
    first = pc.list_element(head, 0)
    place = pc.add(pc.utf8_length(first), 1)
    return pc.if_else(pc.match_substring(cells, text), place, 0).cast(pa.int64())


def _replace(node: Any, rows: Rows) -> Value:
    old = _plain_text(node.expression, node)
    new = _plain_text(node.args["replacement"], node)
    cells = _text(node.this, node, rows)
    return pc.replace_substring(cells, old, new) if old else cells


def _left(node: Any, rows: Rows) -> Value:
    count = _whole_number(node.expression, node)
    return pc.utf8_slice_codeunits(_text(node.this, node, rows), 0, max(0, count))


def _right(node: Any, rows: Rows) -> Value:
    count = _whole_number(node.expression, node)
    cells = _text(node.this, node, rows)
    if count <= 0:
        return pc.utf8_slice_codeunits(cells, 0, 0)
    return pc.utf8_reverse(pc.utf8_slice_codeunits(pc.utf8_reverse(cells), 0, count))


def _pad(node: Any, rows: Rows) -> Value:
    width = _whole_number(node.expression, node)
    fill = node.args.get("fill_pattern")
    fill = " " if fill is None else _plain_text(fill, node)
    if len(fill) != 1 or not 0 <= width <= 10_000:
        raise UsageError("a text is filled up with one sign, to at most 10,000", node.sql())
    function = pc.utf8_lpad if node.args.get("is_left") else pc.utf8_rpad
    return function(_text(node.this, node, rows), width, fill)


def _concat(node: Any, rows: Rows) -> Value:
    return pc.binary_join_element_wise(*(text_of(one, rows) for one in node.expressions), "")


def _round(node: Any, rows: Rows) -> Value:
    """Halves away from zero."""
    decimals = node.args.get("decimals")
    digits = 0 if decimals is None else _whole_number(decimals, node)
    value = wanted(worked_out(node.this, rows), "number", node)
    if family(value) == "nothing":
        return pa.scalar(None, pa.int64())
    made = pc.round(value, digits, round_mode="half_towards_infinity")
    if pa.types.is_decimal(made.type) and 0 <= digits < made.type.scale:
        kind = pa.decimal128(made.type.precision, digits)
        return made.cast(kind)
    return made


def _nearest_whole(function: Callable[[Value], Value]) -> Operator:
    def whole(value: Value) -> Value:
        made = function(value)
        return made if pa.types.is_integer(made.type) else made.cast(pa.int64(), safe=False)

    return _of_number(whole)


def _coalesce(node: Any, rows: Rows) -> Value:
    values = [worked_out(one, rows) for one in (node.this, *node.expressions)]
    values = together(values, node)
    return NOTHING if family(values[0]) == "nothing" else pc.coalesce(*values)


def _nullif(node: Any, rows: Rows) -> Value:
    left, right = worked_out(node.this, rows), worked_out(node.expression, rows)
    same = compare(pc.equal, *alike(left, right, node))
    return chosen([same], [pa.scalar(None, left.type), left], rows)


def _extreme(function: Callable[..., Value]) -> Operator:
    """GREATEST and LEAST: missing where any is, as in ISO 9075."""

    def operator(node: Any, rows: Rows) -> Value:
        parts = (node.this, *node.expressions)
        values = together([worked_out(one, rows) for one in parts], node)
        if family(values[0]) == "text":
            return _extreme_text(values, function is pc.max_element_wise, rows)
        return function(*values, skip_nulls=False)

    return operator


def _extreme_text(values: list[Value], greatest: bool, rows: Rows) -> Value:
    best = spread(values[0], rows)
    for value in values[1:]:
        other = spread(value, rows)
        better = pc.greater(other, best) if greatest else pc.less(other, best)
        best = pc.if_else(better, other, best)  # missing where either was
    return best


def _extract(node: Any, rows: Rows) -> Value:
    part = node.this.name.upper()
    if part not in _PARTS:
        raise UsageError(
            f"nothing called {part} can be extracted", node.sql(), f"one of {', '.join(_PARTS)}"
        )
    return extracted(part, worked_out(node.expression, rows), node)


def extracted(part: str, value: Value, node: Any) -> Value:
    """A part of a date, a moment or a time, as an integer."""
    sort = family(value)
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
    return lambda node, rows: extracted(part, worked_out(node.this, rows), node)


def _power(node: Any, rows: Rows) -> Value:
    left = wanted(worked_out(node.this, rows), "number", node).cast(pa.float64())
    right = wanted(worked_out(node.expression, rows), "number", node).cast(pa.float64())
    return pc.power(left, right)


FUNCTIONS: dict[type, Operator] = {
    **ARITHMETIC,
    exp.Cast: cast,
    exp.TryCast: try_cast,
    exp.Coalesce: _coalesce,
    exp.Nullif: _nullif,
    exp.Greatest: _extreme(pc.max_element_wise),
    exp.Least: _extreme(pc.min_element_wise),
    exp.Lower: _of_text(pc.utf8_lower),
    exp.Upper: _of_text(pc.utf8_upper),
    exp.Length: _of_text(lambda cells: pc.utf8_length(cells).cast(pa.int64())),
    exp.Reverse: _of_text(pc.utf8_reverse),
    exp.Trim: _trim,
    exp.Substring: _substring,
    exp.StrPosition: _position,
    exp.Replace: _replace,
    exp.Left: _left,
    exp.Right: _right,
    exp.Pad: _pad,
    exp.Concat: _concat,
    exp.Abs: _of_number(pc.abs),
    exp.Sign: _of_number(lambda value: pc.sign(value).cast(pa.int64())),
    exp.Round: _round,
    exp.Floor: _nearest_whole(pc.floor),
    exp.Ceil: _nearest_whole(pc.ceil),
    exp.Sqrt: _of_float(pc.sqrt),
    exp.Ln: _of_float(pc.ln),
    exp.Exp: _of_float(pc.exp),
    exp.Pow: _power,
    exp.Extract: _extract,
    exp.Year: _part("YEAR"),
    exp.Month: _part("MONTH"),
    exp.Day: _part("DAY"),
}
