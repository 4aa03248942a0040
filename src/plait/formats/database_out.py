"""Writing SQLite files: a table for each, every value in its type."""

from __future__ import annotations

import datetime as dt
import sqlite3
from collections.abc import Callable, Mapping
from contextlib import closing
from decimal import Decimal
from pathlib import Path
from typing import Any

import pyarrow as pa

from plait.core.errors import OutputError
from plait.core.finding import Finding
from plait.core.table import Table
from plait.formats.typed import Typing, groups, marker_findings, sure_typing

_GROUP = 1 << 14
_DECLARED = (
    (pa.types.is_integer, "INTEGER"),
    (pa.types.is_boolean, "INTEGER"),
    (pa.types.is_floating, "REAL"),
)

Tick = Callable[[int], None]


def write_database(
    tables: Mapping[str, Table], target: Path, tick: Tick = lambda _: None
) -> list[Finding]:
    """Write tables to a new SQLite file.

    Parameters
    ----------
    tables : mapping of str to Table
        By their names in the database. True and false are 1 and 0; dates, times
        and exact decimals are text, the first two as ISO 8601 has them.
    target : Path
        An empty file.
    tick : callable
        Told how many rows were written, each time.

    Raises
    ------
    OutputError
        For more columns than SQLite takes, or names that it takes for the same.
    """
    findings = []
    with closing(sqlite3.connect(target)) as base:
        base.execute("PRAGMA journal_mode = OFF")
        base.execute("PRAGMA synchronous = OFF")  # the delivery flushes
        for name, table in tables.items():
            findings += _write(base, name, table, tick)
        base.commit()
    return findings


def _write(base: sqlite3.Connection, name: str, table: Table, tick: Tick) -> list[Finding]:
    typing = sure_typing(table)
    try:
        base.execute(f"CREATE TABLE {_quoted(name)} ({', '.join(_columns(typing))})")
    except sqlite3.Error as error:
        raise OutputError(
            f"SQLite cannot hold {name}: {error}", None, "rename the column: plait mend --rename"
        ) from None
    marks = ", ".join("?" * len(table.columns))
    for group in groups(typing, _GROUP):
        rows = zip(*(map(_value, column.to_pylist()) for column in group.columns), strict=True)
        base.executemany(f"INSERT INTO {_quoted(name)} VALUES ({marks})", rows)
        tick(group.num_rows)
    return marker_findings(typing)


def _quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'


def _columns(typing: Typing) -> list[str]:
    return [
        f"{_quoted(field.name)} "
        + next((declared for holds, declared in _DECLARED if holds(field.type)), "TEXT")
        for field in typing.schema
    ]


def _value(value: Any) -> Any:
    if isinstance(value, dt.datetime):
        return value.isoformat(sep=" ")
    if isinstance(value, dt.date | dt.time):
        return value.isoformat()
    return format(value, "f") if isinstance(value, Decimal) else value
