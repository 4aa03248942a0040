"""The sorts of values that expressions have, and how several are brought to one."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any, Protocol, TypeAlias

import pyarrow as pa
import pyarrow.compute as pc

from plait.core.base.errors import UsageError
from plait.core.expressions.parser import SyntaxNode
from plait.core.text.cells import is_text_type, to_text
from plait.core.text.decimals import format_decimal_short
from plait.core.types import exact_numbers

Value: TypeAlias = Any  # a pyarrow.Array or a pyarrow.Scalar

TRUTH = pa.bool_()
NOTHING = pa.scalar(None)


class EvaluationBatch(Protocol):
    """The rows that an expression is worked out on."""

    rows: int

    def value(self, node: SyntaxNode) -> Value:
        """What a part of the expression gives on these rows."""

    def column(self, name: str) -> pa.Array:
        """The typed cells of a column."""

    def text(self, name: str) -> pa.Array:
        """Its cells as they stand."""


Operator = Callable[[SyntaxNode, EvaluationBatch], Value]


class InvalidOperandError(Exception):
    """A value that an operator cannot take; ``row`` counts from 0 within the rows at hand."""

    def __init__(self, what: str, row: int, remedy: str) -> None:
        super().__init__(what)
        self.row, self.remedy = row, remedy


def type_family(value: Value) -> str:
    """The sort of a value: number, text, boolean, date, datetime, time or nothing.

    >>> type_family(pa.scalar(7)), type_family(pa.array(["a"])), type_family(NOTHING)
    ('number', 'text', 'nothing')
    """
    kind = value.type
    if is_text_type(kind):
        return "text"
    if exact_numbers.is_number(kind):
        return "number"
    named = (
        (pa.types.is_boolean, "boolean"),
        (pa.types.is_date, "date"),
        (pa.types.is_timestamp, "datetime"),
        (pa.types.is_time, "time"),
        (pa.types.is_duration, "interval"),
        (pa.types.is_null, "nothing"),
    )
    return next((name for holds, name in named if holds(kind)), str(kind))


def require_family(value: Value, sort: str, node: SyntaxNode) -> Value:
    """The value, once it is known to be of a sort; nothing is of every sort.

    Raises
    ------
    UsageError
        When it is of another.
    """
    if type_family(value) not in (sort, "nothing"):
        part = node.parts[0].sql() if node.parts else "…"
        raise UsageError(
            f"expected {family_with_article(sort)}, found "
            f"{family_with_article(type_family(value))}",
            node.sql(),
            f"CAST({part} AS …) turns one into the other",
        )
    return value


def family_with_article(sort: str) -> str:
    """The sort as a message names it.

    >>> family_with_article("number"), family_with_article("text")
    ('a number', 'text')
    """
    return f"a {sort}" if sort not in ("text", "nothing") else sort


def require_text(part: SyntaxNode, node: SyntaxNode, rows: EvaluationBatch) -> Value:
    """A part that must be text."""
    value = require_family(rows.value(part), "text", node)
    return value.cast(pa.string()) if type_family(value) == "nothing" else value


def require_number(part: SyntaxNode, node: SyntaxNode, rows: EvaluationBatch) -> Value:
    """A part that must be a number; nothing is a missing integer."""
    return as_number(rows.value(part), node)


def as_number(value: Value, node: SyntaxNode) -> Value:
    """A value that must be a number; nothing is a missing integer."""
    value = require_family(value, "number", node)
    return value.cast(pa.int64()) if type_family(value) == "nothing" else value


def require_boolean(part: SyntaxNode, node: SyntaxNode, rows: EvaluationBatch) -> Value:
    """A part that must be true or false."""
    return require_family(rows.value(part), "boolean", node).cast(TRUTH)


def cast_to_text(part: SyntaxNode, rows: EvaluationBatch) -> Value:
    """A value as text; a column's cells as they stand."""
    if part.op == "column":
        return rows.text(part.word)
    value = rows.value(part)
    if isinstance(value, pa.Array):
        return _written(value, part)
    return _written(pa.array([value.as_py()], value.type), part)[0]


def _written(values: pa.Array, node: SyntaxNode) -> pa.Array:
    """What an expression gives, as text: a quotient without the places that it does not need."""
    if pa.types.is_decimal(values.type) and node.divides:
        return format_decimal_short(values)
    return to_text(values)


def require_literal_text(part: SyntaxNode, node: SyntaxNode) -> str:
    """A part that must be a text written out.

    Raises
    ------
    UsageError
    """
    if part.op != "text":
        raise UsageError("expected a text in quotes", node.sql())
    return part.word


def broadcast(value: Value, rows: EvaluationBatch) -> pa.Array:
    """A value on every row."""
    return value if isinstance(value, pa.Array) else pa.repeat(value, rows.rows)


def is_null_scalar(value: Value) -> Value:
    """Whether there is no value."""
    return pc.is_null(value) if isinstance(value, pa.Array) else pa.scalar(not value.is_valid)


def unify_pair(left: Value, right: Value, node: SyntaxNode) -> tuple[Value, Value]:
    """Two values brought to one sort and type, if they may be compared.

    Raises
    ------
    UsageError
        When they are of different sorts. A date and a text written in the
        expression go together, as do a date and a moment.
    """
    sorts = type_family(left), type_family(right)
    if sorts == ("number", "number"):
        one, other = exact_numbers.unify_numbers([left, right])
        return one, other
    if sorts[0] == sorts[1] or "nothing" in sorts:
        return left, right
    times = ("date", "datetime", "time")
    for one, other, back in ((left, right, False), (right, left, True)):
        if (
            type_family(one) in times
            and isinstance(other, pa.Scalar)
            and type_family(other) == "text"
        ):
            made = _as_time(other, one.type, node)
            return (made, one) if back else (one, made)
    if set(sorts) == {"date", "datetime"}:
        kind = next(value.type for value in (left, right) if type_family(value) == "datetime")
        return left.cast(kind), right.cast(kind)
    raise UsageError(
        f"cannot compare {family_with_article(sorts[0])} with {family_with_article(sorts[1])}",
        node.sql(),
        "make them one type: CAST(… AS …)",
    )


def _as_time(text: pa.Scalar, kind: pa.DataType, node: SyntaxNode) -> pa.Scalar:
    try:
        return text.cast(kind)
    except pa.ArrowInvalid:
        raise UsageError(
            f"{text.as_py()!r} is not of type {kind}", node.sql(), "write it as '2031-04-05'"
        ) from None


def compare_operands(
    function: Callable[[Value, Value], Value], left: Value, right: Value, node: SyntaxNode
) -> Value:
    """Compare two values; missing where either is."""
    left, right = unify_pair(left, right, node)
    if "nothing" in (type_family(left), type_family(right)):
        return pa.scalar(None, TRUTH)
    return function(left, right)


def select_first_true(
    conditions: Sequence[Value], values: Sequence[Value], rows: EvaluationBatch
) -> Value:
    """The first value whose condition holds; the last one where none does."""
    made = broadcast(values[-1], rows)
    pairs = list(zip(conditions, values, strict=False))
    for holds, value in reversed(pairs):
        mask = pc.fill_null(broadcast(holds, rows), False)
        made = pc.if_else(mask, value, made)
    return made


def unify_operands(values: Sequence[Value], node: SyntaxNode) -> list[Value]:
    """Values of one sort, brought to one type.

    Raises
    ------
    UsageError
        When they are of several sorts.
    """
    sorts = {type_family(value) for value in values} - {"nothing"}
    if len(sorts) > 1 and sorts != {"date", "datetime"}:
        raise UsageError(
            f"these values must have one type, but are {', '.join(sorted(sorts))}",
            node.sql(),
            "make them one type: CAST(… AS …)",
        )
    if not sorts:
        return list(values)
    there = [value for value in values if type_family(value) != "nothing"]
    made = iter(exact_numbers.unify_numbers(there) if sorts == {"number"} else _to_one_type(there))
    one_type = [NOTHING if type_family(value) == "nothing" else next(made) for value in values]
    kind = next(value.type for value in one_type if type_family(value) != "nothing")
    return [value.cast(kind) if type_family(value) == "nothing" else value for value in one_type]


def _to_one_type(values: Sequence[Value]) -> list[Value]:
    kinds = list(dict.fromkeys(value.type for value in values))
    if len(kinds) == 1:
        return list(values)
    moments = next(filter(pa.types.is_timestamp, kinds), None)
    kind = moments or (pa.string() if any(map(is_text_type, kinds)) else kinds[0])
    return [value.cast(kind) for value in values]
