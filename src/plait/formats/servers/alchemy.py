"""Databases that SQLAlchemy has a dialect for, read row by row with a cursor of the server's."""

from __future__ import annotations

import logging
from collections.abc import Iterator, Sequence
from contextlib import suppress
from typing import Any

import pyarrow as pa

from plait.formats.places.address import Address
from plait.formats.places.extras import needed
from plait.formats.servers.faults import unread
from plait.formats.servers.relation import Field, Listed, Relation, Wanted
from plait.formats.servers.values import column_of

_ROWS = 20_000
_HIDDEN = ("information_schema", "sys", "pg_catalog", "mysql", "performance_schema")
_STEADY = ("SNAPSHOT", "REPEATABLE READ", "SERIALIZABLE")


class Alchemy:
    """A connection through SQLAlchemy: see ``Database``."""

    decides = False

    def __init__(self, address: Address, engine: Any) -> None:
        self._sa = needed("sqlalchemy", "databases", address.shown)
        logging.getLogger("sqlalchemy").setLevel(logging.CRITICAL)  # errors are told in one place
        self._address, self._engine = address, engine
        self._types: dict[str, dict[str, Any]] = {}
        try:
            self._base = engine.connect()
            self._begin()
            self.label = self._label()
        except Exception as error:
            self.close()
            raise unread(error, address) from None

    def _begin(self) -> None:
        """Begin a transaction in which all that is read agrees, where the database has such."""
        with suppress(Exception):
            there = self._engine.dialect.get_isolation_level_values(self._base.connection)
            level = next((one for one in _STEADY if one in there), None)
            if level:
                self._base = self._base.execution_options(isolation_level=level)
        if self._engine.dialect.name == "sqlite":
            self._base.exec_driver_sql("PRAGMA query_only = ON")
        if not self._base.in_transaction():
            self._base.begin()

    def _label(self) -> str:
        version = ".".join(map(str, self._engine.dialect.server_version_info or ()))
        return f"{self._engine.dialect.name} {version}".strip()

    def listed(self) -> list[Listed]:
        """The tables and views that may be read."""
        found = []
        try:
            look = self._sa.inspect(self._base)
            usual = look.default_schema_name or ""
            schemas = [one for one in look.get_schema_names() if one.lower() not in _HIDDEN]
            for schema in sorted(schemas or [usual], key=lambda one: (one != usual, one)):
                every = (*look.get_table_names(schema), *look.get_view_names(schema))
                found += [Listed(schema, name, schema == usual) for name in sorted(every)]
        except Exception as error:
            raise unread(error, self._address) from None
        return found

    def relation(self, one: Listed) -> Relation:
        """The columns and the key of a table."""
        look = self._sa.inspect(self._base)
        try:
            columns = look.get_columns(one.name, one.schema or None)
            key = look.get_pk_constraint(one.name, one.schema or None).get("constrained_columns")
        except Exception as error:
            raise unread(error, self._address, one.called) from None
        self._types[one.whole] = {column["name"]: column["type"] for column in columns}
        fields = tuple(self._field(column["name"], column["type"]) for column in columns)
        return Relation(one.called, one.whole, fields, tuple(key or ()))

    def _field(self, name: str, type_: Any) -> Field:
        types = self._sa.types
        kinds = (
            (types.Boolean, "boolean"),
            (types.Integer, "integer"),
            (types.Float, "float"),
            (types.Numeric, "numeric"),
            (types.DateTime, "moment" if getattr(type_, "timezone", False) else "timestamp"),
            (types.Date, "date"),
            (types.Time, "time"),
            (types.String, "text"),
        )
        kind = next((called for made, called in kinds if isinstance(type_, made)), "other")
        return Field(name, str(type_), kind, name, name)

    def asked(self, query: str) -> Relation:
        """What a query gives: its columns are what their values are."""
        result = self._executed(query.strip().rstrip(";"))
        names = list(result.keys())
        result.close()
        fields = tuple(Field(name, "", "open", name, name) for name in names)
        return Relation("query", query.strip().rstrip(";"), fields, (), "query")

    def batches(self, relation: Relation, wanted: Wanted) -> Iterator[pa.RecordBatch]:
        """The rows, some thousands at a time."""
        result = self._executed(self._statement(relation, wanted), relation.called)
        left = wanted.most
        unfit: set[str] = set()
        try:
            while rows := result.fetchmany(_ROWS if left is None else min(_ROWS, left)):
                left = None if left is None else left - len(rows)
                yield _batch(wanted.fields, rows, unfit)
                if left == 0:
                    return
        except Exception as error:
            raise unread(error, self._address, relation.called) from None
        finally:
            with suppress(Exception):
                result.close()

    def _statement(self, relation: Relation, wanted: Wanted) -> Any:
        if relation.what == "query":
            return relation.source
        sa = self._sa
        types = self._types.get(relation.source, {})
        columns = [sa.column(one.name, types.get(one.name)) for one in wanted.fields]
        columns = columns or [sa.literal(1)]
        schema, _, name = relation.source.rpartition(".")
        made = sa.select(*columns).select_from(sa.table(name, schema=schema or None))
        if wanted.keys:
            rows = [
                sa.and_(*(sa.column(n) == one for n, one in zip(relation.key, key, strict=True)))
                for key in wanted.keys
            ]
            made = made.where(sa.or_(*rows))
        if wanted.ordered and relation.key:
            made = made.order_by(*map(sa.column, relation.key))
        return made if wanted.most is None else made.limit(wanted.most)

    def _executed(self, statement: Any, called: str = "") -> Any:
        """A result whose rows come as they are asked for."""
        base = self._base.execution_options(stream_results=True, max_row_buffer=_ROWS)
        try:
            if isinstance(statement, str):
                plain = base.execution_options(no_parameters=True)
                return plain.exec_driver_sql(statement)
            return base.execute(statement)
        except Exception as error:
            raise unread(error, self._address, called) from None

    def count(self, relation: Relation) -> int:
        """How many rows there are."""
        schema, _, name = relation.source.rpartition(".")
        table = self._sa.table(name, schema=schema or None)
        return int(
            self._executed(self._sa.select(self._sa.func.count()).select_from(table)).scalar()
        )

    def close(self) -> None:
        """End the transaction and the connection."""
        with suppress(Exception):
            self._base.close()
            self._engine.dispose()


def _batch(fields: Sequence[Field], rows: Sequence[Any], unfit: set[str]) -> pa.RecordBatch:
    columns = list(zip(*rows, strict=True)) if fields else []
    made = [column_of(one, cells, unfit) for one, cells in zip(fields, columns, strict=True)]
    return pa.RecordBatch.from_arrays(made, [str(number) for number in range(len(made))])
