"""Widen: cells that are under one another, put beside one another."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.account.errors import UsageError, asked
from plait.core.account.finding import Finding, agreeing, counted
from plait.core.account.ledger import Entry, Line, entry
from plait.core.account.names import distinct_name
from plait.core.codes.coding import code_keys
from plait.core.codes.groups import Groups, Rows, grouped
from plait.core.store.room import expect
from plait.core.table.keyspec import check_column, names
from plait.core.table.table import Column, Table
from plait.core.text.cells import as_text
from plait.core.text.wordtable import Codes
from plait.core.verbs.result import Result
from plait.core.verbs.settle import Settled, settle

_OF_CELL = 4  # bytes of the row number of a result cell
MOST_HEADS = 2_000
_REMEDY = "--rule first, or last, commonest, longest, min, max"


def widen(
    table: Table,
    heads: str,
    cells: str | Sequence[str],
    key: str | Sequence[str] = (),
    rule: str = "agree",
    name: str | None = None,
) -> Result:
    """Make a column for each value of one column, and a row for each key.

    Parameters
    ----------
    table : Table
    heads : str
        The column whose values head the new columns, in the order in which they
        first stand. Values that are equal as keys are one head, as it first stands.
    cells : str or sequence of str
        The column that fills them. Of several, each new column is called
        ``HEAD CELLS``.
    key : str or sequence of str
        The columns that identify a row of the result. Without it all others.
    rule : str
        What is done when several rows fall into one cell, as for ``settle``:
        ``agree``, ``first``, ``last``, ``sum``, ``commonest``, …
    name : str, optional
        The result's name.

    Returns
    -------
    Result
        Rows are in the order in which their keys first come. Rows without a
        key or a head are set aside, and so are, by the rule ``agree``, rows that
        fall into one cell and differ.

    Raises
    ------
    UsageError
        For a column that is not there, or too many new columns.

    Examples
    --------
    >>> from plait.core.table.table import from_columns
    >>> honey = from_columns(
    ...     "honey", {"hive": ["1", "1", "2"], "month": ["04", "05", "05"], "kg": ["3", "9", "7"]}
    ... )
    >>> widen(honey, "month", "kg").table.to_dict()
    {'hive': ['1', '2'], '04': ['3', None], '05': ['9', '7']}
    """
    filling = names(cells)
    for option, columns in (("heads", (heads,)), ("cells", filling), ("key", names(key))):
        with asked(option):
            for column in columns:
                check_column(column, table)
    if not filling:
        raise UsageError("no column fills the cells", table.name, "write --cells COLUMN")
    keyed = names(key) or tuple(one for one in table.column_names if one not in (heads, *filling))
    if heads in filling or set(keyed) & {heads, *filling} or not keyed:
        raise UsageError(
            "the key, the heads and the cells are different columns, and each is needed",
            table.name,
            "write --key COLUMN --heads COLUMN --cells COLUMN",
        )
    used = replace(table.keeping((*keyed, heads, *filling)), findings=(), aside=())
    with asked("rule"):
        settled = settle(used, (*keyed, heads), otherwise=rule, name=table.name)
    # What counts as equal is decided over all rows, also those that are set aside.
    codes = code_keys([used], [keyed]).codes[0], code_keys([used], [[heads]]).codes[0]
    result = _wide(settled.table, keyed, heads, filling, [one[settled.first] for one in codes])
    account = _account(table, keyed, heads, settled, result.rows)
    # Settling takes a rule for each column; here one is for all cells.
    conflicts = (
        replace(one, remedy=_REMEDY) if one.code == "settle-conflict" else one
        for one in settled.findings
    )
    findings = (*_several(table, settled, rule), *conflicts, *_left_out(table, used))
    made = result.named(name or f"{table.name}-wide")
    return Result("widen", made, (account,), findings, settled.aside, key=tuple(keyed))


def _wide(
    table: Table,
    key: Sequence[str],
    heads: str,
    filling: Sequence[str],
    codes: Sequence[Codes],
) -> Table:
    """A row for each key, a column for each head; ``codes`` are those of keys and of heads."""
    groups, headed = (grouped(one, int(one.max(initial=-1)) + 1) for one in codes)
    _check_heads(table, heads, headed)
    expect(groups.size * headed.size * _OF_CELL)
    first = groups.rows[groups.offsets[:-1]]
    result = replace(table.at(first), columns=tuple(table.column(name) for name in key))
    of_row = np.empty(table.rows, np.int64)
    of_row[groups.rows] = groups.group
    taken = set(key)
    for head, rows in _by_head(table, heads, headed, of_row, groups.size):
        shown = table.at(rows)
        shift = len(result.strands)
        columns: list[Column] = []
        for name in filling:
            wish = head if len(filling) == 1 else f"{head} {name}"
            called = distinct_name(wish, taken)
            taken.add(called)
            column = replace(table.column(name), leaves=table.leaves(name)).shifted(shift)
            columns.append(replace(column, name=called))
        result = replace(
            result, columns=(*result.columns, *columns), strands=(*result.strands, *shown.strands)
        )
    return result


def _check_heads(table: Table, heads: str, headed: Groups) -> None:
    if headed.size > MOST_HEADS:
        raise UsageError(
            f"{heads} has {headed.size:,} different values; widen makes at most "
            f"{MOST_HEADS:,} columns",
            table.name,
            "check that --heads names the right column, or combine its values first "
            "with plait group",
        )


def _by_head(
    table: Table, heads: str, headed: Groups, of_row: Rows, size: int
) -> Iterator[tuple[str, Rows]]:
    """Each head as it first stands, and for each key its row with that head, or -1."""
    first = headed.rows[headed.offsets[:-1]]
    texts = as_text(table.at(first).whole(heads).combine_chunks()).cast(pa.string())
    for number, head in enumerate(pc.fill_null(texts, "").to_pylist()):
        at = headed.rows[headed.offsets[number] : headed.offsets[number + 1]]
        rows = np.full(size, -1, np.int32)
        rows[of_row[at]] = at
        yield head, rows


def _account(
    table: Table, key: Sequence[str], heads: str, settled: Settled, rows_out: int
) -> Entry:
    (account,) = settled.entries
    lines = [line for line in account.lines[1:] if line.rows]
    beside = Line("rows folded into the row of their key", rows_out - settled.table.rows)
    operation = f"widen {table.name} on {', '.join(key)} by {heads}"
    return entry(operation, [(table.name, table.rows)], [*lines, beside], rows_out)


def _several(table: Table, settled: Settled, rule: str) -> Iterator[Finding]:
    """Cells that several rows fell into."""
    (account,) = settled.entries
    merged = -sum(line.rows for line in account.lines if "merged" in line.reason)
    if merged:
        differing = sum(one.decided for one in settled.decisions)
        cells = counted(differing, "cell")
        said = f"; {cells} had different values, decided by {rule}" if differing else ""
        yield Finding(
            "cell-of-several",
            "warning" if differing else "note",
            merged,
            f"{counted(merged, 'row')} of {table.name} "
            f"{agreeing(merged, 'shares', 'share')} a cell with another row{said}",
            f"choose how to combine them: {_REMEDY}, sum, mean or agree",
            table.name,
        )


def _left_out(table: Table, used: Table) -> Iterator[Finding]:
    """Columns that are neither key nor head nor cell."""
    out = [one for one in table.column_names if not used.has(one)]
    if out:
        yield Finding(
            "columns-left-out",
            "note",
            len(out),
            f"{counted(len(out), 'column')} of {table.name} left out: {', '.join(out[:5])}"
            + (" …" if len(out) > 5 else ""),
            "name them in --key or --cells to keep them",
            table.name,
        )
