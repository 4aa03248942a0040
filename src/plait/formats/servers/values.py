"""Values that a driver gives one by one, made into columns of the type that is declared."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Sequence
from decimal import Decimal
from typing import Any
from uuid import UUID

import pyarrow as pa

from plait.core.text.cells import as_clocks
from plait.core.text.jsontext import json_text
from plait.formats.cells.values import as_cell
from plait.formats.servers.relation import Field

_DAY = dt.timedelta(days=1)
_MIDNIGHT = dt.datetime(2000, 1, 1)


def column_of(field: Field, values: Sequence[Any], unfit: set[str]) -> pa.Array:
    """A column of values; those of another type than is declared are told in ``unfit``.

    Examples
    --------
    >>> kg = Field("kg", "decimal(6,2)", "numeric", "kg", "kg", (6, 2))
    >>> column_of(kg, [Decimal("12.50"), None], set()).to_pylist()
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
    if not dt.timedelta() <= value < _DAY:
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
        return json_text(value)
    if isinstance(value, dt.timedelta):
        return _stretch(value)
    return as_cell(value)


def _stretch(value: dt.timedelta) -> str:
    """A stretch of time as MySQL writes it: ``-26:30:00``.

    >>> _stretch(dt.timedelta(hours=-26, minutes=-30))
    '-26:30:00'
    """
    sign, whole = ("-", -value) if value < dt.timedelta() else ("", value)
    seconds = whole.days * 86_400 + whole.seconds
    part = f".{whole.microseconds:06}".rstrip("0") if whole.microseconds else ""
    return f"{sign}{seconds // 3600:02}:{seconds // 60 % 60:02}:{seconds % 60:02}{part}"
