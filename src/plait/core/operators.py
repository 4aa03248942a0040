"""The operators of expressions, over Arrow arrays, with SQL's three-valued logic.

Each takes a node of sqlglot's tree and the rows at hand, and returns an array or
a scalar. What is missing is ``NULL``: it equals nothing, not even itself.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from typing import Any, Protocol, TypeAlias

import pyarrow as pa
import pyarrow.compute as pc
from sqlglot import exp

from plait.core.errors import UsageError
from plait.core.text import as_text, is_text

Value: TypeAlias = Any  # a pyarrow.Array or a pyarrow.Scalar
Operator = Callable[[Any, "Rows"], Value]

TRUTH = pa.bool_()
NOTHING = pa.scalar(None)


class Rows(Protocol):
    """The rows that an expression is worked out on."""

    rows: int

    def column(self, name: str) -> pa.Array:
        """The typed cells of a column."""

    def text(self, name: str) -> pa.Array:
        """Its cells as they stand."""


class BadValueError(Exception):
    """A value that an operator cannot take; ``row`` counts from 0 within the rows at hand."""

    def __init__(self, what: str, row: int, remedy: str) -> None:
        super().__init__(what)
        self.row, self.remedy = row, remedy


def worked_out(node: Any, rows: Rows) -> Value:
    """The value of a node of an expression.

    Raises
    ------
    UsageError
        For what the language does not have, and types that do not go together.
    BadValueError
        For a value that cannot be taken.
    """
    from plait.core.functions import FUNCTIONS

    operator = OPERATORS.get(type(node)) or FUNCTIONS.get(type(node))
    if operator is None:
        raise UsageError(
            f"expressions have no {_called(node)}",
            node.sql(),
            "docs/expressions.md lists what they have",
        )
    return operator(node, rows)


def _called(node: Any) -> str:
    if isinstance(node, exp.Anonymous):
        return f"function {node.name}"
    if isinstance(node, exp.Func):
        return f"function {node.sql_name()}"
    return f"{type(node).__name__.upper()}"


def family(value: Value) -> str:
    """The sort of a value: number, text, boolean, date, datetime, time or nothing."""
    kind = value.type
    if is_text(kind):
        return "text"
    if pa.types.is_integer(kind) or pa.types.is_floating(kind) or pa.types.is_decimal(kind):
        return "number"
    named = (
        (pa.types.is_boolean, "boolean"),
        (pa.types.is_date, "date"),
        (pa.types.is_timestamp, "datetime"),
        (pa.types.is_time, "time"),
        (pa.types.is_null, "nothing"),
    )
    return next((name for holds, name in named if holds(kind)), str(kind))


def wanted(value: Value, sort: str, node: Any) -> Value:
    """The value, once it is known to be of a sort; nothing is of every sort.

    Raises
    ------
    UsageError
        When it is of another.
    """
    if family(value) not in (sort, "nothing"):
        raise UsageError(
            f"this wants {_with_article(sort)} and gets {_with_article(family(value))}",
            node.sql(),
            f"CAST({node.this.sql() if node.this else '…'} AS …) turns one into the other",
        )
    return value


def _with_article(sort: str) -> str:
    return f"a {sort}" if sort not in ("text", "nothing") else sort


def _column(node: Any, rows: Rows) -> Value:
    if node.args.get("table"):
        raise UsageError(
            f"{node.sql()} names a table", remedy=f'a name with a point: "{node.sql()}"'
        )
    return rows.column(node.name)


def _literal(node: Any, rows: Rows) -> Value:
    text = node.this
    if node.is_string:
        return pa.scalar(text, pa.string())
    if re.fullmatch(r"[0-9]{1,18}", text):
        return pa.scalar(int(text), pa.int64())
    if re.fullmatch(r"[0-9]*\.?[0-9]*", text) and len(text) < 38:
        return _decimal(text)
    return pa.scalar(float(text), pa.float64())


def _decimal(text: str) -> pa.Scalar:
    from decimal import Decimal

    return pa.scalar(Decimal(text))


def _boolean(node: Any, rows: Rows) -> Value:
    return pa.scalar(bool(node.this), TRUTH)


def _null(node: Any, rows: Rows) -> Value:
    return NOTHING


def _inner(node: Any, rows: Rows) -> Value:
    return worked_out(node.this, rows)


def _truth(node: Any, rows: Rows, of: Any) -> Value:
    value = wanted(worked_out(of, rows), "boolean", node)
    return value.cast(TRUTH)


def _both(function: Callable[[Value, Value], Value]) -> Operator:
    """AND and OR: true or false where one side decides, else missing if either is."""

    def operator(node: Any, rows: Rows) -> Value:
        return function(_truth(node, rows, node.this), _truth(node, rows, node.expression))

    return operator


def _not(node: Any, rows: Rows) -> Value:
    return pc.invert(_truth(node, rows, node.this))


def alike(left: Value, right: Value, node: Any) -> tuple[Value, Value]:
    """Two values brought to one sort, if they may be compared.

    Raises
    ------
    UsageError
        When they are of different sorts. A date and a text written in the
        expression go together, as do a date and a moment.
    """
    sorts = family(left), family(right)
    if sorts[0] == sorts[1] or "nothing" in sorts:
        return left, right
    times = ("date", "datetime", "time")
    for one, other, back in ((left, right, False), (right, left, True)):
        if family(one) in times and isinstance(other, pa.Scalar) and family(other) == "text":
            made = _as_time(other, one.type, node)
            return (made, one) if back else (one, made)
    if set(sorts) == {"date", "datetime"}:
        kind = next(value.type for value in (left, right) if family(value) == "datetime")
        return left.cast(kind), right.cast(kind)
    raise UsageError(
        f"{_with_article(sorts[0])} and {_with_article(sorts[1])} are not compared",
        node.sql(),
        "make them one type: CAST(… AS …)",
    )


def _as_time(text: pa.Scalar, kind: pa.DataType, node: Any) -> pa.Scalar:
    try:
        return text.cast(kind)
    except pa.ArrowInvalid:
        raise UsageError(
            f"{text.as_py()!r} is no {kind}", node.sql(), "write it as '2031-04-05'"
        ) from None


def _compared(function: Callable[[Value, Value], Value]) -> Operator:
    def operator(node: Any, rows: Rows) -> Value:
        left, right = worked_out(node.this, rows), worked_out(node.expression, rows)
        return compare(function, *alike(left, right, node))

    return operator


def compare(function: Callable[[Value, Value], Value], left: Value, right: Value) -> Value:
    """Compare values of one sort; missing where either is."""
    if "nothing" in (family(left), family(right)):
        return pa.scalar(None, TRUTH)
    return function(left, right)


def _is(node: Any, rows: Rows) -> Value:
    value = worked_out(node.this, rows)
    if isinstance(node.expression, exp.Null):
        return _missing(value)
    if not isinstance(node.expression, exp.Boolean):
        raise UsageError("IS takes NULL, TRUE or FALSE", node.sql())
    truth = pc.equal(wanted(value, "boolean", node).cast(TRUTH), bool(node.expression.this))
    return pc.fill_null(truth, False)


def _missing(value: Value) -> Value:
    return pc.is_null(value) if isinstance(value, pa.Array) else pa.scalar(not value.is_valid)


def _distinct(differ: bool) -> Operator:
    """IS [NOT] DISTINCT FROM: missing equals missing."""

    def operator(node: Any, rows: Rows) -> Value:
        left, right = alike(worked_out(node.this, rows), worked_out(node.expression, rows), node)
        absent, other = _missing(left), _missing(right)
        equal = pc.fill_null(compare(pc.equal, left, right), False)
        same = pc.or_(
            pc.and_(absent, other),
            pc.and_(pc.invert(pc.or_(absent, other)), equal),
        )
        return pc.invert(same) if differ else same

    return operator


def _in(node: Any, rows: Rows) -> Value:
    if node.args.get("query") is not None or not node.expressions:
        raise UsageError("IN takes a list of values in brackets", node.sql())
    value = worked_out(node.this, rows)
    found: Value = pa.scalar(False)
    for one in node.expressions:
        equal = compare(pc.equal, *alike(value, worked_out(one, rows), node))
        found = pc.or_kleene(found, equal)
    return found


def _between(node: Any, rows: Rows) -> Value:
    value = worked_out(node.this, rows)
    low, high = worked_out(node.args["low"], rows), worked_out(node.args["high"], rows)
    return pc.and_kleene(
        compare(pc.greater_equal, *alike(value, low, node)),
        compare(pc.less_equal, *alike(value, high, node)),
    )


def _like(node: Any, rows: Rows, escape: str = "") -> Value:
    value = wanted(worked_out(node.this, rows), "text", node)
    if not (isinstance(node.expression, exp.Literal) and node.expression.is_string):
        raise UsageError("the pattern of LIKE is a text in quotes", node.sql())
    if family(value) == "nothing":
        return pa.scalar(None, TRUTH)
    pattern = like_pattern(node.expression.this, escape)
    return pc.match_substring_regex(value, pattern, ignore_case=isinstance(node, exp.ILike))


def like_pattern(pattern: str, escape: str = "") -> str:
    """The regular expression of a LIKE pattern: ``%`` any text, ``_`` one sign.

    >>> like_pattern("Y-_%")
    '(?s)^Y\\\\-..*$'
    """
    made, signs = "", iter(pattern)
    for sign in signs:
        if sign == escape:
            made += re.escape(next(signs, ""))
        else:
            made += {"%": ".*", "_": "."}.get(sign) or re.escape(sign)
    return f"(?s)^{made}$"


def _escape(node: Any, rows: Rows) -> Value:
    if not isinstance(node.this, exp.Like | exp.ILike) or len(node.expression.name) != 1:
        raise UsageError("ESCAPE stands behind LIKE, with one sign", node.sql())
    return _like(node.this, rows, node.expression.name)


def _joined(node: Any, rows: Rows) -> Value:
    """Texts behind one another; missing where either is."""
    return pc.binary_join_element_wise(text_of(node.this, rows), text_of(node.expression, rows), "")


def text_of(node: Any, rows: Rows) -> Value:
    """A value as text; a column's cells as they stand."""
    inner = node.unnest() if isinstance(node, exp.Paren) else node
    if isinstance(inner, exp.Column):
        return rows.text(inner.name)
    value = worked_out(node, rows)
    if isinstance(value, pa.Array):
        return as_text(value)
    return value if is_text(value.type) else value.cast(pa.string())


def _case(node: Any, rows: Rows) -> Value:
    conditions, values = [], []
    subject = None if node.this is None else worked_out(node.this, rows)
    for one in node.args["ifs"]:
        if subject is None:
            conditions.append(_truth(one, rows, one.this))
        else:
            conditions.append(compare(pc.equal, *alike(subject, worked_out(one.this, rows), node)))
        values.append(worked_out(one.args["true"], rows))
    otherwise = node.args.get("default")
    values.append(NOTHING if otherwise is None else worked_out(otherwise, rows))
    return chosen(conditions, together(values, node), rows)


def chosen(conditions: Sequence[Value], values: Sequence[Value], rows: Rows) -> Value:
    """The first value whose condition holds; the last one where none does."""
    made = spread(values[-1], rows)
    pairs = list(zip(conditions, values, strict=False))
    for holds, value in reversed(pairs):
        mask = pc.fill_null(spread(holds, rows), False)
        made = pc.if_else(mask, value, made)
    return made


def spread(value: Value, rows: Rows) -> pa.Array:
    """A value on every row."""
    return value if isinstance(value, pa.Array) else pa.repeat(value, rows.rows)


def together(values: Sequence[Value], node: Any) -> list[Value]:
    """Values of one sort, brought to one type.

    Raises
    ------
    UsageError
        When they are of several sorts.
    """
    sorts = {family(value) for value in values} - {"nothing"}
    if len(sorts) > 1 and sorts != {"date", "datetime"}:
        raise UsageError(
            f"values of several types meet: {', '.join(sorted(sorts))}",
            node.sql(),
            "make them one type: CAST(… AS …)",
        )
    kinds = list(dict.fromkeys(v.type for v in values if family(v) != "nothing"))
    if not kinds:
        return list(values)
    kind = kinds[0] if len(kinds) == 1 else _common(kinds)
    return [value.cast(kind) for value in values]


def _common(kinds: Sequence[pa.DataType]) -> pa.DataType:
    if any(map(pa.types.is_timestamp, kinds)):
        return next(filter(pa.types.is_timestamp, kinds))
    if any(map(is_text, kinds)):
        return pa.string()
    if any(map(pa.types.is_floating, kinds)):
        return pa.float64()
    decimals = [kind for kind in kinds if pa.types.is_decimal(kind)]
    if not decimals:
        return pa.int64()
    scale = max(kind.scale for kind in decimals)
    whole = max(kind.precision - kind.scale for kind in decimals)
    whole = max(whole, 19) if len(decimals) < len(kinds) else whole
    return pa.decimal128(whole + scale, scale) if whole + scale <= 38 else pa.float64()


OPERATORS: dict[type, Operator] = {
    exp.Column: _column,
    exp.Literal: _literal,
    exp.Boolean: _boolean,
    exp.Null: _null,
    exp.Paren: _inner,
    exp.And: _both(pc.and_kleene),
    exp.Or: _both(pc.or_kleene),
    exp.Not: _not,
    exp.EQ: _compared(pc.equal),
    exp.NEQ: _compared(pc.not_equal),
    exp.LT: _compared(pc.less),
    exp.LTE: _compared(pc.less_equal),
    exp.GT: _compared(pc.greater),
    exp.GTE: _compared(pc.greater_equal),
    exp.Is: _is,
    exp.NullSafeNEQ: _distinct(True),
    exp.NullSafeEQ: _distinct(False),
    exp.In: _in,
    exp.Between: _between,
    exp.Like: _like,
    exp.ILike: _like,
    exp.Escape: _escape,
    exp.DPipe: _joined,
    exp.Case: _case,
}
