"""Tables of SQLite files."""

from __future__ import annotations

import re
import shutil
import sqlite3
import time
from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager
from dataclasses import replace
from pathlib import Path
from typing import Any
from urllib.parse import quote

import pyarrow as pa
import pyarrow.compute as pc

from plait.core.base.errors import SourceError
from plait.core.base.limits import LIMITS, LimitExceededError, Limits
from plait.core.job.spill_columns import ColumnBuilder, build_column
from plait.core.table.arrow_columns import clean_headings
from plait.core.table.fragment import RowNumbers
from plait.core.table.table import Table, table_from_columns
from plait.core.text.cells import to_text
from plait.core.types.column_type import DECIMAL, ColumnType
from plait.io.cells.conversion import (
    column_from_values,
    column_names_reader,
    decimals_of,
    row_refetcher,
    type_of_text_values,
)
from plait.io.places.fetch import open_plain_file, source_checksum
from plait.io.places.partial_files import scratch_folder
from plait.io.places.source import OnProgress, Source, TableListing

_BATCH = 50_000
_STEPS = 100_000

fingerprint = source_checksum


@contextmanager
def _opened(path: Path, where: str) -> Iterator[sqlite3.Connection]:
    """A database that is read as it is at one moment, and cannot be written to.

    SQLite's own locks see to it that nobody changes it meanwhile; the file, and the folder
    that it is in, stay as they are.
    """
    try:
        with _undisturbed(path) as (file, way), closing(_connected(file, way)) as base:
            base.execute("BEGIN")
            yield base
    except (sqlite3.Error, UnicodeDecodeError) as error:
        raise SourceError(
            f"cannot read the database: {error}",
            where,
            "check that this is a complete SQLite file and that no one else is writing to it",
        ) from None


def _connected(file: Path, way: str) -> sqlite3.Connection:
    return sqlite3.connect(f"file:{quote(str(file.absolute()))}?{way}", uri=True)


@contextmanager
def _undisturbed(path: Path) -> Iterator[tuple[Path, str]]:
    """The file to open, and the way to do that.

    A program that has the file open keeps its newest rows in files beside it. Where they
    were left by one that has ended, SQLite would tidy them up, or make others: then it
    works on a copy. One that keeps such files and has none has been closed.
    """
    beside = {end: path.with_name(path.name + end) for end in ("-wal", "-shm", "-journal")}
    left = [file for end, file in beside.items() if end != "-shm" and _has_bytes(file)]
    if not left and _keeps_a_log(path):
        yield from _unlocked(path, beside["-wal"])
    elif not left or beside["-shm"].exists():
        yield path, "mode=ro"
    else:
        with scratch_folder() as folder:
            for file in (path, *left):
                shutil.copyfile(file, folder / file.name)
            yield folder / path.name, "mode=rw"


def _unlocked(path: Path, log: Path) -> Iterator[tuple[Path, str]]:
    """Without locks, which would make files beside it: so it must not change meanwhile."""
    before = _state(path)
    yield path, "mode=ro&immutable=1"
    if _state(path) != before or _has_bytes(log):
        raise sqlite3.OperationalError("the file was changed while it was being read")


def _state(path: Path) -> tuple[int, int]:
    status = path.stat()
    return status.st_mtime_ns, status.st_size


def _has_bytes(file: Path) -> bool:
    return file.is_file() and file.stat().st_size > 0


def _keeps_a_log(path: Path) -> bool:
    """Whether its changes go to a file of their own first: what its header says."""
    with path.open("rb") as file:
        return file.read(20)[18:] == b"\2\2"


def table_names(path: Path, where: str) -> list[str]:
    """The tables and views of a database, in order of their making.

    Raises
    ------
    SourceError
        When it is no SQLite file.
    """
    with _opened(path, where) as base:
        cursor = base.execute(
            "SELECT name FROM sqlite_master WHERE type IN ('table', 'view') "
            "AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\' ORDER BY rowid"
        )
        return [name for (name,) in cursor]


def read_database(path: Path, part: str, name: str, where: str, limits: Limits = LIMITS) -> Table:
    """Read a table or view of a SQLite file.

    Parameters
    ----------
    part : str
        The table in it.
    name : str
        What it is called here.
    where : str
        The file, for errors and lineage.
    limits : Limits
        For views: a table is as large as it is.

    Returns
    -------
    Table
        A column has the type that all of its values have, or is text.

    Raises
    ------
    SourceError
        When it cannot be read.
    """
    with _opened(path, where) as base:
        declared = dict(base.execute("SELECT name, type FROM pragma_table_info(?)", (part,)))
        rows = _rows(base, part, where, limits)
        given = next(rows)
        names, findings = clean_headings(given, where, most=limits.columns)
        column_builder = ColumnBuilder(names)
        for batch in rows:
            column_builder.append(
                [column_from_values(values) for values in zip(*batch, strict=True)]
            )
    pieces = list(zip(*column_builder.finish_chunks(), strict=True)) or [()] * len(names)
    columns = {name: _joined(column) for name, column in zip(names, pieces, strict=True)}
    types: dict[str, ColumnType | None] = {
        name: type_of_text_values(columns[name])
        for name, column in zip(names, pieces, strict=True)
        if columns[name].type == pa.string() and _all_text(column)
    }
    for heading, name_there in zip(names, given, strict=True):
        columns[heading], type_ = _as_declared(columns[heading], declared.get(name_there, ""))
        types.update({heading: type_} if type_ else {})
    table = table_from_columns(name, columns, where)
    return replace(table.with_types(types), findings=tuple(findings))


def _rows(base: sqlite3.Connection, part: str, where: str, limits: Limits) -> Iterator[list[Any]]:
    """The names of the columns, then the rows, some thousands at a time."""
    view = base.execute(
        "SELECT 1 FROM sqlite_master WHERE type = 'view' AND name = ?", (part,)
    ).fetchone()
    late = _Patience(limits.view_seconds)
    if view:
        base.set_progress_handler(late, _STEPS)
    read = 0
    try:
        rows = base.execute(f'SELECT * FROM "{part.replace(chr(34), chr(34) * 2)}"')
        yield [d[0] for d in rows.description]
        while batch := rows.fetchmany(_BATCH):
            read += len(batch)
            if view and read > limits.view_rows:
                over = f"the view gives over {limits.view_rows:,} rows"
                raise LimitExceededError("view_rows", over, where)
            yield batch
    except sqlite3.OperationalError:
        if late.over:
            over = f"the view takes over {limits.view_seconds:,} seconds"
            raise LimitExceededError("view_seconds", over, where) from None
        raise


class _Patience:
    """Tells SQLite to stop when the time is over."""

    def __init__(self, seconds: float) -> None:
        self._end, self.over = time.monotonic() + seconds, False

    def __call__(self) -> bool:
        self.over = time.monotonic() > self._end
        return self.over


def _as_declared(
    cells: pa.ChunkedArray, declared: str
) -> tuple[pa.ChunkedArray, ColumnType | None]:
    """Numbers as what their column is declared to be, where all are: SQLite does not see to it.

    Decimals are stored as the nearest float, of which 15 digits are sure, truths as 1 and 0.
    """
    if pa.types.is_integer(cells.type) and re.match(r"(?i)bool", declared):
        return (cells.cast(pa.bool_()), None) if _are_flags(cells) else (cells, None)
    match = re.match(r"(?i)(?:decimal|numeric)\s*(?:\(\s*\d+\s*(?:,\s*(\d+)\s*)?\))?", declared)
    if match and (pa.types.is_integer(cells.type) or pa.types.is_floating(cells.type)):
        texts = decimals_of(cells, int(match[1] or 0))
        return (cells, None) if texts is None else (texts, DECIMAL)
    return cells, None


def _are_flags(cells: pa.ChunkedArray) -> bool:
    ends = pc.min_max(cells).as_py()
    return ends["min"] in (0, 1) and ends["max"] in (0, 1)


def _all_text(pieces: Sequence[pa.Array]) -> bool:
    return all(piece.type == pa.string() for piece in pieces)


def _joined(pieces: Sequence[pa.Array]) -> pa.ChunkedArray:
    """Pieces of one type end to end; of several types as text."""
    kinds = {piece.type for piece in pieces if piece.null_count < len(piece)}
    if len(kinds) == 1:
        kind = kinds.pop()
        return pa.chunked_array(
            [p if p.type == kind else pa.nulls(len(p), kind) for p in pieces], kind
        )
    return build_column((to_text(piece) for piece in pieces), pa.string())


def tables(source: Source) -> TableListing:
    """The tables and views."""
    with open_plain_file(source) as file:
        return TableListing(tuple(table_names(file, source.where)))


def read(source: Source, on_progress: OnProgress) -> Table:
    """The values that are stored."""
    with open_plain_file(source) as file:
        table = read_database(file, source.part, source.name, source.where, source.options.limits)
    on_progress(source.size)
    return replace(table, read_as="a table of a SQLite file")


def read_rows(source: Source, rows: RowNumbers) -> None:
    """Only the whole can be read."""


def first(source: Source, rows: int) -> None:
    """A table has to be read whole: any of its values may be of another type."""


columns = column_names_reader(read)
rows_at = row_refetcher(read)
