"""Scratch files as memory: regions that a file lies behind, and letting go of their pages.

Pages of a file that is mapped and shared can be given back at any moment: they stand in the
file, and come back when they are touched (``mmap(2)``, ``madvise(2)``). So what is mapped
counts against a limit only for as long as it is looked at.
"""

from __future__ import annotations

import ctypes
import os
import threading
from collections.abc import Iterator
from typing import Any

_READ, _WRITE, _SHARED, _DONT_NEED = 1, 2, 1, 4
_STRETCH = 64 << 20
_FAILED = ctypes.c_void_p(-1).value
_PAGE = os.sysconf("SC_PAGE_SIZE") if hasattr(os, "sysconf") else 4096


def _library() -> Any:
    """The system's functions, with the types of what they take."""
    library = ctypes.CDLL(None, use_errno=True)
    address, size, number = ctypes.c_void_p, ctypes.c_size_t, ctypes.c_int
    library.mmap.restype = address
    library.mmap.argtypes = (address, size, number, number, number, ctypes.c_long)
    library.munmap.argtypes = (address, size)
    library.madvise.argtypes = (address, size, number)
    return library


class Mappings:
    """Regions of memory with a file behind each, as one account."""

    def __init__(self) -> None:
        self._library = _library()
        self._sizes: dict[int, int] = {}
        self._last = (0, 0)
        # Taken again by a thread that frees an array while it holds it.
        self._lock = threading.RLock()

    @property
    def size(self) -> int:
        """Bytes of all regions together."""
        with self._lock:
            return sum(self._sizes.values())

    def map(self, number: int, size: int, write: bool) -> int:
        """Map an open file; the address.

        Raises
        ------
        OSError
        """
        rights = _READ | (_WRITE if write else 0)
        address = self._library.mmap(None, size, rights, _SHARED, number, 0)
        if address in (None, _FAILED):
            failed = ctypes.get_errno()
            raise OSError(failed, os.strerror(failed))
        with self._lock:
            self._sizes[address] = size
        return int(address)

    def unmap(self, address: int) -> None:
        """Give a region back, and its file where nobody else has it."""
        with self._lock:
            self._library.munmap(address, self._sizes.pop(address))

    def size_at(self, address: int) -> int:
        """Bytes of the region that begins there, 0 where none does."""
        return self._sizes.get(address, 0)

    def let_go(self) -> Iterator[None]:
        """Let go of the pages of one stretch after another, those longest spared first."""
        with self._lock:
            stretches = [
                (address, begin)
                for address, size in self._sizes.items()
                for begin in range(0, size, _STRETCH)
            ]
        last = self._last
        later = [one for one in stretches if one > last]
        for address, begin in (*sorted(later), *sorted(set(stretches) - set(later))):
            with self._lock:  # so that nothing else is mapped there meanwhile
                size = min(self._sizes.get(address, 0) - begin, _STRETCH)
                if size > 0:
                    whole = -(-size // _PAGE) * _PAGE
                    self._library.madvise(address + begin, whole, _DONT_NEED)
            self._last = (address, begin)
            yield


MAPPINGS = Mappings()
