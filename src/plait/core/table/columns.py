"""Which columns a table has, in which order, and what they are called."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

from plait.core.account.errors import UsageError, asked
from plait.core.table.keyspec import check_column
from plait.core.table.table import Table


def headed(table: Table, header: Sequence[str]) -> Table:
    """The table with all its columns named anew.

    Raises
    ------
    UsageError
        For another number of names than columns, or a name that comes twice.
    """
    if len(header) != len(table.columns):
        raise UsageError(
            f"{len(header)} names for {len(table.columns)} columns",
            table.name,
            f"it has {', '.join(table.column_names)}",
        )
    return _unique(table.renamed(dict(zip(table.column_names, header, strict=True))))


def renamed(table: Table, rename: Mapping[str, str]) -> Table:
    """The table with some columns renamed, old name to new.

    Raises
    ------
    UsageError
        For a column that is not there, or a name that would come twice.
    """
    for old in rename:
        check_column(old, table)
    return _unique(table.renamed(rename))


def _unique(table: Table) -> Table:
    every = [column.name for column in table.columns]
    twice = next((name for name in every if every.count(name) > 1 or not name), None)
    if twice is not None:
        what = f"two columns would be called {twice!r}" if twice else "a column would have no name"
        raise UsageError(what, table.name, "choose another name for one")
    return table


def chosen(table: Table, drop: Sequence[str], keep: Sequence[str], order: Sequence[str]) -> Table:
    """The table without some columns, or with some only, those of ``order`` first.

    Raises
    ------
    UsageError
        For a column that is not there, or when none would be left.
    """
    drop = [one for one in drop if one not in table.left_there]
    for option, columns in (("drop", drop), ("keep", keep), ("order", order)):
        with asked(option):
            for column in columns:
                check_column(column, table)
    kept = [one for one in table.columns if one.name not in drop and (not keep or one.name in keep)]
    if not kept:
        raise UsageError("the result would have no columns", table.name, "keep at least one")
    first = [table.column(column) for column in order if table.column(column) in kept]
    return replace(table, columns=(*first, *(one for one in kept if one not in first)))
