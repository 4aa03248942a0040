"""Reading Parquet and Arrow files: columns with the types that the file gives them."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from pathlib import Path

import pyarrow as pa
import pyarrow.compute as pc

from plait.core.account.errors import SourceError
from plait.core.table.table import Table, from_columns
from plait.core.text.cells import is_text
from plait.formats.cells.header import usable_names


def read_columnar(path: Path, name: str, where: str, ending: str) -> Table:
    """Read a Parquet or Arrow file.

    Returns
    -------
    Table
        Columns keep their types. A structure is a column for each of its
        fields, named ``outer.inner``; lists are JSON text, bytes hexadecimal.

    Raises
    ------
    SourceError
        When the file is broken, or no such file.
    """
    try:
        stored = _parquet(path) if ending == ".parquet" else _arrow(path)
    except (pa.ArrowException, OSError, EOFError) as error:
        raise SourceError(
            f"it cannot be read as {ending[1:]}: {str(error).splitlines()[0][:200]}",
            where,
            "is the file whole? get it again",
        ) from None
    return table_of(stored, name, where)


def table_of(stored: Sequence[tuple[str, pa.ChunkedArray]], name: str, where: str) -> Table:
    """A table of Arrow columns: those of a file, or those that a program has."""
    pairs = [pair for name, column in stored for pair in _flat(name, column)]
    names, findings = usable_names([pair[0] for pair in pairs], where)
    columns = dict(zip(names, (column for _, column in pairs), strict=True))
    table = from_columns(name, columns, where)
    kinds = {name: _kind(column) for name, column in columns.items()}
    rows = table.rows if columns else 0
    return replace(table.with_kinds(kinds), rows=rows, findings=tuple(findings))


def _kind(column: pa.ChunkedArray) -> str | None:
    """Text of a typed file is text, whatever stands in it."""
    return "text" if is_text(column.type) else None


def _parquet(path: Path) -> list[tuple[str, pa.ChunkedArray]]:

    from pyarrow import parquet

    with parquet.ParquetFile(path) as file:
        table = file.read()
    return list(zip(table.column_names, table.columns, strict=True))


def _arrow(path: Path) -> list[tuple[str, pa.ChunkedArray]]:
    with pa.memory_map(str(path)) as file:
        try:
            table = pa.ipc.open_file(file).read_all()
        except pa.ArrowInvalid:
            file.seek(0)
            table = pa.ipc.open_stream(file).read_all()
        table.validate(full=True)  # nothing else sees to it that the offsets lie in the file
    return list(zip(table.column_names, table.columns, strict=True))


def _flat(name: str, column: pa.ChunkedArray) -> Iterator[tuple[str, pa.ChunkedArray]]:
    """A column as columns that hold one value a cell."""
    kind = column.type
    if pa.types.is_dictionary(kind):
        yield from _flat(name, column.cast(kind.value_type))
    elif pa.types.is_struct(kind):
        for number in range(kind.num_fields):
            field = kind.field(number)
            yield from _flat(f"{name}.{field.name}", pc.struct_field(column, number))
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
    from plait.formats.cells.jsontext import json_text

    chunks = [
        pa.array(
            [None if value is None else json_text(value) for value in chunk.to_pylist()],
            pa.string(),
        )
        for chunk in column.chunks
    ]
    return pa.chunked_array(chunks, pa.string())
