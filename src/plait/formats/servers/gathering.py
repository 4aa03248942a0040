"""Rows that a database gives, batch by batch, made into a table."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import replace

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.account.errors import SourceError
from plait.core.account.limits import LIMITS, LimitError
from plait.core.codes.order import sorted_rows
from plait.core.store.shelf import Shelf, kept
from plait.core.table.strand import Known, Origin
from plait.core.table.table import Table
from plait.core.text.cells import as_clocks, as_text
from plait.formats.places.reader import Tick
from plait.formats.servers.relation import Field, Relation

_DAYS = -719_162, 2_932_896  # of 0001-01-01 and 9999-12-31 from 1970-01-01
_DAY = 86_400 * 1_000_000
_BOUNDS = {
    "date": _DAYS,
    "timestamp": (_DAYS[0] * _DAY, (_DAYS[1] + 1) * _DAY - 1),
    "moment": (_DAYS[0] * _DAY, (_DAYS[1] + 1) * _DAY - 1),
    "time": (0, _DAY - 1),
}


class NotOfTheCalendarError(Exception):
    """Some columns have days, moments or times that no calendar has: they are text.

    Parameters
    ----------
    names : set of str
    """

    def __init__(self, names: set[str]) -> None:
        super().__init__(", ".join(sorted(names)))
        self.names = names


def gathered(
    name: str,
    where: str,
    relation: Relation,
    fields: Sequence[Field],
    batches: Iterable[pa.RecordBatch],
    tick: Tick = lambda _: None,
    most: int = LIMITS.columns,
) -> Table:
    """A table of all rows, in the order of its key, each known by that.

    Parameters
    ----------
    name, where : str
    relation : Relation
    fields : sequence of Field
        The columns that come.
    batches : iterable of pyarrow.RecordBatch
    tick : callable
        Told how many bytes came, each time.
    most : int
        So many columns may be there.

    Raises
    ------
    NotOfTheCalendarError
    LimitError
    """
    if len(fields) > most:
        raise LimitError("columns", f"there are {len(fields):,} columns, over {most:,}", where)
    if not relation.fields:
        raise SourceError("no columns found", where, "check that this is the right table")
    shelf, unfit = Shelf([str(number) for number in range(len(fields))]), set[str]()
    rows = 0
    for batch in batches:
        rows += len(batch)
        if fields and len(batch):
            shelf.put([_stored(f, c, unfit) for f, c in zip(fields, batch.columns, strict=True)])
        tick(batch.nbytes)
    if unfit:
        raise NotOfTheCalendarError(unfit)
    pieces = list(zip(*shelf.pieces(), strict=True)) or [()] * len(fields)
    columns = [_joined(f, column) for f, column in zip(fields, pieces, strict=True)]
    table = Table.from_arrow(pa.table(columns, [one.name for one in fields]), name, where)
    return _known(_kinded(table, fields), relation, fields)


def _stored(field: Field, cells: pa.Array, unfit: set[str]) -> pa.Array:
    """Cells as they are kept: numerics with their digits, and what is no day told."""
    if field.kind == "clock":
        return as_clocks(cells)  # which rows are fetched must not decide what a cell is
    if field.kind == "numeric" and field.digits and pa.types.is_string(cells.type):
        return _digits(cells, *field.digits)
    bounds = _BOUNDS.get(field.kind)
    if bounds and not pa.types.is_string(cells.type):
        whole = pa.int32() if cells.type.bit_width == 32 else pa.int64()
        ends = pc.min_max(cells.view(whole))
        low, high = ends["min"].as_py(), ends["max"].as_py()
        if low is not None and not bounds[0] <= low <= high <= bounds[1]:
            unfit.add(field.name)
    return cells


def _digits(cells: pa.Array, precision: int, scale: int) -> pa.Array:
    """Decimals of those digits; text where one is none, such as ``NaN``."""
    make = pa.decimal128 if precision <= 38 else pa.decimal256
    try:
        return cells.cast(make(precision, scale))
    except pa.ArrowInvalid:
        return cells


def _joined(field: Field, pieces: Sequence[pa.Array]) -> pa.ChunkedArray:
    """Pieces of one type end to end; of several as text."""
    kinds = {piece.type for piece in pieces}
    if len(kinds) <= 1:
        return pa.chunked_array(pieces, kinds.pop() if kinds else _nothing(field))
    return kept((as_text(piece).cast(pa.string()) for piece in pieces), pa.string())


def _nothing(field: Field) -> pa.DataType:
    """The type of a column that has no rows."""
    if field.kind == "numeric" and field.digits:
        return (pa.decimal128 if field.digits[0] <= 38 else pa.decimal256)(*field.digits)
    return {
        "boolean": pa.bool_(),
        "integer": pa.int64(),
        "float": pa.float64(),
        "single": pa.float32(),
        "bits": pa.int64(),
        "date": pa.date32(),
        "time": pa.time64("us"),
        "timestamp": pa.timestamp("us"),
        "moment": pa.timestamp("us", "UTC"),
    }.get(field.kind, pa.string())


def _kinded(table: Table, fields: Sequence[Field]) -> Table:
    """Numerics of open digits are text in which numbers stand: their cells tell which."""
    loose = {
        name: None
        for name, field in zip(table.column_names, fields, strict=True)
        if field.kind == "numeric"
    }
    return table.with_kinds(loose)


def _known(table: Table, relation: Relation, fields: Sequence[Field]) -> Table:
    """The table in the order of its key, and its rows known by that."""
    names = dict(zip((one.name for one in fields), table.column_names, strict=True))
    if not relation.key or not all(name in names for name in relation.key):
        return table
    key = [names[name] for name in relation.key]
    strand = table.strands[0]
    (origin,) = strand.origins
    assert isinstance(origin, Origin)
    known = replace(origin, known=Known(tuple(key), strand.stored))
    table = replace(table, strands=(replace(strand, origins=(known,)),))
    if _ascends([table.whole(name) for name in key]):
        return table
    # What is text in the end is not nearly something else: the database says what it is.
    plain = {name: "text" for name in key if table.kind(name) == "text"}
    return table.at(sorted_rows(table.with_kinds(plain), key))


def _ascends(columns: Sequence[pa.ChunkedArray]) -> bool:
    """Whether rows come in the order of some columns already."""
    return all(
        _in_order([one.chunk(n) for one in columns]) for n in range(columns[0].num_chunks)
    ) and (_in_order([_edges(one) for one in columns]))


def _edges(column: pa.ChunkedArray) -> pa.Array:
    """The first and the last cell of each piece."""
    ends = [piece.take(pa.array([0, len(piece) - 1])) for piece in column.chunks if len(piece)]
    return pa.concat_arrays(ends) if ends else pa.array([], column.type)


def _in_order(columns: Sequence[pa.Array]) -> bool:
    """Whether no row is before the one above it; the first column counts most."""
    rows = len(columns[0])
    if rows < 2:
        return True
    tied: npt.NDArray[np.bool_] = np.ones(rows - 1, bool)
    for column in columns:
        before, after = column.slice(0, rows - 1), column.slice(1)
        # What is missing, as a NaN is, is in no order: the rows are sorted then.
        falls = pc.fill_null(pc.invert(pc.greater_equal(after, before)), True)
        if (tied & falls.to_numpy(zero_copy_only=False)).any():
            return False
        same = pc.fill_null(pc.equal(after, before), False)
        tied &= same.to_numpy(zero_copy_only=False)
        if not tied.any():
            return True
    return True
