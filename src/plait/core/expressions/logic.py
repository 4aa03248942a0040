"""Comparisons, conditions and choices, with SQL's three-valued logic.

What is missing is ``NULL``: it equals nothing, not even itself.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from decimal import Decimal

import pyarrow as pa
import pyarrow.compute as pc

from plait.core.base.errors import UsageError
from plait.core.expressions.operands import (
    NOTHING,
    TRUTH,
    EvaluationBatch,
    Operator,
    Value,
    compare_operands,
    is_null_scalar,
    require_boolean,
    require_family,
    require_literal_text,
    require_text,
    select_first_true,
    type_family,
    unify_operands,
)
from plait.core.expressions.parser import SyntaxNode
from plait.core.text.decimals import MOST_DIGITS

ORDERING = ("<", "<=", ">", ">=", "between", "GREATEST", "LEAST")


def _column(node: SyntaxNode, rows: EvaluationBatch) -> Value:
    return rows.column(node.word)


def _text(node: SyntaxNode, rows: EvaluationBatch) -> Value:
    return pa.scalar(node.word, pa.string())


def _number(node: SyntaxNode, rows: EvaluationBatch) -> Value:
    """A number written out: exact, but for one with an exponent, as in ISO 9075."""
    text = node.word
    if re.fullmatch(r"[0-9]{1,18}", text):
        return pa.scalar(int(text), pa.int64())
    if not re.fullmatch(r"[0-9]*\.?[0-9]*", text):
        try:
            return pa.scalar(float(text), pa.float64())
        except ValueError:
            raise UsageError("not a number", text) from None
    if len(text.replace(".", "").strip("0")) > MOST_DIGITS:
        raise UsageError(f"a number has at most {MOST_DIGITS} digits", text)
    return pa.scalar(Decimal(text))


def _both(function: Callable[[Value, Value], Value]) -> Operator:
    """AND and OR: true or false where one side decides, else missing if either is."""

    def operator(node: SyntaxNode, rows: EvaluationBatch) -> Value:
        left, right = (require_boolean(part, node, rows) for part in node.parts)
        return function(left, right)

    return operator


def _not(node: SyntaxNode, rows: EvaluationBatch) -> Value:
    return pc.invert(require_boolean(node.parts[0], node, rows))


def _compared(function: Callable[[Value, Value], Value]) -> Operator:
    def operator(node: SyntaxNode, rows: EvaluationBatch) -> Value:
        left, right = map(rows.value, node.parts)
        return compare_operands(function, left, right, node)

    return operator


def _is(node: SyntaxNode, rows: EvaluationBatch) -> Value:
    value, what = rows.value(node.parts[0]), node.parts[1].op
    if what == "null":
        return is_null_scalar(value)
    if what not in ("true", "false"):
        raise UsageError("IS takes NULL, TRUE or FALSE", node.sql())
    truth = pc.equal(require_family(value, "boolean", node).cast(TRUTH), what == "true")
    return pc.fill_null(truth, False)


def _distinct(differ: bool) -> Operator:
    """IS [NOT] DISTINCT FROM: missing equals missing."""

    def operator(node: SyntaxNode, rows: EvaluationBatch) -> Value:
        left, right = map(rows.value, node.parts)
        absent, other = is_null_scalar(left), is_null_scalar(right)
        equal = pc.fill_null(compare_operands(pc.equal, left, right, node), False)
        same = pc.or_(
            pc.and_(absent, other),
            pc.and_(pc.invert(pc.or_(absent, other)), equal),
        )
        return pc.invert(same) if differ else same

    return operator


def _in(node: SyntaxNode, rows: EvaluationBatch) -> Value:
    value, *others = map(rows.value, node.parts)
    found: Value = pa.scalar(False)
    for one in others:
        found = pc.or_kleene(found, compare_operands(pc.equal, value, one, node))
    return found


def _between(node: SyntaxNode, rows: EvaluationBatch) -> Value:
    value, low, high = map(rows.value, node.parts)
    return pc.and_kleene(
        compare_operands(pc.greater_equal, value, low, node),
        compare_operands(pc.less_equal, value, high, node),
    )


def _like(node: SyntaxNode, rows: EvaluationBatch) -> Value:
    value = require_text(node.parts[0], node, rows)
    if node.parts[1].op != "text":
        raise UsageError("the pattern of LIKE is a text in quotes", node.sql())
    escape = require_literal_text(node.parts[2], node) if len(node.parts) > 2 else ""
    if len(node.parts) > 2 and len(escape) != 1:
        raise UsageError("ESCAPE follows LIKE and takes one character", node.sql())
    pattern = like_to_regex(node.parts[1].word, escape)
    return pc.match_substring_regex(value, pattern, ignore_case=node.op == "ilike")


def like_to_regex(pattern: str, escape: str = "") -> str:
    """The regular expression of a LIKE pattern: ``%`` any text, ``_`` one sign.

    >>> like_to_regex("Y-_%")
    '(?s)^Y\\\\-..*$'
    """
    made, signs = "", iter(pattern)
    for sign in signs:
        if sign == escape:
            made += re.escape(next(signs, ""))
        else:
            made += {"%": ".*", "_": "."}.get(sign) or re.escape(sign)
    return f"(?s)^{made}$"


def _case(node: SyntaxNode, rows: EvaluationBatch) -> Value:
    conditions = [require_boolean(part, node, rows) for part in node.parts[:-1:2]]
    values = [rows.value(part) for part in (*node.parts[1:-1:2], node.parts[-1])]
    return select_first_true(conditions, unify_operands(values, node), rows)


def _switch(node: SyntaxNode, rows: EvaluationBatch) -> Value:
    """CASE x WHEN …: the first value that x equals."""
    subject, *parts = node.parts
    value = rows.value(subject)
    conditions = [
        compare_operands(pc.equal, value, rows.value(part), node) for part in parts[:-1:2]
    ]
    values = [rows.value(part) for part in (*parts[1:-1:2], parts[-1])]
    return select_first_true(conditions, unify_operands(values, node), rows)


def _coalesce(node: SyntaxNode, rows: EvaluationBatch) -> Value:
    values = unify_operands([rows.value(part) for part in node.parts], node)
    return NOTHING if type_family(values[0]) == "nothing" else pc.coalesce(*values)


def _nullif(node: SyntaxNode, rows: EvaluationBatch) -> Value:
    left, right = map(rows.value, node.parts)
    same = compare_operands(pc.equal, left, right, node)
    return select_first_true([same], [pa.scalar(None, left.type), left], rows)


def _extreme(greatest: bool) -> Operator:
    """GREATEST and LEAST: missing where any is, as in ISO 9075."""

    def operator(node: SyntaxNode, rows: EvaluationBatch) -> Value:
        best, *values = unify_operands([rows.value(part) for part in node.parts], node)
        for value in values:
            better = compare_operands(pc.greater if greatest else pc.less, value, best, node)
            best = pc.if_else(better, value, best)  # missing where either was
        return best

    return operator


LOGIC: dict[str, Operator] = {
    "column": _column,
    "text": _text,
    "number": _number,
    "true": lambda node, rows: pa.scalar(True),
    "false": lambda node, rows: pa.scalar(False),
    "null": lambda node, rows: NOTHING,
    "and": _both(pc.and_kleene),
    "or": _both(pc.or_kleene),
    "not": _not,
    "=": _compared(pc.equal),
    "<>": _compared(pc.not_equal),
    "<": _compared(pc.less),
    "<=": _compared(pc.less_equal),
    ">": _compared(pc.greater),
    ">=": _compared(pc.greater_equal),
    "is": _is,
    "is distinct": _distinct(True),
    "is not distinct": _distinct(False),
    "in": _in,
    "between": _between,
    "like": _like,
    "ilike": _like,
    "case": _case,
    "switch": _switch,
    "COALESCE": _coalesce,
    "NULLIF": _nullif,
    "GREATEST": _extreme(True),
    "LEAST": _extreme(False),
}
