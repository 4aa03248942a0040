"""CAST: one type made of another, or an error that names the row; TRY_CAST: or missing."""

from __future__ import annotations

from collections.abc import Iterable
from decimal import ROUND_HALF_UP, Context, Decimal
from functools import partial

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.base.errors import UsageError
from plait.core.expressions.arithmetic import apply_arithmetic
from plait.core.expressions.operands import (
    EvaluationBatch,
    InvalidOperandError,
    Operator,
    Value,
    broadcast,
    cast_to_text,
    require_literal_text,
    require_text,
    type_family,
)
from plait.core.expressions.parser import TYPES, SyntaxNode
from plait.core.text.cells import to_text
from plait.core.text.decimals import smallest_decimal_type
from plait.core.types import exact_numbers
from plait.core.types.date_formats import parse_dates
from plait.core.types.value_formats import FORMS

_LONGEST = 2**31  # no text has more signs
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
_NUMBER = r"^[+-]?([0-9]+\.?[0-9]*|\.[0-9]+)([eE][+-]?[0-9]{1,4})?$"
_LARGEST = 2.0**63
_SHORT = 40  # characters of a number that needs no look at its size
_WIDE = Context(prec=60)
_TYPES = {
    "integer": pa.int64(),
    "float": pa.float64(),
    "decimal": pa.decimal128(38, 6),
    "boolean": pa.bool_(),
    "date": pa.date32(),
    "datetime": pa.timestamp("us"),
    "time": pa.time64("us"),
    "text": pa.string(),
}
_MASK_DIRECTIVES = (
    ("YYYY", "%Y"), ("YY", "%y"), ("MONTH", "%B"), ("MON", "%b"), ("MM", "%m"), ("DD", "%d"),
    ("HH24", "%H"), ("HH12", "%I"), ("HH", "%I"), ("MI", "%M"), ("SS", "%S"), ("FF", "%f"),
    ("AM", "%p"), ("PM", "%p"),
)  # fmt: skip


def _cast(node: SyntaxNode, rows: EvaluationBatch) -> Value:
    """The value in another type; the first that has none there is an error."""
    return _without_loss(*_cast_values(node, rows), _NAMES[node.parts[1].word])


def _without_loss(before: pa.Array, made: pa.Array, to: str) -> pa.Array:
    lost = pc.and_(pc.is_valid(before), pc.is_null(made)).to_numpy(zero_copy_only=False)
    bad = np.flatnonzero(lost)
    if len(bad):
        value = before[int(bad[0])].as_py()
        several = to in ("date", "datetime") and isinstance(value, str) and _readings(value, to)
        raise InvalidOperandError(
            f"{value!r} may be {' or '.join(several)}"
            if several
            else f"{value!r} is not of type {to}",
            int(bad[0]),
            "TO_DATE(…, 'DD/MM/YYYY') sets its format"
            if several
            else "TRY_CAST makes such values missing",
        )
    return made


def _try_cast(node: SyntaxNode, rows: EvaluationBatch) -> Value:
    """The value in another type, missing where it has none."""
    return _cast_values(node, rows)[1]


def _cast_values(node: SyntaxNode, rows: EvaluationBatch) -> tuple[pa.Array, pa.Array]:
    """The values before and after; missing where there is none after."""
    part, kind = node.parts
    if kind.word not in _NAMES:
        raise UsageError(f"unknown type {kind.sql()}", node.sql(), TYPES)
    to, sizes = _NAMES[kind.word], [int(p.word) for p in kind.parts]
    if to == "text":
        cells = broadcast(cast_to_text(part, rows), rows).cast(pa.string())
        return cells, pc.utf8_slice_codeunits(cells, 0, min(sizes[0], _LONGEST)) if sizes else cells
    value = broadcast(rows.value(part), rows)
    sort = type_family(value)
    if sort == "nothing":
        made = pa.nulls(rows.rows, _TYPES[to])
        return made, made
    if sort == "text":
        made = apply_arithmetic(
            partial(_from_text, pc.utf8_trim_whitespace(value), to, sizes), node
        )
        return pc.if_else(pc.equal(value, ""), pa.scalar(None, value.type), value), made
    return value, apply_arithmetic(partial(_between, value, sort, to, sizes, node), node)


def _from_text(cells: pa.Array, to: str, sizes: list[int]) -> pa.Array:
    if to in _FORMS:
        return _moments(cells, to)
    if to == "boolean":
        lower = pc.utf8_lower(cells)
        true = pc.is_in(lower, pa.array(_TRUE))
        return pc.if_else(pc.or_(true, pc.is_in(lower, pa.array(_FALSE))), true, None)
    numbers = pc.if_else(pc.match_substring_regex(cells, _NUMBER), cells, None)
    numbers = pc.utf8_ltrim(numbers, "+")
    if to == "float":
        return numbers.cast(pa.float64())
    if to == "integer":
        numbers = _within_64_bits(numbers)
    decimals = exact_numbers.parse_decimals(numbers)
    return _to_integer(decimals) if to == "integer" else _sized(decimals, sizes)


def _moments(cells: pa.Array, to: str) -> pa.Array:
    """Dates or times in ISO form; or in any form in which a text can be read in one way."""
    made = pc.coalesce(*(parse_dates(cells, form, to) for form in _FORMS[to]))
    rest = np.flatnonzero(pc.and_(cells.is_valid(), made.is_null()).to_numpy(zero_copy_only=False))
    if not len(rest):
        return made
    some = cells.take(pa.array(rest))
    read = [in_form.cast(made.type) for in_form in _read_in_forms(some, to)]
    if not read:
        return made
    found = pc.coalesce(*read)
    clear = [pc.fill_null(pc.equal(r, found), True) for r in read]
    for one in clear:
        found = pc.if_else(one, found, pa.scalar(None, found.type))
    mask = np.zeros(len(cells), bool)
    mask[rest] = True
    return pc.replace_with_mask(made, pa.array(mask), found)


def _read_in_forms(cells: pa.Array, to: str) -> Iterable[pa.Array]:
    for form in FORMS.values():
        if form.family == to and pc.any(pc.match_substring_regex(cells, form.pattern)).as_py():
            yield form.read(cells)


def _readings(text: str, to: str) -> list[str]:
    """The values that a text has, where there are several."""
    every = (in_form[0].as_py() for in_form in _read_in_forms(pa.array([text.strip()]), to))
    values = dict.fromkeys(str(e) for e in every if e is not None)
    return list(values) if len(values) > 1 else []


def _within_64_bits(texts: pa.Array) -> pa.Array:
    """Numbers without those that a 64-bit integer is far from holding, which may be very long."""
    long = pc.fill_null(pc.greater(pc.utf8_length(texts), _SHORT), False)
    odd = pc.or_(long, pc.fill_null(pc.match_substring_regex(texts, "[eE]"), False))
    if not pc.any(odd).as_py():
        return texts
    made = [
        None
        if text is None or abs(Decimal(text)) >= 2 * _LARGEST
        else format(Decimal(text).quantize(Decimal(1), ROUND_HALF_UP, _WIDE), "f")
        for text in texts.filter(odd).to_pylist()
    ]
    return pc.replace_with_mask(texts, odd, pa.array(made, texts.type))


def _sized(value: pa.Array, sizes: list[int]) -> pa.Array:
    """A decimal rounded to the places asked for; missing where it has too many digits then."""
    if not sizes:
        return value
    digits, places = (*sizes, 0)[:2]
    made = exact_numbers.round_half_away(value, places)
    if not pa.types.is_decimal(made.type):
        made = exact_numbers.to_decimal(made)
    if made.type.precision - made.type.scale > digits - places:
        limit = exact_numbers.to_decimal(
            exact_numbers.parse_decimals(pa.array(["1" + "0" * max(digits - places, 0)]))
        )
        within = pc.less(*exact_numbers.unify_numbers([pc.abs(made), limit[0]]))
        made = pc.if_else(within, made, pa.scalar(None, made.type))
    return made.cast(smallest_decimal_type(digits, places))


def _to_integer(value: pa.Array) -> pa.Array:
    """The nearest whole number, halves away from zero; missing where 64 bits do not hold it."""
    if pa.types.is_floating(value.type):
        value = exact_numbers.round_half_away(value, 0)
        within = pc.and_(pc.less(value, _LARGEST), pc.greater_equal(value, -_LARGEST))
        value = pc.if_else(pc.fill_null(within, False), value, None)
        return pc.cast(value, pa.int64(), safe=False)
    whole = exact_numbers.round_to_integer(pc.trunc, exact_numbers.round_half_away(value, 0))
    if pa.types.is_integer(whole.type):
        return whole
    ends = [pa.scalar(-(2**63)), pa.scalar(2**63 - 1)]
    low, high, one = exact_numbers.unify_numbers([*ends, whole])
    within = pc.and_(pc.greater_equal(one, low), pc.less_equal(one, high))
    return pc.if_else(within, whole, pa.scalar(None, whole.type)).cast(pa.int64())


def _between(value: pa.Array, sort: str, to: str, sizes: list[int], node: SyntaxNode) -> pa.Array:
    if sort == "number":
        made = _from_number(value, to, sizes)
        if made is not None:
            return made
    if sort == "boolean" and to in ("integer", "float", "decimal"):
        whole = value.cast(pa.int64())
        return (
            _sized(exact_numbers.to_decimal(whole), sizes)
            if to == "decimal"
            else whole.cast(_TYPES[to])
        )
    if sort == to:
        return value
    if sort == "date" and to == "datetime":
        return value.cast(pa.timestamp("us"))
    if sort == "datetime" and to in ("date", "time"):
        return value.cast(pa.timestamp("us")).cast(_TYPES[to], safe=False)
    raise UsageError(
        f"a {sort} is not made a {to}", node.sql(), "convert it to text first: CAST(… AS TEXT)"
    )


def _from_number(value: pa.Array, to: str, sizes: list[int]) -> pa.Array | None:
    if to == "float":
        return exact_numbers.to_float(value)
    if to == "integer":
        return _to_integer(value)
    if to == "boolean":
        return pc.not_equal(value, pa.scalar(0, value.type))
    if to != "decimal":
        return None
    if pa.types.is_floating(value.type):
        finite = pc.is_finite(value)
        value = exact_numbers.parse_decimals(to_text(pc.if_else(finite, value, None)))
    return _sized(exact_numbers.to_decimal(value), sizes)


def date_pattern_from_mask(text: str) -> str:
    """A form of dates with ``%`` signs, from one written as ``DD.MM.YYYY``.

    >>> date_pattern_from_mask("DD Mon YYYY"), date_pattern_from_mask("%d/%m/%y")
    ('%d %b %Y', '%d/%m/%y')
    """
    if "%" in text:
        return text
    made, place = "", 0
    while place < len(text):
        known = (
            (sign, to) for sign, to in _MASK_DIRECTIVES if text[place:].upper().startswith(sign)
        )
        sign, to = next(known, (text[place], text[place]))
        made, place = made + to, place + len(sign)
    return made


def _read_by_form(kind: str) -> Operator:
    """TO_DATE(a, 'DD.MM.YYYY'); what is not written so is an error."""

    def operator(node: SyntaxNode, rows: EvaluationBatch) -> Value:
        form = date_pattern_from_mask(require_literal_text(node.parts[1], node))
        cells = pc.utf8_trim_whitespace(broadcast(require_text(node.parts[0], node, rows), rows))
        cells = pc.if_else(pc.equal(cells, ""), pa.scalar(None, cells.type), cells)
        return _without_loss(cells, parse_dates(cells, form, kind), kind)

    return operator


CASTS: dict[str, Operator] = {
    "cast": _cast,
    "try cast": _try_cast,
    "TO_DATE": _read_by_form("date"),
    "TO_TIMESTAMP": _read_by_form("datetime"),
}
