"""Memory that is mapped from scratch files, and given back to the system.

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
from weakref import WeakValueDictionary

import pyarrow as pa

from plait.core.base.platform import IS_POSIX

_READ, _WRITE, _SHARED, _FIXED = 1, 2, 1, 16
_DROP, _HERE, _NO_FOLLOW = 4, -100, 0x100  # MADV_DONTNEED, AT_FDCWD, AT_SYMLINK_NOFOLLOW
_STRETCH, _LARGE_PAGE = 64 << 20, 2 << 20
_FAILED = ctypes.c_void_p(-1).value
_OWN_MAPS = Path("/proc/self/maps")
PAGE = os.sysconf("SC_PAGE_SIZE") if hasattr(os, "sysconf") else 4096

_EVERY_SECONDS = 0.004
# Of the limit: what may be resident, and what of it may be mapped even where that is more.
_FULL, _LEAST = 0.72, 0.12
_DOWN_TO = 0.75
_OWN_STATM = Path("/proc/self/statm")


def _functions(library: Any) -> Any:
    """The system's functions, with the types of what they take."""
    address, size, number = ctypes.c_void_p, ctypes.c_size_t, ctypes.c_int
    library.mmap.restype = address
    library.mmap.argtypes = (address, size, number, number, number, ctypes.c_long)
    library.munmap.argtypes = (address, size)
    library.madvise.argtypes = (address, size, number)
    return library


def aligned_file_offset(address: int) -> int:
    """Where what is at an address should be in its file: large pages need both to be in step.

    >>> aligned_file_offset(0x7F0000201000)
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
    later = [stretch for stretch in stretches if stretch[0] > last]
    return later + stretches[: len(stretches) - len(later)]


def _to_let_go(begin: int, end: int) -> int:
    """Bytes of the stretch that begins there, in whole pages; 0 where the region has gone."""
    return -(-min(max(end - begin, 0), _STRETCH) // PAGE) * PAGE


class FileMappings:
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

        It begins in the file where ``aligned_file_offset`` says.

        Raises
        ------
        OSError
        """
        place = aligned_file_offset(address)
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
            lines = _OWN_MAPS.read_bytes().splitlines()
            standing = {int(line.split(b"-", 1)[0], 16) for line in lines if b" rw-s " in line}
            with self._lock:
                for address in self._lent.keys() - standing:
                    del self._lent[address]


MAPPINGS = FileMappings()


class ResidentMemoryWatcher:
    """A thread that looks at what is resident, and lets go of mapped pages when it is much.

    Parameters
    ----------
    limit : int
        Bytes.
    """

    def __init__(self, limit: int) -> None:
        self._limit = limit
        self._end = threading.Event()
        self._thread = threading.Thread(target=self._watch, daemon=True)

    def start(self) -> None:
        """Begin to watch, where the system tells what is resident."""
        with suppress(OSError):
            self._file = os.open(_OWN_STATM, os.O_RDONLY | os.O_CLOEXEC)
            self._thread.start()

    def stop(self) -> None:
        """Watch no longer."""
        self._end.set()
        if self._thread.is_alive():
            self._thread.join()
            os.close(self._file)

    def _watch(self) -> None:
        while not self._end.wait(_EVERY_SECONDS):
            resident, mapped = self._pages()
            room = max(self._limit * _FULL - (resident - mapped), self._limit * _LEAST)
            if mapped > room:
                for _ in MAPPINGS.let_go():
                    if self._pages()[1] < room * _DOWN_TO:
                        break

    def _pages(self) -> tuple[int, int]:
        """Bytes that are resident, and how many of them stand in files."""
        _, resident, mapped, *_ = map(int, os.pread(self._file, 100, 0).split())
        return resident * PAGE, mapped * PAGE

    def without_files(self) -> int:
        """Bytes that are resident and stand in no file; 0 where the system does not tell."""
        if not self._thread.is_alive():
            return 0
        resident, mapped = self._pages()
        return resident - mapped


class MappedFile:
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


_NAMED: WeakValueDictionary[str, MappedFile] = WeakValueDictionary()
_LOCK = threading.Lock()


def map_open_file(number: int, size: int) -> pa.Buffer:
    """The bytes of an open file, mapped to be read."""
    return MappedFile(number, size).buffer(0, size)


def map_named_file(path: str, owned: bool = False) -> MappedFile:
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
                region = MappedFile(number, os.fstat(number).st_size, path, owned)
            finally:
                os.close(number)
            _NAMED[path] = region
        return region


def list_mapped_files() -> list[MappedFile]:
    """All files with names that are mapped."""
    with _LOCK:
        return list(_NAMED.values())
