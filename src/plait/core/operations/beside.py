"""Beside: columns beside columns by row order, for tables of equal length."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import pyarrow.compute as pc

from plait.core.base.errors import ExpectationError, UsageError
from plait.core.base.findings import Finding, FindingExample, Location, pluralize
from plait.core.base.ledger import LedgerLine, make_entry
from plait.core.base.names import joint_name, unused_name, unused_names
from plait.core.base.wording import Command, Setting, wording
from plait.core.operations.result import Result
from plait.core.table.table import Column, Table
from plait.core.text.cells import to_text

_JOIN = Command("join", ("…",), (Setting("key", "…"),))


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
    >>> from plait.core.table.table import table_from_columns
    >>> one = table_from_columns("a", {"x": ["1", "2"]})
    >>> two = table_from_columns("b", {"y": ["3", "4"]})
    >>> beside([one, two]).table.to_dict()
    {'x': ['1', '2'], 'y': ['3', '4']}
    """
    if len(tables) < 2:
        raise UsageError("beside needs two sources or more", remedy="name another source")
    _check_lengths(tables)
    rows = tables[0].rows
    fragments = tuple(fragment for table in tables for fragment in table.fragments)
    whole = Table(tables[0].name, (), fragments, rows)
    columns = {column.name: column for column in tables[0].columns}
    findings: list[Finding] = []
    before = len(tables[0].fragments)
    for other in tables[1:]:
        findings += _add_columns(columns, other, before, whole, tables[0])
        before += len(other.fragments)
    lines = [
        LedgerLine(f"rows of {other.name}, placed alongside", -rows, stands_in="matched in")
        for other in tables[1:]
    ]
    names = unused_names(table.name for table in tables)
    text = " and ".join(names) if len(names) < 4 else f"{len(names)} sources"
    account = make_entry(f"beside one another: {text}", [(one, rows) for one in names], lines, rows)
    made = replace(whole, name=name or joint_name(names), columns=tuple(columns.values()))
    return Result("beside", made, (account,), tuple(findings))


def _check_lengths(tables: Sequence[Table]) -> None:
    first = tables[0]
    for table in tables[1:]:
        if table.rows != first.rows:
            more, rows = (table, first.rows) if table.rows > first.rows else (first, table.rows)
            raise ExpectationError(
                f"{first.name} has {pluralize(first.rows, 'row')}, {table.name} "
                f"{pluralize(table.rows, 'row')}: rows can be paired by position only in "
                "tables of equal length",
                next(iter(map(str, more.source_rows(rows))), f"{more.name} row {rows + 1:,}"),
                wording("if the tables share a key, join them: ", _JOIN),
            )


def _add_columns(
    columns: dict[str, Column], right: Table, before: int, whole: Table, first: Table
) -> list[Finding]:
    """Add the columns of one more table; ``before`` is how many fragments come before its own."""
    both = f"{whole.name} and {right.name}"
    findings: list[Finding] = []
    equal: list[str] = []
    for column in right.columns:
        moved = column.with_fragment_offset(before)
        if column.name not in columns:
            columns[column.name] = moved
            continue
        differing, example = _differing(whole, columns[column.name], moved, first)
        if not differing:
            equal.append(column.name)
            continue
        kept = unused_name(f"{right.name}.{column.name}", columns)
        columns[kept] = replace(moved, name=kept)
        findings.append(
            Finding(
                "source-conflict",
                "warning",
                differing,
                f"{both} both have {column.name}, and which differs on "
                f"{pluralize(differing, 'row')}; the second is kept as {kept}",
                wording("are the rows in the same order? if there is a key: ", _JOIN),
                Location(right.name, column.name),
                (FindingExample(example),),
            )
        )
    if equal:
        findings.append(
            Finding(
                "column-equal",
                "note",
                len(equal),
                f"{pluralize(len(equal), 'column')} equal in {both} on every row, "
                f"kept once: {', '.join(equal)}",
                where=Location(right.name),
            )
        )
    return findings


def _differing(table: Table, column: Column, there: Column, first: Table) -> tuple[int, str]:
    """Rows whose cells differ, and the first of them, as the first table has it."""
    count, example = 0, ""
    for start, stop in table.row_ranges():
        ours = pc.fill_null(to_text(table.cells(column, start, stop)), "")
        theirs = pc.fill_null(to_text(table.cells(there, start, stop)), "")
        differs = pc.not_equal(ours, theirs)
        found = pc.sum(differs).as_py() or 0
        if found and not count:
            row = pc.index(differs, True).as_py()
            text = next(iter(map(str, first.source_rows(start + row))), f"row {start + row + 1:,}")
            example = f"{text}: {ours[row].as_py()!r} / {theirs[row].as_py()!r}"
        count += found
    return count, example
