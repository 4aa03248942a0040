"""A delimited text file in stretches of whole records, each to be read by somebody else.

Whether a line break is within quotes is told by how many quotes are before it, where all
quotes follow RFC 4180. So the file is looked through once, in stretches, for its quotes and
line breaks; then it is known where records begin, and the stretches are parsed.
"""

from __future__ import annotations

import io
import os
import socket
import stat
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from functools import partial
from itertools import accumulate
from pathlib import Path
from typing import IO, Any

import numpy as np
import numpy.typing as npt

from plait.core.base.errors import SourceError, WorkerPoolError
from plait.core.base.wording import Setting, wording
from plait.core.job.executor import WorkerPool, split_bytes
from plait.io.delimited.blocks import has_regular_quotes, split_into_blocks
from plait.io.delimited.parse import DelimitedSchema, ParsedBlock, parse_block

_QUOTE, _BREAK = ord('"'), ord("\n")
_CACHED = 1 << 16
_NEAR, _FAR = 1 << 14, 4 << 20


@dataclass(frozen=True)
class RecordFile:
    """The records of a file, and how they are parsed.

    Parameters
    ----------
    size, changed : int
        Bytes of the file, and when it was changed: so that all read the same one.
    begin : int
        Where the first record begins.
    lines : int
        How many lines are above it.
    longest : int
        Bytes that a record may have.
    """

    path: str
    size: int
    changed: int
    begin: int
    lines: int
    shape: DelimitedSchema
    longest: int


@dataclass(frozen=True)
class RecordRange:
    """Whole records: from one byte of the file to another, and how many lines are above."""

    begin: int
    end: int
    lines: int


@dataclass(frozen=True)
class QuoteScan:
    """What a stretch of bytes has.

    Parameters
    ----------
    regular : pair of bool
        Whether its quotes are as they should be, if it begins outside a quoted cell, or in one.
    """

    quotes: int
    breaks: int
    regular: tuple[bool, bool]


def locate_records(
    stream: IO[bytes], unread: int, lines: int, shape: DelimitedSchema, longest: int
) -> RecordFile | None:
    """The records that follow in a plain file; ``None`` where a stream is none.

    ``unread`` are the bytes that were read from it already, and that records are in.
    """
    if not isinstance(stream, io.FileIO) or not isinstance(stream.name, str):
        return None
    status = os.fstat(stream.fileno())
    if not stat.S_ISREG(status.st_mode):
        return None
    path, begin = str(Path(stream.name).resolve()), stream.tell() - unread
    return RecordFile(path, status.st_size, status.st_mtime_ns, begin, lines, shape, longest)


def read_with_workers(
    records: RecordFile, where: str, worker_pool: WorkerPool, on_progress: Callable[[int], None]
) -> Iterator[ParsedBlock] | None:
    """The parts of a file as a worker pool reads them.

    Parameters
    ----------
    where : str
        The file, for errors.
    on_progress : callable
        Told how many bytes were read, each time.

    Returns
    -------
    iterator of Part, or None
        ``None`` for a file that is too small, or whose quotes are irregular.

    Raises
    ------
    SourceError
        While parts are drawn, as ``split_into_blocks`` does.
    WorkerPoolError
        When some of the worker pool do not see the file.
    """
    ranges = split_bytes(records.begin, records.size, worker_pool)
    if len(ranges) < 2:
        return None
    looks = list(worker_pool.map_tasks(scan_quotes, records, ranges))
    cut = _cut(records, ranges, looks)
    return None if cut is None else _parts(records, cut, where, worker_pool, on_progress)


def _parts(
    records: RecordFile,
    cut: Sequence[RecordRange],
    where: str,
    worker_pool: WorkerPool,
    on_progress: Callable[[int], None],
) -> Iterator[ParsedBlock]:
    """The parts of all ranges; one in which something is wrong is read here, and tells it."""
    for one, parts in zip(cut, worker_pool.map_tasks(parse_range, records, cut), strict=True):
        on_progress(one.end - one.begin)
        yield from _parsed(records, one, where) if parts is None else parts


def _parsed(records: RecordFile, record_range: RecordRange, where: str) -> Iterator[ParsedBlock]:
    """The blocks of a range."""
    shape = records.shape
    with _opened(records) as file:
        file.seek(record_range.begin)
        part: Any = _First(file, record_range.end - record_range.begin)
        cut = split_into_blocks(
            part, b"", shape.delimiter, where, lambda _: None, record_range.lines, records.longest
        )
        yield from map(partial(parse_block, shape=shape), cut)


def scan_quotes(records: RecordFile, span: tuple[int, int]) -> QuoteScan:
    """Look a stretch through for its quotes and line breaks, some of it at a time."""
    with _opened(records) as file:
        buffer = bytearray(_CACHED + 2)
        found = QuoteScan(0, 0, (True, True))
        for begin in range(*span, _CACHED):
            marks = _with_neighbours(records, file, buffer, begin, min(begin + _CACHED, span[1]))
            found = _followed(found, _look(marks, records.shape.delimiter))
        return found


def _with_neighbours(
    records: RecordFile, file: IO[bytes], buffer: bytearray, begin: int, end: int
) -> npt.NDArray[np.uint8]:
    """Some bytes with the one before and the one behind, line breaks where there is none."""
    file.seek(max(begin - 1, records.begin))
    view, missing = memoryview(buffer), int(begin == records.begin)
    _fill(file, view[missing : end - begin + 2 - (end == records.size)])
    marks = np.frombuffer(buffer, np.uint8)[: end - begin + 2]
    if missing:
        marks[0] = _BREAK
    if end == records.size:
        marks[-1] = _BREAK
    return marks


def _look(marks: npt.NDArray[np.uint8], delimiter: str) -> QuoteScan:
    within = marks[1:-1]
    breaks = int(np.count_nonzero(within == _BREAK))
    quotes = np.flatnonzero(within == _QUOTE) + 1
    if not len(quotes):
        return QuoteScan(0, breaks, (True, True))
    outside, inside = (
        has_regular_quotes(marks, quotes, ord(delimiter), within) for within in (0, 1)
    )
    return QuoteScan(len(quotes), breaks, (outside, inside))


def _followed(quote_scan: QuoteScan, scan: QuoteScan) -> QuoteScan:
    """Two stretches, one after the other, as one."""
    first = quote_scan.quotes % 2
    both = (
        quote_scan.regular[0] and scan.regular[first],
        quote_scan.regular[1] and scan.regular[1 - first],
    )
    return QuoteScan(quote_scan.quotes + scan.quotes, quote_scan.breaks + scan.breaks, both)


def _cut(
    records: RecordFile, ranges: Sequence[tuple[int, int]], looks: Sequence[QuoteScan]
) -> list[RecordRange] | None:
    """Ranges of whole records; ``None`` where their begin cannot be told."""
    odd = [quotes % 2 for quotes in accumulate((one.quotes for one in looks), initial=0)]
    above = list(accumulate((one.breaks for one in looks), initial=records.lines))
    all_are = all(look.regular[line] for look, line in zip(looks, odd, strict=False))
    if not all_are or odd[-1] or above[-1] == records.lines:
        return None
    begins = [(records.begin, records.lines)]
    for (at, _), first, lines in list(zip(ranges, odd, above, strict=False))[1:]:
        if at < begins[-1][0]:
            continue
        found = _next_record(records, at, first)
        if found is None:
            return None
        begin, breaks = found
        begins.append((begin, lines + breaks))
    ends = [begin for begin, _ in begins[1:]] + [records.size]
    return [
        RecordRange(begin, end, lines)
        for (begin, lines), end in zip(begins, ends, strict=True)
        if begin < end
    ]


def _next_record(records: RecordFile, at: int, inside: int) -> tuple[int, int] | None:
    """Where the next record begins, and how many line breaks are before it."""
    for size in (_NEAR, _FAR):
        data = bytearray(min(size, records.size - at))
        with _opened(records) as file:
            file.seek(at)
            _fill(file, memoryview(data))
        marks = np.frombuffer(data, np.uint8)
        breaks = np.flatnonzero(marks == _BREAK)
        quotes = np.flatnonzero(marks == _QUOTE)
        outside = (np.searchsorted(quotes, breaks) + inside) % 2 == 0
        found = np.flatnonzero(outside)
        if len(found):
            return at + int(breaks[found[0]]) + 1, int(found[0]) + 1
    return (records.size, len(breaks)) if at + _FAR >= records.size else None


def parse_range(records: RecordFile, record_range: RecordRange) -> list[ParsedBlock] | None:
    """Parse a range; ``None`` when something is wrong with it."""
    try:
        parts = list(_parsed(records, record_range, ""))
    except WorkerPoolError:
        raise
    except SourceError:
        return None
    return None if any(part.fault or part.ragged for part in parts) else parts


@contextmanager
def _opened(records: RecordFile) -> Iterator[IO[bytes]]:
    """The file.

    Raises
    ------
    WorkerPoolError
        When the file is gone, or is another one.
    """
    try:
        with Path(records.path).open("rb", buffering=0) as file:
            status = os.fstat(file.fileno())
            if (status.st_size, status.st_mtime_ns) != (records.size, records.changed):
                raise _unseen(records.path, "sees another file under this name")
            yield file
    except OSError as error:
        raise _unseen(records.path, f"cannot read it: {error.strerror}") from None


def _fill(file: IO[bytes], view: memoryview) -> None:
    while len(view) and (got := file.readinto(view)):  # type: ignore[attr-defined]
        view = view[got:]


class _First(io.RawIOBase):
    """So many bytes of a stream, and no more."""

    def __init__(self, stream: IO[bytes], size: int) -> None:
        self._stream, self._left = stream, size

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: memoryview) -> int:  # type: ignore[override]
        got: int = self._stream.readinto(memoryview(buffer)[: self._left])  # type: ignore[attr-defined]
        self._left -= got
        return got


def _unseen(path: str, why: str) -> WorkerPoolError:
    return WorkerPoolError(
        f"a worker on {socket.gethostname()} {why}",
        path,
        wording(
            "put sources where all workers see them under one name, or leave out ",
            Setting("workers"),
            ", ",
            Setting("cluster"),
        ),
    )
