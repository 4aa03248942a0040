"""Writing tables into MariaDB and MySQL: into tables of their own, which change places at once.

What makes and drops tables takes effect at once there. So the rows go into a table with a name
of its own; one ``RENAME TABLE`` lets all of them take their places.
"""

from __future__ import annotations

import datetime as dt
import hashlib
import re
from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from decimal import Decimal
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from plait.core.base.errors import OutputError, PlaitError
from plait.core.base.findings import Finding
from plait.core.table.table import Table
from plait.io.cells.conversion import report_missing_markers
from plait.io.database.driver_errors import output_error
from plait.io.database.mysql import make_mysql_engine, quote_identifier, quote_literal
from plait.io.database.table_writer import (
    RENAME,
    DatabaseWriter,
    Sources,
    TargetSchema,
    check_cells,
    check_names,
    declared_text_lengths,
    infer_target_schema,
    schema_differences,
    unique_key,
)
from plait.io.places.address import Address
from plait.io.places.source import OnProgress
from plait.io.places.target import TableWriteOptions
from plait.io.sqlite.write import raise_on_schema_mismatch

PART = ".plait-"
_LONGEST_NAME, _LONGEST_KEY = 64, 190
_LOCK_SECONDS, _SAMPLE_ROWS = 60, 5_000
_FIRST, _LAST = dt.datetime(1970, 1, 1, 0, 0, 1), dt.datetime(2038, 1, 19, 3, 14, 7)
_DECLARED = (
    (pa.types.is_boolean, "tinyint(1)"),
    (pa.types.is_int16, "smallint"),
    (pa.types.is_int32, "int"),
    (pa.types.is_int64, "bigint"),
    (pa.types.is_float32, "float"),
    (pa.types.is_float64, "double"),
    (pa.types.is_date, "date"),
    (pa.types.is_time, "time(6)"),
)
_WHOLE = ("tinyint", "smallint", "mediumint", "int", "bigint")
_TEXTS = ("varchar", "tinytext", "text", "mediumtext", "longtext")
_FOUND = """
SELECT table_type FROM information_schema.tables
WHERE table_schema = {schema} AND table_name = {name} AND BINARY table_name = {name}
"""
_COLUMNS = """
SELECT column_name, lower(column_type),
       coalesce(column_default, 'NULL') <> 'NULL'
         OR extra LIKE '%auto_increment%' OR extra LIKE '%GENERATED%'
FROM information_schema.columns
WHERE table_schema = {schema} AND table_name = {name} AND BINARY table_name = {name}
ORDER BY ordinal_position
"""


@dataclass(frozen=True)
class _NewMySqlTable:
    """A table that was written under a name of its own; its rows are added, or it takes a place."""

    schema: str
    part: str
    name: str
    columns: tuple[str, ...] = ()


class MySqlWriter(DatabaseWriter):
    """Tables written into MariaDB or MySQL; nobody finds them by their names before ``commit``."""

    scheme = "mysql"
    called = "database"

    def __init__(self, address: Address, replace: bool = False) -> None:
        super().__init__(address, replace)
        self._new: list[_NewMySqlTable] = []
        self._engine = make_mysql_engine(address)
        try:
            self._base = self._engine.connect().execution_options(
                no_parameters=True, isolation_level="AUTOCOMMIT"
            )
            self._do(f"SET SESSION lock_wait_timeout = {_LOCK_SECONDS}")
            self._do("SET SESSION time_zone = '+00:00'")
            self._do("SET SESSION sql_mode = 'STRICT_ALL_TABLES,NO_BACKSLASH_ESCAPES'")
            self._do(f"SELECT GET_LOCK('{PART}{self._token}', 0)")
        except BaseException as error:
            self.rollback()
            if isinstance(error, PlaitError) or not isinstance(error, Exception):
                raise
            raise output_error(error, address, "") from None

    def check(self, name: str, append: bool, sources: Sources = ()) -> None:
        """See that a table can be written."""
        schema, table = self._split_table_name(name)
        text = self._table_kind(schema, table)
        self._check_sources(name, sources)
        if "VIEW" in text:
            raise OutputError(f"{table} is a view there", self._where(name), "name another table")
        if text and not append:
            self._refuse_taken(table, name)
        self._sweep(schema)

    def _table_kind(self, schema: str, table: str) -> str:
        found = self._rows(_FOUND.format(schema=quote_literal(schema), name=quote_literal(table)))
        return str(found[0][0]) if found else ""

    def _identity(self, name: str) -> tuple[Any, ...] | None:
        return *self._rows("SELECT @@hostname, @@port, @@datadir")[0], *self._split_table_name(
            name, there_is=True
        )

    def _sweep(self, schema: str) -> None:
        """Take away what runs that were killed have left."""
        left = self._rows(
            "SELECT table_name FROM information_schema.tables "
            f"WHERE table_schema = {quote_literal(schema)} AND table_name LIKE "
            f"{quote_literal(f'%{PART}%')}"
        )
        for (name,) in left:
            match = re.fullmatch(rf".*{re.escape(PART)}([0-9a-f]{{8}})(-\d+|-old-\d+)", name)
            if match and match[1] != self._token:
                ((free,),) = self._rows(f"SELECT IS_FREE_LOCK('{PART}{match[1]}')")
                if free:
                    self._do(
                        f"DROP TABLE IF EXISTS {quote_identifier(schema)}.{quote_identifier(name)}"
                    )

    def add(
        self, table: Table, name: str, on_progress: OnProgress, how: TableWriteOptions
    ) -> list[Finding]:
        """Write one table more."""
        schema, plain = self._split_table_name(name)
        where = self._where(name)
        shape = _within_range(table, infer_target_schema(table))
        check_names(shape, where, _LONGEST_NAME, plain, len)
        _check_signs((plain, *shape.schema.names), where)
        appends = how.append and bool(self._table_kind(schema, plain))
        types: dict[str, str] = {}
        if appends:
            there = self._rows(
                _COLUMNS.format(schema=quote_literal(schema), name=quote_literal(plain))
            )
            filled = {column for column, _, itself in there if itself}
            types = {column: declared for column, declared, _ in there}
            raise_on_schema_mismatch(schema_differences(shape, types, filled, _fits), where)
        part = f"{plain[:40]}{PART}{self._token}-{len(self._new)}"
        whole = f"{quote_identifier(schema)}.{quote_identifier(part)}"
        key = () if appends else self._key(table, shape, how.key)
        self._make(whole, shape, key, how, plain)
        self._new.append(
            _NewMySqlTable(schema, part, plain, tuple(shape.schema.names) if appends else ())
        )
        self._insert(whole, shape, where, on_progress, declared_text_lengths(types))
        return report_missing_markers(shape.typing)

    def _key(self, table: Table, shape: TargetSchema, key: Sequence[str]) -> tuple[str, ...]:
        """A key that is known to be unique, where the database can have it: texts not too long."""
        names = unique_key(table, key)
        for name in names:
            cells = table.chunks(name)
            if pa.types.is_string(shape.schema.field(name).type) and pa.types.is_string(cells.type):
                longest = pc.max(pc.utf8_length(cells)).as_py() or 0
                if longest > _LONGEST_KEY:
                    return ()
        return names

    def _make(
        self, whole: str, shape: TargetSchema, key: Sequence[str], how: TableWriteOptions, name: str
    ) -> None:
        columns = []
        for field in shape.schema:
            note = how.comments.get(field.name, "")
            text = f" COMMENT {quote_plain_literal(note[:1024])}" if note else ""
            columns.append(
                f"{quote_identifier(field.name)} {_declared(field.type, field.name in key)}{text}"
            )
        if key:
            columns.append(f"PRIMARY KEY ({', '.join(map(quote_identifier, key))})")
        title = f" COMMENT {quote_plain_literal(how.title[:2048])}" if how.title else ""
        self._do(
            f"CREATE TABLE {whole} ({', '.join(columns)}) ENGINE = InnoDB CHARACTER SET utf8mb4 "
            f"COLLATE {self._collation()}{title}",
            name,
        )

    def _collation(self) -> str:
        """One that compares all signs, spaces at the end too."""
        for name in ("utf8mb4_nopad_bin", "utf8mb4_0900_bin"):
            if self._rows(f"SHOW COLLATION WHERE collation = '{name}'"):
                return name
        return "utf8mb4_bin"

    def _insert(
        self,
        whole: str,
        shape: TargetSchema,
        where: str,
        on_progress: OnProgress,
        most: Mapping[str, int],
    ) -> None:
        """Send the rows, some thousands in a statement."""
        marks = ", ".join(["%s"] * len(shape.schema))
        statement = f"INSERT INTO {whole.replace('%', '%%')} VALUES ({marks})"
        begin = 0
        raw = self._base.connection.cursor()
        try:
            raw.execute("BEGIN")
            for batch in shape.batches(on_progress):
                check_cells(batch, begin, where, _never, most)
                for start in range(0, len(batch), _SAMPLE_ROWS):
                    rows = _driver_rows(batch.slice(start, _SAMPLE_ROWS))
                    raw.executemany(statement, rows)
                begin += len(batch)
            raw.execute("COMMIT")
        except PlaitError:
            raise
        except Exception as error:
            raise output_error(error, self._address, "") from None
        finally:
            with suppress(Exception):
                raw.close()

    def stated(self) -> dict[str, Any]:
        """What tells later whether it was made: a table that is there until it is."""
        one = self._new[0]
        return {"address": self._address.shown, "part": [one.schema, one.part]}

    def commit(self) -> None:
        """Let the new tables take their places, all at once.

        Raises
        ------
        OutputError
            When that cannot be; nothing has changed then.
        """
        for one in sorted(self._new, key=lambda one: (one.schema, one.name)):
            self._alone(one)
        added = [n for n in self._new if n.columns]
        moves, gone = [], []
        for number, one in enumerate(one for one in self._new if not one.columns):
            schema, name = quote_identifier(one.schema), quote_identifier(one.name)
            if self._table_kind(one.schema, one.name):
                if not self._replace:
                    raise OutputError(
                        f"someone created a table {one.name} in the meantime", self._address.shown
                    )
                old_name = f"{one.name[:36]}{PART}{self._token}-old-{number}"
                old = f"{schema}.{quote_identifier(old_name)}"
                moves.append(f"{schema}.{name} TO {old}")
                gone.append(old)
            moves.append(f"{schema}.{quote_identifier(one.part)} TO {schema}.{name}")
        if added:
            self._add_rows(added)
        if moves:
            self._do(f"RENAME TABLE {', '.join(moves)}")
        self._new = []
        for old in gone:
            with suppress(PlaitError):
                self._do(f"DROP TABLE {old}")
        self._close()

    def _alone(self, new: _NewMySqlTable) -> None:
        """Wait until nobody else, who writes as we do, lets a table take that place."""
        digest = hashlib.sha256(f"{new.schema}.{new.name}".encode()).hexdigest()[:32]
        ((got,),) = self._rows(f"SELECT GET_LOCK('plait-{digest}', {_LOCK_SECONDS})")
        if not got:
            raise OutputError(
                f"another run is writing {new.name}, and does not end",
                self._address.shown,
                "check what that session is doing; nothing was changed",
            )

    def _add_rows(self, added: Sequence[_NewMySqlTable]) -> None:
        """Add the rows of tables to others, of all or of none."""
        self._do("BEGIN")
        try:
            for one in added:
                columns, schema = (
                    ", ".join(map(quote_identifier, one.columns)),
                    quote_identifier(one.schema),
                )
                part = f"{schema}.{quote_identifier(one.part)}"
                self._do(
                    f"INSERT INTO {schema}.{quote_identifier(one.name)} ({columns}) "
                    f"SELECT {columns} FROM {part}"
                )
                self._do(f"DELETE FROM {part}")
            self._do("COMMIT")
        except BaseException:
            with suppress(PlaitError):
                self._do("ROLLBACK")
            raise
        for one in added:
            with suppress(PlaitError):
                self._do(f"DROP TABLE {quote_identifier(one.schema)}.{quote_identifier(one.part)}")

    def rollback(self) -> None:
        """Leave everything as it was."""
        for one in self._new:
            with suppress(PlaitError):
                self._do(
                    "DROP TABLE IF EXISTS "
                    f"{quote_identifier(one.schema)}.{quote_identifier(one.part)}"
                )
        self._new = []
        self._close()

    def _close(self) -> None:
        with suppress(Exception):
            self._base.close()
            self._engine.dispose()

    def _schemas(self) -> list[str]:
        found = self._rows("SELECT schema_name FROM information_schema.schemata")
        return [name for (name,) in found]

    def _usual(self) -> str | None:
        ((usual,),) = self._rows("SELECT database()")
        return None if usual is None else str(usual)

    def _do(self, text: str, called: str = "") -> None:
        try:
            self._base.exec_driver_sql(text).close()
        except Exception as error:
            raise output_error(error, self._address, called) from None

    def _rows(self, text: str) -> list[tuple[Any, ...]]:
        try:
            return [tuple(row) for row in self._base.exec_driver_sql(text).fetchall()]
        except Exception as error:
            raise output_error(error, self._address, "") from None


def was_committed(address: Address, schema: str, part: str) -> bool:
    """Whether the tables of an earlier run took their places: theirs of then is gone, or empty.

    Raises
    ------
    OutputError
        When the database cannot be asked.
    """
    tables = MySqlWriter(address)
    try:
        if not tables._table_kind(schema, part):
            return True
        ((left,),) = tables._rows(
            f"SELECT EXISTS (SELECT 1 FROM {quote_identifier(schema)}.{quote_identifier(part)})"
        )
        return not left
    finally:
        tables.rollback()


def _check_signs(names: Sequence[str], where: str) -> None:
    """See that no name has a sign beyond those that names may have there."""
    for name in names:
        if any(ord(n) > 0xFFFF for n in name) or name.endswith(" "):
            raise OutputError(f"no name there can be {name!r}", where, RENAME)


def quote_plain_literal(text: str) -> str:
    """A text where only a plain one may stand; no backslash means anything in this session.

    >>> quote_plain_literal("bee's")
    "'bee''s'"
    """
    return "'" + text.replace("'", "''") + "'"


def _within_range(table: Table, shape: TargetSchema) -> TargetSchema:
    """Moments beyond those that the database can hold with a zone are sent as text."""
    fields = []
    for field in shape.schema:
        kind = field.type
        if pa.types.is_timestamp(kind) and kind.tz:
            ends = pc.min_max(table.chunks(field.name).cast(kind))
            low, high = ends["min"].as_py(), ends["max"].as_py()
            bare = [one.replace(tzinfo=None) for one in (low, high) if one is not None]
            if any(not _FIRST <= b <= _LAST for b in bare):
                kind = pa.string()
        if pa.types.is_decimal(kind) and (kind.precision > 65 or kind.scale > 30):
            kind = pa.string()
        fields.append(pa.field(field.name, kind))
    return TargetSchema(shape.typing, pa.schema(fields))


def _declared(kind: pa.DataType, in_key: bool = False) -> str:
    if pa.types.is_decimal(kind):
        return f"decimal({kind.precision},{kind.scale}){' NOT NULL' if in_key else ''}"
    if pa.types.is_timestamp(kind):
        # Without NULL it would be one that fills itself.
        return "timestamp(6) NULL DEFAULT NULL" if kind.tz else "datetime(6)"
    text = f"varchar({_LONGEST_KEY})" if in_key else "longtext"
    return next((declared for holds, declared in _DECLARED if holds(kind)), text)


def _fits(kind: pa.DataType, declared: str) -> bool:
    """Whether values of a type can stand in a column of a declared type without being changed."""
    there, found = declared.split("(")[0].split()[0], re.search(r"\((\d+)(?:,(\d+))?\)", declared)
    mine = _declared(kind).split("(")[0]
    if there == "decimal" and (mine == "decimal" or mine in _WHOLE):
        return found is not None and int(found[2] or 0) >= (kind.scale if mine == "decimal" else 0)
    if mine in ("time", "datetime", "timestamp"):
        return mine == there and found is not None and found[1] == "6"
    if mine in _WHOLE:
        return there in _WHOLE or (there == "double" and kind.bit_width <= 32)
    if mine == "longtext":
        return there in _TEXTS
    return mine == there or (mine == "float" and there == "double")


def _never(cells: pa.Array) -> pa.Array | None:
    """Which cells MySQL cannot hold: numbers that are none."""
    if pa.types.is_floating(cells.type):
        return pc.invert(pc.is_finite(cells))
    return None


def _driver_rows(batch: pa.RecordBatch) -> Iterator[tuple[Any, ...]]:
    """Rows as the driver writes them."""
    columns = (map(_value, column.to_pylist()) for column in batch.columns)
    return zip(*columns, strict=True)


def _value(value: Any) -> Any:
    if isinstance(value, Decimal):
        return format(value, "f")
    if isinstance(value, float):
        return repr(value)
    if isinstance(value, dt.datetime):
        return value.replace(tzinfo=None).isoformat(sep=" ")
    return value.isoformat() if isinstance(value, dt.time | dt.date) else value
