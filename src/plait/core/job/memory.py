"""How much memory a job may hold, and when it has to spill."""

from __future__ import annotations

import re
import shutil
import threading
from collections.abc import Callable
from contextlib import suppress
from contextvars import ContextVar
from pathlib import Path

import pyarrow as pa

from plait.core.base.errors import UsageError, scratch_full_error
from plait.core.base.platform import IS_POSIX
from plait.core.job.mapped_files import ResidentMemoryWatcher
from plait.core.job.spill_arrays import LARGE, SpillAllocator, defer_signals_during_allocation

_SMALL_PART = 16  # a job that reads less than this part of the limit fits, whatever it does
_ARRAYS, _CELLS = 0.35, 0.15  # what may be taken of the limit before arrays, columns go to files
_TIMES = 2  # scratch files are so many times as large as what is read

LEAST = 256 << 20  # the program, its libraries, and what passes through at a time
_UNITS = {"K": 10, "M": 20, "G": 30, "T": 40}
_GROUP = Path("/sys/fs/cgroup")


class MemoryBudget:
    """Memory that a job may take, and where what does not fit goes.

    Parameters
    ----------
    limit : int
        Bytes.
    asked : bool
        Whether somebody asked for it.
    open_folder : callable
        Makes the scratch folder; asked when it is needed, and not before.
    large : int
        Bytes from which on arrays and columns may go to scratch files.

    Attributes
    ----------
    folder : path or None
        The scratch folder, once there is one.
    """

    def __init__(
        self,
        limit: int,
        open_folder: Callable[[], Path],
        large: int = LARGE,
        asked: bool = True,
    ) -> None:
        self.limit, self.min_spill_bytes, self.is_explicit = limit, large, asked
        self.folder: Path | None = None
        self._size = self._expected = 0
        self._beginning = threading.Lock()
        self._open_folder = open_folder
        self._arrays: SpillAllocator | None = None
        self._as_before: Callable[[], None] = lambda: None
        self._pages = ResidentMemoryWatcher(limit)

    def reserve(self, size: int, times: int = 1) -> None:
        """Prepare for so many bytes more, that take so many times as much: nothing for few.

        Raises
        ------
        ScratchError
            When the scratch folder cannot be made, or has no room for them.
        """
        if not IS_POSIX:
            return
        self._size += size
        self._expected += size * times
        if self.folder is not None or self._expected * _SMALL_PART > self.limit:
            self.start_spilling()

    def start_spilling(self) -> None:
        """Keep to the limit from here on, in this context.

        Raises
        ------
        ScratchError
            As ``reserve_memory``.
        """
        with self._beginning:
            if self.folder is None:
                self.folder = self._checked_folder()
                self._pages.start()
                share, taken = int(self.limit * _ARRAYS), self._pages.without_files
                self._arrays = SpillAllocator(self.folder, share, taken, self.min_spill_bytes)
        assert self._arrays is not None
        if _ACTIVE_ALLOCATOR.get() is not self._arrays:
            _ACTIVE_ALLOCATOR.set(self._arrays)
            self._arrays.use()
            self._as_before = defer_signals_during_allocation(self._arrays.codes) or self._as_before

    def _checked_folder(self) -> Path:
        try:
            folder = self._open_folder()
            free = shutil.disk_usage(folder).free
        except OSError as error:
            raise scratch_full_error("the scratch folder", error.strerror or str(error)) from None
        needed = self._size * _TIMES - self.limit // 2
        if free < needed:
            raise scratch_full_error(
                folder.parent,
                f"about {needed / 2**30:,.1f} GB are needed, {free / 2**30:,.1f} GB are free",
            )
        return folder

    @property
    def exceeds_expectation(self) -> bool:
        """Whether the cells of whole columns take much, though little was expected."""
        return self.folder is None and pa.total_allocated_bytes() > self.limit * _CELLS / 2

    @property
    def must_spill(self) -> bool:
        """Whether the cells of whole columns have taken what they may of memory."""
        return bool(self.folder) and pa.total_allocated_bytes() > self.limit * _CELLS

    @property
    def spill_error(self) -> OSError | None:
        """Why a scratch file could not be made, where one could not."""
        return self._arrays.fault if self._arrays else None

    def close(self) -> None:
        """Watch over it no longer."""
        if self._arrays is not None:
            _ACTIVE_ALLOCATOR.set(None)
            self._arrays.leave()
            self._as_before()
        self._pages.stop()


_ACTIVE_ALLOCATOR: ContextVar[SpillAllocator | None] = ContextVar("using", default=None)


def parse_memory_size(text: str, of: str = "memory") -> int:
    """Bytes of memory, or of what else is told, as a person writes them.

    Raises
    ------
    UsageError
        For what is not an amount, or too little to work with.

    Examples
    --------
    >>> parse_memory_size("2GB"), parse_memory_size("512 MiB")
    (2147483648, 536870912)
    """
    match = re.fullmatch(
        r"([0-9]{1,6}(?:\.[0-9]{1,3})?) ?([KMGT])i?B?", text.strip(), re.IGNORECASE
    )
    if not match:
        raise UsageError(f"{text!r} is not a {of} size", remedy="such as 500MB or 2GB")
    size = int(float(match[1]) * (1 << _UNITS[match[2].upper()]))
    if size < LEAST:
        raise UsageError(
            f"{text} of {of} is too little to work with", remedy=f"{LEAST >> 20}MB or more"
        )
    return size


def default_memory_limit() -> int:
    """Half of the memory that the machine, or the group of processes this one is in, has free."""
    return max(LEAST, _free() // 2)


def _free() -> int:
    """Bytes that are free; as much as any machine has where the system does not tell."""
    return min(_of_machine(), _of_group())


def _of_machine(path: Path = Path("/proc/meminfo")) -> int:
    with suppress(OSError):
        match = re.search(r"MemAvailable: +([0-9]+) kB", path.read_text())
        if match:
            return int(match[1]) << 10
    return 16 << 30


def _of_group(root: Path = _GROUP) -> int:
    """What the control groups above this process leave it, version 2 or 1."""
    most = 1 << 60
    for limit, used in _groups(root):
        with suppress(OSError, ValueError):
            most = min(most, int(limit.read_text()) - int(used.read_text()))
    return max(most, 0)


def _groups(root: Path) -> list[tuple[Path, Path]]:
    """Files with the limit and the use of each group."""
    found = [(root / "memory" / "memory.limit_in_bytes", root / "memory" / "memory.usage_in_bytes")]
    place = ""
    with suppress(OSError):
        lines = Path("/proc/self/cgroup").read_text().splitlines()
        place = next((line[4:] for line in lines if line.startswith("0::/")), "")
    folder = root / place
    for parent in (folder, *folder.parents):
        found.append((parent / "memory.max", parent / "memory.current"))
        if parent == root:
            break
    return found
