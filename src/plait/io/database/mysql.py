"""MariaDB and MySQL, read through PyMySQL, in one read-only snapshot."""

from __future__ import annotations

import os
import re
from collections.abc import Sequence
from datetime import datetime
from pathlib import Path
from typing import Any

import numpy as np

from plait.core.base.errors import UsageError
from plait.io.database.driver_errors import source_error
from plait.io.database.generic import GenericDatabase
from plait.io.database.query import select_statement
from plait.io.database.relation import FetchRequest, Relation, RelationColumn, RelationName
from plait.io.places.address import Address, import_optional, keyring_password

_PATIENCE_SECONDS = 15
_LOCK_SECONDS = 60

_TABLES = """
SELECT table_schema, table_name, table_schema = coalesce(database(), '')
FROM information_schema.tables
WHERE table_schema NOT IN ('information_schema', 'mysql', 'performance_schema', 'sys')
ORDER BY 3 DESC, 1, 2
"""
_COLUMNS = """
SELECT column_name, lower(data_type), lower(column_type), numeric_precision, numeric_scale
FROM information_schema.columns
WHERE table_schema = {schema} AND table_name = {name} AND BINARY table_name = {name}
ORDER BY ordinal_position
"""
_KEY = """
SELECT column_name FROM information_schema.statistics
WHERE table_schema = {schema} AND table_name = {name} AND BINARY table_name = {name}
  AND index_name = 'PRIMARY'
ORDER BY seq_in_index
"""
_WHOLE = ("tinyint", "smallint", "mediumint", "int", "bigint", "year")
_TEXTS = ("char", "varchar", "tinytext", "text", "mediumtext", "longtext", "enum", "set")
_BYTES = ("binary", "varbinary", "tinyblob", "blob", "mediumblob", "longblob")
_SHAPES = (
    *("geometry", "point", "linestring", "polygon", "multipoint", "multilinestring"),
    *("multipolygon", "geometrycollection", "geomcollection"),
)
_PLAIN = {"date": "date", "time": "time", "datetime": "timestamp", "timestamp": "moment"}
_UNSIGNED = (20, 0)
_NUMBER = re.compile(r"-?\d+(\.\d+)?")
# Of a text with a fraction, and of one without: the same is left of both.
_WITHOUT_ZEROS = "TRIM(TRAILING '0' FROM TRIM(TRAILING '.' FROM TRIM(TRAILING '0' FROM {})))"
_TIME = re.compile(r"-?\d+:[\d:.]+")
_CLOCKS = {
    "date": "DATE",
    "time": "TIME(6)",
    "timestamp": "DATETIME(6)",
    "moment": "DATETIME(6)",
}


def quote_identifier(name: str) -> str:
    """A name as MySQL has it.

    >>> quote_identifier("a`b")
    '`a``b`'
    """
    return "`" + name.replace("`", "``") + "`"


def quote_literal(text: str) -> str:
    """A text as MySQL has it, whatever it takes backslashes for.

    >>> quote_literal("co_op")
    'CONVERT(0x636f5f6f70 USING utf8mb4)'
    """
    return f"CONVERT(0x{text.encode().hex()} USING utf8mb4)" if text else "''"


def make_mysql_engine(address: Address, timeout: int | None = None) -> Any:
    """What makes connections to a server."""
    sqlalchemy = import_optional("sqlalchemy", "mysql", address.shown)
    import_optional("pymysql", "mysql", address.shown)
    parts = address.parts()
    seconds = min(timeout or _PATIENCE_SECONDS, _PATIENCE_SECONDS)
    settings: dict[str, Any] = {"charset": "utf8mb4", "connect_timeout": seconds, **parts.options}
    password = parts.password
    if password is None:
        password = os.environ.get("MYSQL_PWD")
    if password is None and Path("~/.my.cnf").expanduser().is_file():
        settings["read_default_file"] = "~/.my.cnf"
    elif password is None:
        password = keyring_password(address)
    url = sqlalchemy.engine.URL.create(
        "mysql+pymysql", parts.user, password, parts.host, parts.port, parts.path or None
    )
    return sqlalchemy.create_engine(
        url, poolclass=sqlalchemy.pool.NullPool, connect_args=settings, hide_parameters=True
    )


class MySqlDatabase(GenericDatabase):
    """A connection to MariaDB or MySQL: see ``Database``."""

    decides = True

    def __init__(self, address: Address, timeout: int | None = None) -> None:
        self._timeout = timeout
        super().__init__(address, make_mysql_engine(address, timeout))

    def _begin(self) -> None:
        self._do(f"SET SESSION lock_wait_timeout = {_LOCK_SECONDS}")
        self._do("SET SESSION time_zone = '+00:00'")
        if self._timeout:
            maria = "mariadb" in self._single_value("SELECT lower(version())")
            name, times = ("max_statement_time", 1) if maria else ("max_execution_time", 1000)
            self._do(f"SET SESSION {name} = {self._timeout * times}")
        self._do("SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ")
        self._do("COMMIT")
        self._do("START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY")

    def _label(self) -> str:
        version, moment = self._rows("SELECT version(), date_format(now(), '%Y-%m-%d %H:%i:%s')")[0]
        name = "MariaDB" if "maria" in version.lower() else "MySqlDatabase"
        return f"{name} {version.split('-')[0]}, as it was at {moment} UTC"

    def listed(self) -> list[RelationName]:
        """The tables and views that may be read."""
        return [
            RelationName(schema, name, bool(usual)) for schema, name, usual in self._rows(_TABLES)
        ]

    def relation(self, relation_name: RelationName) -> Relation:
        """The columns and the key of a table."""
        where = {
            "schema": quote_literal(relation_name.schema),
            "name": quote_literal(relation_name.name),
        }
        source = f"{quote_identifier(relation_name.schema)}.{quote_identifier(relation_name.name)}"
        every = self._rows(_COLUMNS.format(**where))
        counting = self._counting(source, [name for name, _, whole, *_ in every if _is_flag(whole)])
        fields = tuple(_field(*e, counting=counting) for e in every)
        key = tuple(name for (name,) in self._rows(_KEY.format(**where)))
        return Relation(relation_name.called, source, fields, key)

    def _counting(self, source: str, flags: Sequence[str]) -> frozenset[str]:
        """The columns of tinyint(1), which is the type of truths, that hold other numbers too.

        Asked of all rows: which of them are fetched must not decide what a cell is.
        """
        if not flags:
            return frozenset()
        asked = ", ".join(f"max({quote_identifier(name)} NOT IN (0, 1))" for name in flags)
        (found,) = self._rows(f"SELECT {asked} FROM {source}")
        return frozenset(name for name, f in zip(flags, found, strict=True) if f)

    def asked(self, query: str) -> Relation:
        """What a query gives."""
        inner = query.strip().rstrip(";")
        result = self._executed(inner, "query")
        described = result.cursor.description
        result.close()
        fields = tuple(_column_from_protocol(d[0], d[1], d[4], d[5]) for d in described)
        return Relation("query", inner, fields, (), "query")

    def _statement(self, relation: Relation, fetch_request: FetchRequest) -> str:
        if relation.what == "query":
            return relation.source
        return select_statement(relation, fetch_request, quote_identifier, _key_condition)

    def count(self, relation: Relation) -> int:
        """How many rows there are."""
        return int(self._single_value(f"SELECT count(*) FROM {relation.source}"))

    def _do(self, text: str) -> None:
        self._base.execution_options(no_parameters=True).exec_driver_sql(text)

    def _single_value(self, text: str) -> Any:
        return self._rows(text)[0][0]

    def _rows(self, text: str) -> list[Any]:
        plain = self._base.execution_options(no_parameters=True)
        try:
            return list(plain.exec_driver_sql(text).fetchall())
        except Exception as error:
            raise source_error(error, self._address) from None


def _key_condition(relation: Relation, keys: Sequence[tuple[object, ...]]) -> str:
    """That the key, as it was read, is one of some."""
    fields = [relation.field(name) for name in relation.key]
    rows = (
        " AND ".join(_is(field, str(cell)) for field, cell in zip(fields, key, strict=True))
        for key in keys
    )
    return "(" + " OR ".join(f"({row})" for row in rows) + ")"


def _is(field: RelationColumn, text: str) -> str:
    """That a column has a value, by what the value means in the column's type.

    A text is compared as bytes, and so is what cannot be written in the type, such as a date
    of zeros: the server writes it as it was read.
    """
    if field.kind == "boolean":
        return f"{field.fetched} = {int(text.lower() == 'true')}"
    if field.kind in ("integer", "numeric", "bits") and _NUMBER.fullmatch(text):
        return f"{field.fetched} = {text}"
    if field.kind in ("float", "single"):
        number = float(np.float32(text)) if field.kind == "single" else float(text)
        return f"{field.fetched} = {number!r} + 0e0"
    whole, key = f"CAST({field.as_text} AS CHAR)", quote_literal(text)
    type_ = _CLOCKS.get(field.kind)
    if type_ and (_TIME.fullmatch(text) or _is_of_the_calendar(text)):
        return f"{field.fetched} = CAST({quote_literal(text.removesuffix('Z'))} AS {type_})"
    if type_:  # zeros at the end of a fraction are not read
        whole, key = _WITHOUT_ZEROS.format(whole), _WITHOUT_ZEROS.format(key)
    return f"BINARY {whole} = BINARY {key}"


def _is_of_the_calendar(text: str) -> bool:
    """Whether a text is a day or moment; a server may hold 2031-02-31 too, and cast it to NULL."""
    try:
        datetime.fromisoformat(text)
    except ValueError:
        return False
    return True


def _is_flag(whole: str) -> bool:
    return whole.startswith("tinyint(1)")


def _field(
    name: str, type_: str, whole: str, precision: Any, scale: Any, *, counting: frozenset[str]
) -> RelationColumn:
    """A column of a table, by what the catalogue says of its type."""
    column = quote_identifier(name)
    text = f"CAST({column} AS CHAR)"
    if _is_flag(whole) and name not in counting:
        return RelationColumn(name, whole, "boolean", column, text)
    if type_ in _WHOLE:
        if type_ == "bigint" and "unsigned" in whole:
            return RelationColumn(name, whole, "numeric", column, text, _UNSIGNED)
        return RelationColumn(name, whole, "integer", column, text)
    if type_ == "decimal":
        return RelationColumn(name, whole, "numeric", column, text, (int(precision), int(scale)))
    if type_ in ("float", "double"):
        # A float is written with six digits otherwise.
        kind = "single" if type_ == "float" else "float"
        return RelationColumn(name, whole, kind, f"({column} + 0e0)", text)
    if type_ in _PLAIN:
        return RelationColumn(name, whole, _PLAIN[type_], column, text)
    if type_ == "bit":
        return RelationColumn(
            name, whole, "numeric", f"({column} + 0)", f"({column} + 0)", _UNSIGNED
        )
    if type_ in _BYTES:
        return RelationColumn(
            name, whole, "other", f"lower(hex({column}))", f"lower(hex({column}))"
        )
    if type_ in _SHAPES:
        return RelationColumn(name, whole, "other", f"ST_AsText({column})", f"ST_AsText({column})")
    if type_ in (*_TEXTS, "json"):
        return RelationColumn(name, whole, "text", column, text)
    return RelationColumn(name, whole, "other", text, text)


_CODES = {
    **dict.fromkeys((1, 2, 3, 8, 9, 13), "integer"),
    **dict.fromkeys((0, 246), "numeric"),
    4: "single",
    5: "float",
    16: "bits",
    255: "shape",
    **dict.fromkeys((10, 14), "date"),
    11: "time",
    12: "timestamp",
    7: "moment",
    **dict.fromkeys((15, 253, 254, 245), "text"),
}
"""The types of columns in MySQL's protocol, by number."""


def _column_from_protocol(name: str, code: int, precision: Any, scale: Any) -> RelationColumn:
    """A column of a query, by what the protocol says of its type."""
    kind = _CODES.get(code, "other")
    if kind == "shape":
        raise UsageError(
            f"the query gives the shape {name} as bytes", remedy=f"ask for ST_AsText({name})"
        )
    return RelationColumn(name, f"type {code}", kind, name, name)
