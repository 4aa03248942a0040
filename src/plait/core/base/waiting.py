"""Calls that may never return, waited for only so long, and never so that nothing else can happen.

What waits for another machine within a library written in C hears no signal, and what comes
drop by drop is never late by the clock of each drop. So such calls are made in a thread of
their own, and whoever wants the answer waits for that thread: as long as is allowed, and until
somebody interrupts. An answer that did not come is never waited for again: its thread is left
behind, and ends with the process.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from concurrent.futures import Future, wait
from contextvars import copy_context
from queue import SimpleQueue
from typing import Any, TypeVar

Answer = TypeVar("Answer")

_Calls = SimpleQueue[tuple[Future[Any], Callable[[], Any]] | None]

_LOOK_SECONDS = 0.5


class Waiter:
    """Calls that are made one after another, all in one thread.

    Attributes
    ----------
    lost : bool
        Whether an answer did not come: none will from now on.

    Examples
    --------
    >>> waiter = Waiter()
    >>> waiter.answer(lambda: 6 * 7, 1)
    42
    """

    def __init__(self) -> None:
        self._calls: _Calls = SimpleQueue()
        self.lost = False
        threading.Thread(target=_carry_out, args=(self._calls,), daemon=True).start()

    def answer(self, call: Callable[[], Answer], seconds: float) -> Answer:
        """What a call gives, if it comes within so many seconds.

        Raises
        ------
        TimeoutError
            When it does not.
        """
        if self.lost:
            raise TimeoutError("no longer answers")
        context, future = copy_context(), Future[Answer]()
        end = time.monotonic() + seconds
        self._calls.put((future, lambda: context.run(call)))
        try:
            while not future.done():
                left = end - time.monotonic()
                if left <= 0:
                    raise TimeoutError(f"no answer within {max(seconds, 1):,.0f} seconds")
                wait([future], min(left, _LOOK_SECONDS))
        except BaseException:
            self.lost = True
            raise
        return future.result()

    def end(self) -> None:
        """Let the thread end, once it has done what it is at."""
        self._calls.put(None)


def _carry_out(calls: _Calls) -> None:
    while (asked := calls.get()) is not None:
        future, call = asked
        try:
            future.set_result(call())
        except BaseException as error:
            future.set_exception(error)
        del asked, future, call


def answer_of(call: Callable[[], Answer], seconds: float) -> Answer:
    """What a call gives, made in a thread of its own, if it comes within so many seconds.

    Raises
    ------
    TimeoutError

    Examples
    --------
    >>> answer_of(lambda: "here", 1)
    'here'
    """
    waiter = Waiter()
    try:
        return waiter.answer(call, seconds)
    finally:
        waiter.end()
