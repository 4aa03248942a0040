"""A table's columns in the types found for them, a group of rows at a time."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from shlex import quote

import pyarrow as pa
import pyarrow.compute as pc

from plait.core.account.finding import Finding, of_markers
from plait.core.account.parallel import ordered_map
from plait.core.store.shelf import kept
from plait.core.table.keyspec import quoted
from plait.core.table.table import Table
from plait.core.text.cells import is_text
from plait.core.types.forms import base
from plait.core.types.kinds import (
    arrow_type,
    as_kind,
    likely_kind,
    marked_missing,
    simplest_type,
)

_PLAIN_DECIMALS = ("decimal", "decimal:1e3")


@dataclass(frozen=True, eq=False)
class Typing:
    """Columns of a table, the kind of each, and the schema that holds them.

    ``declared`` are columns of text by what their source says: there an empty text is one,
    and not a missing cell. ``texts`` are columns of decimals that are given as the texts that
    they stand as, with the type that tells which of them are numbers.
    """

    columns: Mapping[str, pa.ChunkedArray]
    kinds: Mapping[str, str]
    schema: pa.Schema
    declared: frozenset[str] = frozenset()
    texts: Mapping[str, pa.DataType] = field(default_factory=dict)


def likely_typing(table: Table) -> Typing:
    """Types by a glance at some cells: quick, and wrong where a cell far down is of another kind.

    Converting tells: see ``groups``.
    """
    columns = {name: table.whole(name) for name in table.column_names}
    kinds = {name: table.column(name).kind or likely_kind(cells) for name, cells in columns.items()}
    types = {
        name: arrow_type(kind, columns[name]) if base(kind) == "decimal" else simplest_type(kind)
        for name, kind in kinds.items()
    }
    return _typing(columns, kinds, types, _declared(table))


def sure_typing(table: Table) -> Typing:
    """Types decided over all cells."""
    columns = {name: table.whole(name) for name in table.column_names}
    kinds = {name: table.kind(name) for name in columns}
    types = {name: arrow_type(kinds[name], cells) for name, cells in columns.items()}
    return _typing(columns, kinds, types, _declared(table))


def _declared(table: Table) -> frozenset[str]:
    """The columns of which the source says that they are text."""
    return frozenset(one.name for one in table.columns if one.kind == "text")


def _typing(
    columns: Mapping[str, pa.ChunkedArray],
    kinds: Mapping[str, str],
    types: Mapping[str, pa.DataType | None],
    declared: frozenset[str],
) -> Typing:
    fields = []
    for name, cells in columns.items():
        found = types[name] if is_text(cells.type) else None
        fields.append((name, found or cells.type))
    return Typing(columns, kinds, pa.schema(fields), declared)


def with_texts(typing: Typing, names: Iterable[str]) -> Typing:
    """Some columns of decimals, that stand as text in the table, given as these texts."""
    texts = {
        name: typing.schema.field(name).type
        for name in names
        if is_text(typing.columns[name].type)
        and typing.kinds[name] in _PLAIN_DECIMALS
        and pa.types.is_decimal(typing.schema.field(name).type)
    }
    fields = [f.with_type(pa.string()) if f.name in texts else f for f in typing.schema]
    return replace(typing, schema=pa.schema(fields), texts=texts)


def _numbers_as_they_stand(cells: pa.ChunkedArray, kind: str, to: pa.DataType) -> pa.ChunkedArray:
    """The texts of numbers; nothing where a marker stands for a missing one."""
    return kept(
        (
            pc.if_else(as_kind(chunk, kind, to).is_valid(), chunk, None).cast(pa.string())
            for chunk in cells.chunks
        ),
        pa.string(),
    )


def groups(typing: Typing, rows: int, ahead: int = 1) -> Iterator[pa.Table]:
    """The table in groups of so many rows, converted on all cores.

    Raises
    ------
    pyarrow.ArrowInvalid
        When a cell is not of its column's kind.
    """
    total = len(next(iter(typing.columns.values()))) if typing.columns else 0

    def group(start: int) -> pa.Table:
        made = []
        for column in typing.schema:
            cells = typing.columns[column.name].slice(start, rows)
            as_it_is = column.name in typing.declared and cells.type == column.type
            kind = typing.kinds[column.name]
            if number := typing.texts.get(column.name):
                made.append(_numbers_as_they_stand(cells, kind, number))
            else:
                made.append(cells if as_it_is else _converted(cells, kind, column.type))
        return pa.Table.from_arrays(made, schema=typing.schema)

    return ordered_map(group, range(0, total, rows), ahead)


def marker_findings(typing: Typing, names: Iterable[str] | None = None) -> list[Finding]:
    """Says how many markers for missing were written as missing, in each of some columns."""
    findings = []
    for name in typing.columns if names is None else names:
        if base(typing.kinds[name]) in ("text", "typed", "empty"):
            continue
        marked = marked_missing(typing.columns[name])
        if marked:
            count = sum(marked.values())
            keep = f"to keep them as they are: --type {quote(f'{quoted(name)}=text')}"
            findings.append(of_markers(name, list(marked), count, f"column {name}", keep))
    return findings


def _converted(cells: pa.ChunkedArray, kind: str, to: pa.DataType) -> pa.ChunkedArray:
    return kept((as_kind(chunk, kind, to) for chunk in cells.chunks), to)
