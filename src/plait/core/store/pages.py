"""Keeps what is resident of a process below a limit, by letting go of mapped pages."""

from __future__ import annotations

import os
import threading
from contextlib import suppress
from pathlib import Path

from plait.core.store.mapping import MAPPINGS, PAGE

_EVERY_SECONDS = 0.004
# Of the limit: what may be resident, and what of it may be mapped even where that is more.
_FULL, _LEAST = 0.72, 0.12
_DOWN_TO = 0.75
_OWN = Path("/proc/self/statm")


class Pages:
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
            self._file = os.open(_OWN, os.O_RDONLY | os.O_CLOEXEC)
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
