"""Reading sources, several at a time."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterable, Sequence
from contextlib import suppress
from dataclasses import replace
from typing import Any, TypeVar

from plait.core.account.errors import SourceError
from plait.core.account.finding import Example, Finding, agreeing, counted
from plait.core.account.parallel import ordered_map
from plait.core.store.room import expect
from plait.core.table.table import Table
from plait.formats.places.endings import COLUMNAR, WORKBOOKS
from plait.formats.places.reader import Tick, said_of
from plait.formats.places.source import STANDARD_INPUT, PassedOver, Source
from plait.formats.readers import reader_of
from plait.formats.remote.fetching import keeping
from plait.formats.remote.opening import local
from plait.formats.servers.session import one_snapshot

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
    with keeping():
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
    with one_snapshot():
        found = list(ordered_map(read, sources))
    expect(0)  # what came in may have been more than was seen
    return found


def fetch_ahead(sources: Iterable[Source], tick: Tick) -> None:
    """Fetch what is not on this machine, several at a time; what cannot be is told when it is read.

    Parameters
    ----------
    sources : iterable of Source
    tick : callable
        Told how many bytes came, each time.
    """

    def fetch(source: Source) -> None:
        with suppress(SourceError):
            local(source, tick)

    list(ordered_map(fetch, [one for one in sources if one.far and not one.fault]))


def make_room(sources: Iterable[Source]) -> None:
    """Have the job prepare for sources: packed ones take several times their size."""
    for source in sources:
        expect(source.size, _PACKED_TIMES if _is_packed(source) else 1)


def _is_packed(source: Source) -> bool:
    return bool(source.member) or source.packed or source.ending in (*COLUMNAR, *WORKBOOKS)


def read_or_fault(source: Source, tick: Tick = lambda _: None) -> Table | SourceError:
    """Read one source, or say why it cannot be read."""
    try:
        return read_source(source, tick)
    except SourceError as error:
        return error


def unreadable(fault: SourceError) -> Finding:
    """The finding that a source could not be read, and which."""
    where = fault.where or ""
    which = (Example(where),) if where else ()
    return Finding("unreadable", "error", 1, fault.what, fault.remedy or "", where, which)


def _not_read(over: PassedOver, name: str) -> Finding:
    names = over.names
    shown = ", ".join(names[:_MOST_NAMED]) + (" …" if len(names) > _MOST_NAMED else "")
    return Finding(
        "not-read",
        "note",
        len(names),
        f"{counted(len(names), 'file')} of the folder {over.folder} "
        f"{agreeing(len(names), 'is', 'are')} not read: {shown}",
        "",
        name,
    )


def _read(source: Source, tick: Tick) -> Table:
    if source.path == STANDARD_INPUT:
        from plait.formats.text.reader import read_stream

        _check_plain(sys.stdin.buffer)
        return read_stream(source, sys.stdin.buffer, tick)
    try:
        return reader_of(source).read(source, tick)
    except OSError as error:
        raise said_of(error, source) from None


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
    return reader_of(source).columns(source)
