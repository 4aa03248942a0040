"""Rows at the end of a table that are no records: totals, and as many as a person names."""

from __future__ import annotations

import math
import re

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.account.errors import SourceError
from plait.core.account.finding import Example, Finding
from plait.core.table.aside import left_out
from plait.core.table.table import Table
from plait.core.text.cells import as_text, without_empty
from plait.core.text.pieces import one_array

_TOTAL = re.compile(r"\s*((grand|sub)[ -]?)?totals?\b|\s*(sum|summe|gesamt|somme)\b", re.IGNORECASE)
_CLOSE = 1e-6


def without_last(table: Table, rows: int) -> Table:
    """Set so many rows at the end aside.

    >>> from plait.core.table.table import from_columns
    >>> table = without_last(from_columns("t", {"a": ["1", "total"]}), 1)
    >>> table.to_dict(), table.aside[0].table.to_dict()
    ({'a': ['1']}, {'a': ['total']})
    """
    if not rows:
        return table
    if rows > table.rows:
        raise SourceError(
            f"--footer {rows} is more than the {table.rows:,} rows of the table",
            table.name,
            "count only the rows below the table that are not records",
        )
    below = np.arange(table.rows) >= table.rows - rows
    return left_out(
        table,
        below,
        "footer",
        "below the table, as --footer says",
        "rows at the end, as --footer says",
    )


def footer_finding(table: Table, where: str) -> tuple[Finding, ...]:
    """A finding when the last row looks like a total of those above it."""
    if table.rows < 3:
        return ()
    cells = table.at(np.array([table.rows - 1])).to_dict()
    filled = [str(values[0]) for values in cells.values() if values[0] not in (None, "")]
    if not filled or not _TOTAL.match(filled[0]):
        return ()
    if len(filled) == len(cells) > 2 and not _adds_up(table):
        return ()
    return (
        Finding(
            "total-row",
            "warning",
            1,
            "the last row looks like a total",
            "to set it aside: --footer 1",
            where,
            (Example(", ".join(filled)[:60], table.places(table.rows - 1)[:1]),),
        ),
    )


def _adds_up(table: Table) -> bool:
    """Whether the last row has the sum of a column of numbers, of the first that there is."""
    for name in table.column_names[1:]:
        column = table.whole(name)
        cells = pa.array(as_text(one_array(column)))
        try:
            numbers = pc.fill_null(pc.cast(without_empty(cells), pa.float64()), 0.0).to_numpy()
        except pa.ArrowInvalid:
            continue
        return math.isclose(numbers[:-1].sum(), numbers[-1], rel_tol=_CLOSE, abs_tol=_CLOSE)
    return False
