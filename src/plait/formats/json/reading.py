"""Reading JSON: an array of records, or a record on each line."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from itertools import islice
from typing import IO, Any

import numpy as np
import pyarrow as pa

from plait.core.account.errors import SourceError
from plait.core.account.limits import LIMITS, LimitError, Limits
from plait.core.account.names import is_text, nearest, shown
from plait.core.store.shelf import Shelf
from plait.core.table.headings import usable_names
from plait.core.table.lines import LINE, Steps, joined
from plait.core.table.table import Table, from_columns
from plait.core.text.jsontext import Number, json_text, parsed
from plait.formats.cells.values import declared_kind, number_kind
from plait.formats.text.encoding import UTF8, byte_order_mark, likely_encoding, recoded
from plait.formats.text.streams import Pieces, ReadAhead

_BATCH = 50_000
_STEP = 1 << 20
_HEAD = 1 << 16

Tick = Callable[[int], None]


def read_json(
    stream: IO[bytes],
    name: str,
    where: str,
    part: str = "",
    lines: bool = False,
    tick: Tick = lambda _: None,
    limits: Limits = LIMITS,
    most: int | None = None,
) -> Table:
    """Read an array of records, or JSON lines.

    Parameters
    ----------
    stream : binary file
    name : str
        The table's name.
    where : str
        The file, for errors and lineage.
    part : str
        The name under which the array is in an object; not needed when
        there is only one.
    lines : bool
        Whether there is a record on each line.
    tick : callable
        Told how many bytes were read, each time.
    limits : Limits
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
    text = _utf8(stream, where, tick)
    if lines:
        found = islice(_line_records(text, where, limits), most)
        table, begun = _table(found, name, where, limits)
        return table.with_lines(joined(LINE, [begun]))
    records = _array(_whole(text, where, limits), part, where)
    return _table(enumerate(records, 1), name, where, limits)[0]


def _whole(text: IO[bytes], where: str, limits: Limits) -> Any:
    try:
        data = b"".join(iter(lambda: text.read(_STEP), b""))
        return parsed(_decoded(data, where))
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
    rest: Any = ReadAhead(head, text)
    whole = _whole(rest, where, limits)
    return list(_tables_in(whole)) if isinstance(whole, dict) else []


def _tables_in(fields: Mapping[str, Any]) -> dict[str, list[Any]]:
    """The arrays of records; where none has any, all arrays that are empty."""
    arrays = {name: value for name, value in fields.items() if isinstance(value, list)}
    records = {
        name: value for name, value in arrays.items() if value and isinstance(value[0], dict)
    }
    return records or {name: value for name, value in arrays.items() if not value}


def _too_deep(limits: Limits, where: str) -> LimitError:
    return LimitError("depth", f"the record is nested deeper than {limits.depth}", where)


_LINES_REMEDY = "if there is a record on each line, end the file's name in .jsonl"


def _utf8(stream: IO[bytes], where: str, tick: Tick) -> IO[bytes]:
    head = stream.read(_HEAD)
    tick(len(head))
    marked = byte_order_mark(head)
    encoding = likely_encoding(head)
    text: Any = ReadAhead(head[marked[1] :] if marked else head, stream)
    made: Any = (
        Pieces(recoded(text, encoding, where)) if encoding[:6] in ("utf-16", "utf-32") else text
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
        raise SourceError(f"no array {part!r}", where, nearest(part, arrays))
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
        place = f"{where}, line {number:,}"
        try:
            yield number, parsed(_decoded(line, place))
        except RecursionError:
            raise _too_deep(limits, place) from None
        except ValueError as error:
            raise SourceError(f"not valid JSON: {error}", place) from None


def _lines(text: IO[bytes], where: str, longest: int) -> Iterator[bytes]:
    rest = b""
    while data := text.read(_STEP):
        *whole, rest = (rest + data).split(b"\n")
        yield from whole
        if len(rest) > longest:
            raise LimitError("record", f"a line is longer than {longest >> 20:,} MiB", where)
    if rest:
        yield rest


@dataclass
class _Growing:
    """A column as it grows: finished pieces, the cells of the present one, what was met."""

    pieces: Shelf = field(default_factory=lambda: Shelf([""]))
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
                column.pieces.put([pa.nulls(filled, pa.string())])
                if len(columns) > limits.columns:
                    over = f"there are over {limits.columns:,} names"
                    raise LimitError("columns", over, f"{where}, record {place:,}")
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
        raise LimitError("depth", f"the record is nested deeper than {depth}", where) from None


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
    if isinstance(value, Number):
        return value, "number"
    if isinstance(value, bool):
        return "true" if value else "false", "boolean"
    return value if isinstance(value, str) else json_text(value, depth), "text"


def _finish(columns: dict[tuple[str, ...], _Growing], rows: int, above: int, where: str) -> None:
    for path, column in columns.items():
        column.cells += [None] * (rows - len(column.cells))
        try:
            column.pieces.put([pa.array(column.cells, pa.string())])
        except UnicodeEncodeError:
            row = next(n for n, cell in enumerate(column.cells) if cell and not is_text(cell))
            place = f"{where}, row {above + row + 1:,}, column {shown('.'.join(path))}"
            raise _half_a_letter(place) from None
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
    if not is_text("".join(written)):
        raise _half_a_letter(f"{where}, the name of a column")
    names, findings = usable_names(written, where, most=most)
    stored = {
        named: column.pieces.columns([pa.string()])[""]
        for named, column in zip(names, columns.values(), strict=True)
    }
    table = from_columns(name, stored, where)
    kinds = {
        named: declared_kind(stored[named])
        if column.met - {"nothing"} == {"text"}
        else number_kind(stored[named])
        for named, column in zip(names, columns.values(), strict=True)
        if column.met - {"nothing"} in ({"text"}, {"number"})
    }
    if not stored:
        raise SourceError("no record has any field", where)
    return replace(table.with_kinds(kinds), rows=rows, findings=tuple(findings))
