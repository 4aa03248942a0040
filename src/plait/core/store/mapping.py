"""Scratch files as memory: regions that a file lies behind, and letting go of their pages.

Pages of a file that is mapped and shared can be given back at any moment: they stand in the
file, and come back when they are touched (``mmap(2)``, ``madvise(2)``). So what is mapped
counts against a limit only for as long as it is looked at.
"""

from __future__ import annotations

import ctypes
import operator
import os
import threading
from collections.abc import Iterator
from contextlib import suppress
from functools import partial
from pathlib import Path
from typing import Any

from plait.core.account.system import IS_POSIX

_READ, _WRITE, _SHARED, _FIXED = 1, 2, 1, 16
_DROP, _HERE, _NO_FOLLOW = 4, -100, 0x100  # MADV_DONTNEED, AT_FDCWD, AT_SYMLINK_NOFOLLOW
_STRETCH, _LARGE_PAGE = 64 << 20, 2 << 20
_FAILED = ctypes.c_void_p(-1).value
_OWN = Path("/proc/self/maps")
PAGE = os.sysconf("SC_PAGE_SIZE") if hasattr(os, "sysconf") else 4096


def _functions(library: Any) -> Any:
    """The system's functions, with the types of what they take."""
    address, size, number = ctypes.c_void_p, ctypes.c_size_t, ctypes.c_int
    library.mmap.restype = address
    library.mmap.argtypes = (address, size, number, number, number, ctypes.c_long)
    library.munmap.argtypes = (address, size)
    library.madvise.argtypes = (address, size, number)
    return library


def place_in_file(address: int) -> int:
    """Where what is at an address should be in its file: large pages need both to be in step.

    >>> place_in_file(0x7F0000201000)
    4096
    """
    return address % _LARGE_PAGE


def _in_turn(regions: dict[int, int], last: int) -> list[tuple[int, int]]:
    """The stretches of regions and where each region begins, from the one behind the last."""
    stretches = sorted(
        (address + begin, address)
        for address, size in regions.items()
        for begin in range(0, size, _STRETCH)
    )
    later = [one for one in stretches if one[0] > last]
    return later + stretches[: len(stretches) - len(later)]


def _to_let_go(begin: int, end: int) -> int:
    """Bytes of the stretch that begins there, in whole pages; 0 where the region has gone."""
    return -(-min(max(end - begin, 0), _STRETCH) // PAGE) * PAGE


class Mappings:
    """Regions of memory with a file behind each, as one account."""

    def __init__(self) -> None:
        if IS_POSIX:  # elsewhere a job has no limit, and nothing is mapped
            self._library = _functions(ctypes.CDLL(None, use_errno=True))
            self._locked = _functions(ctypes.PyDLL(None))  # calls keep the interpreter's lock
        self._owned: dict[int, int] = {}
        self._lent: dict[int, int] = {}
        self._last_owned = self._last_lent = 0
        # Taken again by a thread that gives a region back while it holds it.
        self._lock = threading.RLock()

    def map(self, number: int, size: int) -> int:
        """Map an open file to be read; the address, until ``unmap``.

        Raises
        ------
        OSError
        """
        address = self._mapped(None, size, _READ, _SHARED, number)
        with self._lock:
            self._owned[address] = size
        return address

    def unmap(self, address: int) -> None:
        """Give a region back, and its file where nobody else has it."""
        with self._lock:
            self._library.munmap(address, self._owned.pop(address))

    def map_over(self, number: int, address: int, size: int) -> None:
        """Put an open file behind memory that is there, for as long as that is.

        It begins in the file where ``place_in_file`` says.

        Raises
        ------
        OSError
        """
        place = place_in_file(address)
        self._mapped(address, size, _READ | _WRITE, _SHARED | _FIXED, number, place)
        with self._lock:
            self._lent[address] = size

    def _mapped(
        self, address: int | None, size: int, rights: int, how: int, number: int, place: int = 0
    ) -> int:
        made = self._library.mmap(address, size, rights, how, number, place)
        if made in (None, _FAILED):
            failed = ctypes.get_errno()
            raise OSError(failed, os.strerror(failed))
        return int(made)

    def let_go(self) -> Iterator[None]:
        """Let go of the pages of one stretch after another, those longest spared first.

        Regions of our own first.
        """
        with self._lock:
            owned = _in_turn(self._owned, self._last_owned)
        for begin, address in owned:
            with self._lock:  # so that it is not given back meanwhile
                size = _to_let_go(begin, address + self._owned.get(address, 0))
                if size:
                    self._library.madvise(begin, size, _DROP)
            self._last_owned = begin
            yield
        self._forget_freed()
        with self._lock:
            lent = _in_turn(self._lent, self._last_lent)
        for begin, address in lent:
            self._advise_lent(begin, address, self._lent.get(address, 0))
            self._last_lent = begin
            yield

    def _advise_lent(self, begin: int, address: int, size: int) -> None:
        """Let go of pages of memory that was lent a file, unless it was freed meanwhile.

        By now it could be something else's, whose pages are lost when they are let go of.
        Memory is freed by whoever holds the interpreter's lock: so that is held from the
        look whether the file is still there (the system lists the files of regions under
        their addresses) to the call. ``any`` ends with the first that fails, and is one
        step for the interpreter, within which no other thread has its turn.
        """
        if not size:
            return
        listed = b"/proc/self/map_files/%x-%x" % (address, address + size)
        whole = _to_let_go(begin, address + size)
        is_gone = partial(self._locked.faccessat, _HERE, listed, 0, _NO_FOLLOW)
        failed = partial(self._locked.madvise, begin, whole, _DROP)
        any(map(operator.call, (is_gone, failed)))

    def _forget_freed(self) -> None:
        with suppress(OSError):
            lines = _OWN.read_bytes().splitlines()
            standing = {int(line.split(b"-", 1)[0], 16) for line in lines if b" rw-s " in line}
            with self._lock:
                for address in self._lent.keys() - standing:
                    del self._lent[address]


MAPPINGS = Mappings()
