"""Columns made of Python values, as workbooks and databases give them."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterable, Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.account.finding import MOST_EXAMPLES, Example, Finding, counted
from plait.core.table.table import Table
from plait.core.text.cells import without_empty
from plait.core.types.forms import base, form_of, read_form
from plait.core.types.kinds import NUMBERS, kind_of

_TYPES = {
    bool: pa.bool_(),
    int: pa.int64(),
    float: pa.float64(),
    str: pa.string(),
    dt.date: pa.date32(),
    dt.datetime: pa.timestamp("us"),
    dt.time: pa.time64("us"),
}
_LARGEST = 2**53
#: Digits of a decimal that a 64-bit float gives back, whichever they are.
SURE_DIGITS = 15
_LARGEST_INTEGER = 2**63


def as_cell(value: Any) -> str | None:
    """A value as it would be in a text file; ``None`` for nothing.

    >>> [as_cell(v) for v in (3.0, 1.5, True, dt.date(2031, 4, 5), "007", None, "")]
    ['3', '1.5', 'true', '2031-04-05', '007', None, None]
    """
    if value is None or value == "":
        return None
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, float):
        return np.format_float_positional(value, trim="-")
    if isinstance(value, dt.datetime):
        return value.isoformat(sep=" ")
    if isinstance(value, dt.date | dt.time):
        return value.isoformat()
    if isinstance(value, dt.timedelta):
        return _clock(value)
    if isinstance(value, bytes):
        return value.hex()
    return str(value)


def _clock(stretch: dt.timedelta) -> str:
    """A stretch of time as a sheet shows it, in hours, minutes and seconds: ``36:00:00``."""
    seconds, small = divmod(abs(stretch), dt.timedelta(seconds=1))
    hours, rest = divmod(seconds, 3600)
    sign = "-" if stretch < dt.timedelta(0) else ""
    part = f".{small.microseconds:06}".rstrip("0") if small else ""
    return f"{sign}{hours}:{rest // 60:02}:{rest % 60:02}{part}"


def column_of(values: Sequence[Any]) -> pa.Array:
    """Values as an Arrow array: of the type that all of them have, else of text.

    Parameters
    ----------
    values : sequence
        Whole numbers that came as floats are integers; nothing is ``None`` or an
        empty text.

    Examples
    --------
    >>> column_of([3.0, None, 4.0]).type, column_of([3.0, 1.5]).type
    (DataType(int64), DataType(double))
    >>> column_of([3.0, "x"]).to_pylist()
    ['3', 'x']
    """
    kinds = types_of(values)
    if not kinds:
        return pa.array([None] * len(values), pa.string())
    if kinds <= {int, float} and _whole(values):
        return pa.array([None if _empty(v) else int(v) for v in values], pa.int64())
    if kinds == {int, float} and all(_empty(v) or abs(v) < _LARGEST for v in values):
        kinds = {float}
    if kinds == {dt.date, dt.datetime}:
        return pa.array([_midnight(v) for v in values], pa.timestamp("us"))
    (kind,) = kinds if len(kinds) == 1 else (object,)
    if kind is str:
        return pa.array([v if isinstance(v, str) else None for v in values], pa.string())
    if kind in _TYPES and kind is not int:
        return pa.array([None if _empty(v) else v for v in values], _TYPES[kind])
    return pa.array(map(as_cell, values), pa.string())


def types_of(values: Iterable[Any]) -> set[type]:
    """The types of all values that are something."""
    return {type(value) for value in values if not _empty(value)}


def _empty(value: Any) -> bool:
    return value is None or (isinstance(value, str) and not value)


def _whole(values: Sequence[Any]) -> bool:
    return all(
        _empty(v)
        or (isinstance(v, int) and -_LARGEST_INTEGER <= v < _LARGEST_INTEGER)
        or (isinstance(v, float) and v.is_integer() and abs(v) < _LARGEST)
        for v in values
    )


def _midnight(value: Any) -> Any:
    if isinstance(value, dt.datetime) or _empty(value):
        return value or None
    return dt.datetime.combine(value, dt.time())


def decimals_of(column: pa.ChunkedArray, places: int = 0) -> pa.ChunkedArray | None:
    """Numbers of a source that keeps 15 digits, as plain text of decimals.

    Parameters
    ----------
    column : pyarrow.ChunkedArray
        Of floats or integers.
    places : int
        Digits behind the point that each has at least.

    Returns
    -------
    pyarrow.ChunkedArray or None
        ``None`` where a number has more digits, as the outcome of a formula may have.

    Examples
    --------
    >>> decimals_of(pa.chunked_array([[0.1, None, 3.0]])).to_pylist()
    ['0.1', None, '3']
    >>> decimals_of(pa.chunked_array([[0.1, 12.0]]), 2).to_pylist()
    ['0.10', '12.00']
    >>> decimals_of(pa.chunked_array([[0.1 + 0.2]])) is None
    True
    """
    chunks = [pa.array(map(as_cell, chunk.to_pylist()), pa.string()) for chunk in column.chunks]
    texts = pa.chunked_array(chunks, pa.string())
    digits = pc.utf8_ltrim(pc.replace_substring_regex(texts, "[-.]", ""), "0")
    plain = pc.match_substring_regex(texts, r"^-?[0-9]+(\.[0-9]+)?$")
    if pc.all(plain).as_py() not in (True, None) or _longest(digits) > SURE_DIGITS:
        return None
    if not places:
        return texts
    return pa.chunked_array([_padded(chunk, places) for chunk in texts.chunks], pa.string())


def _longest(texts: pa.ChunkedArray) -> int:
    return pc.max(pc.utf8_length(texts)).as_py() or 0


def _padded(texts: pa.Array, places: int) -> pa.Array:
    """Texts of decimals with zeros behind, until there are so many places."""
    parts = pc.extract_regex(texts, r"^(?P<head>-?[0-9]+)\.?(?P<tail>[0-9]*)$")
    head, tail = pc.struct_field(parts, "head"), pc.struct_field(parts, "tail")
    return pc.binary_join_element_wise(head, pc.utf8_rpad(tail, places, "0"), ".")


def declared_kind(cells: pa.ChunkedArray) -> str:
    """The kind of cells that a source gives as text: no number, though a date may stand so."""
    kind = kind_of(cells)
    return kind if kind in ("date", "datetime", "time") else "text"


def number_kind(cells: pa.ChunkedArray) -> str | None:
    """The kind of cells that a source gives as numbers with their digits, exponents among them.

    >>> number_kind(pa.chunked_array([["1e3", "2.5"]])), number_kind(pa.chunked_array([["7"]]))
    ('decimal:1e3', 'integer')
    """
    kind = kind_of(cells)
    if base(kind) in (*NUMBERS, "empty"):
        return kind if kind != "empty" else None
    form = form_of("decimal:1e3")
    try:
        for chunk in cells.chunks:
            read_form(without_empty(chunk), form)
    except pa.ArrowInvalid:
        return None  # more digits than numbers have here
    return form.name


def mixed_finding(name: str, values: Sequence[Any], table: Table, where: str) -> list[Finding]:
    """A finding when numbers, dates and texts are in one column, as text then."""
    kinds = {"number" if kind in (int, float) else kind.__name__ for kind in types_of(values)}
    if len(kinds) < 2 or kinds == {"date", "datetime"}:
        return []
    texts = [n for n, value in enumerate(values) if isinstance(value, str) and value]
    examples = (Example(values[row], table.places(row)) for row in texts[:MOST_EXAMPLES])
    shown = ", ".join(sorted({"str": "text", "bool": "true/false"}.get(k, k) for k in kinds))
    return [
        Finding(
            "mixed-cells",
            "note",
            len(texts),
            f"{counted(len(texts), 'cell')} of text in column {name!r}, which also holds {shown}",
            "to have one type: --type COLUMN=…",
            f"{where}, column {name}",
            tuple(examples),
        )
    ]
