"""SQL expressions over the columns of a table: read, checked, and worked out batch by batch.

The language is that of value expressions and conditions in ISO 9075, parsed by
sqlglot; nothing in it can run code. ``docs/expressions.md`` lists it all.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import pyarrow as pa

from plait.core.errors import PlaitError, SourceError, UnknownColumnError, UsageError
from plait.core.kinds import arrow_type, as_kind, exact_type, kind_of
from plait.core.names import nearest
from plait.core.operators import BadValueError, Value, worked_out
from plait.core.parallel import ordered_map
from plait.core.table import Column, Table
from plait.core.text import as_text, is_text

_DEEPEST = 200


@dataclass(frozen=True, eq=False)
class Expression:
    """A parsed expression: its text, and sqlglot's tree of it."""

    text: str
    tree: Any

    def names(self) -> list[str]:
        """The columns it names, as they are written."""
        from sqlglot import exp

        return list(dict.fromkeys(one.name for one in self.tree.find_all(exp.Column)))


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
    import sqlglot
    from sqlglot.errors import SqlglotError

    try:
        tree = sqlglot.parse_one(text)
    except SqlglotError as error:
        said = (getattr(error, "errors", None) or [{}])[0]
        near = f" near {said['highlight']!r}" if said.get("highlight") else ""
        raise UsageError(
            f"this is no SQL expression{near}: {text}",
            f"character {said['col']}" if said.get("col") else None,
            "texts stand in 'single quotes', names with spaces in \"double quotes\"",
        ) from None
    except RecursionError:
        raise UsageError("the expression is nested too deep") from None
    if any(one.depth > _DEEPEST for one in tree.walk()):
        raise UsageError("the expression is nested too deep")
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
    >>> from plait.core.table import from_columns
    >>> table = from_columns("t", {"kg": ["12.50", "", "9"]})
    >>> evaluate(parse("kg * 2"), table).to_pylist()
    [Decimal('25.00'), None, Decimal('18.00')]
    """
    typing = _typing(expression, table)
    empty = _Batch(table, typing, 0, 0).value(expression)  # tells what is wrong with the types
    kind = empty.type if pa.types.is_null(empty.type) is False else pa.string()

    def part(span: tuple[int, int]) -> pa.Array:
        return _Batch(table, typing, *span).value(expression).cast(kind)

    return pa.chunked_array(list(ordered_map(part, list(table.spans()))), kind)


def check(expression: Expression, table: Table) -> pa.DataType:
    """The type that an expression has on a table, without working it out.

    Raises
    ------
    UsageError
        As ``evaluate``.
    """
    return _Batch(table, _typing(expression, table), 0, 0).value(expression).type


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
            f"a condition is true or false; this is {kind}: {expression.text}",
            remedy="compare it with something: … = …, … IS NOT NULL",
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
        kind = column.kind or kind_of(cells)
        # A column without any value is NULL, which goes together with every type.
        to = pa.null() if kind == "empty" else arrow_type(kind, cells)
        if is_text(cells.type) and pa.types.is_floating(to):
            to = exact_type(kind, cells)
        found[name] = (column, kind, to)
    return found


def _column(name: str, table: Table) -> Column:
    """The column of that name, or the only one that differs from it in case."""
    if table.has(name):
        return table.column(name)
    alike = [one for one in table.columns if one.name.casefold() == name.casefold()]
    if len(alike) == 1:
        return alike[0]
    raise UnknownColumnError(
        f"there is no column {name!r} in {table.name}",
        remedy=nearest(name, table.column_names)
        or f"its columns are {', '.join(table.column_names)}; texts stand in 'single quotes'",
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
        return as_kind(self.table.cells(column, self.start, self.stop), kind, to)

    def text(self, name: str) -> pa.Array:
        """The cells of a column as the text that stands there."""
        column = self.typing[name][0]
        return as_kind(
            as_text(self.table.cells(column, self.start, self.stop)), "text", pa.string()
        )

    def value(self, expression: Expression) -> pa.Array:
        """What an expression gives on these rows."""
        try:
            made: Value = worked_out(expression.tree, self)
        except BadValueError as error:
            raise self._located(error, expression) from None
        except (pa.ArrowInvalid, pa.ArrowNotImplementedError) as error:
            raise UsageError(
                f"this cannot be worked out: {str(error).splitlines()[0]}", expression.text
            ) from None
        if isinstance(made, pa.Scalar):
            made = pa.repeat(made, self.rows)
        return made

    def _located(self, error: BadValueError, expression: Expression) -> PlaitError:
        row = self.start + error.row
        place = next(iter(map(str, self.table.places(row))), f"row {row + 1:,}")
        return SourceError(f"{error}, in {expression.text}", place, error.remedy)
