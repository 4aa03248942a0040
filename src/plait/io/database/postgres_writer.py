"""Writing tables into PostgreSQL: by COPY, in one transaction, whole or not at all."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from types import MappingProxyType
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from plait.core.base.errors import OutputError, PlaitError
from plait.core.base.findings import Finding
from plait.core.base.wording import Setting, wording
from plait.core.table.table import Table
from plait.io.cells.conversion import report_missing_markers
from plait.io.database.driver_errors import output_error
from plait.io.database.postgres import PostgresConnection, quote_identifier, quote_literal
from plait.io.database.table_writer import (
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

_LONGEST_NAME = 63
_LOCK_SECONDS = 60
_DECLARED = (
    (pa.types.is_boolean, "boolean"),
    (pa.types.is_int16, "smallint"),
    (pa.types.is_int32, "integer"),
    (pa.types.is_int64, "bigint"),
    (pa.types.is_float32, "real"),
    (pa.types.is_float64, "double precision"),
    (pa.types.is_date, "date"),
    (pa.types.is_time, "time"),
)
_WHOLE = ("smallint", "integer", "bigint")
_DIGITS = re.compile(r"\((\d+)(?:,(-?\d+))?\)")
_FOUND = """
SELECT c.relkind::text, pg_has_role(c.relowner, 'USAGE'),
       has_table_privilege(c.oid, 'INSERT'), c.oid::int8
FROM pg_class AS c JOIN pg_namespace AS n ON n.oid = c.relnamespace
WHERE n.nspname = {schema} AND c.relname = {name}
"""
_COLUMNS = """
SELECT a.attname::text, format_type(a.atttypid, a.atttypmod),
       a.atthasdef OR a.attidentity <> '' OR a.attgenerated <> ''
FROM pg_attribute AS a WHERE a.attrelid = {oid} AND a.attnum > 0 AND NOT a.attisdropped
ORDER BY a.attnum
"""
_RIGHTS = """
SELECT CASE WHEN g.grantee = 0 THEN 'PUBLIC' ELSE quote_ident(pg_get_userbyid(g.grantee)) END,
       g.privilege_type, g.is_grantable
FROM pg_class AS c, aclexplode(c.relacl) AS g
WHERE c.oid = {oid} AND g.grantee <> c.relowner
"""
_INDEXES = """
SELECT pg_get_indexdef(i.indexrelid) FROM pg_index AS i
WHERE i.indrelid = {oid}
  AND NOT EXISTS (SELECT 1 FROM pg_constraint AS k WHERE k.conindid = i.indexrelid)
"""
# What belongs to a table and would go with it; its rights and its indexes are made again.
_LOST = """
SELECT 'row level security' FROM pg_class
          WHERE oid = {oid} AND (relrowsecurity OR relforcerowsecurity)
UNION ALL SELECT 'the policy ' || polname FROM pg_policy WHERE polrelid = {oid}
UNION ALL SELECT 'the trigger ' || tgname FROM pg_trigger
          WHERE tgrelid = {oid} AND NOT tgisinternal
UNION ALL SELECT 'the rule ' || rulename FROM pg_rewrite WHERE ev_class = {oid}
UNION ALL SELECT 'rights on the column ' || attname FROM pg_attribute
          WHERE attrelid = {oid} AND attacl IS NOT NULL AND NOT attisdropped
UNION ALL SELECT 'the constraint ' || conname FROM pg_constraint
          WHERE conrelid = {oid} AND contype IN ('c', 'f', 'x')
UNION ALL SELECT 'the reference of ' || conrelid::regclass::text FROM pg_constraint
          WHERE confrelid = {oid} AND contype = 'f' AND conrelid <> confrelid
UNION ALL SELECT 'its partitions' FROM pg_class WHERE oid = {oid} AND relkind = 'p'
UNION ALL SELECT 'its place as a partition' FROM pg_class WHERE oid = {oid} AND relispartition
"""
_CALLED = {"v": "a view", "m": "a view", "f": "a table of another server", "S": "a sequence"}


@dataclass(frozen=True)
class _NewPostgresTable:
    """A table that was written under a name of its own, and the one whose place it takes."""

    part: str
    schema: str
    name: str
    key: tuple[str, ...]


class PostgresWriter(DatabaseWriter):
    """Tables written into a PostgreSQL database in one transaction that is still open.

    Nobody sees them before ``commit``; those of the same names are replaced then.
    """

    scheme = "postgresql"
    called = "schema"

    def __init__(self, address: Address, replace: bool = False) -> None:
        super().__init__(address, replace)
        self._new: list[_NewPostgresTable] = []
        self._base = PostgresConnection(address, output_error)
        try:
            self._base.do(f"SET lock_timeout = '{_LOCK_SECONDS}s'")
            self._base.do("SET TIME ZONE 'UTC'")
            self._base.do("SET client_min_messages = 'error'")
            self._base.do("BEGIN")
        except BaseException:
            self.rollback()
            raise

    def check(self, name: str, append: bool, sources: Sources = ()) -> None:
        """See that a table can be written."""
        schema, table = self._split_table_name(name)
        where = self._where(name)
        found = self._base.rows(
            _FOUND.format(schema=quote_literal(schema), name=quote_literal(table))
        )
        self._check_sources(name, sources)
        if not found:
            self._check_may_create(schema, where)
            return
        kind, owned, inserts, _ = found[0]
        if kind not in ("r", "p"):
            called = _CALLED.get(kind, "no table")
            raise OutputError(f"{table} is {called} there", where, "name another table")
        if append and not inserts:
            raise OutputError("no permission to add rows", where, "GRANT INSERT ON it to the user")
        if append:
            return
        self._refuse_taken(table, name)
        self._refuse_loss(found[0][3], table, where)
        if not owned:
            raise OutputError(
                "only the owner may replace the table", where, "ALTER TABLE … OWNER TO the user"
            )
        self._check_may_create(schema, where)

    def _refuse_loss(self, oid: int, table: str, where: str) -> None:
        """Raise where replacing a table would lose what protects it, or hangs on it."""
        lost = [text for (text,) in self._base.rows(_LOST.format(oid=oid))]
        if lost:
            few = ", ".join(lost[:5]) + (" …" if len(lost) > 5 else "")
            raise OutputError(
                f"replacing {table} would lose {few}",
                where,
                wording(
                    "write to another table, or empty this one and add to it: ",
                    Setting("append", True),
                ),
            )

    def _check_may_create(self, schema: str, where: str) -> None:
        ((may,),) = self._base.rows(
            f"SELECT has_schema_privilege({quote_literal(schema)}, 'CREATE')"
        )
        if not may:
            raise OutputError(
                f"no table may be made in the schema {schema}",
                where,
                f"GRANT CREATE ON SCHEMA {quote_identifier(schema)} TO the user, or name "
                "another schema",
            )

    def _identity(self, name: str) -> tuple[Any, ...] | None:
        schema, table = self._split_table_name(name, there_is=True)
        found = self._base.rows(
            _FOUND.format(schema=quote_literal(schema), name=quote_literal(table))
        )
        if not found:
            return None
        ((started, base, port),) = self._base.rows(
            "SELECT pg_postmaster_start_time()::text, d.oid::int8, current_setting('port') "
            "FROM pg_database AS d WHERE d.datname = current_database()"
        )
        return started, base, port, found[0][3]

    def add(
        self, table: Table, name: str, on_progress: OnProgress, how: TableWriteOptions
    ) -> list[Finding]:
        """Write one table more."""
        schema, plain = self._split_table_name(name)
        where = self._where(name)
        shape = infer_target_schema(table)
        check_names(shape, where, _LONGEST_NAME, plain, lambda s: len(s.encode()))
        found = self._base.rows(
            _FOUND.format(schema=quote_literal(schema), name=quote_literal(plain))
        )
        if how.append and found:
            self._append(shape, schema, plain, found[0][3], where, on_progress)
        else:
            self._write(table, shape, schema, plain, where, on_progress, how)
        return report_missing_markers(shape.typing)

    def _write(
        self,
        table: Table,
        shape: TargetSchema,
        schema: str,
        name: str,
        where: str,
        on_progress: OnProgress,
        how: TableWriteOptions,
    ) -> None:
        part = f"{name.encode()[:40].decode(errors='ignore')}.{self._token}-{len(self._new)}"
        whole = f"{quote_identifier(schema)}.{quote_identifier(part)}"
        sent, long = _as_sent(shape)
        self._base.do(f"CREATE TABLE {whole} ({_columns(sent.schema)})")
        self._copy(sent, schema, part, name, where, on_progress)
        if long:
            texts = (
                f"ALTER {quote_identifier(c)} TYPE {d} USING {quote_identifier(c)}::{d}"
                for c, d in long.items()
            )
            self._base.do(f"ALTER TABLE {whole} {', '.join(texts)}")
        key = unique_key(table, how.key)
        if key and not self._keyed(whole, part, key):
            key = ()
        if how.title:
            self._base.do(f"COMMENT ON TABLE {whole} IS {quote_literal(how.title)}")
        for column, text in how.comments.items():
            if column in shape.schema.names and text:
                self._base.do(
                    f"COMMENT ON COLUMN {whole}.{quote_identifier(column)} IS {quote_literal(text)}"
                )
        self._new.append(_NewPostgresTable(part, schema, name, key))

    def _keyed(self, whole: str, part: str, key: Sequence[str]) -> bool:
        """Give a table its primary key, where the database agrees that it is one."""
        self._base.do("SAVEPOINT keyed")
        columns = ", ".join(map(quote_identifier, key))
        try:
            called = quote_identifier(f"{part}-key")
            self._base.do(f"ALTER TABLE {whole} ADD CONSTRAINT {called} PRIMARY KEY ({columns})")
        except PlaitError:
            self._base.do("ROLLBACK TO SAVEPOINT keyed")
            return False
        return True

    def _append(
        self,
        shape: TargetSchema,
        schema: str,
        name: str,
        oid: int,
        where: str,
        on_progress: OnProgress,
    ) -> None:
        there = self._base.rows(_COLUMNS.format(oid=oid))
        filled = {column for column, _, itself in there if itself}
        types = {column: declared for column, declared, _ in there}
        raise_on_schema_mismatch(schema_differences(shape, types, filled, _fits), where)
        part = f"plait-{self._token}"
        sent, long = _as_sent(shape)
        self._base.do(
            f"CREATE TEMPORARY TABLE {quote_identifier(part)} ({_columns(sent.schema)}) "
            "ON COMMIT DROP"
        )
        self._copy(sent, None, part, name, where, on_progress, declared_text_lengths(types))
        names = shape.schema.names
        columns = ", ".join(map(quote_identifier, names))
        cells = ", ".join(
            quote_identifier(n) + (f"::{long[n]}" if n in long else "") for n in names
        )
        into = f"{quote_identifier(schema)}.{quote_identifier(name)}"
        self._base.do(
            f"INSERT INTO {into} ({columns}) SELECT {cells} FROM {quote_identifier(part)}"
        )

    def _copy(
        self,
        shape: TargetSchema,
        schema: str | None,
        part: str,
        name: str,
        where: str,
        on_progress: OnProgress,
        most: Mapping[str, int] = MappingProxyType({}),
    ) -> None:
        """Send the rows of a table that is to be called ``name`` in the end."""
        failed: list[BaseException] = []

        def rows() -> Iterator[pa.RecordBatch]:
            begin = 0
            try:
                for batch in shape.batches(on_progress):
                    check_cells(batch, begin, where, _never, most)
                    begin += len(batch)
                    yield batch
            except BaseException as error:  # the driver would tell it as its own
                failed.append(error)
                raise

        reader = pa.RecordBatchReader.from_batches(shape.schema, rows())
        cursor = self._base.base.cursor()
        try:
            cursor.adbc_ingest(
                part, reader, mode="append", db_schema_name=schema, temporary=schema is None
            )
        except BaseException as error:
            if failed:
                raise failed[0] from None
            if not isinstance(error, Exception):
                raise
            raise output_error(error, self._address, name) from None
        finally:
            with suppress(Exception):
                cursor.close()

    def stated(self) -> dict[str, Any]:
        """What tells later whether it was made: the number of the transaction."""
        ((number,),) = self._base.rows("SELECT txid_current()::text")
        return {"address": self._address.shown, "transaction": number}

    def commit(self) -> None:
        """Let the new tables take their places, all at once.

        Raises
        ------
        OutputError
            When that cannot be; nothing has changed then.
        """
        try:
            for one in self._new:
                self._take_place(one)
            self._base.do("COMMIT")
        except PlaitError as error:
            raise OutputError(error.what, error.where, "nothing was changed") from None
        self._new = []
        self._base.close()

    def _take_place(self, new: _NewPostgresTable) -> None:
        schema = quote_identifier(new.schema)
        found = self._base.rows(
            _FOUND.format(schema=quote_literal(new.schema), name=quote_literal(new.name))
        )
        again: list[str] = []
        if found:
            if not self._replace:
                raise OutputError(
                    f"someone created a table {new.name} in the meantime", self._address.shown
                )
            again = self._restoring_statements(
                found[0][3], f"{schema}.{quote_identifier(new.name)}"
            )
            self._base.do(f"DROP TABLE {schema}.{quote_identifier(new.name)}", new.name)
        self._base.do(
            f"ALTER TABLE {schema}.{quote_identifier(new.part)} RENAME TO "
            f"{quote_identifier(new.name)}"
        )
        for statement in again:
            self._base.do(statement, new.name)
        if new.key:
            self._named_key(new)

    def _named_key(self, new: _NewPostgresTable) -> None:
        """Call the key as it is usual, if that name is free."""
        schema, usual = (
            quote_identifier(new.schema),
            f"{new.name.encode()[:58].decode(errors='ignore')}_pkey",
        )
        taken = self._base.rows(
            _FOUND.format(schema=quote_literal(new.schema), name=quote_literal(usual))
        )
        if not taken:
            self._base.do(
                f"ALTER INDEX {schema}.{quote_identifier(f'{new.part}-key')} RENAME TO "
                f"{quote_identifier(usual)}"
            )

    def _restoring_statements(self, oid: int, whole: str) -> list[str]:
        """What gives a new table the rights and the indexes of the one that it replaces."""
        rights = [
            f"GRANT {right} ON {whole} TO {who}" + (" WITH GRANT OPTION" if passes else "")
            for who, right, passes in self._base.rows(_RIGHTS.format(oid=oid))
        ]
        return rights + [index for (index,) in self._base.rows(_INDEXES.format(oid=oid))]

    def rollback(self) -> None:
        """Leave everything as it was."""
        with suppress(PlaitError):
            self._base.do("ROLLBACK")
        self._base.close()

    def _schemas(self) -> list[str]:
        return [name for (name,) in self._base.rows("SELECT nspname::text FROM pg_namespace")]

    def _usual(self) -> str | None:
        ((usual,),) = self._base.rows("SELECT current_schema()::text")
        return None if usual is None else str(usual)


def was_committed(address: Address, number: str) -> bool:
    """Whether a transaction of an earlier run took effect.

    Raises
    ------
    OutputError, SourceError
        When the database cannot be asked.
    """
    tables = PostgresWriter(address)
    try:
        ((status,),) = tables._base.rows(f"SELECT txid_status({quote_literal(number)}::int8)")
        return bool(status == "committed")
    finally:
        tables.rollback()


def _as_sent(shape: TargetSchema) -> tuple[TargetSchema, dict[str, str]]:
    """What is sent for a table, and the types of columns that the server makes of text.

    The driver got digits wrong in decimals of more than 38 (in its version 1.12).
    """
    long = {f.name: _declared(f.type) for f in shape.schema if pa.types.is_decimal256(f.type)}
    fields = [f.with_type(pa.string()) if f.name in long else f for f in shape.schema]
    return replace(shape, schema=pa.schema(fields)), long


def _columns(schema: pa.Schema) -> str:
    return ", ".join(f"{quote_identifier(s.name)} {_declared(s.type)}" for s in schema)


def _declared(kind: pa.DataType) -> str:
    if pa.types.is_decimal(kind):
        return f"numeric({kind.precision},{kind.scale})"
    if pa.types.is_timestamp(kind):
        return "timestamp with time zone" if kind.tz else "timestamp without time zone"
    return next((declared for holds, declared in _DECLARED if holds(kind)), "text")


def _fits(kind: pa.DataType, declared: str) -> bool:
    """Whether values of a type can stand in a column of a declared type without being changed.

    What is too large for it is refused by the database; what it would round is refused here.

    >>> _fits(pa.decimal128(18, 2), "numeric(8,1)"), _fits(pa.int64(), "numeric(8,1)")
    (False, True)
    >>> moment = pa.timestamp("us")
    >>> [_fits(moment, f"timestamp{digits} without time zone") for digits in ("", "(6)", "(3)")]
    [True, True, False]
    """
    match = _DIGITS.search(declared)
    there = _DIGITS.sub("", declared).replace("  ", " ")
    mine = _DIGITS.sub("", _declared(kind))
    if there == "numeric" and (mine == "numeric" or mine in _WHOLE):
        scale = kind.scale if mine == "numeric" else 0
        return match is None or int(match[2] or 0) >= scale
    if mine == there:
        return match is None or match[1] == "6"
    if mine == "text":
        return there == "character varying"
    if mine in _WHOLE:
        return there in _WHOLE or (there == "double precision" and kind.bit_width <= 32)
    return mine == "real" and there == "double precision"


def _never(cells: pa.Array) -> pa.Array | None:
    """Which cells PostgreSQL cannot hold: texts with a NUL."""
    return pc.match_substring(cells, "\0") if pa.types.is_string(cells.type) else None
