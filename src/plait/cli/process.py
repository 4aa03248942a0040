"""What the program does with its own process so that a short command is short.

Left out one at a time, a join of the demo's visits and hives took 1.10 times as long without
``pause_garbage_collection``, 1.06 without ``import_in_background``, 1.22 without
``exit_immediately`` (medians of 15 runs, two cores). None of it changes what a command does.
"""

from __future__ import annotations

import gc
import io
import os
import signal
import sys
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from importlib import import_module
from threading import Thread
from types import FrameType
from typing import Any, NoReturn

from plait.core.base.errors import OutputError

NOBODY_READS = 141  # as of a program that SIGPIPE ends


class OutputClosedError(Exception):
    """Whoever read standard output has all that was wanted."""


_STOPS: list[int] = []


def handle_termination_as_interrupt() -> None:
    """Let a stop from outside clean up like one from the keyboard.

    What whoever started the program has ignored, as ``nohup`` does, stays ignored.
    """
    for name in ("SIGINT", "SIGTERM", "SIGHUP"):
        number = getattr(signal, name, None)
        if number is not None and signal.getsignal(number) is not signal.SIG_IGN:
            signal.signal(number, _stop)


def _stop(number: int, _: FrameType | None) -> NoReturn:
    _STOPS.append(number)
    raise KeyboardInterrupt


def was_stopped() -> bool:
    """Whether a stop was asked for, whatever error a library made of the interrupt."""
    return bool(_STOPS)


@contextmanager
def pause_garbage_collection() -> Iterator[None]:
    """Load modules without looking for garbage among them: they stay."""
    gc.disable()
    try:
        yield
    finally:
        gc.freeze()
        gc.enable()


class _Standard(io.FileIO):
    """Standard output or error whose trouble is told as what it is, or passed over.

    Parameters
    ----------
    number : int
        1 or 2.
    told : bool
        Whether it matters that something cannot be written: messages that nobody can
        read do not stop the work.
    """

    def __init__(self, number: int, told: bool) -> None:
        super().__init__(number, "w", closefd=False)
        self._told = told

    def write(self, data: Any) -> int:
        """Write; what cannot be written is told, or counts as written."""
        try:
            return super().write(data) or 0
        except BrokenPipeError:
            raise
        except OSError as error:
            if not self._told:
                return len(data)
            raise OutputError(
                f"cannot write the file: {error.strerror}", "standard output"
            ) from None


def reserve_standard_streams() -> None:
    """See that files which are opened later never stand where output is expected.

    A process may be started with standard input, output or error closed.
    """
    for number in range(3):
        try:
            os.fstat(number)
        except OSError:
            os.open(os.devnull, os.O_RDONLY)  # the lowest number that is free: this one
    for name, number, told in (("stdout", 1, True), ("stderr", 2, False)):
        there = getattr(sys, name)
        coding = there.encoding if there is not None else "utf-8"
        buffer = io.BufferedWriter(_Standard(number, told))
        stream = io.TextIOWrapper(
            buffer, coding, "backslashreplace", line_buffering=os.isatty(number) or not told
        )
        setattr(sys, name, stream)
    # What a library could not tidy up is no news for anybody: errors are told in one place.
    sys.unraisablehook = lambda _: None
    if sys.stdin is None:
        sys.stdin = open(0, closefd=False)  # noqa: SIM115


def import_in_background(module: str) -> None:
    """Load a module in a thread, while the sources are read.

    Where that cannot be, whoever needs the module loads it, and tells why it cannot be.
    """

    def load() -> None:
        with suppress(Exception):
            import_module(module)

    with suppress(RuntimeError):
        Thread(target=load, daemon=True).start()


def exit_immediately(status: int) -> NoReturn:
    """End at once: giving tables back cell by cell takes longer than the system does for all."""
    for stream in (sys.stdout, sys.stderr):
        try:
            if stream is not None:
                stream.flush()
        except BrokenPipeError:
            status = status or NOBODY_READS
        except (OSError, OutputError):
            status = status or 4
    os._exit(status)
