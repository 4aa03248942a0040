"""The list of changes: a line for each cell that came, went or changed."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from enum import IntEnum

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.base.names import unused_name
from plait.core.codes.key_codes import Rows
from plait.core.operations.comparison.cell_changes import ColumnChange
from plait.core.operations.comparison.record_pairing import Names, RecordPairs
from plait.core.table.columns import Flags, nonmissing_mask
from plait.core.table.fragment import Fragment
from plait.core.table.table import Column, Table
from plait.core.text.cells import to_text


class ChangeKind(IntEnum):
    """What a line tells, in the order in which they stand."""

    RENAMED = 0
    COLUMN_GONE = 1
    COLUMN_NEW = 2
    GONE = 3
    NEW = 4
    CHANGED = 5


_SAID = 8  # what a line tells stands behind the key in so many columns
_WORDS = ("column renamed", "column gone", "column new", "row gone", "row new", "cell changed")


@dataclass(frozen=True, eq=False)
class _Piece:
    """Lines of one kind about one column; row -1 where a side has none."""

    what: ChangeKind
    column: str
    old: Rows
    new: Rows
    before: pa.Array
    after: pa.Array


def list_changes(
    old: Table,
    new: Table,
    key: Names,
    pairing: RecordPairs,
    columns: Sequence[ColumnChange],
    renamed: Mapping[str, str],
) -> Table:
    """All changes as a table.

    Parameters
    ----------
    columns : sequence of ColumnChange
        Of the columns that were compared.
    renamed : mapping of str to str
        New name to old name.

    Returns
    -------
    Table
        The key, what changed, the column, both values, and both places. A row that is only
        in one table has a line for each of its cells that is not missing; so has a column.
    """
    compared = {column.name: column.old_name for column in columns}
    pieces = [
        *_columns(old, new, pairing, compared, renamed, key),
        *_rows(old, pairing.gone, ChangeKind.GONE, [here for here, _ in key]),
        *_rows(new, pairing.added, ChangeKind.NEW, [there for _, there in key]),
        *(_cells(old, new, pairing, c) for c in columns if c.cells),
    ]
    return _table(old, new, key, pieces)


def count_changes_by_kind(table: Table) -> dict[str, int]:
    """How many lines of a list of changes tell of each kind of them."""
    said = table.chunks(table.column_names[-_SAID])
    counts = {w: pc.sum(pc.equal(said, w)).as_py() or 0 for w in _WORDS}
    return {word: count for word, count in counts.items() if count}


def _columns(
    old: Table,
    new: Table,
    pairing: RecordPairs,
    compared: Mapping[str, str],
    renamed: Mapping[str, str],
    key: Names,
) -> Iterator[_Piece]:
    """Columns with another name, and the cells of those that only one table has."""
    for after, before in renamed.items():
        none = np.array([-1])
        yield _Piece(ChangeKind.RENAMED, after, none, none, pa.array([before]), pa.array([after]))
    sides = (
        (ChangeKind.COLUMN_GONE, old, pairing.old, {*compared.values(), *(one for one, _ in key)}),
        (ChangeKind.COLUMN_NEW, new, pairing.new, {*compared, *(other for _, other in key)}),
    )
    for what, table, rows, known in sides:
        for name in (column_name for column_name in table.column_names if column_name not in known):
            yield _one_sided(what, table, rows, name, pairing)


def _one_sided(
    change_kind: ChangeKind, table: Table, rows: Rows, name: str, pairing: RecordPairs
) -> _Piece:
    """The cells of a column that one table has; where all are missing, its name alone."""
    cells = _texts(table.project([name]).take(rows), name)
    there = np.flatnonzero(_valid_mask(table, name, cells))
    if not len(there):
        none, nothing = np.array([-1]), pa.nulls(1, pa.string())
        return _Piece(change_kind, name, none, none, nothing, nothing)
    values, empty = cells.take(there), pa.nulls(len(there), pa.string())
    both = (values, empty) if change_kind is ChangeKind.COLUMN_GONE else (empty, values)
    return _Piece(change_kind, name, pairing.old[there], pairing.new[there], *both)


def _rows(
    table: Table, rows: Rows, change_kind: ChangeKind, key: Sequence[str]
) -> Iterator[_Piece]:
    """The cells of rows that one table has; of a row of missing cells its key alone."""
    if not len(rows):
        return
    told = np.zeros(len(rows), bool)
    few = table.take(rows)
    for name in (column_name for column_name in table.column_names if column_name not in key):
        cells = _texts(few, name)
        flags = _valid_mask(table, name, cells)
        told |= flags
        if flags.any():
            yield _row_piece(change_kind, rows[flags], name, cells.filter(pa.array(flags)))
    if not told.all():
        untold = rows[~told]
        yield _row_piece(change_kind, untold, "", pa.nulls(len(untold), pa.string()))


def _row_piece(change_kind: ChangeKind, rows: Rows, column: str, values: pa.Array) -> _Piece:
    none, nothing = np.full(len(rows), -1), pa.nulls(len(rows), pa.string())
    if change_kind is ChangeKind.GONE:
        return _Piece(change_kind, column, rows, none, values, nothing)
    return _Piece(change_kind, column, none, rows, nothing, values)


def _cells(old: Table, new: Table, pairing: RecordPairs, change: ColumnChange) -> _Piece:
    here, there = pairing.old[change.rows], pairing.new[change.rows]
    before = _texts(old.project([change.old_name]).take(here), change.old_name)
    after = _texts(new.project([change.name]).take(there), change.name)
    return _Piece(ChangeKind.CHANGED, change.name, here, there, before, after)


def _valid_mask(table: Table, name: str, cells: pa.Array) -> Flags:
    """Which cells, of some rows of a table, have a value."""
    return nonmissing_mask(cells, table.column_type(name).allows_missing_markers)


def _texts(table: Table, name: str) -> pa.Array:
    chunks = [to_text(chunk).cast(pa.string()) for chunk in table.chunks(name).chunks]
    return pa.concat_arrays(chunks) if chunks else pa.nulls(0, pa.string())


def _table(old: Table, new: Table, key: Names, pieces: Sequence[_Piece]) -> Table:
    """The pieces under one another, what belongs to one row together."""
    sizes = [len(piece.old) for piece in pieces]
    which = np.repeat(np.arange(len(pieces)), sizes)
    whats = np.array([int(one.what) for one in pieces], np.int64)[which]
    here, there = (_joined([getattr(one, side) for one in pieces]) for side in ("old", "new"))
    by_column = np.where(whats < ChangeKind.GONE, which, 0)
    order = np.lexsort((which, np.where(here >= 0, here, there), by_column, whats))
    rows = here[order], there[order]
    sides = [table.take(some) for table, some in zip((old, new), rows, strict=True)]
    made: dict[str, pa.ChunkedArray] = {
        after: _either(sides[0], before, sides[1], after) for before, after in key
    }
    columns = pa.array([p.column or None for p in pieces], pa.string())
    payload = {
        "change": pa.array(_WORDS).take(whats[order]),
        "column": columns.take(which[order]),
        "old value": _values([one.before for one in pieces], order),
        "new value": _values([one.after for one in pieces], order),
    }
    for side, table in zip(("old", "new"), sides, strict=True):
        payload[f"{side} source"], payload[f"{side} place"] = table.describe_source_rows()
    for name, cells in payload.items():
        whole = cells if isinstance(cells, pa.ChunkedArray) else pa.chunked_array([cells])
        made[unused_name(name, made)] = whole
    fragment = Fragment("changes", made, ())
    return Table("changes", tuple(Column(n, ((0, n),)) for n in made), (fragment,), len(order))


def _joined(rows: Sequence[Rows]) -> Rows:
    return np.concatenate(rows) if rows else np.empty(0, np.int64)


def _values(parts: Sequence[pa.Array], order: Rows) -> pa.Array:
    every = pa.chunked_array(parts, pa.string()).combine_chunks()
    whole = every if isinstance(every, pa.Array) else pa.concat_arrays(every.chunks)
    return whole.take(pa.array(order))


def _either(old: Table, before: str, new: Table, after: str) -> pa.ChunkedArray:
    """The old cell of a key, or the new one of a row that is new."""
    return pa.chunked_array([pc.coalesce(_texts(old, before), _texts(new, after))])
