"""PostgreSQL, read through its Arrow driver, in one read-only snapshot."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from contextlib import closing, contextmanager, suppress
from dataclasses import replace
from typing import Any

import pyarrow as pa

from plait.core.base.errors import PlaitError, SourceError
from plait.io.database.driver_errors import explain_driver_error, source_error
from plait.io.database.query import select_statement
from plait.io.database.relation import FetchRequest, Relation, RelationColumn, RelationName
from plait.io.places.address import Address, complete_address, import_optional, keyring_password

_PATIENCE_SECONDS = 15
_LOCK_SECONDS = 60
_NUMERIC = re.compile(r"numeric\((\d+),(\d+)\)")
_MOST_DIGITS = 76

_TABLES = """
SELECT n.nspname::text, c.relname::text, n.nspname = current_schema() IS TRUE,
       has_table_privilege(c.oid, 'SELECT')
FROM pg_class AS c JOIN pg_namespace AS n ON n.oid = c.relnamespace
WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f') AND NOT c.relispartition
  AND n.nspname <> 'information_schema' AND n.nspname !~ '^pg_'
  AND has_schema_privilege(n.oid, 'USAGE')
ORDER BY 3 DESC, 1, 2
"""
_COLUMNS = """
SELECT a.attname::text, format_type(coalesce(nullif(t.typbasetype, 0), t.oid),
         CASE WHEN t.typbasetype = 0 THEN a.atttypmod ELSE t.typtypmod END),
       coalesce(b.typname, t.typname)::text, coalesce(b.typtype, t.typtype)::text,
       coalesce(b.typcategory, t.typcategory)::text, coalesce(l.collisdeterministic, true)
FROM pg_attribute AS a
JOIN pg_type AS t ON t.oid = a.atttypid LEFT JOIN pg_type AS b ON b.oid = t.typbasetype
LEFT JOIN pg_collation AS l ON l.oid = a.attcollation
WHERE a.attrelid = {oid} AND a.attnum > 0 AND NOT a.attisdropped
ORDER BY a.attnum
"""
_TYPES = """
SELECT t.oid::int8, format_type(coalesce(nullif(t.typbasetype, 0), t.oid), t.typtypmod),
       coalesce(b.typname, t.typname)::text, coalesce(b.typtype, t.typtype)::text,
       coalesce(b.typcategory, t.typcategory)::text, true
FROM pg_type AS t LEFT JOIN pg_type AS b ON b.oid = t.typbasetype WHERE t.oid IN ({oids})
"""
_KEY = """
SELECT a.attname::text
FROM pg_index AS i CROSS JOIN unnest(i.indkey) WITH ORDINALITY AS k(attnum, place)
JOIN pg_attribute AS a ON a.attrelid = i.indrelid AND a.attnum = k.attnum
WHERE i.indrelid = {oid} AND i.indisprimary
ORDER BY k.place
"""
# The file that the snapshot says a table is in, and the one that it is in now: an ALTER that
# wrote it anew, or a TRUNCATE, since then would make it look empty.
_FILES = """
SELECT c.relkind::text, coalesce(c.relfilenode::int8, 0),
       coalesce(pg_relation_filenode(c.oid)::int8, 0)
FROM pg_class AS c WHERE c.oid = {oid}
"""
_NATIVE = {
    "bool": "boolean",
    **dict.fromkeys(("int2", "int4", "int8"), "integer"),
    **dict.fromkeys(("float4", "float8"), "float"),
    **dict.fromkeys(("text", "varchar"), "text"),
    "date": "date",
    "time": "time",
    "timestamp": "timestamp",
    "timestamptz": "moment",
}


def quote_identifier(name: str) -> str:
    """A name as SQL has it.

    >>> quote_identifier('say "hive"')
    '"say ""hive""\"'
    """
    return '"' + name.replace('"', '""') + '"'


def quote_literal(text: str) -> str:
    """A text as SQL has it.

    >>> quote_literal("bee's")
    "'bee''s'"
    """
    return "'" + text.replace("'", "''") + "'"


class PostgresConnection:
    """A connection of the driver's whose errors are told as what they mean.

    Parameters
    ----------
    told : callable
        Makes an error of the driver's, with the address and a table, one of ours.
    timeout : int, optional
        Seconds to wait for an answer at first.
    """

    def __init__(
        self,
        address: Address,
        told: Callable[[BaseException, Address, str], PlaitError],
        timeout: int | None = None,
    ) -> None:
        self._address, self._told = address, told
        self.base = open_postgres(address, timeout)

    def cursor(self, text: str, called: str = "") -> Any:
        """What a statement gives."""
        cursor: Any = None
        try:
            cursor = self.base.cursor()
            cursor.execute(text)
        except Exception as error:
            with suppress(Exception):
                cursor.close()
            raise self._told(error, self._address, called) from None
        return cursor

    def do(self, text: str, called: str = "") -> None:
        """Carry out a statement that gives nothing."""
        self.cursor(text, called).close()

    def rows(self, text: str) -> list[tuple[Any, ...]]:
        """The rows that a statement gives."""
        with closing(self.cursor(text)) as cursor:
            try:
                found: list[tuple[Any, ...]] = cursor.fetchall()
            except Exception as error:
                raise self._told(error, self._address, "") from None
            return found

    def close(self) -> None:
        """End the connection, and its transaction with it."""
        with suppress(Exception):
            self.base.close()


class PostgresDatabase:
    """A connection to PostgreSQL: see ``Database``."""

    decides = True

    def __init__(self, address: Address, timeout: int | None = None) -> None:
        self._address = address
        self._base = PostgresConnection(address, source_error, timeout)
        try:
            milliseconds = (timeout or 0) * 1000
            self._base.do(f"SET statement_timeout = {milliseconds}")
            self._base.do(f"SET lock_timeout = '{_LOCK_SECONDS}s'")
            self._base.do("SET TIME ZONE 'UTC'")
            self._base.do("SET IntervalStyle = 'iso_8601'")
            self._base.do("BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY")
            ((version, moment),) = self._base.rows(
                "SELECT current_setting('server_version'), "
                "to_char(now() AT TIME ZONE 'UTC', 'YYYY-MM-DD HH24:MI:SS')"
            )
            self._base.do("SAVEPOINT begun")
        except BaseException:
            self.close()
            raise
        self.label = f"PostgreSQL {version.split()[0]}, as it was at {moment} UTC"

    @contextmanager
    def _going_on(self) -> Iterator[None]:
        """Let what goes wrong with one table not stand in the way of the next."""
        try:
            yield
        except PlaitError:
            with suppress(PlaitError):
                self._base.do("ROLLBACK TO SAVEPOINT begun")
            raise

    def listed(self) -> list[RelationName]:
        """The tables and views that may be read."""
        return [RelationName(*row[:3]) for row in self._base.rows(_TABLES) if row[3]]

    def relation(self, relation_name: RelationName) -> Relation:
        """The columns and the key of a table, which stays as it is from now on."""
        source = f"{quote_identifier(relation_name.schema)}.{quote_identifier(relation_name.name)}"
        with self._going_on():
            ((oid,),) = self._base.rows(f"SELECT {quote_literal(source)}::regclass::oid::int8")
            kind = self._held(oid, source, relation_name.called)
            fields = [_field(*row) for row in self._base.rows(_COLUMNS.format(oid=oid))]
            key = tuple(name for (name,) in self._base.rows(_KEY.format(oid=oid)))
        text = "view" if kind in ("v", "m") else "table"
        return Relation(relation_name.called, source, tuple(fields), key, text)

    def _held(self, oid: int, source: str, called: str) -> str:
        """What kind of table it is, once it is kept from being altered, and was not before."""
        ((kind, _, _),) = self._base.rows(_FILES.format(oid=oid))
        if kind in ("r", "p"):
            self._base.do(f"LOCK TABLE {source} IN ACCESS SHARE MODE", called)
        ((_, then, now),) = self._base.rows(_FILES.format(oid=oid))
        if then != now:
            raise SourceError(
                "the table was altered while Plait was reading it",
                f"{self._address.shown}#{called}",
                "try again",
            )
        return str(kind)

    def asked(self, query: str) -> Relation:
        """What a query gives."""
        inner = query.strip().rstrip(";")
        nothing = f"SELECT * FROM (\n{inner}\n) AS q LIMIT 0"
        with self._going_on(), closing(self._base.cursor(nothing, "query")) as cursor:
            schema = cursor.fetch_record_batch().schema
        columns = [f"c{number}" for number in range(len(schema))]
        types = self._query_types(inner, columns)
        fields = [
            replace(_field(column, *types[column]), name=one.name)
            for one, column in zip(schema, columns, strict=True)
        ]
        source = f"(\n{inner}\n) AS q({', '.join(columns)})"
        return Relation("query", source, tuple(fields), (), "query")

    def _query_types(self, inner: str, columns: Sequence[str]) -> dict[str, tuple[Any, ...]]:
        """What the catalogue says of the types that a query gives, as it says it of a table's.

        So a cell is the same whether its table is read or asked: what money, or an oid, is read
        as is decided in one place.
        """
        asked = ", ".join(f"pg_typeof(q.{column})::oid::int8" for column in columns)
        # A row of nothing has the types too, and no row of the query is worked out for it.
        (oids,) = self._base.rows(
            f"SELECT {asked} FROM (SELECT 1) AS one LEFT JOIN "
            f"(SELECT * FROM (\n{inner}\n) AS p({', '.join(columns)}) LIMIT 0) AS q ON true"
        )
        known = {
            oid: said
            for oid, *said in self._base.rows(
                _TYPES.format(oids=", ".join(str(oid) for oid in dict.fromkeys(oids)))
            )
        }
        return {column: tuple(known[oid]) for column, oid in zip(columns, oids, strict=True)}

    def batches(self, relation: Relation, fetch_request: FetchRequest) -> Iterator[pa.RecordBatch]:
        """The rows, as they come."""
        with self._going_on():
            cursor = self._base.cursor(
                select_statement(relation, fetch_request, quote_identifier, _key_condition),
                relation.called,
            )
            try:
                yield from cursor.fetch_record_batch()
            except Exception as error:
                raise source_error(error, self._address, relation.called) from None
            finally:
                with suppress(Exception):
                    cursor.close()

    def count(self, relation: Relation) -> int:
        """How many rows there are."""
        ((rows,),) = self._base.rows(f"SELECT count(*) FROM {relation.source}")
        return int(rows)

    def close(self) -> None:
        """End the transaction and the connection."""
        self._base.close()


def open_postgres(address: Address, timeout: int | None = None) -> Any:
    """A connection of the driver's, in which a transaction is begun by who wants one.

    Raises
    ------
    SourceError
    """
    driver = import_optional("adbc_driver_postgresql.dbapi", "postgresql", address.shown)
    parts = address.parts()
    try:
        try:
            return driver.connect(_uri(address, parts.password, timeout), autocommit=True)
        except Exception as error:
            text = explain_driver_error(error, address)[0]
            kept = (
                keyring_password(address) if parts.password is None and "password" in text else None
            )
            if kept is None:
                raise
            return driver.connect(_uri(address, kept, timeout), autocommit=True)
    except Exception as error:
        raise source_error(error, address) from None


def _uri(address: Address, password: str | None, timeout: int | None) -> str:
    whole = complete_address(address.parts().user, password, address)
    options = {
        "connect_timeout": str(min(timeout or _PATIENCE_SECONDS, _PATIENCE_SECONDS)),
        "application_name": "plait",
    }
    more = [f"{k}={v}" for k, v in options.items() if k not in address.parts().options]
    return f"{whole}{'&' if '?' in whole else '?'}{'&'.join(more)}"


def _field(
    name: str, declared: str, type_: str, what: str, category: str, exact: bool
) -> RelationColumn:
    """A column of a table, by what the catalogue says of its type."""
    column = quote_identifier(name)
    text = f"{column}::text"
    if type_ in _NATIVE and what == "b":
        return RelationColumn(name, declared, _NATIVE[type_], column, text, exact_text=exact)
    if type_ == "numeric":
        match = _NUMERIC.fullmatch(declared)
        digits = (int(match[1]), int(match[2])) if match else None
        fits = digits and digits[0] <= _MOST_DIGITS and digits[1] <= digits[0]
        return RelationColumn(name, declared, "numeric", text, text, digits if fits else None)
    if type_ == "oid":
        return RelationColumn(name, declared, "integer", f"{column}::int8", text)
    if type_ == "bytea":
        hexadecimal = f"encode({column}, 'hex')"
        return RelationColumn(name, declared, "other", hexadecimal, hexadecimal)
    if category == "A" or what == "c":
        json = f"to_json({column})::text"
        return RelationColumn(name, declared, "other", json, json)
    return RelationColumn(name, declared, "other", text, text)


def _key_condition(relation: Relation, keys: Sequence[tuple[object, ...]]) -> str:
    """That the key is one of some, in its own type where an index has it so."""
    fields = [relation.field(name) for name in relation.key]
    columns = ", ".join(_column_expression(field) for field in fields)
    rows = ", ".join(
        f"({', '.join(_cell_literal(f, cell) for f, cell in zip(fields, key, strict=True))})"
        for key in keys
    )
    return f"({columns}) IN ({rows})"


def _column_expression(field: RelationColumn) -> str:
    return field.as_text if field.kind == "other" else quote_identifier(field.name)


def _cell_literal(field: RelationColumn, cell: object) -> str:
    text = "NaN" if cell is None else str(cell)  # nothing else is read as missing, and in a key
    return (
        quote_literal(text) if field.kind == "other" else f"{quote_literal(text)}::{field.declared}"
    )
