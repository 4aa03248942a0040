"""Reading SQLite files: a table or view, with the values that it stores."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from contextlib import closing, contextmanager
from dataclasses import replace
from pathlib import Path
from urllib.parse import quote

import pyarrow as pa

from plait.core.account.errors import SourceError
from plait.core.table.headings import usable_names
from plait.core.table.table import Table, from_columns
from plait.core.text.cells import as_text
from plait.formats.cells.values import column_of, declared_kind

_BATCH = 50_000


@contextmanager
def _opened(path: Path, where: str) -> Iterator[sqlite3.Connection]:
    """A database that cannot be written to through this connection."""
    try:
        with closing(
            sqlite3.connect(f"file:{quote(str(path.absolute()))}?mode=ro&immutable=1", uri=True)
        ) as base:
            yield base
    except sqlite3.Error as error:
        raise SourceError(
            f"the database cannot be read: {error}", where, "is it a SQLite file, and whole?"
        ) from None


def table_names(path: Path, where: str) -> list[str]:
    """The tables and views of a database, in order of their making.

    Raises
    ------
    SourceError
        When it is no SQLite file.
    """
    with _opened(path, where) as base:
        found = base.execute(
            "SELECT name FROM sqlite_master WHERE type IN ('table', 'view') "
            "AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\' ORDER BY rowid"
        )
        return [name for (name,) in found]


def read_database(path: Path, part: str, name: str, where: str) -> Table:
    """Read a table of a SQLite file.

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
        rows = base.execute(f'SELECT * FROM "{part.replace(chr(34), chr(34) * 2)}"')
        names, findings = usable_names([one[0] for one in rows.description], where)
        pieces: list[list[pa.Array]] = [[] for _ in names]
        while batch := rows.fetchmany(_BATCH):
            for column, values in zip(pieces, zip(*batch, strict=True), strict=True):
                column.append(column_of(values))
    columns = {name: _joined(column) for name, column in zip(names, pieces, strict=True)}
    table = from_columns(name, columns, where)
    kinds = {
        name: declared_kind(columns[name])
        for name, column in zip(names, pieces, strict=True)
        if columns[name].type == pa.string() and _all_text(column)
    }
    return replace(table.with_kinds(kinds), findings=tuple(findings))


def _all_text(pieces: list[pa.Array]) -> bool:
    return all(piece.type == pa.string() for piece in pieces)


def _joined(pieces: list[pa.Array]) -> pa.ChunkedArray:
    """Pieces of one type end to end; of several types as text."""
    kinds = {piece.type for piece in pieces if piece.null_count < len(piece)}
    if len(kinds) == 1:
        kind = kinds.pop()
        return pa.chunked_array(
            [p if p.type == kind else pa.nulls(len(p), kind) for p in pieces], kind
        )
    return pa.chunked_array([as_text(piece) for piece in pieces], pa.string())
