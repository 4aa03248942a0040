"""The month, quarter or year of dates, as a column to group by."""

from __future__ import annotations

import pyarrow as pa
import pyarrow.compute as pc

from plait.core.account.errors import UsageError
from plait.core.account.names import distinct_name, nearest
from plait.core.account.parallel import ordered_map
from plait.core.store.shelf import kept
from plait.core.table.keyspec import check_column
from plait.core.table.table import Table
from plait.core.types.forms import base
from plait.core.types.kinds import arrow_type, as_kind

PARTS = ("month", "quarter", "year")


def with_date_parts(table: Table, columns: tuple[str, ...]) -> tuple[Table, tuple[str, ...]]:
    """The table with a column for each ``COLUMN:month``, and what those columns are called.

    Parameters
    ----------
    table : Table
    columns : tuple of str
        Names of columns, some of dates with ``:month``, ``:quarter`` or ``:year``
        behind them.

    Raises
    ------
    UsageError
        For a column that is not there, or has no dates.

    Examples
    --------
    >>> from plait.core.table.table import from_columns
    >>> table, names = with_date_parts(from_columns("t", {"seen": ["2031-04-05"]}), ("seen:month",))
    >>> names, table.to_dict()["seen month"]
    (('seen month',), ['2031-04'])
    """
    made = []
    for spec in columns:
        name, sign, part = spec.rpartition(":")
        if table.has(spec) or not sign or not table.has(name):
            check_column(spec, table)
            made.append(spec)
            continue
        if part not in PARTS:
            raise UsageError(
                f"dates have no part {part!r}",
                f"{table.name}, column {name}",
                nearest(part, PARTS) or f"one of {', '.join(PARTS)}",
            )
        called = distinct_name(f"{name} {part}", table.column_names)
        table = table.with_made(called, _parts(table, name, part), [name])
        made.append(called)
    return table, tuple(made)


def _parts(table: Table, name: str, part: str) -> pa.ChunkedArray:
    cells = table.whole(name)
    kind = table.kind(name)
    to = arrow_type(kind, cells)
    dated = pa.types.is_date(to) or pa.types.is_timestamp(to)
    if base(kind) not in ("date", "datetime", "empty") and not dated:
        raise UsageError(
            f"{part} needs a date column; {name} is {kind}",
            table.name,
            f"--type '{name}=date', or date:%d.%m.%Y as they are written",
        )
    if base(kind) == "empty":
        return pa.chunked_array([pa.nulls(table.rows, pa.string())])
    chunks = ordered_map(lambda chunk: _written(as_kind(chunk, kind, to), part), cells.chunks)
    return kept(chunks, pa.string())


def _written(dates: pa.Array, part: str) -> pa.Array:
    """``2031-04``, ``2031-Q2`` or ``2031``: they sort as they follow one another."""
    year = pc.utf8_lpad(pc.year(dates).cast(pa.string()), 4, "0")
    if part == "year":
        return year
    number = (pc.month(dates) if part == "month" else pc.quarter(dates)).cast(pa.string())
    sign = "-" if part == "month" else "-Q"
    number = pc.utf8_lpad(number, 2, "0") if part == "month" else number
    return pc.binary_join_element_wise(year, number, sign)
