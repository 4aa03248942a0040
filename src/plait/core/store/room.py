"""The room that a job has: memory up to a limit, and a folder for what does not fit."""

from __future__ import annotations

import shutil
import threading
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from contextvars import ContextVar
from pathlib import Path

import pyarrow as pa

from plait.core.account.parallel import Item, Result, ordered_map
from plait.core.account.system import IS_POSIX
from plait.core.store.arrays import LARGE, ScratchArrays, hold_signals
from plait.core.store.errors import no_room
from plait.core.store.pages import Pages

_SMALL_PART = 16  # a job that reads less than this part of the limit fits, whatever it does
_ARRAYS, _CELLS = 0.35, 0.15  # what may be taken of the limit before arrays, columns go to files
_MOST_ROWS = 1 << 24
_TIMES = 2  # scratch files are so many times as large as what is read


class Room:
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
        self.limit, self.large, self.asked = limit, large, asked
        self.folder: Path | None = None
        self._size = self._expected = 0
        self._beginning = threading.Lock()
        self._open_folder = open_folder
        self._arrays: ScratchArrays | None = None
        self._as_before: Callable[[], None] = lambda: None
        self._pages = Pages(limit)

    def expect(self, size: int, times: int = 1) -> None:
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
            self.begin()

    def begin(self) -> None:
        """Keep to the limit from here on, in this context.

        Raises
        ------
        ScratchError
            As ``expect``.
        """
        with self._beginning:
            if self.folder is None:
                self.folder = self._checked_folder()
                self._pages.start()
                share, taken = int(self.limit * _ARRAYS), self._pages.without_files
                self._arrays = ScratchArrays(self.folder, share, taken, self.large)
        assert self._arrays is not None
        if _USING.get() is not self._arrays:
            _USING.set(self._arrays)
            self._arrays.use()
            self._as_before = hold_signals(self._arrays.codes) or self._as_before

    def _checked_folder(self) -> Path:
        try:
            folder = self._open_folder()
            free = shutil.disk_usage(folder).free
        except OSError as error:
            raise no_room("the scratch folder", error.strerror or str(error)) from None
        needed = self._size * _TIMES - self.limit // 2
        if free < needed:
            raise no_room(
                folder.parent,
                f"about {needed / 2**30:,.1f} GB are needed, {free / 2**30:,.1f} GB are free",
            )
        return folder

    @property
    def much(self) -> bool:
        """Whether the cells of whole columns take much, though little was expected."""
        return self.folder is None and pa.total_allocated_bytes() > self.limit * _CELLS / 2

    @property
    def full(self) -> bool:
        """Whether the cells of whole columns have taken what they may of memory."""
        return bool(self.folder) and pa.total_allocated_bytes() > self.limit * _CELLS

    @property
    def fault(self) -> OSError | None:
        """Why a scratch file could not be made, where one could not."""
        return self._arrays.fault if self._arrays else None

    def close(self) -> None:
        """Watch over it no longer."""
        if self._arrays is not None:
            _USING.set(None)
            self._arrays.leave()
            self._as_before()
        self._pages.stop()


_ROOM: ContextVar[Room | None] = ContextVar("room", default=None)
_USING: ContextVar[ScratchArrays | None] = ContextVar("using", default=None)


@contextmanager
def working_in(room: Room) -> Iterator[Room]:
    """Have all that is done within keep to a room.

    Raises
    ------
    ScratchError
        Instead of having no memory, when a scratch file could not be made.
    """
    token = _ROOM.set(room)
    try:
        yield room
    except MemoryError:
        if room.fault is None:
            raise
        raise no_room(room.folder, room.fault.strerror or "") from None
    finally:
        _ROOM.reset(token)
        room.close()


def room() -> Room | None:
    """The room that the work is done in, if it has a limit."""
    return _ROOM.get()


def limited() -> Room | None:
    """That room, once what is worked with is large for it."""
    here = room()
    return here if here is not None and here.folder is not None else None


def by_column(function: Callable[[Item], Result], columns: Sequence[Item]) -> Iterator[Result]:
    """What a function gives for each column: several are worked on at once while there is room.

    In a room each takes what all its rows take, so there one follows another.
    """
    return map(function, columns) if limited() else ordered_map(function, columns)


def rows_at_once() -> int:
    """How many rows may be sorted, or looked up in one table, without being dealt to classes."""
    here = limited()
    return _MOST_ROWS if here is None else min(_MOST_ROWS, max(here.limit >> 7, here.large >> 2))


def expect(size: int, times: int = 1) -> None:
    """Say that so many bytes will be worked with, and that they take so many times as much."""
    here = room()
    if here is not None:
        here.expect(size, times)
