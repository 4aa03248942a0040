"""Databases that SQLAlchemy has a dialect for, read row by row with a cursor of the server's."""

from __future__ import annotations

import logging
from collections.abc import Iterator, Sequence
from contextlib import suppress
from typing import Any

import pyarrow as pa

from plait.io.database.batches import column_from_driver_values
from plait.io.database.driver_errors import source_error
from plait.io.database.relation import FetchRequest, Relation, RelationColumn, RelationName
from plait.io.places.address import Address, import_optional

_ROWS = 20_000
_HIDDEN = ("information_schema", "sys", "pg_catalog", "mysql", "performance_schema")
_STEADY = ("SNAPSHOT", "REPEATABLE READ", "SERIALIZABLE")


class GenericDatabase:
    """A connection through SQLAlchemy: see ``Database``."""

    decides = False

    def __init__(self, address: Address, engine: Any) -> None:
        self._sa = import_optional("sqlalchemy", "databases", address.shown)
        logging.getLogger("sqlalchemy").setLevel(logging.CRITICAL)  # errors are told in one place
        self._address, self._engine = address, engine
        self._types: dict[str, dict[str, Any]] = {}
        try:
            self._base = engine.connect()
            self._begin()
            self.label = self._label()
        except Exception as error:
            self.close()
            raise source_error(error, address) from None

    def _begin(self) -> None:
        """Begin a transaction in which all that is read agrees, where the database has such."""
        with suppress(Exception):
            isolation_level_values = self._engine.dialect.get_isolation_level_values(
                self._base.connection
            )
            level = next((s for s in _STEADY if s in isolation_level_values), None)
            if level:
                self._base = self._base.execution_options(isolation_level=level)
        if self._engine.dialect.name == "sqlite":
            self._base.exec_driver_sql("PRAGMA query_only = ON")
        if not self._base.in_transaction():
            self._base.begin()

    def _label(self) -> str:
        version = ".".join(map(str, self._engine.dialect.server_version_info or ()))
        return f"{self._engine.dialect.name} {version}".strip()

    def listed(self) -> list[RelationName]:
        """The tables and views that may be read."""
        found = []
        try:
            look = self._sa.inspect(self._base)
            usual = look.default_schema_name or ""
            schemas = [
                schema_name
                for schema_name in look.get_schema_names()
                if schema_name.lower() not in _HIDDEN
            ]
            for schema in sorted(schemas or [usual], key=lambda s: (s != usual, s)):
                every = (*look.get_table_names(schema), *look.get_view_names(schema))
                found += [RelationName(schema, name, schema == usual) for name in sorted(every)]
        except Exception as error:
            raise source_error(error, self._address) from None
        return found

    def relation(self, relation_name: RelationName) -> Relation:
        """The columns and the key of a table."""
        look = self._sa.inspect(self._base)
        try:
            columns = look.get_columns(relation_name.name, relation_name.schema or None)
            key = look.get_pk_constraint(relation_name.name, relation_name.schema or None).get(
                "constrained_columns"
            )
        except Exception as error:
            raise source_error(error, self._address, relation_name.called) from None
        self._types[relation_name.whole] = {column["name"]: column["type"] for column in columns}
        fields = tuple(self._field(column["name"], column["type"]) for column in columns)
        return Relation(relation_name.called, relation_name.whole, fields, tuple(key or ()))

    def _field(self, name: str, type_: Any) -> RelationColumn:
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
        return RelationColumn(name, str(type_), kind, name, name)

    def asked(self, query: str) -> Relation:
        """What a query gives: its columns are what their values are."""
        result = self._executed(query.strip().rstrip(";"))
        names = list(result.keys())
        result.close()
        fields = tuple(RelationColumn(name, "", "open", name, name) for name in names)
        return Relation("query", query.strip().rstrip(";"), fields, (), "query")

    def batches(self, relation: Relation, fetch_request: FetchRequest) -> Iterator[pa.RecordBatch]:
        """The rows, some thousands at a time."""
        result = self._executed(self._statement(relation, fetch_request), relation.called)
        left = fetch_request.most
        unfit: set[str] = set()
        try:
            while rows := result.fetchmany(_ROWS if left is None else min(_ROWS, left)):
                left = None if left is None else left - len(rows)
                yield _batch(fetch_request.fields, rows, unfit)
                if left == 0:
                    return
        except Exception as error:
            raise source_error(error, self._address, relation.called) from None
        finally:
            with suppress(Exception):
                result.close()

    def _statement(self, relation: Relation, fetch_request: FetchRequest) -> Any:
        if relation.what == "query":
            return relation.source
        sa = self._sa
        types = self._types.get(relation.source, {})
        columns = [sa.column(field.name, types.get(field.name)) for field in fetch_request.fields]
        columns = columns or [sa.literal(1)]
        schema, _, name = relation.source.rpartition(".")
        made = sa.select(*columns).select_from(sa.table(name, schema=schema or None))
        if fetch_request.keys:
            rows = [
                sa.and_(*(sa.column(n) == k for n, k in zip(relation.key, key, strict=True)))
                for key in fetch_request.keys
            ]
            made = made.where(sa.or_(*rows))
        if fetch_request.ordered and relation.key:
            made = made.order_by(*map(sa.column, relation.key))
        return made if fetch_request.most is None else made.limit(fetch_request.most)

    def _executed(self, statement: Any, called: str = "") -> Any:
        """A result whose rows come as they are asked for."""
        base = self._base.execution_options(stream_results=True, max_row_buffer=_ROWS)
        try:
            if isinstance(statement, str):
                plain = base.execution_options(no_parameters=True)
                return plain.exec_driver_sql(statement)
            return base.execute(statement)
        except Exception as error:
            raise source_error(error, self._address, called) from None

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


def _batch(
    fields: Sequence[RelationColumn], rows: Sequence[Any], unfit: set[str]
) -> pa.RecordBatch:
    columns = list(zip(*rows, strict=True)) if fields else []
    made = [
        column_from_driver_values(field, cells, unfit)
        for field, cells in zip(fields, columns, strict=True)
    ]
    return pa.RecordBatch.from_arrays(made, [str(number) for number in range(len(made))])
