"""Reading a source, by the ending of its file."""

from __future__ import annotations

import io
import sys
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from typing import IO, Any, TypeVar

from plait.core.account.errors import SourceError
from plait.core.account.finding import Finding, counted
from plait.core.account.parallel import ordered_map
from plait.core.store.room import expect
from plait.core.table.headings import usable_names
from plait.core.table.table import Table
from plait.formats.archives.packed import COMPRESSED, as_file, unpacked
from plait.formats.cells.header import read_header
from plait.formats.endings import COLUMNAR, DATABASES, DELIMITED, JSON, JSON_LINES, WORKBOOKS
from plait.formats.sources import STANDARD_INPUT, PassedOver, Source
from plait.formats.text.dialect import Dialect, find_dialect
from plait.formats.text.reading import Batches, NotUtf8Error, read_batches, read_delimited

_FORMATS = {
    **dict.fromkeys(WORKBOOKS, "a sheet of a workbook"),
    **dict.fromkeys(DATABASES, "a table of a SQLite file"),
    ".parquet": "Parquet",
    **dict.fromkeys((".arrow", ".feather"), "Arrow"),
}

Tick = Callable[[int], None]
Read = TypeVar("Read")

_MOST_NAMED = 5
_PACKED_TIMES = 8


def read_source(source: Source, tick: Tick = lambda _: None) -> Table:
    """Read one source.

    Parameters
    ----------
    source : Source
    tick : callable
        Told how many bytes were read, each time.

    Raises
    ------
    SourceError
        When it cannot be opened or read.
    """
    if source.fault:
        raise source.fault
    table = _read(source, tick)
    if not source.passed_over:
        return table
    return replace(table, findings=(*table.findings, _not_read(source.passed_over, source.name)))


def read_alone(source: Source) -> Table:
    """Read one source by itself: room is made for it first.

    Raises
    ------
    SourceError
        As ``read_source``.
    """
    make_room([source])
    return read_source(source)


def read_together(sources: Sequence[Source], read: Callable[[Source], Read]) -> list[Read]:
    """What a function reads of sources, several at a time, with room made for them.

    Parameters
    ----------
    sources : sequence of Source
    read : callable
        Such as ``read_source``.
    """
    make_room(sources)
    found = list(ordered_map(read, sources))
    expect(0)  # what came in may have been more than was seen
    return found


def make_room(sources: Iterable[Source]) -> None:
    """Have the job prepare for sources: packed ones take several times their size."""
    for source in sources:
        expect(source.size, _PACKED_TIMES if _is_packed(source) else 1)


def _is_packed(source: Source) -> bool:
    ending = Path(source.path).suffix.lower()
    return bool(source.member) or ending in (*COMPRESSED, *COLUMNAR, *WORKBOOKS)


def read_or_fault(source: Source, tick: Tick = lambda _: None) -> Table | SourceError:
    """Read one source, or say why it cannot be read."""
    try:
        return read_source(source, tick)
    except SourceError as error:
        return error


def unreadable(fault: SourceError) -> Finding:
    """The finding that a source could not be read."""
    return Finding("unreadable", "error", 1, fault.what, fault.remedy or "", fault.where or "")


def _not_read(over: PassedOver, name: str) -> Finding:
    names = over.names
    shown = ", ".join(names[:_MOST_NAMED]) + (" …" if len(names) > _MOST_NAMED else "")
    return Finding(
        "not-read",
        "note",
        len(names),
        f"{counted(len(names), 'file')} of the folder {over.folder} "
        f"{'is' if len(names) == 1 else 'are'} not read: {shown}",
        "",
        name,
    )


def _read(source: Source, tick: Tick) -> Table:
    if source.path == STANDARD_INPUT:
        _check_plain(sys.stdin.buffer)
        return _delimited(source, sys.stdin.buffer, tick)
    try:
        return _by_ending(source, tick)
    except IsADirectoryError:
        raise SourceError("this is a folder", source.path, "name a file") from None
    except OSError as error:
        raise SourceError(f"it cannot be read: {error.strerror}", source.path) from None


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
                f"what comes in is packed by {called}", "standard input", f"{called} -dc FILE | …"
            )
    for mark, called in _OTHER.items():
        if head.startswith(mark):
            raise SourceError(
                f"what comes in is {called}, and standard input is read as text",
                "standard input",
                "name the file instead of -",
            )


def _by_ending(source: Source, tick: Tick) -> Table:
    # Each reader is loaded when it is needed, so that nobody waits for the others.
    if source.ending in DELIMITED:
        return _delimited_file(source, tick)
    if source.ending in (JSON, *JSON_LINES):
        from plait.formats.json.reading import read_json

        with open_bytes(source) as stream:
            lines = source.ending != JSON
            table = read_json(
                stream, source.name, source.where, source.part, lines, tick, source.given.limits
            )
        return replace(table, written="JSON lines" if lines else "JSON")
    limits = source.given.limits
    with as_file(source.path, source.member, source.ending, limits) as file:
        table = replace(_from_file(source, file), written=_FORMATS[source.ending])
    tick(source.size)
    return table


def _from_file(source: Source, file: Path) -> Table:
    """Read a format that needs a file to seek in."""
    given = source.given
    if source.ending in WORKBOOKS:
        from plait.formats.workbooks.reading import read_sheet

        lines = given.dialect.header_line, given.dialect.header_rows
        return read_sheet(
            file, source.part, source.name, source.where, lines, given.footer, given.limits
        )
    if source.ending in DATABASES:
        from plait.formats.databases.reading import read_database

        return read_database(file, source.part, source.name, source.where, given.limits)
    from plait.formats.columnar.reading import read_columnar

    return read_columnar(file, source.name, source.where, source.ending, given.limits.columns)


def open_bytes(source: Source) -> IO[bytes]:
    """The bytes of a source, unpacked where it is compressed."""
    if source.member or Path(source.path).suffix.lower() in COMPRESSED:
        return unpacked(source.path, source.member, source.given.limits)
    return Path(source.path).open("rb", buffering=0)


def _delimited_file(source: Source, tick: Tick) -> Table:
    """Once more as Windows-1252 where a letter far down shows that it is not UTF-8 after all."""
    try:
        with open_bytes(source) as stream:
            return _delimited(source, stream, tick)
    except NotUtf8Error as error:
        if source.given.dialect.encoding or not error.ascii_above:
            raise
    dialect = replace(source.given.dialect, encoding="cp1252")
    again = replace(source, given=replace(source.given, dialect=dialect))
    with open_bytes(again) as stream:
        return _delimited(again, stream, lambda _: None)


def _delimited(source: Source, stream: IO[bytes], tick: Tick) -> Table:
    given = source.given
    usual = DELIMITED.get(source.ending, ",")
    return read_delimited(
        stream,
        source.name,
        source.where,
        usual,
        given.dialect,
        given.ragged,
        given.footer,
        tick,
        given.limits,
    )


@contextmanager
def opened_batches(source: Source, tick: Tick = lambda _: None) -> Iterator[Batches]:
    """Delimited text that is read a stretch of rows at a time.

    Raises
    ------
    SourceError
        As ``read_source``.
    """
    try:
        with open_bytes(source) as stream:
            usual = DELIMITED.get(source.ending, ",")
            given = source.given
            yield read_batches(stream, source.where, usual, given.dialect, tick, given.limits)
    except IsADirectoryError:
        raise SourceError("this is a folder", source.path, "name a file") from None


def read_columns(source: Source) -> list[str]:
    """The column names of a source, quickly where it is delimited text."""
    if source.ending not in DELIMITED:
        return list(read_source(source).column_names)
    with open_bytes(source) as stream:
        reader: Any = stream
        head = io.BufferedReader(reader).read(1 << 16)
    dialect = find_dialect(head, Dialect(), DELIMITED[source.ending], source.where)
    text = head.decode(dialect.encoding or "utf-8", "replace").lstrip("\ufeff").encode()
    line = dialect.header_line or 1
    rows = dialect.header_rows or 1
    header = read_header(text, dialect.delimiter or ",", source.where, line, rows)
    return usable_names(header.names, source.where)[0]
