"""SQL expressions over the columns of a table: read, checked, and worked out batch by batch.

The language is that of value expressions and conditions in ISO 9075, parsed by
sqlglot; nothing in it can run code. ``docs/expressions.md`` lists it all.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import pyarrow as pa

from plait.core.account.errors import PlaitError, SourceError, UnknownColumnError, UsageError
from plait.core.account.names import nearest
from plait.core.account.parallel import ordered_map
from plait.core.codes.ordering import check_ordered
from plait.core.sql.logic import ORDERING
from plait.core.sql.sorts import BadValueError, Value, spread
from plait.core.sql.syntax import Node, read
from plait.core.sql.vocabulary import operator_of
from plait.core.store.shelf import apart, kept
from plait.core.table.table import Column, Table
from plait.core.text.cells import as_text, is_text, without_empty
from plait.core.text.digits import TooManyDigitsError, plain
from plait.core.types import exact
from plait.core.types.kinds import arrow_type, as_kind, takes_markers, without_markers

_SILENT = ("type",)  # a part of others that has no value of its own


@dataclass(frozen=True, eq=False)
class Expression:
    """A parsed expression: its text, and the tree of it."""

    text: str
    tree: Node

    def names(self) -> list[str]:
        """The columns it names, as they are written."""
        return list(dict.fromkeys(one.word for one in self.tree.walk() if one.op == "column"))

    @property
    def divides(self) -> bool:
        """Whether there is a division in it."""
        return self.tree.divides


def parse(text: str) -> Expression:
    """Read an expression.

    Raises
    ------
    UsageError
        When it is none; what is wrong and where is told.

    Examples
    --------
    >>> parse('"Moisture %" > 18 AND kg IS NOT NULL').names()
    ['Moisture %', 'kg']
    """
    tree = read(text)
    for node in tree.walk():
        if node.op not in _SILENT:
            operator_of(node)
    return Expression(text, tree)


def evaluate(expression: Expression, table: Table) -> pa.ChunkedArray:
    """The value of an expression on every row.

    Parameters
    ----------
    expression : Expression
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
    >>> from plait.core.table.table import from_columns
    >>> table = from_columns("t", {"kg": ["12.50", "", "9"]})
    >>> evaluate(parse("kg * 2"), table).to_pylist()
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

    made = ordered_map(part, list(table.spans()))
    if exact.is_number(kind):
        return _in_one_type([empty, *apart(made)])
    return kept((one.cast(kind) for one in made), kind)


def _in_one_type(batches: Sequence[pa.Array]) -> pa.ChunkedArray:
    """Numbers of all batches; some may have needed more digits than others."""
    try:
        made = exact.alike(
            [one.cast(pa.int64()) if pa.types.is_null(one.type) else one for one in batches]
        )
    except TooManyDigitsError as error:
        raise UsageError(f"a number is too large: {error}") from None
    return kept(made[1:], made[0].type)


def check(expression: Expression, table: Table) -> pa.DataType:
    """The type that an expression has on a table, without working it out.

    Raises
    ------
    UsageError
        As ``evaluate``.
    """
    return _Batch(table, _typing(expression, table), 0, 0).worked_out(expression).type


def condition(expression: Expression, table: Table) -> pa.ChunkedArray:
    """The value of an expression that must be true or false.

    Raises
    ------
    UsageError
        When it is of another type; and as ``evaluate``.
    """
    kind = check(expression, table)
    if pa.types.is_null(kind):
        return pa.chunked_array([pa.nulls(table.rows, pa.bool_())])
    if not pa.types.is_boolean(kind):
        raise UsageError(
            f"a condition must be true or false; this is {kind}: {expression.text}",
            remedy="add a comparison, such as … = … or … IS NOT NULL",
        )
    return evaluate(expression, table)


def named_columns(expression: Expression, table: Table) -> list[str]:
    """The columns of a table that an expression names, as the table spells them."""
    return [_column(name, table).name for name in expression.names()]


_Typed = Mapping[str, tuple[Column, str, pa.DataType]]


def _typing(expression: Expression, table: Table) -> _Typed:
    """For each column that is named: the column, its kind and the Arrow type for it."""
    found = {}
    for name in expression.names():
        column = _column(name, table)
        cells = table.whole(column.name)
        kind = table.kind(column.name)
        # A column without any value is NULL, which goes together with every type.
        to = pa.null() if kind == "empty" else arrow_type(kind, cells)
        found[name] = (column, kind, to)
    _check_orders(expression, table, found)
    return found


def _check_orders(expression: Expression, table: Table, typing: _Typed) -> None:
    """See that no column of text that is nearly something else is compared by its letters."""
    for node in expression.tree.walk():
        if node.op not in ORDERING:
            continue
        for part in node.parts:
            if part.op == "column" and is_text(typing[part.word][2]):
                check_ordered(table, typing[part.word][0].name, node.sql())


def _column(name: str, table: Table) -> Column:
    """The column of that name, or the only one that differs from it in case."""
    if table.has(name):
        return table.column(name)
    alike = [one for one in table.columns if one.name.casefold() == name.casefold()]
    if len(alike) == 1:
        return alike[0]
    raise UnknownColumnError(
        f"no column {name!r} in {table.name}",
        remedy=nearest(name, table.column_names)
        or f"its columns are {', '.join(table.column_names)}; texts go in 'single quotes'",
    )


class _Batch:
    """Some rows of a table, as the operators see them."""

    def __init__(self, table: Table, typing: _Typed, start: int, stop: int) -> None:
        self.table, self.typing, self.start, self.stop = table, typing, start, stop
        self.rows = stop - start

    def column(self, name: str) -> pa.Array:
        """The typed cells of a column."""
        column, kind, to = self.typing[name]
        if pa.types.is_null(to):
            return pa.nulls(self.rows)
        made = as_kind(self.table.cells(column, self.start, self.stop), kind, to)
        return plain(made) if exact.is_number(made.type) else made

    def text(self, name: str) -> pa.Array:
        """The cells of a column as the text that is there; what is missing is so here too."""
        column, kind, _ = self.typing[name]
        cells = as_text(self.table.cells(column, self.start, self.stop))
        if takes_markers(kind):
            (cells,) = without_markers(pa.chunked_array([cells])).chunks
        return as_kind(cells, "text", pa.string())

    def value(self, node: Node) -> Value:
        """What a part of the expression gives on these rows; an empty text is missing."""
        value = operator_of(node)(node, self)
        if not is_text(value.type):
            return value
        if isinstance(value, pa.Scalar):
            return value if value.as_py() else pa.scalar(None, value.type)
        return without_empty(value)

    def worked_out(self, expression: Expression) -> pa.Array:
        """What the whole of an expression gives on these rows."""
        try:
            made = self.value(expression.tree)
        except BadValueError as error:
            raise self._located(error, expression) from None
        except TooManyDigitsError as error:
            raise UsageError(f"a number is too large: {error}", expression.text) from None
        except (pa.ArrowInvalid, pa.ArrowNotImplementedError) as error:
            raise UsageError(
                f"cannot evaluate the expression: {str(error).splitlines()[0]}", expression.text
            ) from None
        return spread(made, self)

    def _located(self, error: BadValueError, expression: Expression) -> PlaitError:
        row = self.start + error.row
        place = next(iter(map(str, self.table.places(row))), f"row {row + 1:,}")
        return SourceError(f"{error}, in {expression.text}", place, error.remedy)
