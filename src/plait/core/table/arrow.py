"""Arrow columns of any type, as columns that hold one value a cell."""

from __future__ import annotations

from collections.abc import Iterator

import pyarrow as pa
import pyarrow.compute as pc

from plait.core.text.jsontext import json_text


def flat(name: str, column: pa.ChunkedArray) -> Iterator[tuple[str, pa.ChunkedArray]]:
    """A column as columns of single values, with their names.

    A structure is a column for each of its fields, named ``outer.inner``; lists are JSON
    text, bytes hexadecimal; dictionaries, views and the rarer units become the plain type.

    >>> kind = pa.struct([("yard", pa.string()), ("hive", pa.int64())])
    >>> place = pa.chunked_array([pa.array([{"yard": "A", "hive": 7}], kind)])
    >>> [(name, column.to_pylist()) for name, column in flat("place", place)]
    [('place.yard', ['A']), ('place.hive', [7])]
    """
    kind = column.type
    if pa.types.is_dictionary(kind):
        yield from flat(name, column.cast(kind.value_type))
    elif pa.types.is_struct(kind):
        for number in range(kind.num_fields):
            field = kind.field(number)
            yield from flat(f"{name}.{field.name}", pc.struct_field(column, number))
    elif pa.types.is_null(kind):
        yield name, column.cast(pa.string())
    elif pa.types.is_binary(kind) or pa.types.is_large_binary(kind) or pa.types.is_nested(kind):
        yield name, _as_json(column)
    elif pa.types.is_string_view(kind) or pa.types.is_large_string(kind):
        yield name, _in_short_offsets(column)
    elif pa.types.is_float16(kind):
        yield name, column.cast(pa.float32())
    elif getattr(kind, "unit", "") == "ns":
        yield name, _in_microseconds(column)
    else:
        yield name, column


def _in_short_offsets(column: pa.ChunkedArray) -> pa.ChunkedArray:
    """Text as nearly all columns have it, unless a piece is too long for that."""
    try:
        return column.cast(pa.string())
    except pa.ArrowInvalid:
        return column


def _in_microseconds(column: pa.ChunkedArray) -> pa.ChunkedArray:
    """Moments to the microsecond; as text where that would lose digits."""
    kind = column.type
    if pa.types.is_timestamp(kind):
        to = pa.timestamp("us", kind.tz)
    else:
        to = pa.duration("us") if pa.types.is_duration(kind) else pa.time64("us")
    try:
        return column.cast(to)
    except pa.ArrowInvalid:
        return column.cast(pa.string())


def _as_json(column: pa.ChunkedArray) -> pa.ChunkedArray:
    """Lists and bytes as text, cell by cell."""
    chunks = [
        pa.array(
            [None if value is None else json_text(value) for value in chunk.to_pylist()],
            pa.string(),
        )
        for chunk in column.chunks
    ]
    return pa.chunked_array(chunks, pa.string())
