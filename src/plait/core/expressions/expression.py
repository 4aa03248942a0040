"""An expression over the columns of a table, and the functions and types it may use.

The language is that of value expressions and conditions in ISO 9075, parsed by
sqlglot; nothing in it can run code. ``docs/expressions.md`` lists it all.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import pyarrow as pa

from plait.core.base.errors import PlaitError, SourceError, UnknownColumnError, UsageError
from plait.core.base.names import suggest_name
from plait.core.codes.sort import check_sortable
from plait.core.expressions.arithmetic import ARITHMETIC
from plait.core.expressions.casts import CASTS
from plait.core.expressions.functions import DATE_FUNCTIONS, TEXT_FUNCTIONS
from plait.core.expressions.logic import LOGIC, ORDERING
from plait.core.expressions.operands import InvalidOperandError, Operator, Value, broadcast
from plait.core.expressions.parser import SyntaxNode, parse_syntax
from plait.core.job.executor import map_ordered
from plait.core.job.spill_columns import build_chunks, build_column
from plait.core.table.table import Column, Table
from plait.core.text.cells import empty_to_null, is_text_type, to_text
from plait.core.text.decimals import DecimalOverflowError, to_arithmetic_type
from plait.core.types import exact_numbers
from plait.core.types.column_type import EMPTY, TEXT, ColumnType
from plait.core.types.inference import parse_column, to_arrow_type
from plait.core.types.missing_markers import markers_to_null

OPERATORS: dict[str, Operator] = {
    **LOGIC,
    **ARITHMETIC,
    **TEXT_FUNCTIONS,
    **DATE_FUNCTIONS,
    **CASTS,
}
ALIASES = {
    "CHAR_LENGTH": "LENGTH",
    "CHARACTER_LENGTH": "LENGTH",
    "SUBSTR": "SUBSTRING",
    "CEIL": "CEILING",
    "POW": "POWER",
    "STR_POSITION": "STRPOS",
}
FUNCTIONS = tuple(name for name in OPERATORS if name.isupper())
_MANY = 1_000
_PARTS = {
    "COALESCE": (1, _MANY),
    "CONCAT": (1, _MANY),
    "GREATEST": (1, _MANY),
    "LEAST": (1, _MANY),
    "NULLIF": (2, 2),
    "MOD": (2, 2),
    "POWER": (2, 2),
    "ROUND": (1, 2),
    "TRIM": (1, 2),
    "LTRIM": (1, 2),
    "RTRIM": (1, 2),
    "SUBSTRING": (2, 3),
    "LEFT": (2, 2),
    "RIGHT": (2, 2),
    "SPLIT_PART": (3, 3),
    "POSITION": (2, 2),
    "STRPOS": (2, 2),
    "REPLACE": (3, 3),
    "LPAD": (2, 3),
    "RPAD": (2, 3),
    "REGEXP_LIKE": (2, 3),
    "REGEXP_REPLACE": (2, 4),
    "TO_DATE": (2, 2),
    "TO_TIMESTAMP": (2, 2),
}

_SILENT = ("type",)  # a part of others that has no value of its own


def operator_for(node: SyntaxNode) -> Operator:
    """The operator of a node of an expression.

    Raises
    ------
    UsageError
        When there is none of that name, or it takes more or fewer parts.
    """
    name = ALIASES.get(node.op, node.op)
    if name not in OPERATORS:
        raise UsageError(
            f"unknown function {node.op}",
            node.sql(),
            suggest_name(node.op, FUNCTIONS) or "see docs/expressions.md for all functions",
        )
    if name.isupper():
        _check_parts(name, node)
    return OPERATORS[name]


def _check_parts(name: str, node: SyntaxNode) -> None:
    least, most = _PARTS.get(name, (1, 1))
    if not least <= len(node.parts) <= most:
        many = (
            f"{least}" if least == most else f"{least} to {most}" if most < _MANY else "1 or more"
        )
        raise UsageError(f"{name} takes {many} values, here are {len(node.parts)}", node.sql())


@dataclass(frozen=True, eq=False)
class Expression:
    """A parsed expression: its text, and the tree of it."""

    text: str
    tree: SyntaxNode

    def names(self) -> list[str]:
        """The columns it names, as they are written."""
        return list(dict.fromkeys(w.word for w in self.tree.walk() if w.op == "column"))

    @property
    def divides(self) -> bool:
        """Whether there is a division in it."""
        return self.tree.divides


def parse_expression(text: str) -> Expression:
    """Read an expression.

    Raises
    ------
    UsageError
        When it is none; what is wrong and where is told.

    Examples
    --------
    >>> parse_expression('"Moisture %" > 18 AND kg IS NOT NULL').names()
    ['Moisture %', 'kg']
    """
    tree = parse_syntax(text)
    for node in tree.walk():
        if node.op not in _SILENT:
            operator_for(node)
    return Expression(text, tree)


def evaluate_expression(expression: Expression, table: Table) -> pa.ChunkedArray:
    """The value of an expression on every row.

    Parameters
    ----------
    table : Table
        Its columns have the types found for them; empty cells are ``NULL``.

    Returns
    -------
    pyarrow.ChunkedArray
        Of the type that the expression has, one value a row.

    Raises
    ------
    UsageError
        For a column or function that there is not, and for types that do not go
        together; before any row is looked at.
    SourceError
        For a value that cannot be cast; the row is named.

    Examples
    --------
    >>> from plait.core.table.table import table_from_columns
    >>> table = table_from_columns("t", {"kg": ["12.50", "", "9"]})
    >>> evaluate_expression(parse_expression("kg * 2"), table).to_pylist()
    [Decimal('25.00'), None, Decimal('18.00')]
    """
    typing = _typing(expression, table)
    empty = _Batch(table, typing, 0, 0).worked_out(expression)  # tells what is wrong with types
    kind = pa.string() if pa.types.is_null(empty.type) else empty.type
    if pa.types.is_duration(kind):
        raise UsageError(
            "an interval cannot be the value of a column",
            expression.text,
            "EXTRACT(EPOCH FROM …) gives its seconds, and / 3600 of them hours",
        )

    def part(span: tuple[int, int]) -> pa.Array:
        return _Batch(table, typing, *span).worked_out(expression)

    results = map_ordered(part, list(table.row_ranges()))
    if exact_numbers.is_number(kind):
        return _in_one_type([empty, *build_chunks(results)])
    return build_column((result.cast(kind) for result in results), kind)


def _in_one_type(batches: Sequence[pa.Array]) -> pa.ChunkedArray:
    """Numbers of all batches; some may have needed more digits than others."""
    try:
        made = exact_numbers.unify_numbers(
            [batch.cast(pa.int64()) if pa.types.is_null(batch.type) else batch for batch in batches]
        )
    except DecimalOverflowError as error:
        raise UsageError(f"a number is too large: {error}") from None
    return build_column(made[1:], made[0].type)


def infer_expression_type(expression: Expression, table: Table) -> pa.DataType:
    """The type that an expression has on a table, without working it out.

    Raises
    ------
    UsageError
        As ``evaluate_expression``.
    """
    return _Batch(table, _typing(expression, table), 0, 0).worked_out(expression).type


def evaluate_condition(expression: Expression, table: Table) -> pa.ChunkedArray:
    """The value of an expression that must be true or false.

    Raises
    ------
    UsageError
        When it is of another type; and as ``evaluate_expression``.
    """
    kind = infer_expression_type(expression, table)
    if pa.types.is_null(kind):
        return pa.chunked_array([pa.nulls(table.rows, pa.bool_())])
    if not pa.types.is_boolean(kind):
        raise UsageError(
            f"a condition must be true or false; this is {kind}: {expression.text}",
            remedy="add a comparison, such as … = … or … IS NOT NULL",
        )
    return evaluate_expression(expression, table)


def referenced_columns(expression: Expression, table: Table) -> list[str]:
    """The columns of a table that an expression names, as the table spells them."""
    return [_column(name, table).name for name in expression.names()]


_Typed = Mapping[str, tuple[Column, ColumnType, pa.DataType]]


def _typing(expression: Expression, table: Table) -> _Typed:
    """For each column that is named: the column, its type and the Arrow type for it."""
    found = {}
    for name in expression.names():
        column = _column(name, table)
        cells = table.chunks(column.name)
        type_ = table.column_type(column.name)
        # A column without any value is NULL, which goes together with every type.
        to = pa.null() if type_ == EMPTY else to_arrow_type(type_, cells)
        found[name] = (column, type_, to)
    _check_orders(expression, table, found)
    return found


def _check_orders(expression: Expression, table: Table, typing: _Typed) -> None:
    """See that no column of text that is nearly something else is compared by its letters."""
    for node in expression.tree.walk():
        if node.op not in ORDERING:
            continue
        for part in node.parts:
            if part.op == "column" and is_text_type(typing[part.word][2]):
                check_sortable(table, typing[part.word][0].name, node.sql())


def _column(name: str, table: Table) -> Column:
    """The column of that name, or the only one that differs from it in case."""
    if table.has_column(name):
        return table.column(name)
    alike = [column for column in table.columns if column.name.casefold() == name.casefold()]
    if len(alike) == 1:
        return alike[0]
    raise UnknownColumnError(
        f"no column {name!r} in {table.name}",
        remedy=suggest_name(name, table.column_names)
        or f"its columns are {', '.join(table.column_names)}; texts go in 'single quotes'",
    )


class _Batch:
    """Some rows of a table, as the operators see them."""

    def __init__(self, table: Table, typing: _Typed, start: int, stop: int) -> None:
        self.table, self.typing, self.start, self.stop = table, typing, start, stop
        self.rows = stop - start

    def column(self, name: str) -> pa.Array:
        """The typed cells of a column."""
        column, type_, to = self.typing[name]
        if pa.types.is_null(to):
            return pa.nulls(self.rows)
        made = parse_column(self.table.cells(column, self.start, self.stop), type_, to)
        return to_arithmetic_type(made) if exact_numbers.is_number(made.type) else made

    def text(self, name: str) -> pa.Array:
        """The cells of a column as the text that is there; what is missing is so here too."""
        column, type_, _ = self.typing[name]
        cells = to_text(self.table.cells(column, self.start, self.stop))
        if type_.allows_missing_markers:
            (cells,) = markers_to_null(pa.chunked_array([cells])).chunks
        return parse_column(cells, TEXT, pa.string())

    def value(self, node: SyntaxNode) -> Value:
        """What a part of the expression gives on these rows; an empty text is missing."""
        value = operator_for(node)(node, self)
        if not is_text_type(value.type):
            return value
        if isinstance(value, pa.Scalar):
            return value if value.as_py() else pa.scalar(None, value.type)
        return empty_to_null(value)

    def worked_out(self, expression: Expression) -> pa.Array:
        """What the whole of an expression gives on these rows."""
        try:
            made = self.value(expression.tree)
        except InvalidOperandError as error:
            raise self._located(error, expression) from None
        except DecimalOverflowError as error:
            raise UsageError(f"a number is too large: {error}", expression.text) from None
        except (pa.ArrowInvalid, pa.ArrowNotImplementedError) as error:
            raise UsageError(
                f"cannot evaluate the expression: {str(error).splitlines()[0]}", expression.text
            ) from None
        return broadcast(made, self)

    def _located(self, error: InvalidOperandError, expression: Expression) -> PlaitError:
        row = self.start + error.row
        text = next(iter(map(str, self.table.source_rows(row))), f"row {row + 1:,}")
        return SourceError(f"{error}, in {expression.text}", text, error.remedy)
