"""Writing CSV and TSV: cells as they stand, quoted only where they must be."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from functools import partial
from typing import IO, Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv

from plait.core.finding import MOST_EXAMPLES, Finding
from plait.core.parallel import InTurn, ordered_map
from plait.core.table import Table
from plait.core.text import as_text, has_clock
from plait.formats.formulas import formula_finding, formula_rows, guarded

Batch = tuple[int, Callable[[], pa.RecordBatch]]


def write_delimited(
    table: Table,
    file: IO[bytes],
    delimiter: str,
    tick: Callable[[int], None] = lambda _: None,
    guard: bool = False,
) -> list[Finding]:
    """Write a table with a header, lines ended by a line feed.

    Parameters
    ----------
    table : Table
    file : binary file
    delimiter : str
        One character.
    tick : callable
        Told how many rows were written, each time.
    guard : bool
        Put a ``'`` before cells that a spreadsheet would run as formulas.

    Returns
    -------
    list of Finding
        About such cells.

    Notes
    -----
    A cell is quoted when it holds the delimiter, a quote or a line break; a
    quote in it is doubled (RFC 4180). A missing cell is empty.
    """
    write_header(table.column_names, file, delimiter)
    batches = ((start, partial(table.batch, start, stop)) for start, stop in table.pieces())
    return write_batches(batches, file, delimiter, tick, guard)


def write_header(names: Sequence[str], file: IO[bytes], delimiter: str) -> None:
    """Write the first line."""
    cells = [pa.array([name], pa.string()) for name in names]
    batch = pa.RecordBatch.from_arrays(cells, names=list(names))
    _write_all(file, _quoted(batch, delimiter))


def write_batches(
    batches: Iterable[Batch],
    file: IO[bytes],
    delimiter: str,
    tick: Callable[[int], None] = lambda _: None,
    guard: bool = False,
    workers: int | None = None,
) -> list[Finding]:
    """Write batches of rows as they come, rendered on all cores.

    Parameters
    ----------
    batches : iterable of (int, callable)
        The number of the first row, from 0, and what makes the batch.
    file, delimiter, tick, guard
        As for ``write_delimited``.
    workers : int, optional
        Fewer than there are cores, where other stages work at the same time.
    """

    def rendered(batch: Batch) -> _Rendered:
        start, make = batch
        return _rendered(make(), start, delimiter, guard)

    count, found = 0, []
    writing = InTurn()  # so that nobody waits for the disk
    for made in ordered_map(rendered, batches, workers=workers):
        writing.ask(_write_all, file, made.data)
        tick(made.rows)
        count += made.formulas
        found += made.examples if len(found) < MOST_EXAMPLES else []
    writing.wait()
    return formula_finding(found, count, guard)


def batch_bytes(batch: pa.RecordBatch, delimiter: str, guard: bool) -> Any:
    """The rows of a batch as they are written."""
    return _rendered(batch, 0, delimiter, guard).data


@dataclass(frozen=True)
class _Rendered:
    """A batch as bytes, its number of rows, and what it has of formula cells."""

    data: Any
    rows: int
    formulas: int
    examples: list[tuple[int, str, str]]


def _write_all(file: IO[bytes], data: Any) -> None:
    """An unbuffered file may take less than it was given."""
    view = memoryview(data)
    while len(view):
        view = view[file.write(view) :]


def _rendered(batch: pa.RecordBatch, start: int, delimiter: str, guard: bool) -> _Rendered:
    count, examples = 0, []
    for name, column in zip(batch.schema.names, batch.columns, strict=True):
        rows = formula_rows(column)
        count += len(rows)
        for row in rows[:MOST_EXAMPLES].tolist():
            examples.append((start + row, name, column[row].as_py()))
    data = _bytes_of(guarded(batch) if guard and count else batch, delimiter)
    return _Rendered(data, batch.num_rows, count, examples)


def _bytes_of(batch: pa.RecordBatch, delimiter: str) -> Any:
    """The rows as bytes; by the fast way, which takes no cell that must be quoted, if it can."""
    if batch.num_columns == 1:
        return _quoted(batch, delimiter)
    if any(has_clock(column.type) for column in batch.columns):
        columns = [as_text(one) if has_clock(one.type) else one for one in batch.columns]
        batch = pa.RecordBatch.from_arrays(columns, names=batch.schema.names)
    sink = pa.BufferOutputStream()
    options = pa.csv.WriteOptions(
        include_header=False,
        batch_size=batch.num_rows,
        delimiter=delimiter,
        quoting_style="none",
    )
    try:
        pa.csv.write_csv(batch, sink, options)
    except pa.ArrowInvalid:
        return _quoted(batch, delimiter)
    return sink.getvalue()


def _quoted(batch: pa.RecordBatch, delimiter: str) -> Any:
    cells = [_quote(as_text(column), delimiter) for column in batch.columns]
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
