"""Writing CSV and TSV: cells as they stand, quoted only where they must be."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path
from typing import IO

import pyarrow as pa

from plait.core.account.finding import MOST_EXAMPLES, Finding
from plait.core.account.parallel import InTurn, ordered_map
from plait.core.store.crew import Crew, crew
from plait.core.store.lending import append, new_file, write_all
from plait.core.table.table import Table
from plait.formats.cells.formulas import HEADING, formula_finding, formula_rows, guarded
from plait.formats.text.rendering import Rendered, quoted, render

Piece = tuple[int, int]
_CELLS = 1 << 23


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
    heading = _write_header(table.column_names, file, delimiter, guard)
    here, rows = crew(), (replace(table, findings=(), aside=()), delimiter, guard)
    shares = _shares(table, here) if here else []
    if here and len(shares) > 1:
        parts = here.each(share_of, rows, shares)
    else:
        parts = ordered_map(partial(_part_of, rows), table.pieces())
    return _write_parts(parts, file, tick, guard, heading)


def _write_header(names: Sequence[str], file: IO[bytes], delimiter: str, guard: bool) -> _Formulas:
    """Write the first line, and tell of the formulas in it: a spreadsheet runs these as well."""
    cells = [pa.array([name], pa.string()) for name in names]
    batch = pa.RecordBatch.from_arrays(cells, names=list(names))
    formulas = _formulas(batch, HEADING)
    batch = guarded(batch) if guard and formulas.count else batch
    _write(file, Rendered(quoted(batch, delimiter)))
    return formulas


def _write_parts(
    parts: Iterable[_Part],
    file: IO[bytes],
    tick: Callable[[int], None],
    guard: bool,
    heading: _Formulas,
) -> list[Finding]:
    """Write what was rendered, in order, and tell of the formulas in it, and in the heading."""
    count, found = heading.count, list(heading.examples)
    writing = InTurn()  # so that nobody waits for the disk
    for rendered, rows, formulas in parts:
        writing.ask(_write, file, rendered)
        tick(rows)
        count += formulas.count
        found += formulas.examples if len(found) < MOST_EXAMPLES else []
    writing.wait()
    return formula_finding(found, count, guard)


def _part_of(rows: _Rows, piece: Piece) -> _Part:
    """Render some rows."""
    table, delimiter, guard = rows
    batch = table.batch(*piece)
    formulas = _formulas(batch, piece[0])
    shown = guarded(batch) if guard and formulas.count else batch
    return render(shown, delimiter), batch.num_rows, formulas


def _shares(table: Table, here: Crew) -> list[list[Piece]]:
    """Pieces of a table put together, for each of which others make a file."""
    most = max(_CELLS // here.share // max(len(table.columns), 1), 1)
    shares: list[list[Piece]] = []
    for start, stop in table.pieces():
        if not shares or stop - shares[-1][0][0] > most:
            shares.append([])
        shares[-1].append((start, stop))
    return shares


def share_of(rows: _Rows, share: list[Piece]) -> _Part:
    """Render several pieces into a file."""
    formulas = _Formulas(0, [])
    with new_file() as file:
        for piece in share:
            rendered, _, more = _part_of(rows, piece)
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


_Rows = tuple[Table, str, bool]  # with the delimiter, and whether formulas are guarded
_Part = tuple[Rendered | Path, int, _Formulas]


def _write(file: IO[bytes], rendered: Rendered | Path) -> None:
    """Write what was rendered here, or by somebody else into a file of its own."""
    if isinstance(rendered, Path):
        append(file, rendered)
        return
    write_all(file, memoryview(rendered.data))
    rendered.release()


def _formulas(batch: pa.RecordBatch, start: int) -> _Formulas:
    count, examples = 0, []
    for name, column in zip(batch.schema.names, batch.columns, strict=True):
        rows = formula_rows(column)
        count += len(rows)
        for row in rows[:MOST_EXAMPLES].tolist():
            examples.append((start + row, name, column[row].as_py()))
    return _Formulas(count, examples)
