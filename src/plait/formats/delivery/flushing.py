"""Seeing that what was written is on the disk, and not only on its way."""

from __future__ import annotations

import os
import threading
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

_FLUSH_SECONDS = 0.2


@contextmanager
def flushing(file: int) -> Iterator[None]:
    """See that what is written to a file is on the disk in the end, and on its way all along."""
    done = threading.Event()

    def flush_along() -> None:
        with suppress(OSError):  # the last flush tells
            while not done.wait(_FLUSH_SECONDS):
                os.fsync(file)

    along = threading.Thread(target=flush_along, daemon=True)
    along.start()
    try:
        yield
        os.fsync(file)
    finally:
        done.set()
        along.join()


def flush_folder(folder: Path) -> None:
    """See that the names in a folder are on the disk, where the system does that for folders."""
    try:
        number = os.open(folder, os.O_RDONLY)
    except OSError:
        return
    try:
        os.fsync(number)
    finally:
        os.close(number)
