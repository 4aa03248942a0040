"""Beside: columns beside columns by row order, for tables of equal length."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import pyarrow.compute as pc

from plait.core.account.errors import ExpectationError, UsageError
from plait.core.account.finding import Example, Finding, counted
from plait.core.account.ledger import Line, entry
from plait.core.account.names import distinct_name, joint_name
from plait.core.table.table import Column, Table
from plait.core.text.cells import as_text
from plait.core.verbs.result import Result


def beside(tables: Sequence[Table], name: str | None = None) -> Result:
    """Put the columns of tables beside one another, row by row as they stand.

    Parameters
    ----------
    tables : sequence of Table
        At least two, of equal length.
    name : str, optional
        The result's name.

    Returns
    -------
    Result
        A column that an earlier table has with the same cells is left out; one
        with other cells is named ``SOURCE.COLUMN``.

    Raises
    ------
    ExpectationError
        When the lengths differ.
    UsageError
        With fewer than two tables.

    Examples
    --------
    >>> from plait.core.table.table import from_columns
    >>> one, two = from_columns("a", {"x": ["1", "2"]}), from_columns("b", {"y": ["3", "4"]})
    >>> beside([one, two]).table.to_dict()
    {'x': ['1', '2'], 'y': ['3', '4']}
    """
    if len(tables) < 2:
        raise UsageError("beside needs two sources or more", remedy="name another source")
    _check_lengths(tables)
    result, findings = replace(tables[0], findings=(), aside=()), []
    for other in tables[1:]:
        result, found = _put_beside(result, other)
        findings += found
    rows = tables[0].rows
    lines = [Line(f"rows of {other.name}, placed alongside", -rows) for other in tables[1:]]
    names = [
        distinct_name(table.name, [t.name for t in tables[:n]]) for n, table in enumerate(tables)
    ]
    said = " and ".join(names) if len(names) < 4 else f"{len(names)} sources"
    account = entry(f"beside one another: {said}", [(one, rows) for one in names], lines, rows)
    made = result.named(name or joint_name(names))
    return Result("beside", made, (account,), tuple(findings))


def _check_lengths(tables: Sequence[Table]) -> None:
    first = tables[0]
    for other in tables[1:]:
        if other.rows != first.rows:
            more, rows = (other, first.rows) if other.rows > first.rows else (first, other.rows)
            raise ExpectationError(
                f"{first.name} has {counted(first.rows, 'row')}, {other.name} "
                f"{counted(other.rows, 'row')}: rows can be paired by position only in "
                "tables of equal length",
                next(iter(map(str, more.places(rows))), f"{more.name} row {rows + 1:,}"),
                "if the tables share a key, join them: plait join --key …",
            )


def _put_beside(left: Table, right: Table) -> tuple[Table, list[Finding]]:
    shift = len(left.strands)
    both = Table(left.name, left.columns, (*left.strands, *right.strands), left.rows)
    columns, findings = {one.name: one for one in left.columns}, []
    equal: list[str] = []
    for column in right.columns:
        moved = column.shifted(shift)
        if column.name not in columns:
            columns[column.name] = moved
            continue
        differing, example = _differing(both, columns[column.name], moved)
        if not differing:
            equal.append(column.name)
            continue
        kept = distinct_name(f"{right.name}.{column.name}", columns)
        columns[kept] = replace(moved, name=kept)
        findings.append(
            Finding(
                "source-conflict",
                "warning",
                differing,
                f"{left.name} and {right.name} both have {column.name}, and which differs on "
                f"{counted(differing, 'row')}; the second is kept as {kept}",
                "are the rows in the same order? if there is a key: plait join --key …",
                f"{right.name}, column {column.name}",
                (Example(example),),
            )
        )
    if equal:
        findings.append(
            Finding(
                "column-equal",
                "note",
                len(equal),
                f"{counted(len(equal), 'column')} equal in {left.name} and {right.name} on every "
                f"row, kept once: {', '.join(equal)}",
                where=right.name,
            )
        )
    return replace(both, columns=tuple(columns.values())), findings


def _differing(table: Table, here: Column, there: Column) -> tuple[int, str]:
    """Rows whose cells differ, and the first of them."""
    count, example = 0, ""
    for start, stop in table.spans():
        ours = pc.fill_null(as_text(table.cells(here, start, stop)), "")
        theirs = pc.fill_null(as_text(table.cells(there, start, stop)), "")
        differs = pc.not_equal(ours, theirs)
        found = pc.sum(differs).as_py() or 0
        if found and not count:
            row = pc.index(differs, True).as_py()
            place = next(iter(map(str, table.places(start + row))), f"row {start + row + 1:,}")
            example = f"{place}: {ours[row].as_py()!r} / {theirs[row].as_py()!r}"
        count += found
    return count, example
