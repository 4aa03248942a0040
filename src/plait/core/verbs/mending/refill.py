"""Cells changed as asked: spaces taken off, values replaced, missing ones filled."""

from __future__ import annotations

import csv
from collections.abc import Sequence
from dataclasses import replace
from itertools import pairwise

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.account.errors import UsageError
from plait.core.account.finding import Finding, agreeing, counted
from plait.core.store.shelf import kept
from plait.core.table.absent import present
from plait.core.table.keyspec import check_column, names
from plait.core.table.table import Table
from plait.core.text.cells import as_text, is_text

DOWN = "down"


def trimmed(table: Table, columns: bool | Sequence[str] | str) -> Table:
    """Take spaces off both ends of the text cells of all columns, or of some.

    >>> from plait.core.table.table import from_columns
    >>> trimmed(from_columns("t", {"a": [" x "]}), True).to_dict()
    {'a': ['x']}
    """
    if not columns:
        return table
    chosen = table.column_names if columns is True else names(columns)
    changed = 0
    for name in chosen:
        check_column(name, table)
        cells = table.whole(name)
        if is_text(cells.type):
            made = kept((pc.utf8_trim_whitespace(chunk) for chunk in cells.chunks), cells.type)
            different = _differing(cells.chunks, made.chunks)
            if different:
                kind = table.column(name).kind
                table = table.replacing(name, made, kind)
                changed += different
    return _told(table, "cells-trimmed", changed, "had leading or trailing spaces removed")


def replaced(table: Table, spec: str) -> Table:
    """Replace whole cells: ``COLUMN:OLD=NEW``; an empty OLD or NEW is a missing cell.

    Raises
    ------
    UsageError
        When there is no such column or no ``=``.

    Examples
    --------
    >>> from plait.core.table.table import from_columns
    >>> replaced(from_columns("t", {"a": ["n/k", "7"]}), "a:n/k=").to_dict()
    {'a': [None, '7']}
    """
    column, old, new = _parsed(spec)
    check_column(column, table)
    cells = table.whole(column)
    value = pa.scalar(new or None, pa.string())
    same = [pc.equal(pc.fill_null(as_text(chunk), ""), old) for chunk in cells.chunks]
    made = (
        pc.if_else(hit, value, as_text(chunk))
        for hit, chunk in zip(same, cells.chunks, strict=True)
    )
    count = sum(pc.sum(hit).as_py() or 0 for hit in same)
    table = table.replacing(column, kept(made, pa.string()))
    severity = "note" if count else "warning"
    now = (
        f"changed from {old!r} to {new!r}"
        if new
        else (f"with {old!r} {agreeing(count, 'is', 'are')} now missing")
    )
    what = f"of {column!r} {now}"
    return _told(table, "cells-replaced", count, what, severity, always=True)


def _parsed(spec: str) -> tuple[str, str, str]:
    column, colon, rest = _named(spec)
    old, sign, new = rest.partition("=")
    if not colon or not sign:
        raise UsageError(
            f"--replace-value {spec!r} is not COLUMN:OLD=NEW",
            remedy="write --replace-value kg:n/k=",
        )
    return column, old, new


def _named(spec: str) -> tuple[str, str, str]:
    """A column's name, in double quotes where it holds a colon, and what follows the colon."""
    if spec.startswith('"'):
        end = spec.find('":', 1)
        if end > 0:
            return next(csv.reader([spec[: end + 1]]))[0], ":", spec[end + 2 :]
    return spec.partition(":")


def filled(table: Table, column: str, value: str) -> Table:
    """Fill the missing cells of a column with a value, or with the cell above (``down``).

    >>> from plait.core.table.table import from_columns
    >>> filled(from_columns("t", {"a": ["x", "", "y", None]}), "a", "down").to_dict()
    {'a': ['x', 'x', 'y', 'y']}
    """
    check_column(column, table)
    cells = table.whole(column)
    missing = ~present(table, column)
    if value == DOWN:
        above = np.maximum.accumulate(np.where(missing, -1, np.arange(len(missing))))
        count = int((missing & (above >= 0)).sum())
        table = table.showing(column, np.where(above < 0, np.arange(len(above)), above))
    else:
        ends = np.cumsum([0, *map(len, cells.chunks)]).tolist()
        made = kept(
            (
                pc.if_else(pa.array(missing[begin:end]), value, as_text(chunk).cast(pa.string()))
                for chunk, (begin, end) in zip(cells.chunks, pairwise(ends), strict=True)
            ),
            pa.string(),
        )
        count = int(missing.sum())
        table = table.replacing(column, made, table.column(column).kind)
    how = "with the cell above" if value == DOWN else f"with {value!r}"
    return _told(table, "cells-filled", count, f"of {column!r} filled {how}")


def _differing(before: Sequence[pa.Array], after: Sequence[pa.Array]) -> int:
    return sum(
        pc.sum(pc.not_equal(old, new)).as_py() or 0 for old, new in zip(before, after, strict=True)
    )


def _told(
    table: Table, code: str, count: int, what: str, severity: str = "note", always: bool = False
) -> Table:
    if not count and not always:
        return table
    finding = Finding(code, severity, count, f"{counted(count, 'cell')} {what}", where=table.name)
    return replace(table, findings=(*table.findings, finding))
