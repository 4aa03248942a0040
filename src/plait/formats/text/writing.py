"""Writing CSV and TSV: cells as they stand, quoted only where they must be."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from functools import partial
from typing import IO

import pyarrow as pa

from plait.core.account.finding import MOST_EXAMPLES, Finding
from plait.core.account.parallel import InTurn, ordered_map
from plait.core.table.table import Table
from plait.formats.cells.formulas import formula_finding, formula_rows, guarded
from plait.formats.text.rendering import Rendered, quoted, render

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
    _write_all(file, Rendered(quoted(batch, delimiter)))


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

    def made(batch: Batch) -> tuple[Rendered, int, _Formulas]:
        start, make = batch
        rows = make()
        formulas = _formulas(rows, start)
        return _guarded(rows, delimiter, guard, formulas), rows.num_rows, formulas

    count, found = 0, list[tuple[int, str, str]]()
    writing = InTurn()  # so that nobody waits for the disk
    for rendered, rows, formulas in ordered_map(made, batches, workers=workers):
        writing.ask(_write_all, file, rendered)
        tick(rows)
        count += formulas.count
        found += formulas.examples if len(found) < MOST_EXAMPLES else []
    writing.wait()
    return formula_finding(found, count, guard)


def write_batch(batch: pa.RecordBatch, file: IO[bytes], delimiter: str, guard: bool) -> None:
    """Write the rows of one batch."""
    _write_all(file, _guarded(batch, delimiter, guard, _formulas(batch, 0)))


@dataclass(frozen=True)
class _Formulas:
    """The formula cells of a batch: how many, and the row, column and text of some."""

    count: int
    examples: list[tuple[int, str, str]]


def _write_all(file: IO[bytes], rendered: Rendered) -> None:
    """An unbuffered file may take less than it was given."""
    view = memoryview(rendered.data)
    while len(view):
        view = view[file.write(view) :]
    rendered.release()


def _formulas(batch: pa.RecordBatch, start: int) -> _Formulas:
    count, examples = 0, []
    for name, column in zip(batch.schema.names, batch.columns, strict=True):
        rows = formula_rows(column)
        count += len(rows)
        for row in rows[:MOST_EXAMPLES].tolist():
            examples.append((start + row, name, column[row].as_py()))
    return _Formulas(count, examples)


def _guarded(batch: pa.RecordBatch, delimiter: str, guard: bool, formulas: _Formulas) -> Rendered:
    return render(guarded(batch) if guard and formulas.count else batch, delimiter)
