"""Tables of a database that a server keeps, as sources."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from plait.core.base.findings import Finding, Location, pluralize
from plait.core.expressions.parser import SyntaxNode
from plait.core.lineage.paths import row_checksums
from plait.core.table.fragment import RowNumbers
from plait.core.table.table import RowsLeftInDatabase, Table
from plait.io.cells.conversion import row_as_text
from plait.io.database.batches import DateOutOfRangeError, table_from_batches
from plait.io.database.connections import open_connection
from plait.io.database.driver_errors import no_such_table_error
from plait.io.database.query import predicate_to_sql, pushable_predicate
from plait.io.database.relation import Database, FetchRequest, Relation, RelationColumn
from plait.io.places.address import Address
from plait.io.places.source import OnProgress, RefetchedRow, Source, TableListing

_MOST_KEYS = 200


def tables(source: Source) -> TableListing | None:
    """The tables and views of a database; none where it is asked for something."""
    if source.options.query:
        return None
    with open_connection(_address(source), source.options.timeout) as base:
        relation_names = base.listed()
    also = {f.whole: f.called for f in relation_names if f.called != f.whole}
    return TableListing(tuple(name.called for name in relation_names), called="table", also=also)


def columns(source: Source) -> list[str]:
    """The names of the columns."""
    with open_connection(_address(source), source.options.timeout) as base:
        return [field.name for field in _relation(base, source).fields]


def read(source: Source, on_progress: OnProgress) -> Table:
    """The table, in the order of its primary key; only that part of it which is wanted."""
    with open_connection(_address(source), source.options.timeout) as base:
        relation = _relation(base, source)
        fields, where = _taken(base, relation, source)
        table = _gathered(base, relation, FetchRequest(fields, where), source, on_progress)
        table = replace(table, read_as=f"{relation.what} of {base.label}")
        rows = base.count(relation) if where is not None else table.rows
        return _accounted(table, relation, where, rows)


def read_rows(source: Source, rows: RowNumbers) -> None:
    """Only the whole can be read."""


def first(source: Source, rows: int) -> Table:
    """The first rows of it."""
    with open_connection(_address(source), source.options.timeout) as base:
        relation = _relation(base, source)
        fetch_request = FetchRequest(relation.fields, ordered=True, most=rows)
        return _gathered(base, relation, fetch_request, source, lambda _: None)


def rows_at(source: Source, rows: Sequence[int], keys: Sequence[str]) -> dict[int, RefetchedRow]:
    """Rows by their keys; those of a table without a key cannot be found again."""
    wanted = {row: tuple(json.loads(key)) for row, key in zip(rows, keys, strict=True) if key}
    looked: dict[int, RefetchedRow] = {}
    if not wanted:
        return looked
    with open_connection(_address(source), source.options.timeout) as base:
        relation = _relation(base, source)
        fields, _ = _taken(base, relation, source)
        every = list(wanted.items())
        for begin in range(0, len(every), _MOST_KEYS):
            some = every[begin : begin + _MOST_KEYS]
            part = FetchRequest(fields, keys=[key for _, key in some])
            table = _gathered(base, relation, part, source, lambda _: None)
            looked |= _by_key(table, dict(some))
    return looked


def _by_key(table: Table, wanted: dict[int, tuple[object, ...]]) -> dict[int, RefetchedRow]:
    """Which of the rows found are which of those wanted."""
    known = table.fragments[0].origins[0].primary_key  # type: ignore[union-attr]
    stored = table.fragments[0].columns
    sums = row_checksums(
        (stored[name].combine_chunks() for name in stored), table.fragments[0].stored_rows
    )
    every = np.arange(table.fragments[0].stored_rows)
    there = known.to_json_texts(every).to_pylist() if known else []
    plain = replace(
        table, fragments=(replace(table.fragments[0], selection=None),), rows=len(there)
    )
    place = {tuple(json.loads(text)): row for row, text in enumerate(there)}
    return {
        row: RefetchedRow(
            None, row_as_text(plain, place[key]), int(sums[place[key]].astype(np.int64))
        )
        for row, key in wanted.items()
        if key in place
    }


def fingerprint(source: Source) -> str:
    """A table is known by its rows."""
    return ""


def _address(source: Source) -> Address:
    assert source.address is not None
    return source.address


def _relation(base: Database, source: Source) -> Relation:
    """The table of that name, or what the query gives.

    Raises
    ------
    SourceError
        When there is no such table.
    """
    if source.options.query:
        return base.asked(source.options.query)
    relation_names = base.listed()
    for one in relation_names:
        if source.part in (one.called, one.whole):
            return base.relation(one)
    raise no_such_table_error(source.part, [f.called for f in relation_names], _address(source))


def _taken(
    base: Database, relation: Relation, source: Source
) -> tuple[tuple[RelationColumn, ...], SyntaxNode | None]:
    """The columns that are fetched, and the condition on their rows; of a query all it gives."""
    if source.subset is None or relation.what == "query":
        return relation.fields, None
    names = {*source.subset.columns, *relation.key}
    fields = relation.fields
    if source.subset.columns:
        fields = tuple(field for field in relation.fields if field.name in names)
    where = source.subset.where
    return fields, pushable_predicate(
        where, relation
    ) if where is not None and base.decides else None


def _gathered(
    base: Database,
    relation: Relation,
    fetch_request: FetchRequest,
    source: Source,
    on_progress: OnProgress,
) -> Table:
    """The table; once more with days as text where some are of no calendar."""
    most = source.options.limits.columns
    while True:
        batches = base.batches(relation, fetch_request)
        try:
            return table_from_batches(
                source.name,
                source.where,
                relation,
                fetch_request.fields,
                batches,
                on_progress,
                most,
            )
        except DateOutOfRangeError as error:
            fields = (_as_text(f) if f.name in error.names else f for f in fetch_request.fields)
            fetch_request = replace(fetch_request, fields=tuple(fields))


def _as_text(field: RelationColumn) -> RelationColumn:
    """The column read as text; where it was to hold numbers, as one in which they may stand."""
    kind = "numeric" if field.kind in ("boolean", "integer") else "other"
    if field.kind in ("time", "timestamp", "moment"):
        kind = "clock"
    return replace(field, fetched=field.as_text, kind=kind)


def _accounted(table: Table, relation: Relation, where: SyntaxNode | None, rows: int) -> Table:
    """The table with what stays in the database told, and accounted for."""
    lacking = len(relation.fields) - len(table.columns)
    texts = []
    if lacking:
        texts.append(f"{len(table.columns)} of its {pluralize(len(relation.fields), 'column')}")
    condition = predicate_to_sql(where, relation, _quoted) if where is not None else ""
    if condition.count("(") == 1:
        condition = condition.strip("()")
    if condition:
        texts.append(f"rows where {condition}")
    if not texts:
        return table
    left = rows - table.rows
    finding = Finding(
        "fetched-in-part",
        "note",
        left or lacking,
        f"{table.name} was read in part: only {' and '.join(texts)}"
        + (f"; {pluralize(left, 'row')} left in the database" if condition else ""),
        "",
        Location(table.name),
    )
    kept = (RowsLeftInDatabase(left, f"rows not where {condition}"),) if left else ()
    lacked = frozenset(field.name for field in relation.fields) - {*table.column_names}
    return replace(
        table,
        findings=(*table.findings, finding),
        rows_in_database=kept,
        columns_in_database=lacked,
    )


def _quoted(name: str) -> str:
    """A name as messages have it."""
    return name if name.isidentifier() else f'"{name}"'
