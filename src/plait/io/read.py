"""Any source as a table, by its format; its first rows."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterable, Sequence
from contextlib import suppress
from dataclasses import replace
from importlib import import_module
from typing import Any, TypeVar, cast

import numpy as np

from plait.core.base.errors import SourceError
from plait.core.base.findings import Finding, FindingExample, Location, agreeing
from plait.core.base.wording import Setting, wording
from plait.core.job.current import current_job, reserve_memory
from plait.core.job.executor import map_ordered
from plait.core.table.fragment import RowNumbers
from plait.core.table.table import Table
from plait.io.database.connections import snapshot_session
from plait.io.places.fetch import keep_fetched_files, local_path
from plait.io.places.source import (
    COLUMNAR,
    DATABASES,
    DELIMITED,
    JSON,
    JSON_LINES,
    STANDARD_INPUT,
    WORKBOOKS,
    OnProgress,
    Reader,
    SkippedFiles,
    Source,
    unreadable_error,
)

READERS = {
    **dict.fromkeys(DELIMITED, "plait.io.delimited.reader"),
    **dict.fromkeys((JSON, *JSON_LINES), "plait.io.json_files"),
    **dict.fromkeys(WORKBOOKS, "plait.io.workbook.read"),
    **dict.fromkeys(COLUMNAR, "plait.io.columnar"),
    **dict.fromkeys(DATABASES, "plait.io.sqlite.read"),
}

Read = TypeVar("Read")

_MOST_NAMED = 5
_PACKED_TIMES = 8


def find_reader(source: Source) -> Reader:
    """The module that reads a source. Each is loaded when it is needed, so that nobody waits."""
    if source.path == STANDARD_INPUT:
        module = "plait.io.delimited.reader"
    else:
        module = "plait.io.database.reader" if source.in_database else READERS[source.ending]
    return cast(Reader, import_module(module))


def read_source(source: Source, on_progress: OnProgress = lambda _: None) -> Table:
    """Read one source.

    Parameters
    ----------
    on_progress : callable
        Told how many bytes were read, each time.

    Raises
    ------
    SourceError
        When it cannot be opened or read.
    """
    if source.error:
        raise source.error
    table = _read(source, on_progress)
    if not source.passed_over:
        return table
    return replace(table, findings=(*table.findings, _not_read(source.passed_over)))


def read_single_source(source: Source) -> Table:
    """Read one source by itself: room is made for it first.

    Raises
    ------
    SourceError
        As ``read_source``.
    """
    with keep_fetched_files():
        reserve_for_sources([source])
        return read_source(source)


def read_selected_rows(source: Source, rows: RowNumbers) -> Table | None:
    """Some rows of a file that Plait wrote, by their numbers from 0, ascending.

    Returns
    -------
    Table or None
        ``None`` for a format that is read whole.

    Raises
    ------
    SourceError
        As ``read_source``; or when there are fewer rows.
    """
    return find_reader(source).read_rows(source, rows)


def read_in_parallel(sources: Sequence[Source], read: Callable[[Source], Read]) -> list[Read]:
    """What a function reads of sources, several at a time, with room made for them.

    Parameters
    ----------
    read : callable
        Such as ``read_source``.
    """
    reserve_for_sources(sources)
    with snapshot_session():
        reads = list(map_ordered(read, sources))
    reserve_memory(0)  # what came in may have been more than was seen
    return reads


def prefetch_sources(sources: Iterable[Source], on_progress: OnProgress) -> None:
    """Fetch what is not on this machine, several at a time; what cannot be is told when it is read.

    Parameters
    ----------
    on_progress : callable
        Told how many bytes came, each time.
    """

    def fetch(source: Source) -> None:
        with suppress(SourceError):
            local_path(source, on_progress)

    list(map_ordered(fetch, [s for s in sources if s.is_remote and not s.error]))


def reserve_for_sources(sources: Iterable[Source]) -> None:
    """Have the job prepare for sources: packed ones take several times their size."""
    for source in sources:
        reserve_memory(source.size, _PACKED_TIMES if _is_packed(source) else 1)


def _is_packed(source: Source) -> bool:
    return bool(source.member) or source.packed or source.ending in (*COLUMNAR, *WORKBOOKS)


def try_read_source(
    source: Source, on_progress: OnProgress = lambda _: None
) -> Table | SourceError:
    """Read one source, or say why it cannot be read."""
    try:
        return read_source(source, on_progress)
    except SourceError as error:
        return error


def report_unreadable(fault: SourceError) -> Finding:
    """The finding that a source could not be read, and which."""
    where = fault.where or ""
    which = (FindingExample(where),) if where else ()
    return Finding(
        "unreadable", "error", 1, str(fault.what), fault.remedy or "", Location(where), which
    )


def _not_read(over: SkippedFiles) -> Finding:
    names = over.names
    folders = sum(name.endswith("/") for name in names)
    what = "folder" if folders == len(names) else "file" if not folders else "file or folder"
    several = what.replace("file or", "files or") + "s"
    text = ", ".join(names[:_MOST_NAMED]) + (" …" if len(names) > _MOST_NAMED else "")
    return Finding(
        "not-read",
        "note",
        len(names),
        f"{len(names):,} {agreeing(len(names), what, several)} in {over.folder} "
        f"{agreeing(len(names), 'is', 'are')} not read: {text}",
        "",
        Location(over.folder),
    )


def _read(source: Source, on_progress: OnProgress) -> Table:
    if source.path == STANDARD_INPUT:
        from plait.io.delimited.reader import read_stream

        _check_plain(sys.stdin.buffer)
        return read_stream(source, sys.stdin.buffer, on_progress)
    cache = current_job().cache
    try:
        if cache is not None and cache.keeps(source):
            return cast(Table, cache.table(source, find_reader(source).read, on_progress))
        return find_reader(source).read(source, on_progress)
    except OSError as error:
        raise unreadable_error(error, source) from None


_PACKED = {b"\x1f\x8b": "gzip", b"BZh": "bzip2", b"\xfd7zXZ": "xz", b"\x28\xb5\x2f\xfd": "zstd"}
_OTHER = {b"PK": "a zip archive or a workbook", b"PAR1": "a Parquet file", b"SQLite": "a database"}


def _check_plain(stream: Any) -> None:
    """See that standard input is text, and not something packed.

    Raises
    ------
    SourceError
    """
    head = stream.peek(8) if hasattr(stream, "peek") else b""
    for mark, called in _PACKED.items():
        if head.startswith(mark):
            raise SourceError(
                f"standard input is compressed with {called}",
                "standard input",
                f"{called} -dc FILE | …",
            )
    for mark, called in _OTHER.items():
        if head.startswith(mark):
            raise SourceError(
                f"standard input is {called}, but only text can be read from it",
                "standard input",
                "name the file instead of -",
            )


def read_columns(source: Source) -> list[str]:
    """The column names of a source, quickly where that can be."""
    return find_reader(source).columns(source)


def read_first_rows(source: Source, rows: int) -> tuple[Table, bool]:
    """The first rows of a source as they stand.

    Parameters
    ----------
    rows : int
        How many, at most.

    Returns
    -------
    cut : bool
        Whether the source has more.

    Raises
    ------
    SourceError
        When it cannot be opened, or its first part not be read.
    """
    if source.error:
        raise source.error
    try:
        table = (
            None if source.path == STANDARD_INPUT else find_reader(source).first(source, rows + 1)
        )
    except OSError as error:
        raise unreadable_error(error, source) from None
    return _cut_to(read_source(source) if table is None else table, rows)


def _cut_to(table: Table, rows: int) -> tuple[Table, bool]:
    """The first rows of a table, and whether it has more."""
    cut = table.rows > rows
    return (table.take(np.arange(rows)) if cut else table), cut


def read_sample(
    source: Source, on_progress: OnProgress = lambda _: None, *, rows: int
) -> Table | SourceError:
    """The first rows of a source, which says so where it has more; or why it cannot be read."""
    try:
        table, cut = read_first_rows(source, rows)
    except SourceError as error:
        return error
    on_progress(source.size)
    return _marked_as_sample(table, rows) if cut else table


def peek_rows(source: Source, rows: int) -> Table | None:
    """The first rows of a file with more, where they are known without reading what follows.

    Returns
    -------
    Table or None
        Nothing where only the whole source can tell, where it must be fetched, and where it
        cannot be read.
    """
    if source.error or source.is_remote or source.path == STANDARD_INPUT or not source.size:
        return None
    if source.ending not in DELIMITED and (source.ending not in COLUMNAR or source.packed):
        return None
    try:
        table = find_reader(source).first(source, rows + 1)
    except (SourceError, OSError):
        return None
    if table is None:
        return None
    table, cut = _cut_to(table, rows)
    return _marked_as_sample(table, rows) if cut else table


def _marked_as_sample(table: Table, rows: int) -> Table:
    """The table, which says that its source has more."""
    finding = Finding(
        "sample-only",
        "note",
        rows,
        f"only the first {rows:,} rows of {table.name} were read; all figures are for these rows",
        wording("to use all rows, leave out ", Setting("sample")),
        Location(table.name),
    )
    return replace(table, findings=(*table.findings, finding))
