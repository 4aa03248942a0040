"""Writing SQLite files: a table for each, every value in its type."""

from __future__ import annotations

import datetime as dt
import math
import sqlite3
from collections.abc import Callable, Mapping, Sequence
from contextlib import closing, suppress
from dataclasses import replace
from decimal import Decimal
from pathlib import Path
from typing import Any
from urllib.parse import quote

import pyarrow as pa

from plait.core.base.errors import OutputError
from plait.core.base.findings import Finding
from plait.core.base.wording import Command, Setting, wording
from plait.core.table.table import Table
from plait.core.types.exact_numbers import narrow_decimal
from plait.io.cells.conversion import (
    SURE_DIGITS,
    TypedColumns,
    convert_in_row_groups,
    infer_types,
    report_missing_markers,
    with_texts,
)

_GROUP = 1 << 14
_LARGEST = 2**63
_TYPES = (
    (pa.types.is_integer, "INTEGER"),
    (pa.types.is_boolean, "BOOLEAN"),
    (pa.types.is_floating, "REAL"),
)
# What an earlier table may be declared as for cells that are declared so now.
_TAKES = {
    "DECIMAL": ("REAL", "NUMERIC", "DECIMAL"),
    "BOOLEAN": ("INTEGER",),
    "INTEGER": ("DECIMAL",),
}

OnProgress = Callable[[int], None]


def write_database(
    tables: Mapping[str, Table], target: Path, on_progress: OnProgress = lambda _: None
) -> list[Finding]:
    """Write tables to a new SQLite file.

    Parameters
    ----------
    tables : mapping of str to Table
        By their names in the database. True and false are 1 and 0, in columns declared
        BOOLEAN; decimals of up to 15 digits are numbers, in columns declared DECIMAL with
        their places. Longer decimals, integers of more than 64 bits, dates and times are
        text, the last two as ISO 8601 has them.
    target : Path
        An empty file.
    on_progress : callable
        Told how many rows were written, each time.

    Raises
    ------
    OutputError
        For more columns than SQLite takes, or names that it takes for the same.
    """
    findings = []
    try:
        with closing(sqlite3.connect(target)) as base:
            base.execute("PRAGMA journal_mode = OFF")
            base.execute("PRAGMA synchronous = OFF")  # the delivery flushes
            for name, table in tables.items():
                findings += _write(base, name, table, on_progress)
            base.commit()
    except sqlite3.OperationalError as error:
        raise OSError(str(error)) from None  # as that of any other file that cannot be written
    return findings


def check_table(
    target: Path, name: str, replace: bool, append: bool = False, is_source: bool = False
) -> None:
    """See that a table can be put into a database that is there, or rows be added to one.

    Parameters
    ----------
    is_source : bool
        Whether some of it is read: it takes new tables then, and no table in it changes.

    Raises
    ------
    OutputError
        When it is no database, or has a table of that name that may not be replaced, or
        something else of that name.
    """
    with closing(_connected(target)) as base:
        try:
            found = base.execute(
                "SELECT type FROM sqlite_master WHERE lower(name) = lower(?)", (name,)
            ).fetchone()
        except sqlite3.Error as error:
            raise _unusable(target, error) from None
    if found and found[0] != "table":
        raise OutputError(
            f"{name} is a {found[0]} there", str(target), f"name a table: {target}#OTHER"
        )
    if found and is_source:
        raise _source_error(target, name)
    if found and not replace and not append:
        raise OutputError(
            f"the table {name} already exists",
            str(target),
            wording(
                f"choose another name: {target}#OTHER, replace just this table: ",
                Setting("replace", True),
                ", or add rows to it: ",
                Setting("append", True),
            ),
        )


def _source_error(target: Path, name: str) -> OutputError:
    return OutputError(
        f"the table {name} is there already, and a database that is a source takes new tables only",
        str(target),
        f"choose another name: {target}#OTHER",
    )


class SqliteAppend:
    """Tables written into a database that is there, in one transaction that is still open.

    Everything else in the database stays. Nobody sees the tables before ``commit``;
    those of the same names are replaced then, and their indexes are made again.
    """

    def __init__(self, target: Path) -> None:
        self._target = target
        self._base = _connected(target)
        try:
            self._base.execute("BEGIN IMMEDIATE")
        except sqlite3.Error as error:
            self._base.close()
            raise _unusable(target, error) from None

    def add(
        self,
        table: Table,
        name: str,
        on_progress: OnProgress = lambda _: None,
        append: bool = False,
        is_source: bool = False,
    ) -> list[Finding]:
        """Write one table more, or add its rows to one that is there.

        In a source no table is replaced, and none takes more rows.

        Raises
        ------
        OutputError
        """
        try:
            there = self._columns(name)
            if there and is_source:
                raise _source_error(self._target, name)
            if there and append:
                return _append(
                    self._base, name, table, there, f"{self._target}#{name}", on_progress
                )
            again = self._dropped(name)
            findings = _write(self._base, name, table, on_progress)
            for statement in again:
                self._base.execute(statement)
        except sqlite3.Error as error:
            raise _unusable(self._target, error) from None
        return findings

    def _columns(self, name: str) -> dict[str, str]:
        """The columns of a table and their types; nothing when there is none."""
        cursor = self._base.execute("SELECT name, type FROM pragma_table_info(?)", (name,))
        return dict(cursor.fetchall())

    def _dropped(self, name: str) -> list[str]:
        """Drop the table of that name; what makes its indexes and triggers again."""
        found = self._base.execute(
            "SELECT sql FROM sqlite_master WHERE lower(tbl_name) = lower(?) "
            "AND type IN ('index', 'trigger') AND sql IS NOT NULL",
            (name,),
        ).fetchall()
        self._base.execute(f"DROP TABLE IF EXISTS {_quoted(name)}")
        return [sql for (sql,) in found]

    def stated(self) -> dict[str, Any]:
        """What tells later whether it was made: the number that a change of tables raises."""
        (version,) = self._base.execute("PRAGMA schema_version").fetchone()
        return {"path": str(self._target.absolute()), "after": version}

    def commit(self) -> None:
        """Make it so.

        Raises
        ------
        OutputError
            When it cannot be; nothing has changed then.
        """
        try:
            self._base.execute("COMMIT")
        except sqlite3.Error as error:
            raise _unusable(self._target, error) from None
        self._base.close()

    def rollback(self) -> None:
        """Leave the database as it was."""
        with suppress(sqlite3.Error):  # SQLite has taken it back by itself then, or will
            if self._base.in_transaction:
                self._base.execute("ROLLBACK")
        self._base.close()


def _connected(target: Path) -> sqlite3.Connection:
    return sqlite3.connect(
        f"file:{quote(str(target.absolute()))}?mode=rw", uri=True, isolation_level=None
    )


def _unusable(target: Path, error: sqlite3.Error) -> OutputError:
    return OutputError(
        f"the table cannot be written into this database: {error}",
        str(target),
        "check that this is a SQLite file and that no one else is writing to it; "
        "nothing was changed",
    )


def _narrow_typing(table: Table) -> TypedColumns:
    """The types of a table's columns, decimals with as many digits as their values have.

    Decimals that SQLite would not give back are texts, as they stand.
    """
    typing = infer_types(table)
    fields = [
        field.with_type(narrow_decimal(typing.columns[field.name]).type)
        if pa.types.is_decimal(typing.columns[field.name].type)
        else field
        for field in typing.schema
    ]
    typing = replace(typing, schema=pa.schema(fields))
    return with_texts(typing, (f.name for f in fields if not _is_sure_decimal(f.type)))


def _write(
    base: sqlite3.Connection, name: str, table: Table, on_progress: OnProgress
) -> list[Finding]:
    typing = _narrow_typing(table)
    try:
        base.execute(f"CREATE TABLE {_quoted(name)} ({', '.join(_columns(typing))})")
    except sqlite3.Error as error:
        raise OutputError(
            f"SQLite cannot store {name}: {error}",
            None,
            wording("rename the column: ", Command("mend", (), (Setting("rename"),))),
        ) from None
    _insert(base, _quoted(name), typing, on_progress)
    return report_missing_markers(typing)


def _insert(
    base: sqlite3.Connection, into: str, typing: TypedColumns, on_progress: OnProgress
) -> None:
    marks = ", ".join("?" * len(typing.schema))
    for group in convert_in_row_groups(typing, _GROUP):
        columns = (
            map(_number if _is_sure_decimal(column.type) else _value, column.to_pylist())
            for column in group.columns
        )
        rows = zip(*columns, strict=True)
        base.executemany(f"INSERT INTO {into} VALUES ({marks})", rows)
        on_progress(group.num_rows)


def _append(
    base: sqlite3.Connection,
    name: str,
    table: Table,
    there: Mapping[str, str],
    where: str,
    on_progress: OnProgress,
) -> list[Finding]:
    """Add rows to a table that has the same columns, of the same types."""
    typing = _narrow_typing(table)
    declared = dict(zip(typing.schema.names, map(_declared, typing.schema.types), strict=True))
    said = [f"it has no column {d}" for d in declared if d not in there]
    said += [
        f"{one} is {there[one].lower()} there, and {kind.lower()} here"
        for one, kind in declared.items()
        if one in there and not _takes(there[one], kind)
    ]
    more = [t for t in there if t not in declared]
    said += [f"it also has {', '.join(more)}"] if more else []
    raise_on_schema_mismatch(said, where)
    columns = ", ".join(map(_quoted, declared))
    _insert(base, f"{_quoted(name)} ({columns})", typing, on_progress)
    return report_missing_markers(typing)


def raise_on_schema_mismatch(said: Sequence[str], where: str) -> None:
    """Raise where rows cannot be added to a table because it has another shape.

    Raises
    ------
    OutputError
    """
    if said:
        raise OutputError(
            f"the columns of the table differ: {'; '.join(said)}",
            where,
            wording(
                "make the columns match with ",
                Command("mend"),
                ", or replace the table: ",
                Setting("replace", True),
            ),
        )


def _quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'


def _columns(typing: TypedColumns) -> list[str]:
    return [f"{_quoted(field.name)} {_declared(field.type)}" for field in typing.schema]


def _declared(kind: pa.DataType) -> str:
    if _is_sure_decimal(kind):
        return f"DECIMAL({kind.precision},{kind.scale})"
    return next((declared for holds, declared in _TYPES if holds(kind)), "TEXT")


def _is_sure_decimal(kind: pa.DataType) -> bool:
    """Whether the floats that SQLite keeps decimals as give every decimal of a type back."""
    return bool(pa.types.is_decimal(kind) and kind.precision <= SURE_DIGITS)


def _number(value: Decimal | None) -> float | None:
    return None if value is None else float(value)


def _takes(there: str, kind: str) -> bool:
    """Whether a column that is declared so takes cells of a kind."""
    there, kind = there.upper().partition("(")[0].strip(), kind.partition("(")[0]
    return there == kind or there in _TAKES.get(kind, ())


def _value(value: Any) -> Any:
    if isinstance(value, dt.datetime):
        return value.isoformat(sep=" ")
    if isinstance(value, dt.date | dt.time):
        return value.isoformat()
    if isinstance(value, Decimal):
        return format(value, "f")
    too_long = isinstance(value, int) and not -_LARGEST <= value < _LARGEST
    not_there = isinstance(value, float) and math.isnan(value)  # SQLite would take it for NULL
    return str(value) if too_long or not_there or isinstance(value, dt.timedelta) else value
