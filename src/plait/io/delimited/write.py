"""Tables as delimited text."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path
from typing import IO, Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv

from plait.core.base.findings import MOST_EXAMPLES, Finding
from plait.core.job.current import current_job
from plait.core.job.executor import SerialWorker, WorkerPool, map_ordered
from plait.core.job.transfer import append_file, create_shared_file, write_fully
from plait.core.table.table import Table
from plait.core.text.cells import decoded, has_time_of_day, is_text_type, to_text
from plait.io.cells.formulas import (
    HEADING,
    escape_formulas,
    find_formula_cells,
    report_formula_cells,
)
from plait.io.delimited.blocks import BufferPool
from plait.io.delimited.text_format import PLAIN_TEXT, Converter, TextFormat, column_converters

_ROWS_AT_ONCE = 1 << 12  # rendered in the processor's own memory
_LEAST_ROOM, _MOST_ROOM = 1 << 20, 1 << 27
_WIDTHS = (  # characters that hardly a value has more of
    (pa.types.is_integer, 20),
    (pa.types.is_floating, 24),
    (pa.types.is_date, 12),
    (pa.types.is_boolean, 5),
    (pa.types.is_decimal, 90),
)

_SPARE: BufferPool[npt.NDArray[np.uint8]] = BufferPool(lambda size: np.empty(size, np.uint8), 16)

Piece = tuple[int, int]
_CELLS = 1 << 23


@dataclass(frozen=True)
class RenderedRows:
    """Rows as bytes; ``buffer`` is the memory they are in, where that may be used again."""

    data: Any
    buffer: npt.NDArray[np.uint8] | None = None

    def release(self) -> None:
        """Give the memory back; the bytes are gone then."""
        if self.buffer is not None:
            _SPARE.give(self.buffer)


def render_rows(batch: pa.RecordBatch, delimiter: str) -> RenderedRows:
    """The rows as bytes; by the fast way, which takes no cell that must be quoted, if it can.

    >>> cells = pa.RecordBatch.from_pydict({"yard": ["A, north", None], "hive": [1, 2]})
    >>> bytes(render_rows(cells, ",").data)
    b'"A, north",1\\n,2\\n'
    """
    if batch.num_columns == 1:
        return RenderedRows(render_quoted_rows(batch, delimiter))
    if any(has_time_of_day(column.type) for column in batch.columns):
        columns = [to_text(c) if has_time_of_day(c.type) else c for c in batch.columns]
        batch = pa.RecordBatch.from_arrays(columns, names=batch.schema.names)
    try:
        return _unquoted(batch, delimiter)
    except pa.ArrowInvalid:
        return RenderedRows(render_quoted_rows(batch, delimiter))


def _unquoted(batch: pa.RecordBatch, delimiter: str) -> RenderedRows:
    """The rows, in memory used before where it can be told how much they need.

    Raises
    ------
    pyarrow.ArrowInvalid
        When a cell must be quoted.
    """
    options = pa.csv.WriteOptions(
        include_header=False, batch_size=_ROWS_AT_ONCE, delimiter=delimiter, quoting_style="none"
    )
    room = sum(_room(column) for column in batch.columns)
    if 0 < room <= _MOST_ROOM:
        buffer = _SPARE.take(max(_LEAST_ROOM, 1 << room.bit_length()))
        writer = pa.FixedSizeBufferWriter(pa.py_buffer(buffer))
        try:
            pa.csv.write_csv(batch, writer, options)
            return RenderedRows(buffer.data[: writer.tell()], buffer)
        except pa.ArrowInvalid:
            _SPARE.give(buffer)
            raise
        except OSError:  # there are longer values than thought: it takes more room
            _SPARE.give(buffer)
    sink = pa.BufferOutputStream()
    pa.csv.write_csv(batch, sink, options)
    return RenderedRows(sink.getvalue())


def _room(column: pa.Array) -> int:
    """How many bytes the cells hardly ever take more than, with what is behind each."""
    rows = len(column)
    if is_text_type(column.type):
        return int(column.nbytes) + rows
    if pa.types.is_dictionary(column.type) and is_text_type(column.type.value_type):
        longest = pc.max(pc.binary_length(column.dictionary)).as_py() or 0
        return rows * (longest + 1)
    widths = (width for is_one, width in _WIDTHS if is_one(column.type))
    return rows * (next(widths, _MOST_ROOM) + 1)


def render_quoted_rows(batch: pa.RecordBatch, delimiter: str) -> Any:
    """The rows as bytes, those cells quoted that must be."""
    cells = [_quote(to_text(column), delimiter) for column in batch.columns]
    if len(cells) == 1:  # an empty line would be read as no row
        cells[0] = pc.if_else(pc.equal(cells[0], ""), '""', cells[0])
    cells[-1] = pc.binary_join_element_wise(cells[-1], "\n", "")
    lines = pc.binary_join_element_wise(*cells, delimiter)
    return _bytes(lines)


def _bytes(lines: pa.Array) -> Any:
    """All the text of an array, end to end."""
    _, offsets, data = lines.buffers()
    wide = pa.types.is_large_string(lines.type)
    ends = np.frombuffer(offsets, np.int64 if wide else np.int32)
    start, stop = int(ends[lines.offset]), int(ends[lines.offset + len(lines)])
    return data.slice(start, stop - start)


def _quote(cells: pa.Array, delimiter: str) -> pa.Array:
    cells = pc.fill_null(cells, "")
    needed = pc.match_substring_regex(cells, f'["\r\n{delimiter}]')
    if not pc.any(needed).as_py():
        return cells
    doubled = pc.replace_substring(cells, '"', '""')
    return pc.if_else(needed, pc.binary_join_element_wise('"', doubled, '"', ""), cells)


def write_delimited(
    table: Table,
    file: IO[bytes],
    delimiter: str,
    on_progress: Callable[[int], None] = lambda _: None,
    text_format: TextFormat = PLAIN_TEXT,
) -> list[Finding]:
    """Write a table with a header, lines ended by a line feed.

    Parameters
    ----------
    delimiter : str
        One character, unless the format has another.
    on_progress : callable
        Told how many rows were written, each time.
    text_format : TextFormat
        How it is written.

    Returns
    -------
    list of Finding
        About such cells.

    Notes
    -----
    A cell is quoted when it holds the delimiter, a quote or a line break; a
    quote in it is doubled (RFC 4180). A missing cell is empty.
    """
    delimiter = text_format.delimiter or delimiter
    write_fully(file, memoryview(text_format.mark))
    heading = _write_header(table.column_names, file, delimiter, text_format)
    here, rows = (
        current_job().workers,
        _TextRows(
            replace(table, findings=(), set_aside=()),
            delimiter,
            text_format,
            column_converters(table, text_format),
        ),
    )
    shares = _shares(table, here) if here else []
    if here and len(shares) > 1:
        parts = here.map_tasks(render_chunks, rows, shares)
    else:
        parts = map_ordered(partial(_render_part, rows), table.chunk_ranges())
    return _write_parts(parts, file, on_progress, text_format.guard_formulas, heading)


def _write_header(
    names: Sequence[str], file: IO[bytes], delimiter: str, text_format: TextFormat
) -> _Formulas:
    """Write the first line, and tell of the formulas in it: a spreadsheet runs these as well."""
    cells = [pa.array([name], pa.string()) for name in names]
    batch = pa.RecordBatch.from_arrays(cells, names=list(names))
    formulas = _formulas(batch, HEADING)
    batch = escape_formulas(batch) if text_format.guard_formulas and formulas.count else batch
    _write(file, RenderedRows(text_format.encode(memoryview(render_quoted_rows(batch, delimiter)))))
    return formulas


def _write_parts(
    parts: Iterable[_Part],
    file: IO[bytes],
    on_progress: Callable[[int], None],
    guard: bool,
    heading: _Formulas,
) -> list[Finding]:
    """Write what was rendered, in order, and tell of the formulas in it, and in the heading."""
    count, found = heading.count, list(heading.examples)
    writing = SerialWorker()  # so that nobody waits for the disk
    for rendered, rows, formulas in parts:
        writing.ask(_write, file, rendered)
        on_progress(rows)
        count += formulas.count
        found += formulas.examples if len(found) < MOST_EXAMPLES else []
    writing.wait()
    return report_formula_cells(found, count, guard)


def _render_part(rows: _TextRows, piece: Piece) -> _Part:
    """Render some rows."""
    batch = rows.table.batch(*piece)
    if rows.converters:
        columns = [
            rows.converters[name](decoded(column)) if name in rows.converters else column
            for name, column in zip(batch.schema.names, batch.columns, strict=True)
        ]
        batch = pa.RecordBatch.from_arrays(columns, names=batch.schema.names)
    formulas = _formulas(batch, piece[0])
    guarded = rows.text_format.guard_formulas and formulas.count
    rendered = render_rows(escape_formulas(batch) if guarded else batch, rows.delimiter)
    if rows.text_format.encoding != PLAIN_TEXT.encoding:
        encoded = RenderedRows(rows.text_format.encode(memoryview(rendered.data)))
        rendered = encoded if encoded.data is not rendered.data else rendered
    return rendered, batch.num_rows, formulas


def _shares(table: Table, worker_pool: WorkerPool) -> list[list[Piece]]:
    """Pieces of a table put together, for each of which others make a file."""
    most = max(_CELLS // worker_pool.tasks_per_unit // max(len(table.columns), 1), 1)
    shares: list[list[Piece]] = []
    for start, stop in table.chunk_ranges():
        if not shares or stop - shares[-1][0][0] > most:
            shares.append([])
        shares[-1].append((start, stop))
    return shares


def render_chunks(rows: _TextRows, share: list[Piece]) -> _Part:
    """Render several pieces into a file."""
    formulas = _Formulas(0, [])
    with create_shared_file() as file:
        for piece in share:
            rendered, _, more = _render_part(rows, piece)
            _write(file, rendered)
            formulas = formulas.followed_by(more)
        return Path(file.name), share[-1][1] - share[0][0], formulas


@dataclass(frozen=True)
class _Formulas:
    """The formula cells of a batch: how many, and the row, column and text of some."""

    count: int
    examples: list[tuple[int, str, str]]

    def followed_by(self, more: _Formulas) -> _Formulas:
        """Those of two batches, one after the other."""
        return _Formulas(self.count + more.count, (self.examples + more.examples)[:MOST_EXAMPLES])


@dataclass(frozen=True)
class _TextRows:
    """The rows of a table, and how they are written."""

    table: Table
    delimiter: str
    text_format: TextFormat
    converters: Mapping[str, Converter]


_Part = tuple[RenderedRows | Path, int, _Formulas]


def _write(file: IO[bytes], rendered: RenderedRows | Path) -> None:
    """Write what was rendered here, or by somebody else into a file of its own."""
    if isinstance(rendered, Path):
        append_file(file, rendered)
        return
    write_fully(file, memoryview(rendered.data))
    rendered.release()


def _formulas(batch: pa.RecordBatch, start: int) -> _Formulas:
    count, examples = 0, []
    for name, column in zip(batch.schema.names, batch.columns, strict=True):
        rows = find_formula_cells(column)
        count += len(rows)
        for row in rows[:MOST_EXAMPLES].tolist():
            examples.append((start + row, name, column[row].as_py()))
    return _Formulas(count, examples)
