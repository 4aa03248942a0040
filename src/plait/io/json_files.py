"""JSON: arrays of records, and a record a line."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace
from itertools import islice
from pathlib import Path
from typing import IO, Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.base.errors import SourceError
from plait.core.base.findings import Finding
from plait.core.base.limits import LIMITS, LimitExceededError, Limits
from plait.core.base.names import is_valid_unicode, printable_path, suggest_name
from plait.core.job.executor import map_ordered
from plait.core.job.spill_columns import ColumnBuilder
from plait.core.table.arrow_columns import clean_headings
from plait.core.table.fragment import RowNumbers
from plait.core.table.source_lines import LINE, Steps, joined
from plait.core.table.table import Table, table_from_columns
from plait.core.text.cells import empty_to_null, is_text_type, to_text
from plait.core.text.json_text import JsonNumber, format_json, parse_json
from plait.core.types.column_type import BOOLEAN, ColumnType
from plait.core.types.missing_markers import blank_markers
from plait.core.types.value_formats import EXPONENTS
from plait.io.cells.conversion import (
    TypedColumns,
    column_names_reader,
    infer_types,
    number_type,
    report_missing_markers,
    row_refetcher,
    type_of_text_values,
)
from plait.io.delimited.blocks import ChunkStream, PrefixedStream
from plait.io.delimited.dialect import UTF8, byte_order_mark, guess_encoding, transcode_to_utf8
from plait.io.places.fetch import open_bytes, source_checksum
from plait.io.places.source import JSON, OnProgress, Source, TableListing

_BATCH = 50_000
_STEP = 1 << 20
_HEAD = 1 << 16


fingerprint = source_checksum

_ROWS = 1 << 14
_ESCAPES = [("\\", "\\\\"), ('"', '\\"'), ("\n", "\\n"), ("\r", "\\r"), ("\t", "\\t")]
_CONTROL = "[\x00-\x08\x0b\x0c\x0e-\x1f]"


def read_json(
    stream: IO[bytes],
    name: str,
    where: str,
    part: str = "",
    lines: bool = False,
    on_progress: OnProgress = lambda _: None,
    limits: Limits = LIMITS,
    most: int | None = None,
) -> Table:
    """Read an array of records, or JSON lines.

    Parameters
    ----------
    name : str
        The table's name.
    where : str
        The file, for errors and lineage.
    part : str
        The name under which the array is in an object; not needed when
        there is only one.
    lines : bool
        Whether there is a record on each line.
    on_progress : callable
        Told how many bytes were read, each time.
    most : int, optional
        How many lines to read; without it all.

    Returns
    -------
    Table
        A column for each name, in order of appearance; nested ones are named
        ``outer.inner``. Numbers keep their digits; lists are JSON text.

    Raises
    ------
    SourceError
        For text that is no JSON, or no records; the line is named.
    """
    text = _utf8(stream, where, on_progress)
    if lines:
        found = islice(_line_records(text, where, limits), most)
        table, begun = _table(found, name, where, limits)
        return table.with_lines(joined(LINE, [begun]))
    records = _array(_parse_document(text, where, limits), part, where)
    return _table(enumerate(records, 1), name, where, limits)[0]


def _parse_document(text: IO[bytes], where: str, limits: Limits) -> Any:
    try:
        data = b"".join(iter(lambda: text.read(_STEP), b""))
        return parse_json(_decoded(data, where))
    except RecursionError:
        raise _too_deep(limits, where) from None
    except ValueError as error:
        raise SourceError(f"not valid JSON: {error}", where, _LINES_REMEDY) from None


def array_names(stream: IO[bytes], where: str, limits: Limits = LIMITS) -> list[str]:
    """The names of the arrays of records in an object; none where there is no object.

    Raises
    ------
    SourceError
        For text that is no JSON.
    """
    text = _utf8(stream, where, lambda _: None)
    head = text.read(_HEAD)
    if not head.lstrip().startswith(b"{"):
        return []
    rest: Any = PrefixedStream(head, text)
    whole = _parse_document(rest, where, limits)
    return list(_tables_in(whole)) if isinstance(whole, dict) else []


def _tables_in(fields: Mapping[str, Any]) -> dict[str, list[Any]]:
    """The arrays of records; where none has any, all arrays that are empty."""
    arrays = {name: value for name, value in fields.items() if isinstance(value, list)}
    records = {
        name: value for name, value in arrays.items() if value and isinstance(value[0], dict)
    }
    return records or {name: value for name, value in arrays.items() if not value}


def _too_deep(limits: Limits, where: str) -> LimitExceededError:
    return LimitExceededError("depth", f"the record is nested deeper than {limits.depth}", where)


_LINES_REMEDY = "if there is a record on each line, end the file's name in .jsonl"


def _utf8(stream: IO[bytes], where: str, on_progress: OnProgress) -> IO[bytes]:
    head = stream.read(_HEAD)
    on_progress(len(head))
    marked = byte_order_mark(head)
    encoding = guess_encoding(head)
    text: Any = PrefixedStream(head[marked[1] :] if marked else head, stream)
    made: Any = (
        ChunkStream(transcode_to_utf8(text, encoding, where))
        if encoding[:6] in ("utf-16", "utf-32")
        else text
    )
    stream_of_text: IO[bytes] = made
    return stream_of_text


def _decoded(data: bytes, where: str) -> str:
    try:
        return data.decode(UTF8)
    except UnicodeDecodeError as error:
        line = data.count(b"\n", 0, error.start) + 1
        raise SourceError(
            "the text is not UTF-8, which JSON must be", f"{where}, line {line:,}"
        ) from None


def _array(whole: Any, part: str, where: str) -> list[Any]:
    if isinstance(whole, list) and not part:
        return whole
    fields = whole if isinstance(whole, dict) else {}
    arrays = _tables_in(fields)
    if part in fields and isinstance(fields[part], list):
        arrays[part] = fields[part]
    if part and part not in arrays:
        raise SourceError(f"no array {part!r}", where, suggest_name(part, arrays))
    if len(arrays) == 1 or part:
        return arrays[part] if part else next(iter(arrays.values()))
    if arrays:
        raise SourceError(
            f"there are {len(arrays)} arrays: {', '.join(arrays)}",
            where,
            f"name one: {where}#{next(iter(arrays))}",
        )
    raise SourceError("expected an array of records", where, _LINES_REMEDY)


def _line_records(text: IO[bytes], where: str, limits: Limits) -> Iterator[tuple[int, Any]]:
    """Line number and record of each line that is not blank."""
    for number, line in enumerate(_lines(text, where, limits.record), 1):
        if not line.strip():
            continue
        message = f"{where}, line {number:,}"
        try:
            yield number, parse_json(_decoded(line, message))
        except RecursionError:
            raise _too_deep(limits, message) from None
        except ValueError as error:
            raise SourceError(f"not valid JSON: {error}", message) from None


def _lines(text: IO[bytes], where: str, longest: int) -> Iterator[bytes]:
    rest = b""
    while data := text.read(_STEP):
        *whole, rest = (rest + data).split(b"\n")
        yield from whole
        if len(rest) > longest:
            raise LimitExceededError(
                "record", f"a line is longer than {longest >> 20:,} MiB", where
            )
    if rest:
        yield rest


@dataclass
class _Growing:
    """A column as it grows: finished pieces, the cells of the present one, what was met."""

    pieces: ColumnBuilder = field(default_factory=lambda: ColumnBuilder([""]))
    cells: list[str | None] = field(default_factory=list)
    met: set[str] = field(default_factory=set)


def _table(
    records: Iterator[tuple[int, Any]], name: str, where: str, limits: Limits
) -> tuple[Table, Steps]:
    """The table of some records, and the steps of the numbers that they come with."""
    columns: dict[tuple[str, ...], _Growing] = {}
    begun: list[tuple[int, int]] = []
    rows = filled = 0
    for place, record in records:
        if not begun or place - rows != begun[-1][1] - begun[-1][0]:
            begun.append((rows, place))
        if not isinstance(record, dict):
            raise SourceError("expected a record in braces", f"{where}, record {place:,}")
        for path, cell, typed in _cells(record, limits.depth, f"{where}, record {place:,}"):
            column = columns.get(path)
            if column is None:
                column = columns[path] = _Growing()
                column.pieces.append([pa.nulls(filled, pa.string())])
                if len(columns) > limits.columns:
                    over = f"there are over {limits.columns:,} names"
                    raise LimitExceededError("columns", over, f"{where}, record {place:,}")
            column.cells += [None] * (rows - filled - len(column.cells))
            column.cells.append(cell)
            column.met.add(typed)
        rows += 1
        if rows - filled == _BATCH:
            _finish(columns, rows - filled, filled, where)
            filled = rows
    _finish(columns, rows - filled, filled, where)
    step_rows, lines = np.array(begun, np.int64).reshape(-1, 2).T
    return _named(columns, rows, name, where, limits.columns), (step_rows, lines)


def _cells(
    record: dict[str, Any], depth: int, where: str
) -> Iterator[tuple[tuple[str, ...], str | None, str]]:
    """The names of a record on which values stand, the values as text, and what they were."""
    try:
        for path, value in _flat(record, (), depth):
            yield path, *_cell(value, depth - len(path) + 1)
    except RecursionError:
        raise LimitExceededError(
            "depth", f"the record is nested deeper than {depth}", where
        ) from None


def _flat(
    record: dict[str, Any], above: tuple[str, ...], depth: int
) -> Iterator[tuple[tuple[str, ...], Any]]:
    if len(above) >= depth:
        raise RecursionError
    for name, value in record.items():
        if isinstance(value, dict) and value:
            yield from _flat(value, (*above, name), depth)
        else:
            yield (*above, name), value


def _cell(value: Any, depth: int) -> tuple[str | None, str]:
    if value is None:
        return None, "nothing"
    if isinstance(value, JsonNumber):
        return value, "number"
    if isinstance(value, bool):
        return "true" if value else "false", "boolean"
    return value if isinstance(value, str) else format_json(value, depth), "text"


def _finish(columns: dict[tuple[str, ...], _Growing], rows: int, above: int, where: str) -> None:
    for path, column in columns.items():
        column.cells += [None] * (rows - len(column.cells))
        try:
            column.pieces.append([pa.array(column.cells, pa.string())])
        except UnicodeEncodeError:
            row = next(
                n for n, cell in enumerate(column.cells) if cell and not is_valid_unicode(cell)
            )
            text = f"{where}, row {above + row + 1:,}, column {printable_path('.'.join(path))}"
            raise _half_a_letter(text) from None
        column.cells = []


def _half_a_letter(place: str) -> SourceError:
    return SourceError(
        "a text contains an unpaired surrogate, which is not valid Unicode",
        place,
        "put the text right in the source",
    )


def _named(
    columns: dict[tuple[str, ...], _Growing], rows: int, name: str, where: str, most: int
) -> Table:
    # A record without an object where others have one adds no column of its own.
    above = {path[:depth] for path in columns for depth in range(1, len(path))}
    columns = {
        path: column
        for path, column in columns.items()
        if path not in above or column.met != {"nothing"}
    }
    written = [".".join(path) for path in columns]
    if not is_valid_unicode("".join(written)):
        raise _half_a_letter(f"{where}, the name of a column")
    names, findings = clean_headings(written, where, most=most)
    stored = {
        named: column.pieces.finish([pa.string()])[""]
        for named, column in zip(names, columns.values(), strict=True)
    }
    table = table_from_columns(name, stored, where)
    types: dict[str, ColumnType | None] = {
        named: type_of_text_values(stored[named])
        if column.met - {"nothing"} == {"text"}
        else number_type(stored[named])
        for named, column in zip(names, columns.values(), strict=True)
        if column.met - {"nothing"} in ({"text"}, {"number"})
    }
    if not stored:
        raise SourceError("no record has any field", where)
    return replace(table.with_types(types), rows=rows, findings=tuple(findings))


def tables(source: Source) -> TableListing | None:
    """The arrays of records in a file of JSON, if it has several."""
    if _in_lines(source):
        return None
    with open_bytes(source) as text:
        names = array_names(text, source.where, source.options.limits)
    return TableListing(tuple(names) if len(names) > 1 else ("",), called="array", others=True)


def read(source: Source, on_progress: OnProgress) -> Table:
    """The table, with the types that JSON has."""
    lines = _in_lines(source)
    with open_bytes(source) as stream:
        table = read_json(
            stream,
            source.name,
            source.where,
            source.part,
            lines,
            on_progress,
            source.options.limits,
        )
    return replace(table, read_as="JSON lines" if lines else "JSON")


def read_rows(source: Source, rows: RowNumbers) -> None:
    """Only the whole can be read."""


def first(source: Source, rows: int) -> Table | None:
    """The first records of lines; an array has to be read whole."""
    if not _in_lines(source):
        return None
    with open_bytes(source) as stream:
        limits = source.options.limits
        return read_json(stream, source.name, source.where, "", True, limits=limits, most=rows)


def _in_lines(source: Source) -> bool:
    return source.ending != JSON


columns = column_names_reader(read)
rows_at = row_refetcher(read)


def write_json(
    table: Table, target: Path, lines: bool, on_progress: OnProgress = lambda _: None
) -> list[Finding]:
    """Write an array of records, or a record on each line.

    Parameters
    ----------
    table : Table
        Numbers and true/false are written as such where all cells of a column
        are; a missing cell is ``null``.
    on_progress : callable
        Told how many rows were written, each time.
    """
    typing = infer_types(table)
    start, between, end = ("", "\n", "\n") if lines else ("[\n", ",\n", "\n]\n")
    with target.open("wb") as file:
        file.write(start.encode())
        first = True
        starts = range(0, table.rows, _ROWS)
        for text, rows in map_ordered(lambda s: _records(typing, s, between), starts):
            file.write((b"" if first else between.encode()) + text)
            first = False
            on_progress(rows)
        if table.rows or not lines:
            file.write(end.encode())
    return report_missing_markers(typing)


def _records(typing: TypedColumns, start: int, between: str) -> tuple[bytes, int]:
    parts = []
    for number, (name, cells) in enumerate(typing.columns.items()):
        taken = cells.slice(start, _ROWS)
        label = ("{" if not number else ", ") + json.dumps(name, ensure_ascii=False) + ": "
        values = [_values(chunk, typing.types[name]) for chunk in taken.chunks]
        one = pa.chunked_array(values, pa.string()).combine_chunks() if values else _none()
        parts.append(pc.binary_join_element_wise(label, one, ""))
    records = pc.binary_join_element_wise(*parts, "}", "")
    return between.join(records.to_pylist()).encode(), len(records)


def _none() -> Any:
    return pa.array([], pa.string())


def _values(cells: pa.Array, type_: ColumnType) -> pa.Array:
    """Each cell as JSON."""
    texts = empty_to_null(to_text(cells).cast(pa.string()))
    as_json = type_.is_plain_number or type_ == EXPONENTS
    if as_json and is_text_type(cells.type):
        return pc.fill_null(empty_to_null(blank_markers(texts)), "null")
    if pa.types.is_floating(cells.type) and pc.all(pc.is_finite(cells)).as_py() is False:
        odd = pc.fill_null(pc.invert(pc.is_finite(cells)), False)  # JSON has no such numbers
        texts = pc.if_else(odd, pc.binary_join_element_wise('"', texts, '"', ""), texts)
    if _bare(cells.type) or type_ == BOOLEAN:
        return pc.fill_null(pc.utf8_lower(texts), "null")
    return pc.fill_null(pc.binary_join_element_wise('"', _escaped(texts), '"', ""), "null")


def _bare(kind: pa.DataType) -> bool:
    number = pa.types.is_integer(kind) or pa.types.is_floating(kind) or pa.types.is_decimal(kind)
    return bool(number or pa.types.is_boolean(kind))


def _escaped(texts: pa.Array) -> pa.Array:
    for sign, escape in _ESCAPES:
        texts = pc.replace_substring(texts, sign, escape)
    if pc.any(pc.match_substring_regex(texts, _CONTROL)).as_py():
        return pa.array(map(_by_hand, texts.to_pylist()), pa.string())
    return texts


def _by_hand(text: str | None) -> str | None:
    """Control characters, which hardly any cell has."""
    if text is None:
        return None
    return "".join(f"\\u{ord(t):04x}" if t < " " else t for t in text)
