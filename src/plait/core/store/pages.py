"""Keeps what is resident of a process below a limit, by letting go of mapped pages."""

from __future__ import annotations

import os
import threading
from contextlib import suppress
from pathlib import Path

from plait.core.store.mapping import MAPPINGS
from plait.core.store.mapping import PAGE as _PAGE

_EVERY_SECONDS = 0.004
_HIGH, _LOW = 0.62, 0.5
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
            if self._resident() * _PAGE > self._limit * _HIGH:
                for _ in MAPPINGS.let_go():
                    if self._resident() * _PAGE < self._limit * _LOW:
                        break

    def _resident(self) -> int:
        return int(os.pread(self._file, 100, 0).split()[1])

    def without_files(self) -> int:
        """Bytes that are resident and stand in no file; 0 where the system does not tell."""
        if not self._thread.is_alive():
            return 0
        _, resident, shared, *_ = map(int, os.pread(self._file, 100, 0).split())
        return (resident - shared) * _PAGE
