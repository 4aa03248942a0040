"""CAST: one type made of another, or an error that names the row; TRY_CAST: or missing."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.dateforms import read_dates
from plait.core.errors import UsageError
from plait.core.operators import BadValueError, Rows, Value, family, spread, text_of, worked_out
from plait.core.text import as_text

_NAMES = {
    **dict.fromkeys(("INT", "BIGINT", "SMALLINT", "TINYINT"), "integer"),
    **dict.fromkeys(("DOUBLE", "FLOAT", "UDOUBLE"), "float"),
    "DECIMAL": "decimal",
    **dict.fromkeys(("TEXT", "VARCHAR", "CHAR", "NVARCHAR", "NCHAR"), "text"),
    "BOOLEAN": "boolean",
    "DATE": "date",
    **dict.fromkeys(("TIMESTAMP", "DATETIME", "TIMESTAMPNTZ"), "datetime"),
    "TIME": "time",
}
_MOMENTS = ("%Y-%m-%d %H:%M", "%Y-%m-%d %H:%M:%S", "%Y-%m-%d %H:%M:%S.%f")
_FORMS = {
    "date": ("%Y-%m-%d",),
    "time": ("%H:%M", "%H:%M:%S", "%H:%M:%S.%f"),
    "datetime": (*_MOMENTS, *(form.replace(" ", "T") for form in _MOMENTS), "%Y-%m-%d"),
}
_TRUE, _FALSE = ("true", "t", "yes", "y", "1"), ("false", "f", "no", "n", "0")
_MOST_DIGITS = 38


def cast(node: Any, rows: Rows) -> Value:
    """The value in another type.

    Raises
    ------
    UsageError
        For a type that there is not.
    BadValueError
        For the first value that has none in that type.
    """
    before, made = _made(node, rows)
    bad = np.flatnonzero(
        pc.and_(pc.is_valid(before), pc.is_null(made)).to_numpy(zero_copy_only=False)
    )
    if len(bad):
        value = before[int(bad[0])].as_py()
        raise BadValueError(
            f"{value!r} is no {_NAMES[node.to.this.name]}",
            int(bad[0]),
            "TRY_CAST makes such values missing",
        )
    return made


def try_cast(node: Any, rows: Rows) -> Value:
    """The value in another type, missing where it has none."""
    return _made(node, rows)[1]


def _made(node: Any, rows: Rows) -> tuple[pa.Array, pa.Array]:
    """The values before and after; missing where there is none after."""
    name = node.to.this.name
    if name not in _NAMES:
        raise UsageError(
            f"there is no type {node.to.sql()}",
            node.sql(),
            "one of INTEGER, DECIMAL, DOUBLE, TEXT, BOOLEAN, DATE, TIMESTAMP, TIME",
        )
    to, params = _NAMES[name], [int(one.name) for one in node.to.expressions]
    if to == "text":
        texts = spread(text_of(node.this, rows), rows).cast(pa.string())
        return texts, pc.utf8_slice_codeunits(texts, 0, params[0]) if params else texts
    value = spread(worked_out(node.this, rows), rows)
    sort = family(value)
    if sort == "nothing":
        made = pa.nulls(rows.rows, _plain_type(to))
        return made, made
    if sort == "text":
        return value, _from_text(pc.utf8_trim_whitespace(value), to, params)
    return value, _between(value, sort, to, params, node)


def _plain_type(to: str) -> pa.DataType:
    return {
        "integer": pa.int64(),
        "float": pa.float64(),
        "decimal": pa.decimal128(_MOST_DIGITS, 6),
        "boolean": pa.bool_(),
        "date": pa.date32(),
        "datetime": pa.timestamp("us"),
        "time": pa.time64("us"),
    }[to]


def _from_text(cells: pa.Array, to: str, params: list[int]) -> pa.Array:
    if to in _FORMS:
        return pc.coalesce(*(read_dates(cells, form, to) for form in _FORMS[to]))
    if to == "boolean":
        lower = pc.utf8_lower(cells)
        true = pc.is_in(lower, pa.array(_TRUE))
        return pc.if_else(pc.or_(true, pc.is_in(lower, pa.array(_FALSE))), true, None)
    patterns = {"integer": r"^[+-]?[0-9]{1,18}$", "decimal": r"^[+-]?([0-9]+\.?[0-9]*|\.[0-9]+)$"}
    pattern = patterns.get(to, r"^[+-]?([0-9]+\.?[0-9]*|\.[0-9]+)([eE][+-]?[0-9]+)?$")
    numbers = pc.if_else(pc.match_substring_regex(cells, pattern), cells, None)
    numbers = pc.utf8_ltrim(numbers, "+")
    if to != "decimal":
        return numbers.cast(_plain_type(to))
    return _decimals(numbers, params)


def _decimal_type(params: list[int]) -> pa.DataType:
    digits, scale = (*params, 0)[:2] if params else (_MOST_DIGITS, 6)
    return pa.decimal128(min(digits, _MOST_DIGITS), scale)


def _decimals(numbers: pa.Array, params: list[int]) -> pa.Array:
    """Texts as decimals, rounded to the places asked for; to 6 when none are."""
    return _rounded(pc.cast(numbers, pa.decimal128(_MOST_DIGITS, 18)), params)


def _rounded(wide: pa.Array, params: list[int]) -> pa.Array:
    kind = _decimal_type(params)
    return pc.round(wide, kind.scale, round_mode="half_towards_infinity").cast(kind)


def _between(value: pa.Array, sort: str, to: str, params: list[int], node: Any) -> pa.Array:
    if sort == "number" and to in ("integer", "float", "decimal"):
        return _number(value, to, params)
    if sort == "number" and to == "boolean":
        return pc.not_equal(value, 0)
    if sort == "boolean" and to in ("integer", "float", "decimal"):
        return value.cast(pa.int64()).cast(_plain_type(to))
    if sort == to:
        return value
    if sort == "date" and to == "datetime":
        return value.cast(pa.timestamp("us"))
    if sort == "datetime" and to in ("date", "time"):
        return value.cast(pa.timestamp("us")).cast(_plain_type(to), safe=False)
    raise UsageError(f"a {sort} is not made a {to}", node.sql(), "by way of text: CAST(… AS TEXT)")


def _number(value: pa.Array, to: str, params: list[int]) -> pa.Array:
    if to == "float":
        return value.cast(pa.float64())
    if to == "integer":
        if pa.types.is_integer(value.type):
            return value.cast(pa.int64())
        whole = pc.round(value, round_mode="towards_zero")
        return whole.cast(pa.int64(), safe=False)
    if pa.types.is_floating(value.type):
        value = as_text(value)
        return _from_text(value, "decimal", params or [_MOST_DIGITS, 6])
    if not params:
        return value
    return _rounded(value.cast(pa.decimal128(_MOST_DIGITS, 18)), params)
