"""Files mapped to be read: as buffers, and under their names where they have one."""

from __future__ import annotations

import os
import threading
from contextlib import suppress
from weakref import WeakValueDictionary

import pyarrow as pa

from plait.core.store.mapping import MAPPINGS


class Region:
    """A mapped file, given back when nothing refers to it.

    Parameters
    ----------
    number : int
        The open file.
    size : int
        Bytes.
    path : str
        Where others find it; nothing for a file without a name.
    owned : bool
        Whether the file goes with it.
    """

    def __init__(self, number: int, size: int, path: str = "", owned: bool = False) -> None:
        self.size, self.path, self._owned = size, path, owned
        self.address = MAPPINGS.map(number, size)

    def buffer(self, begin: int, size: int) -> pa.Buffer:
        """Some of its bytes."""
        return pa.foreign_buffer(self.address + begin, size, self)

    def __del__(self) -> None:
        if hasattr(self, "address"):
            MAPPINGS.unmap(self.address)
        if self._owned:
            with suppress(OSError):
                os.unlink(self.path)  # noqa: PTH108 (at the end of a process less is there)


_NAMED: WeakValueDictionary[str, Region] = WeakValueDictionary()
_LOCK = threading.Lock()


def mapped(number: int, size: int) -> pa.Buffer:
    """The bytes of an open file, mapped to be read."""
    return Region(number, size).buffer(0, size)


def region_of(path: str, owned: bool = False) -> Region:
    """A file that has a name, mapped once however many look at it.

    Raises
    ------
    OSError
    """
    with _LOCK:
        region = _NAMED.get(path)
        if region is None:
            number = os.open(path, os.O_RDONLY | getattr(os, "O_CLOEXEC", 0))
            try:
                region = Region(number, os.fstat(number).st_size, path, owned)
            finally:
                os.close(number)
            _NAMED[path] = region
        return region


def named_regions() -> list[Region]:
    """All files with names that are mapped."""
    with _LOCK:
        return list(_NAMED.values())
