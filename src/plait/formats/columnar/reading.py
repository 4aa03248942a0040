"""Reading Parquet and Arrow files: columns with the types that the file gives them."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

import pyarrow as pa

from plait.core.account.errors import SourceError
from plait.core.account.limits import LIMITS, LimitError
from plait.core.store.room import limited
from plait.core.store.shelf import Shelf
from plait.core.table.table import Table


def read_columnar(
    path: Path, name: str, where: str, ending: str, most: int = LIMITS.columns
) -> Table:
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
        stored.validate(full=True)  # nothing else sees to it that text is text, and lies in it
        named = stored.column_names
    except (pa.ArrowException, OSError, EOFError, UnicodeDecodeError) as error:
        raise _broken(error, ending, where) from None
    if not named:
        raise SourceError("no columns found", where, "check that this is the right file")
    if len(named) > most:
        over = f"there are {len(named):,} columns, over {most:,}"
        raise LimitError("columns", over, where)
    return Table.from_arrow(stored, name, where)


def _broken(error: BaseException, ending: str, where: str) -> SourceError:
    return SourceError(
        f"cannot read the file as {ending[1:]}: {str(error).splitlines()[0][:200]}",
        where,
        "the file may be incomplete: get it again",
    )


def read_first(path: Path, name: str, where: str, ending: str, rows: int) -> Table:
    """The first rows of a Parquet or Arrow file.

    Raises
    ------
    SourceError
        As ``read_columnar``.
    """
    try:
        if ending == ".parquet":
            from pyarrow import parquet

            with parquet.ParquetFile(path) as file:
                stored = _until(file.schema_arrow, file.iter_batches(batch_size=rows), rows)
        else:
            stored = _arrow(path).slice(0, rows)
        stored.validate(full=True)
    except (pa.ArrowException, OSError, EOFError, UnicodeDecodeError) as error:
        raise _broken(error, ending, where) from None
    return Table.from_arrow(stored, name, where)


def _until(schema: pa.Schema, batches: Iterable[pa.RecordBatch], rows: int) -> pa.Table:
    found: list[pa.RecordBatch] = []
    for batch in batches:
        found.append(batch)
        if sum(map(len, found)) >= rows:
            break
    return pa.Table.from_batches(found, schema).slice(0, rows)


def _parquet(path: Path) -> pa.Table:
    from pyarrow import parquet

    with parquet.ParquetFile(path) as file:
        if limited() is None:
            return file.read()
        return _in_batches(file.schema_arrow, file.iter_batches())


def _in_batches(schema: pa.Schema, batches: Iterable[pa.RecordBatch]) -> pa.Table:
    """What does not fit in memory, batch by batch."""
    shelf = Shelf(list(map(str, range(len(schema)))))
    for batch in batches:
        if len(batch):
            shelf.put(batch.columns)
    return pa.table(list(shelf.columns(schema.types).values()), schema=schema)


def _arrow(path: Path) -> pa.Table:
    with pa.memory_map(str(path)) as file:
        try:
            table = pa.ipc.open_file(file).read_all()
        except pa.ArrowInvalid:
            file.seek(0)
            table = pa.ipc.open_stream(file).read_all()
    return table
