"""Lengthen: cells that are beside one another, put under one another."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
import pyarrow as pa

from plait.core.account.errors import UsageError, asked
from plait.core.account.finding import Finding, counted
from plait.core.account.ledger import Line, entry
from plait.core.store.room import expect
from plait.core.store.shelf import kept
from plait.core.table.absent import present
from plait.core.table.keyspec import check_column, names
from plait.core.table.leaf import WHICH, together
from plait.core.table.strand import Strand, rows_dtype
from plait.core.table.table import Column, Table
from plait.core.text.cells import as_text, is_text, repeated
from plait.core.verbs.result import Result

_OF_ROW = 8  # bytes of the row numbers of a result row
_WHICH = f"{WHICH}column"


def lengthen(
    table: Table,
    heads: str,
    cells: str,
    columns: str | Sequence[str] = (),
    key: str | Sequence[str] = (),
    without_missing: bool = False,
    name: str | None = None,
) -> Result:
    """Make a row for each cell of some columns.

    Parameters
    ----------
    table : Table
    heads, cells : str
        What the new columns are called: that of the headings, that of the cells.
    columns : str or sequence of str
        The columns to put under one another; or else
    key : str or sequence of str
        the columns that stay, all others being put under one another.
    without_missing : bool
        Leave out rows whose cell is missing.
    name : str, optional
        The result's name.

    Returns
    -------
    Result
        For each row its cells in the order of the columns, then the next row's.

    Raises
    ------
    UsageError
        For a column that is not there, or a name that is taken.

    Examples
    --------
    >>> from plait.core.table.table import from_columns
    >>> honey = from_columns("honey", {"hive": ["1", "2"], "04": ["3", ""], "05": ["9", "7"]})
    >>> lengthen(honey, "month", "kg", key="hive", without_missing=True).table.to_dict()
    {'hive': ['1', '1', '2'], 'month': ['04', '05', '05'], 'kg': ['3', '9', '7']}
    """
    moved = _moved(table, names(columns), names(key))
    stays = [one for one in table.column_names if one not in moved]
    for new in (heads, cells):
        if new in stays or heads == cells:
            raise UsageError(
                f"there is a column {new!r} already", table.name, "choose another name for it"
            )
    strand = _strand(table, moved, heads, cells)
    rows = np.repeat(np.arange(table.rows, dtype=rows_dtype(table.rows)), len(moved))
    base = replace(table.keeping(stays), findings=(), aside=()).at(rows)
    number = len(base.strands)
    leaves = together(
        tuple(leaf.only_where(number, _WHICH, place) for leaf in table.leaves(name))
        for place, name in enumerate(moved)
    )
    made = (
        Column(heads, ((number, heads),), "text", leaves=()),
        Column(cells, ((number, cells),), _joint_kind(table, moved), leaves=leaves),
    )
    result = replace(base, columns=(*base.columns, *made), strands=(*base.strands, strand))
    if without_missing:
        result = result.at(np.flatnonzero(present(result, cells)))
    full = table.rows * len(moved)
    lines = [
        Line(f"rows added, one per cell of {counted(len(moved), 'column')}", full - table.rows),
        Line("rows with a missing cell, left out", result.rows - full),
    ]
    account = entry(f"lengthen {table.name}", [(table.name, table.rows)], lines, result.rows)
    return Result(
        "lengthen", result.named(name or f"{table.name}-long"), (account,), _typed(table, moved)
    )


def _moved(table: Table, columns: Sequence[str], key: Sequence[str]) -> list[str]:
    """The columns to put under one another, in their order."""
    if bool(columns) == bool(key):
        raise UsageError(
            "give --columns or --key, not both or neither",
            table.name,
            "write --columns COLUMN,… or --key COLUMN,…",
        )
    with asked("columns" if columns else "key"):
        for name in (*columns, *key):
            check_column(name, table)
    moved = list(columns) or [name for name in table.column_names if name not in key]
    if not moved:
        raise UsageError("no column is left to put under another", table.name)
    return moved


def _strand(table: Table, moved: Sequence[str], heads: str, cells: str) -> Strand:
    """Headings and cells, stored column after column and shown row by row."""
    expect(table.rows * len(moved) * _OF_ROW)
    whole = [table.whole(name) for name in moved]
    if len({one.type for one in whole}) > 1:
        whole = [kept((as_text(c) for c in one.chunks), pa.string()) for one in whole]
    chunks = [chunk for one in whole for chunk in one.chunks]
    which = np.repeat(np.arange(len(moved), dtype=np.int32), table.rows)
    headings = [chunk for name in moved for chunk in repeated(name, table.rows)]
    stored = {
        heads: pa.chunked_array(headings, pa.string()),
        cells: pa.chunked_array(chunks, whole[0].type),
        _WHICH: pa.chunked_array([which]),
    }
    total = table.rows * len(moved)
    index = np.arange(total, dtype=rows_dtype(total)).reshape(len(moved), table.rows)
    return Strand("made", stored, (), np.ascontiguousarray(index.T).reshape(-1))


def _joint_kind(table: Table, moved: Sequence[str]) -> str | None:
    kinds = {table.column(name).kind for name in moved}
    return kinds.pop() if len(kinds) == 1 else "text" if "text" in kinds else None


def _typed(table: Table, moved: Sequence[str]) -> tuple[Finding, ...]:
    """A note where columns of different types come under one another."""
    types = {table.whole(name).type for name in moved}
    types = {one for one in types if not is_text(one)} if len(types) > 1 else set()
    if not types:
        return ()
    return (
        Finding(
            "types-differ",
            "note",
            len(moved),
            f"the columns put under one another in {table.name} have different types; "
            "their cells are written as text",
            where=table.name,
        ),
    )
