"""Blocks of whole records, cut from a stream of bytes.

A quoted cell may hold line breaks, so a block may only end at a line break
outside quotes. Where the quotes of a block follow RFC 4180, the count of quotes
before a line break tells that; otherwise the quotes are walked one by one.
"""

from __future__ import annotations

import csv
import io
from collections import deque
from collections.abc import Callable, Iterator
from contextlib import suppress
from dataclasses import dataclass
from typing import IO, Any, Generic, TypeVar

import numpy as np

from plait.core.base.errors import SourceError
from plait.core.base.limits import LIMITS, LimitExceededError
from plait.core.base.wording import Setting, wording
from plait.core.table.source_lines import Steps, steps
from plait.io.delimited.dialect import csv_reader, reader_options
from plait.io.places.source import Dialect

Buffer = TypeVar("Buffer", bound=Any)

BLOCK_BYTES = 4 << 20
_CACHED = _FIRST = 1 << 16
_QUOTE = ord('"')
_BREAKS = (ord("\n"), ord("\r"))


Bytes = bytes | bytearray

_ROWS = 2000


class BufferPool(Generic[Buffer]):
    """A few buffers to be filled again; threads may share it.

    Parameters
    ----------
    make : callable
        Makes a buffer of so many bytes.
    most : int
        How many are kept.

    Examples
    --------
    >>> spare = BufferPool(bytearray, 2)
    >>> buffer = spare.take(8)
    >>> spare.give(buffer)
    >>> spare.take(8) is buffer
    True
    """

    def __init__(self, make: Callable[[int], Buffer], most: int) -> None:
        self._make = make
        self._kept: deque[Buffer] = deque(maxlen=most)

    def take(self, size: int) -> Buffer:
        """A buffer of so many bytes, of any content."""
        while self._kept:
            with suppress(IndexError):  # another thread took it
                buffer = self._kept.pop()
                if len(buffer) == size:
                    return buffer
        return self._make(size)

    def give(self, buffer: Buffer) -> None:
        """Have a buffer filled again; whoever gives it looks at it no more."""
        self._kept.append(buffer)


_SPARE = BufferPool(bytearray, 8)


@dataclass(frozen=True)
class RecordBlock:
    """Whole records.

    Parameters
    ----------
    quoted : bool
        Whether there are quotes in it.
    ascii : bool
        Whether all of it is ASCII, and so surely UTF-8.
    lines : int
        How many lines of the file are above it.
    ends : int
        How many lines end in it.
    """

    data: memoryview
    quoted: bool
    ascii: bool
    lines: int
    ends: int

    def release(self) -> None:
        """Give the memory back to be filled again; the data are gone then."""
        buffer = self.data.obj
        self.data.release()
        if isinstance(buffer, bytearray):
            _SPARE.give(buffer)


def count_line_ends(data: Bytes | memoryview) -> int:
    """How many lines end in the bytes; carriage returns count where there is no line feed."""
    marks = np.frombuffer(data, np.uint8)
    for sign in _BREAKS:
        steps = range(0, len(marks), _CACHED)
        ends = sum(np.count_nonzero(marks[step : step + _CACHED] == sign) for step in steps)
        if ends:
            return int(ends)
    return 0


def record_lines(block: RecordBlock, records: int, delimiter: str, blank_too: bool) -> Steps | None:
    """The lines that the records of a block begin on, as steps; ``None`` where they cannot be told.

    Parameters
    ----------
    records : int
        How many were read from it.
    blank_too : bool
        Whether a blank line is a record, as it is where there is one column.

    Examples
    --------
    >>> data = memoryview(b'A,1\\n\\n"B\\n",2\\nC,3\\n')
    >>> record_lines(RecordBlock(data, True, True, lines=1, ends=5), 3, ",", False)
    (array([0, 1, 2]), array([2, 4, 6]))
    """
    marks = np.frombuffer(block.data, np.uint8)
    if records == block.ends + (marks[-1] not in _BREAKS):  # each on a line of its own
        return np.array([0]), np.array([block.lines + 1])
    sign = _BREAKS[0] if _BREAKS[0] in marks else _BREAKS[1]
    ends = np.flatnonzero(marks == sign)
    outside = np.ones(len(ends), bool)
    if block.quoted:
        outside = np.searchsorted(_edges(marks, ord(delimiter)), ends) % 2 == 0
    begins = np.concatenate([[0], ends[outside] + 1])
    lines = block.lines + 1 + np.concatenate([[0], np.flatnonzero(outside) + 1])
    there = begins < len(marks)
    begins, lines = begins[there], lines[there]
    if not blank_too:
        following = marks[np.minimum(begins + 1, len(marks) - 1)]
        blank = (marks[begins] == sign) | ((marks[begins] == _BREAKS[1]) & (following == sign))
        lines = lines[~blank]
    return steps(lines) if len(lines) == records else None


def split_into_blocks(
    stream: IO[bytes],
    head: Bytes,
    delimiter: str,
    where: str,
    on_progress: Callable[[int], None],
    lines: int = 0,
    longest: int = LIMITS.record,
) -> Iterator[RecordBlock]:
    """Cut a stream into blocks of whole records.

    Parameters
    ----------
    head : bytes
        What has been read from it already and not used.
    delimiter : str
        One character.
    where : str
        The file, for errors.
    on_progress : callable
        Told how many bytes were read, each time.
    lines : int
        How many lines are above.
    longest : int
        Bytes that a record may have.

    Raises
    ------
    SourceError
        For a NUL byte, a quote that never closes, text behind a closing quote, a
        record that is longer.
    """
    data, final = head, False
    while not final:
        data, final = _filled(stream, data, on_progress)
        place = _Place(where, data, lines)
        if b"\0" in data:
            raise place.error(data.index(b"\0"), "there is a NUL byte in the text", _NOT_TEXT)
        end = _last_break(data, ord(delimiter), place, final)
        if len(data) - end > longest:
            over = f"a record of more than {longest >> 20:,} MiB begins, perhaps with an open quote"
            raise LimitExceededError("record", over, place.line(end))
        rest = data[end:]  # before the block is parsed and its memory filled again
        if end:
            quoted = data.find(b'"', 0, end) >= 0
            ends = count_line_ends(memoryview(data)[:end])
            yield RecordBlock(memoryview(data)[:end], quoted, data.isascii(), lines, ends)
            lines += ends
        data = rest


def _filled(
    stream: IO[bytes], rest: Bytes, on_progress: Callable[[int], None]
) -> tuple[Bytes, bool]:
    """The rest with the next stretch of the stream behind it, and whether that was the last."""
    more = stream.read(min(_FIRST, BLOCK_BYTES))
    on_progress(len(more))
    if not more:  # a small file has been read by now, and needs no room that is cleared first
        return rest, True
    rest = bytes(rest) + more
    size = BLOCK_BYTES * (len(rest) // BLOCK_BYTES + 1)
    data = _SPARE.take(size)
    data[: len(rest)] = rest
    view, filled = memoryview(data), len(rest)
    while filled < size:
        got = stream.readinto(view[filled:])  # type: ignore[attr-defined]
        on_progress(got)
        if not got:
            # A cluster that samples what its workers do keeps what a function that has ended
            # looked at for a while: such a buffer cannot be cut to size.
            last = bytes(view[:filled])
            view.release()
            _SPARE.give(data)
            return last, True
        filled += got
    return data, False


_NOT_TEXT = "check that this is a text file; save UTF-16 or binary files as UTF-8 text first"
_UNCLOSED = "look for a quote that is never closed, and close or double it"


@dataclass(frozen=True)
class _Place:
    """Where a stretch of bytes is in its file, to name the line of an error."""

    where: str
    data: Bytes
    lines: int

    def error(self, position: int, what: str, remedy: str) -> SourceError:
        return SourceError(what, self.line(position), remedy)

    def line(self, position: int) -> str:
        line = self.lines + self.data.count(b"\n", 0, position) + 1
        return f"{self.where}, line {line:,}"


def _last_break(data: Bytes, delimiter: int, place: _Place, final: bool) -> int:
    """Where the last whole record of the data ends; all of it when it is the file's end."""
    if b'"' not in data:
        return len(data) if final else _before(data, len(data))
    inside = _edges(np.frombuffer(data, np.uint8), delimiter, place)
    if len(inside) % 2 and final:
        raise place.error(int(inside[-1]), "a quote opens and never closes", _UNCLOSED)
    if final:
        return len(data)
    end = _before(data, len(data))
    while (opened := int(np.searchsorted(inside, end))) % 2:  # this line break is in a cell
        end = _before(data, int(inside[opened - 1]))
    return end


def _before(data: Bytes, stop: int) -> int:
    """The end of the last line that ends before ``stop``."""
    found = data.rfind(b"\n", 0, stop)
    if found < 0 and b"\n" not in data:
        found = data.rfind(b"\r", 0, stop - 1)  # a last \r may be half of \r\n
    return found + 1


def has_regular_quotes(
    marks: np.ndarray, quotes: np.ndarray, delimiter: int, within: int = 0
) -> bool:
    """Whether every quote opens at the start of a cell, closes at its end, or is doubled.

    ``within`` is 1 where the bytes begin in a quoted cell.

    >>> marks = np.frombuffer(b'a"b,c', np.uint8)
    >>> [has_regular_quotes(marks, np.array([1]), ord(","), within) for within in (0, 1)]
    [False, False]
    >>> [has_regular_quotes(marks, np.array([1]), ord("b"), within) for within in (0, 1)]
    [False, True]
    """
    edges = (*_BREAKS, delimiter, _QUOTE)
    opening, closing = quotes[within::2], quotes[1 - within :: 2]
    before = marks[np.maximum(opening - 1, 0)]
    after = marks[np.minimum(closing + 1, len(marks) - 1)]
    starts = np.isin(before, edges) | (opening == 0)
    return bool(starts.all() and (np.isin(after, edges) | (closing == len(marks) - 1)).all())


def _edges(marks: np.ndarray, delimiter: int, place: _Place | None = None) -> np.ndarray:
    """The quotes that open and close cells; those between them are part of a cell, or a pair."""
    quotes = np.flatnonzero(marks == _QUOTE)
    return (
        quotes
        if has_regular_quotes(marks, quotes, delimiter)
        else _walk(marks, quotes, delimiter, place)
    )


def _walk(
    marks: np.ndarray, quotes: np.ndarray, delimiter: int, place: _Place | None
) -> np.ndarray:
    """The quotes that open and close cells, one after another; others are part of a cell."""
    ends = (*_BREAKS, delimiter)
    edges: list[int] = []
    skip = -1
    for quote in quotes.tolist():
        if quote == skip:
            continue
        after = int(marks[quote + 1]) if quote + 1 < len(marks) else _BREAKS[0]
        if len(edges) % 2 == 0:
            if quote == 0 or marks[quote - 1] in ends:
                edges.append(quote)
        elif after == _QUOTE:
            skip = quote + 1
        elif after in ends:
            edges.append(quote)
        elif place:
            raise place.error(
                quote, "text follows a closing quote", 'double a quote inside a quoted cell: ""'
            )
    return np.array(edges, np.int64)


class PrefixedStream(io.RawIOBase):
    """A stream of which some bytes have been read already: they come first.

    >>> PrefixedStream(b"ab", io.BytesIO(b"cd")).readall()
    b'abcd'
    """

    def __init__(self, head: bytes, stream: IO[bytes]) -> None:
        self._head, self._stream = memoryview(head), stream

    @property
    def left(self) -> int:
        """How many of the bytes that have been read are still to come."""
        return len(self._head)

    def readable(self) -> bool:
        """It is."""
        return True

    def readinto(self, buffer: memoryview) -> int:  # type: ignore[override]
        """Fill the buffer as far as one step goes; 0 at the end."""
        if not self._head:
            return self._stream.readinto(buffer)  # type: ignore[attr-defined,no-any-return]
        size = min(len(buffer), len(self._head))
        buffer[:size] = self._head[:size]
        self._head = self._head[size:]
        return size


class ChunkStream(io.RawIOBase):
    """Pieces of bytes as one stream.

    >>> ChunkStream(iter([b"a", b"", b"bc"])).readall()
    b'abc'
    """

    def __init__(self, pieces: Iterator[bytes]) -> None:
        self._pieces, self._ready = pieces, memoryview(b"")

    def readable(self) -> bool:
        """It is."""
        return True

    def readinto(self, buffer: memoryview) -> int:  # type: ignore[override]
        """Fill the buffer as far as one piece goes; 0 at the end."""
        if not self._ready:
            self._ready = memoryview(next(filter(None, self._pieces), b""))
        size = min(len(buffer), len(self._ready))
        buffer[:size] = self._ready[:size]
        self._ready = self._ready[size:]
        return size


def normalize_quoting(stream: io.RawIOBase, dialect: Dialect, where: str) -> Iterator[bytes]:
    """Delimited UTF-8 text with quotes of its own kind, in pieces with RFC 4180's."""
    text = io.TextIOWrapper(
        io.BufferedReader(stream), "utf-8", errors="surrogateescape", newline=""
    )
    reader = csv_reader(text, **reader_options(dialect))
    made = io.StringIO(newline="")
    writer = csv.writer(made, delimiter=dialect.delimiter or ",", lineterminator="\n")
    try:
        for number, cells in enumerate(reader, 1):
            if cells:
                writer.writerow(cells)
            else:
                made.write("\n")
            if number % _ROWS == 0:
                yield made.getvalue().encode("utf-8", "surrogateescape")
                made.seek(0)
                made.truncate()
    except csv.Error as error:
        raise SourceError(
            f"cannot read the text as a table: {error}",
            f"{where}, line {reader.line_num:,}",
            wording("set how it is quoted: ", Setting("quote"), ", ", Setting("escape")),
        ) from None
    yield made.getvalue().encode("utf-8", "surrogateescape")
