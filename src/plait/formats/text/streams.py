"""Byte streams behind one another: what was read ahead, and irregular quoting made regular."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator
from typing import IO

from plait.core.account.errors import SourceError
from plait.formats.places.given import Dialect
from plait.formats.text.dialect import csv_reader, reader_options

_ROWS = 2000


class ReadAhead(io.RawIOBase):
    """A stream of which some bytes have been read already: they come first.

    >>> ReadAhead(b"ab", io.BytesIO(b"cd")).readall()
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


class Pieces(io.RawIOBase):
    """Pieces of bytes as one stream.

    >>> Pieces(iter([b"a", b"", b"bc"])).readall()
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


def requoted(stream: io.RawIOBase, dialect: Dialect, where: str) -> Iterator[bytes]:
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
            "set how it is quoted: --quote, --escape",
        ) from None
    yield made.getvalue().encode("utf-8", "surrogateescape")
