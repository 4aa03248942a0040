"""Tables of a database that a server keeps, as sources."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from plait.core.account.finding import Finding, counted
from plait.core.lineage.rowsums import row_sums
from plait.core.sql.syntax import Node
from plait.core.table.table import NotFetched, Table
from plait.formats.cells.rows import cells_at
from plait.formats.places.address import Address
from plait.formats.places.reader import Looked, Tables, Tick
from plait.formats.places.source import Source
from plait.formats.servers.faults import no_table
from plait.formats.servers.gathering import NotOfTheCalendarError, gathered
from plait.formats.servers.pushing import condition_text, pushable
from plait.formats.servers.relation import Database, Field, Relation, Wanted
from plait.formats.servers.session import connected

_MOST_KEYS = 200


def tables(source: Source) -> Tables | None:
    """The tables and views of a database; none where it is asked for something."""
    if source.given.query:
        return None
    with connected(_address(source), source.given.timeout) as base:
        found = base.listed()
    also = {one.whole: one.called for one in found if one.called != one.whole}
    return Tables(tuple(one.called for one in found), called="table", also=also)


def columns(source: Source) -> list[str]:
    """The names of the columns."""
    with connected(_address(source), source.given.timeout) as base:
        return [one.name for one in _relation(base, source).fields]


def read(source: Source, tick: Tick) -> Table:
    """The table, in the order of its primary key; only that part of it which is wanted."""
    with connected(_address(source), source.given.timeout) as base:
        relation = _relation(base, source)
        fields, where = _taken(base, relation, source)
        table = _gathered(base, relation, Wanted(fields, where), source, tick)
        table = replace(table, written=f"{relation.what} of {base.label}")
        rows = base.count(relation) if where is not None else table.rows
        return _accounted(table, relation, where, rows)


def first(source: Source, rows: int) -> Table:
    """The first rows of it."""
    with connected(_address(source), source.given.timeout) as base:
        relation = _relation(base, source)
        wanted = Wanted(relation.fields, ordered=True, most=rows)
        return _gathered(base, relation, wanted, source, lambda _: None)


def rows_at(source: Source, rows: Sequence[int], keys: Sequence[str]) -> dict[int, Looked]:
    """Rows by their keys; those of a table without a key cannot be found again."""
    wanted = {row: tuple(json.loads(key)) for row, key in zip(rows, keys, strict=True) if key}
    looked: dict[int, Looked] = {}
    if not wanted:
        return looked
    with connected(_address(source), source.given.timeout) as base:
        relation = _relation(base, source)
        fields, _ = _taken(base, relation, source)
        every = list(wanted.items())
        for begin in range(0, len(every), _MOST_KEYS):
            some = every[begin : begin + _MOST_KEYS]
            part = Wanted(fields, keys=[key for _, key in some])
            table = _gathered(base, relation, part, source, lambda _: None)
            looked |= _by_key(table, dict(some))
    return looked


def _by_key(table: Table, wanted: dict[int, tuple[object, ...]]) -> dict[int, Looked]:
    """Which of the rows found are which of those wanted."""
    known = table.strands[0].origins[0].known  # type: ignore[union-attr]
    stored = table.strands[0].stored
    sums = row_sums(
        (stored[name].combine_chunks() for name in stored), table.strands[0].stored_rows
    )
    every = np.arange(table.strands[0].stored_rows)
    there = known.texts(every).to_pylist() if known else []
    plain = replace(table, strands=(replace(table.strands[0], index=None),), rows=len(there))
    place = {tuple(json.loads(text)): row for row, text in enumerate(there)}
    return {
        row: Looked(None, cells_at(plain, place[key]), int(sums[place[key]].astype(np.int64)))
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
    if source.given.query:
        return base.asked(source.given.query)
    found = base.listed()
    for one in found:
        if source.part in (one.called, one.whole):
            return base.relation(one)
    raise no_table(source.part, [one.called for one in found], _address(source))


def _taken(
    base: Database, relation: Relation, source: Source
) -> tuple[tuple[Field, ...], Node | None]:
    """The columns that are fetched, and the condition on their rows; of a query all it gives."""
    if source.taking is None or relation.what == "query":
        return relation.fields, None
    wanted = {*source.taking.columns, *relation.key}
    fields = relation.fields
    if source.taking.columns:
        fields = tuple(one for one in relation.fields if one.name in wanted)
    where = source.taking.where
    return fields, pushable(where, relation) if where is not None and base.decides else None


def _gathered(
    base: Database, relation: Relation, wanted: Wanted, source: Source, tick: Tick
) -> Table:
    """The table; once more with days as text where some are of no calendar."""
    most = source.given.limits.columns
    while True:
        batches = base.batches(relation, wanted)
        try:
            return gathered(source.name, source.where, relation, wanted.fields, batches, tick, most)
        except NotOfTheCalendarError as error:
            fields = (_as_text(f) if f.name in error.names else f for f in wanted.fields)
            wanted = replace(wanted, fields=tuple(fields))


def _as_text(field: Field) -> Field:
    """The column read as text; where it was to hold numbers, as one in which they may stand."""
    kind = "numeric" if field.kind in ("boolean", "integer") else "other"
    if field.kind in ("time", "timestamp", "moment"):
        kind = "clock"
    return replace(field, fetched=field.as_text, kind=kind)


def _accounted(table: Table, relation: Relation, where: Node | None, rows: int) -> Table:
    """The table with what stays in the database told, and accounted for."""
    lacking = len(relation.fields) - len(table.columns)
    said = []
    if lacking:
        said.append(f"{len(table.columns)} of its {counted(len(relation.fields), 'column')}")
    condition = condition_text(where, relation, _quoted) if where is not None else ""
    if condition.count("(") == 1:
        condition = condition.strip("()")
    if condition:
        said.append(f"rows where {condition}")
    if not said:
        return table
    left = rows - table.rows
    found = Finding(
        "fetched-in-part",
        "note",
        left or lacking,
        f"{table.name} was read in part: only {' and '.join(said)}"
        + (f"; {counted(left, 'row')} left in the database" if condition else ""),
        "",
        table.name,
    )
    kept = (NotFetched(left, f"rows not where {condition}"),) if left else ()
    lacked = frozenset(one.name for one in relation.fields) - {*table.column_names}
    return replace(table, findings=(*table.findings, found), unfetched=kept, left_there=lacked)


def _quoted(name: str) -> str:
    """A name as messages have it."""
    return name if name.isidentifier() else f'"{name}"'
