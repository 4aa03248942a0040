"""Rows of a server's table, gathered batch by batch."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Iterable, Sequence
from dataclasses import replace
from decimal import Decimal
from typing import Any
from uuid import UUID

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.base.errors import SourceError
from plait.core.base.limits import LIMITS, LimitExceededError
from plait.core.codes.sort import sort_rows
from plait.core.job.spill_columns import ColumnBuilder, build_column
from plait.core.table.fragment import PrimaryKeyCells, SourceOrigin
from plait.core.table.table import Table
from plait.core.text.cells import as_clocks, to_text
from plait.core.text.json_text import format_json
from plait.core.types.column_type import TEXT
from plait.io.cells.conversion import format_value
from plait.io.database.relation import Relation, RelationColumn
from plait.io.places.source import OnProgress

_DAYS = -719_162, 2_932_896  # of 0001-01-01 and 9999-12-31 from 1970-01-01
_DAY_MICROSECONDS = 86_400 * 1_000_000
_BOUNDS = {
    "date": _DAYS,
    "timestamp": (_DAYS[0] * _DAY_MICROSECONDS, (_DAYS[1] + 1) * _DAY_MICROSECONDS - 1),
    "moment": (_DAYS[0] * _DAY_MICROSECONDS, (_DAYS[1] + 1) * _DAY_MICROSECONDS - 1),
    "time": (0, _DAY_MICROSECONDS - 1),
}

_ONE_DAY = dt.timedelta(days=1)
_MIDNIGHT = dt.datetime(2000, 1, 1)


class DateOutOfRangeError(Exception):
    """Some columns have days, moments or times that no calendar has: they are text."""

    def __init__(self, names: set[str]) -> None:
        super().__init__(", ".join(sorted(names)))
        self.names = names


def table_from_batches(
    name: str,
    where: str,
    relation: Relation,
    fields: Sequence[RelationColumn],
    batches: Iterable[pa.RecordBatch],
    on_progress: OnProgress = lambda _: None,
    most: int = LIMITS.columns,
) -> Table:
    """A table of all rows, in the order of its key, each known by that.

    Parameters
    ----------
    fields : sequence of RelationColumn
        The columns that come.
    on_progress : callable
        Told how many bytes came, each time.
    most : int
        So many columns may be there.

    Raises
    ------
    DateOutOfRangeError
    LimitExceededError
    """
    if len(fields) > most:
        raise LimitExceededError(
            "columns", f"there are {len(fields):,} columns, over {most:,}", where
        )
    if not relation.fields:
        raise SourceError("no columns found", where, "check that this is the right table")
    shelf, unfit = ColumnBuilder([str(number) for number in range(len(fields))]), set[str]()
    for batch in batches:
        if fields and len(batch):
            shelf.append([_stored(f, c, unfit) for f, c in zip(fields, batch.columns, strict=True)])
        on_progress(batch.nbytes)
    if unfit:
        raise DateOutOfRangeError(unfit)
    pieces = list(zip(*shelf.finish_chunks(), strict=True)) or [()] * len(fields)
    columns = [_joined(f, column) for f, column in zip(fields, pieces, strict=True)]
    table = Table.from_arrow(pa.table(columns, [field.name for field in fields]), name, where)
    return _with_primary_key(_kinded(table, fields), relation, fields)


def _stored(field: RelationColumn, cells: pa.Array, unfit: set[str]) -> pa.Array:
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


def _joined(field: RelationColumn, pieces: Sequence[pa.Array]) -> pa.ChunkedArray:
    """Pieces of one type end to end; of several as text."""
    kinds = {piece.type for piece in pieces}
    if len(kinds) <= 1:
        return pa.chunked_array(pieces, kinds.pop() if kinds else _nothing(field))
    return build_column((to_text(piece).cast(pa.string()) for piece in pieces), pa.string())


def _nothing(field: RelationColumn) -> pa.DataType:
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


def _kinded(table: Table, fields: Sequence[RelationColumn]) -> Table:
    """Numerics of open digits are text in which numbers stand: their cells tell which."""
    loose = {
        name: None
        for name, field in zip(table.column_names, fields, strict=True)
        if field.kind == "numeric"
    }
    return table.with_types(loose)


def _with_primary_key(table: Table, relation: Relation, fields: Sequence[RelationColumn]) -> Table:
    """The table in the order of its key, and its rows known by that."""
    names = dict(zip((field.name for field in fields), table.column_names, strict=True))
    if not relation.key or not all(name in names for name in relation.key):
        return table
    key = [names[name] for name in relation.key]
    fragment = table.fragments[0]
    (origin,) = fragment.origins
    assert isinstance(origin, SourceOrigin)
    source_origin = replace(origin, primary_key=PrimaryKeyCells(tuple(key), fragment.columns))
    table = replace(table, fragments=(replace(fragment, origins=(source_origin,)),))
    if _ascends([table.chunks(name) for name in key]):
        return table
    # What is text in the end is not nearly something else: the database says what it is.
    plain = {name: TEXT for name in key if table.column_type(name) == TEXT}
    return table.take(sort_rows(table.with_types(plain), key))


def _ascends(columns: Sequence[pa.ChunkedArray]) -> bool:
    """Whether rows come in the order of some columns already."""
    return all(_in_order([c.chunk(n) for c in columns]) for n in range(columns[0].num_chunks)) and (
        _in_order([_edges(column) for column in columns])
    )


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


def column_from_driver_values(
    field: RelationColumn, values: Sequence[Any], unfit: set[str]
) -> pa.Array:
    """A column of values; those of another type than is declared are told in ``unfit``.

    Examples
    --------
    >>> kg = RelationColumn("kg", "decimal(6,2)", "numeric", "kg", "kg", (6, 2))
    >>> column_from_driver_values(kg, [Decimal("12.50"), None], set()).to_pylist()
    ['12.50', None]
    """
    make = _MAKERS.get(field.kind)
    try:
        if make:
            return make(values)
    except (pa.ArrowException, OverflowError, TypeError, ValueError, AttributeError):
        unfit.add(field.name)
    if field.kind == "moment":
        values = [v.replace(tzinfo=dt.UTC) if isinstance(v, dt.datetime) else v for v in values]
    texts = pa.array(map(_text, values), pa.string())
    return as_clocks(texts) if field.kind in ("time", "timestamp", "moment") else texts


def _booleans(values: Sequence[Any]) -> pa.Array:
    if any(value not in (0, 1, None) for value in values):
        raise ValueError
    return pa.array([None if value is None else bool(value) for value in values], pa.bool_())


def _integers(values: Sequence[Any]) -> pa.Array:
    if any(isinstance(value, str | float) for value in values):
        raise ValueError
    return pa.array(values, pa.int64())


def _numerics(values: Sequence[Any]) -> pa.Array:
    return pa.array(map(_text, values), pa.string())


def _texts(values: Sequence[Any]) -> pa.Array:
    return pa.array(map(_text, values), pa.string())


def _bits(value: Any) -> int:
    return value if isinstance(value, int) else int.from_bytes(bytes(value), "big")


def _dates(values: Sequence[Any]) -> pa.Array:
    if any(isinstance(value, dt.datetime) for value in values):
        raise ValueError
    return pa.array(values, pa.date32())


def _times(values: Sequence[Any]) -> pa.Array:
    return pa.array([_time(value) for value in values], pa.time64("us"))


def _time(value: Any) -> Any:
    """A time of day; MySQL gives stretches of time for them."""
    if not isinstance(value, dt.timedelta):
        return value
    if not dt.timedelta() <= value < _ONE_DAY:
        raise ValueError
    return (_MIDNIGHT + value).time()


def _moments(zone: str | None) -> Callable[[Sequence[Any]], pa.Array]:
    def make(values: Sequence[Any]) -> pa.Array:
        if any(isinstance(value, str) for value in values):
            raise ValueError
        return pa.array(values, pa.timestamp("us", zone))

    return make


_MAKERS: dict[str, Callable[[Sequence[Any]], pa.Array]] = {
    "boolean": _booleans,
    "integer": _integers,
    "float": lambda values: pa.array(values, pa.float64()),
    # Of 32 bits: the shortest text that gives it back is what the server shows.
    "single": lambda values: pa.array(values, pa.float64()).cast(pa.float32()),
    "bits": lambda values: _integers([None if v is None else _bits(v) for v in values]),
    "numeric": _numerics,
    "text": _texts,
    "date": _dates,
    "time": _times,
    "timestamp": _moments(None),
    "moment": _moments("UTC"),
}


def _text(value: Any) -> str | None:
    """A value as text; an empty text stays one."""
    if value is None or isinstance(value, str):
        return value
    if isinstance(value, Decimal):
        return format(value, "f")
    if isinstance(value, UUID):
        return str(value)
    if isinstance(value, bytes | bytearray | memoryview):
        return bytes(value).hex()
    if isinstance(value, dict | list | tuple):
        return format_json(value)
    if isinstance(value, dt.timedelta):
        return _stretch(value)
    return format_value(value)


def _stretch(value: dt.timedelta) -> str:
    """A stretch of time as MySQL writes it: ``-26:30:00``.

    >>> _stretch(dt.timedelta(hours=-26, minutes=-30))
    '-26:30:00'
    """
    sign, whole = ("-", -value) if value < dt.timedelta() else ("", value)
    seconds = whole.days * 86_400 + whole.seconds
    part = f".{whole.microseconds:06}".rstrip("0") if whole.microseconds else ""
    return f"{sign}{seconds // 3600:02}:{seconds // 60 % 60:02}:{seconds % 60:02}{part}"
