"""Interrupts that wait until what must not be cut in two is done."""

from __future__ import annotations

import signal
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

_NAMES = ("SIGINT", "SIGTERM", "SIGHUP")


@contextmanager
def interrupts_wait() -> Iterator[None]:
    """Let interrupts, and requests to end, come only after what is done within.

    Raises
    ------
    KeyboardInterrupt
        Afterwards, when one came meanwhile and nothing else went wrong.
    """
    if threading.current_thread() is not threading.main_thread():
        yield  # handlers run in the main thread only
        return
    came: list[int] = []
    before = _handled(lambda number, _: came.append(number))
    try:
        yield
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)
    if came:
        raise KeyboardInterrupt


def _handled(handler: Any) -> dict[int, Any]:
    """Put a handler in the place of those of Python; the ones that were there.

    What is ignored stays ignored, and what ends a process at once is taken over too.
    """
    before: dict[int, Any] = {}
    for name in _NAMES:
        number = getattr(signal, name, None)
        if number is None:
            continue
        there = signal.getsignal(number)
        if there is not signal.SIG_IGN and there is not None:
            before[number] = signal.signal(number, handler)
    return before
