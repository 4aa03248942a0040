"""What was read of sources, kept for the next time in the user's cache folder.

Kept are tables of files that take longer to read than to look up: workbooks, JSON, packed files.
Plain text is not: its checksum alone takes as long as reading it. A table is found by the checksum
of its file, by how it is read, and by the version of Plait and its libraries. It stands in two
files, one with what is large in it, to be mapped; both are sealed (``delivery/seal``), and what
this user has not sealed, or somebody has changed since, is not opened.
"""

from __future__ import annotations

import hashlib
import json
import os
import secrets
import sys
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

import numpy as np
import pyarrow as pa

from plait._version import __version__
from plait.core.base.errors import PlaitError
from plait.core.job.memory import parse_memory_size
from plait.core.job.transfer import Payload, pack_payload, unpack_payload
from plait.core.table.table import Table
from plait.io.delivery.seal import is_ours, sealed
from plait.io.places.partial_files import sha256
from plait.io.places.safe_files import cache_folder, read_plain, write_plain
from plait.io.places.source import (
    JSON,
    JSON_LINES,
    STANDARD_INPUT,
    WORKBOOKS,
    OnProgress,
    Source,
)

Read = Callable[[Source, OnProgress], Table]

_KIND = "table of a source"  # what a seal is of
_ENTRY, _LARGE = ".entry", ".large"
_LEAST_BYTES = 1 << 16  # smaller files are read at once


def open_source_cache(size: str | None) -> SourceCache | None:
    """The cache that somebody allows for; ``None`` for none, or where this user can have none.

    Parameters
    ----------
    size : str or None
        ``"2GB"``; ``"none"`` is as good as nothing.

    Raises
    ------
    UsageError
        For a size that is none.

    Examples
    --------
    >>> open_source_cache("none") is None
    True
    """
    if size is None or size.strip().lower() == "none":
        return None
    most, folder = parse_memory_size(size, "cache"), cache_folder("sources")
    return SourceCache(folder, most) if folder else None


def _name_of(source: Source, checksum: str) -> str:
    """What a table is kept under: all that decides what is read, and what it is told by."""
    versions = __version__, pa.__version__, np.__version__, sys.version
    read = source.name, source.where, source.member, source.part, repr(source.options)
    facts = json.dumps([versions, read, checksum], ensure_ascii=True)
    return hashlib.sha256(facts.encode()).hexdigest()


def _sealed_text(name: str, data: bytes, file: Path | None) -> str:
    """What the seal of a table is given to."""
    large = sha256(file) if file else ""
    return f"{name} {hashlib.sha256(data).hexdigest()} {large}"


class SourceCache:
    """Tables that were read earlier.

    Parameters
    ----------
    folder : Path
        The user's own.
    most : int
        Bytes that all of them may take: those that were used longest ago go first.
    """

    def __init__(self, folder: Path, most: int) -> None:
        self._folder, self._most = folder, most

    def keeps(self, source: Source) -> bool:
        """Whether a source is of a kind that is kept."""
        slow = source.ending in (*WORKBOOKS, JSON, *JSON_LINES) or source.packed or source.member
        here = source.address is None and source.path != STANDARD_INPUT
        return bool(slow and here) and source.size >= _LEAST_BYTES

    def table(self, source: Source, read: Read, on_progress: OnProgress) -> Table:
        """The table of a source: as it was read earlier, or read now and kept.

        Raises
        ------
        SourceError
            As ``read``.
        """
        name = _name_of(source, sha256(source.path))
        table = self._stored(name)
        if table is not None:
            on_progress(source.size)
            return table
        table = read(source, on_progress)
        if _name_of(source, sha256(source.path)) == name:  # else it was changed meanwhile
            self._store(name, table)
        return table

    def _stored(self, name: str) -> Table | None:
        entry = self._folder / f"{name}{_ENTRY}"
        try:
            said = json.loads(read_plain(entry))
            data, large = bytes.fromhex(said["data"]), said["large"]
            if large is not None and Path(large).name != large:
                return None
            file = None if large is None else self._folder / large
            if not is_ours(_KIND, _sealed_text(name, data, file), said["seal"]):
                return None
            table = unpack_payload(Payload(data, None if file is None else str(file)))
            os.utime(entry)
        except (OSError, ValueError, TypeError, KeyError, RecursionError):
            return None
        return table if isinstance(table, Table) else None

    def _store(self, name: str, table: Table) -> None:
        """Keep a table, unless it does not fit: nobody misses what is not kept."""
        with suppress(OSError, PlaitError):
            packed = pack_payload(table, self._folder, lends=False)
            file = Path(packed.file) if packed.file else None
            seal = sealed(_KIND, _sealed_text(name, packed.data, file))
            if not seal:
                return
            said = {
                "data": packed.data.hex(),
                "large": file.name if file else None,
                "seal": seal,
            }
            part = self._folder / f".{secrets.token_hex(8)}"
            write_plain(part, json.dumps(said).encode())
            part.replace(self._folder / f"{name}{_ENTRY}")
            self._make_room()

    def _make_room(self) -> None:
        """Take away what was used longest ago, until the rest is small enough."""
        entries = sorted(
            self._folder.glob(f"*{_ENTRY}"), key=lambda path: path.stat().st_mtime_ns, reverse=True
        )
        kept: set[str] = set()
        room = self._most
        for entry in entries:
            large = json.loads(read_plain(entry))["large"]
            files = [entry, *([self._folder / large] if large else [])]
            room -= sum(file.stat().st_size for file in files if file.is_file())
            if room >= 0:
                kept |= {file.name for file in files}
        for path in self._folder.iterdir():
            if path.name not in kept and path.is_file():
                path.unlink(missing_ok=True)  # who has mapped it keeps what is in it
