"""The bytes of a source, wherever it is and however it is packed."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import IO

from plait.formats.archives.packed import as_file, unpacked
from plait.formats.delivery.checksum import sha256
from plait.formats.places.reader import Tick
from plait.formats.places.source import Source


def local(source: Source, tick: Tick = lambda _: None) -> Path:
    """The file on this machine that has the bytes of a source: fetched first if need be.

    Parameters
    ----------
    source : Source
    tick : callable
        Told how many bytes are fetched, each time.

    Raises
    ------
    SourceError
        When an address does not give it.
    """
    if source.address is None:
        return Path(source.path)
    from plait.formats.remote.fetching import fetched  # loads what speaks to other machines

    return fetched(source.address, source.given.timeout, tick, source.given.limits)


def open_bytes(source: Source) -> IO[bytes]:
    """The bytes of a source, unpacked where it is compressed."""
    path = local(source)
    if source.member or source.packed:
        return unpacked(str(path), source.member, source.given.limits, source.where)
    return path.open("rb", buffering=0)


@contextmanager
def plain_file(source: Source) -> Iterator[Path]:
    """The source as a plain file: itself, or unpacked for as long as needed."""
    path = str(local(source))
    with as_file(path, source.member, source.ending, source.given.limits, source.where) as file:
        yield file


def checksum(source: Source) -> str:
    """The SHA-256 of the file that a source is in."""
    return sha256(local(source))
