"""Parquet and Arrow files."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from dataclasses import replace
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.parquet

from plait.core.base.errors import SourceError
from plait.core.base.findings import Finding
from plait.core.base.limits import LIMITS, LimitExceededError
from plait.core.job.current import current_job
from plait.core.job.spill_columns import ColumnBuilder
from plait.core.table.fragment import RowNumbers
from plait.core.table.table import Table
from plait.core.text.cells import is_text_type
from plait.io.cells.conversion import (
    TypedColumns,
    column_names_reader,
    convert_in_row_groups,
    guess_types,
    infer_types,
    report_missing_markers,
    row_refetcher,
)
from plait.io.places.fetch import open_plain_file, source_checksum
from plait.io.places.source import OnProgress, Source

fingerprint = source_checksum

ROW_GROUP = 1 << 20
ARROW_BATCH = 1 << 16


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
        raise LimitExceededError("columns", over, where)
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
        if current_job().spilling is None:
            return file.read()
        return _in_batches(file.schema_arrow, file.iter_batches())


def _in_batches(schema: pa.Schema, batches: Iterable[pa.RecordBatch]) -> pa.Table:
    """What does not fit in memory, batch by batch."""
    column_builder = ColumnBuilder(list(map(str, range(len(schema)))))
    for batch in batches:
        if len(batch):
            column_builder.append(batch.columns)
    return pa.table(list(column_builder.finish(schema.types).values()), schema=schema)


def _arrow(path: Path) -> pa.Table:
    with pa.memory_map(str(path)) as file:
        try:
            table = pa.ipc.open_file(file).read_all()
        except pa.ArrowInvalid:
            file.seek(0)
            table = pa.ipc.open_stream(file).read_all()
    return table


def read_rows(source: Source, rows: RowNumbers) -> Table:
    """Some rows of a file, by their numbers from 0, ascending; they know these.

    Raises
    ------
    SourceError
        As ``read_columnar``; or when the file has fewer rows.
    """
    try:
        with open_plain_file(source) as path:
            if source.ending == ".parquet":
                kept = _parquet_rows(path, rows)
            else:
                kept = _arrow(path).take(pa.array(rows))
        kept.validate(full=True)
    except (pa.ArrowException, OSError, EOFError, UnicodeDecodeError) as error:
        raise _broken(error, source.ending, source.where) from None
    return Table.from_arrow(kept, source.name, source.where).with_row_numbers(rows)


def _parquet_rows(path: Path, rows: RowNumbers) -> pa.Table:
    """The rows, of which only the row groups are read that have some."""
    from pyarrow import parquet

    with parquet.ParquetFile(path) as file:
        kept, begin = list[pa.RecordBatch](), 0
        for number in range(file.num_row_groups):
            end = begin + file.metadata.row_group(number).num_rows
            here = rows[np.searchsorted(rows, begin) : np.searchsorted(rows, end)]
            if len(here):
                kept += file.read_row_group(number).take(pa.array(here - begin)).to_batches()
            begin = end
        if len(rows) and int(rows[-1]) >= begin:
            raise EOFError(f"{begin:,} rows, and not as many as it had")
        return pa.Table.from_batches(kept, file.schema_arrow)


def tables(source: Source) -> None:
    """Such a file is one table."""


def read(source: Source, on_progress: OnProgress) -> Table:
    """The table, with the types that the file gives."""
    most = source.options.limits.columns
    with open_plain_file(source) as file:
        table = read_columnar(file, source.name, source.where, source.ending, most)
    on_progress(source.size)
    return replace(table, read_as="Parquet" if source.ending == ".parquet" else "Arrow")


def first(source: Source, rows: int) -> Table | None:
    """The first rows."""
    with open_plain_file(source) as file:
        return read_first(file, source.name, source.where, source.ending, rows)


columns = column_names_reader(read)
rows_at = row_refetcher(read)


def write_parquet(
    table: Table, target: Path, on_progress: OnProgress = lambda _: None
) -> list[Finding]:
    """Write a table as Parquet.

    Parameters
    ----------
    table : Table
        A text column is written as integers, decimals, true/false, dates or
        times where all of its cells are such; empty cells are missing.
    on_progress : callable
        Told how many rows were written, each time.

    Returns
    -------
    list of Finding
        About markers for missing.

    Notes
    -----
    A glance decides the types at first, and each cell is checked as it is
    converted, while others are written. Should one turn out not to be of the
    type, all cells are looked at and the file is written once more.
    """
    try:
        return _write(guess_types(table), target, on_progress)
    except pa.ArrowInvalid:
        return _write(infer_types(table), target, lambda _: None)


def _write(typing: TypedColumns, target: Path, on_progress: OnProgress) -> list[Finding]:
    # The least and greatest text of a row group cost more time than any reader gets back.
    schema = typing.schema
    missing: Counter[str] = Counter()
    ranged = [field.name for field in schema if not is_text_type(field.type)]
    with pa.parquet.ParquetWriter(target, schema, write_statistics=ranged or False) as writer:
        for made in convert_in_row_groups(typing, ROW_GROUP):
            writer.write_table(made, row_group_size=ROW_GROUP)
            missing.update({name: made[name].null_count for name in made.column_names})
            on_progress(made.num_rows)
    return report_missing_markers(typing, [name for name, count in missing.items() if count])


def write_arrow(
    table: Table, target: Path, on_progress: OnProgress = lambda _: None
) -> list[Finding]:
    """Write a table as an Arrow file, with the types that ``write_parquet`` gives."""
    typing = infer_types(table)
    with pa.OSFile(str(target), "wb") as file, pa.ipc.new_file(file, typing.schema) as writer:
        for made in convert_in_row_groups(typing, ARROW_BATCH):
            writer.write_table(made, ARROW_BATCH)
            on_progress(made.num_rows)
    return report_missing_markers(typing)
