"""Work on several cores, with the results in order.

NumPy and Arrow release the interpreter's lock in their inner loops, so threads
are enough. Each works in a copy of the context of who asks, so that what holds
there (the room that the work has) holds for it too.
"""

from __future__ import annotations

import os
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from contextvars import copy_context
from itertools import chain, islice
from typing import Any, TypeVar

Item = TypeVar("Item")
Result = TypeVar("Result")


def cores() -> int:
    """How many cores this process may use."""
    return len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1


def ordered_map(
    function: Callable[[Item], Result],
    items: Iterable[Item],
    ahead: int = 2,
) -> Iterator[Result]:
    """Yield ``function(item)`` in the order of the items, working ``ahead`` items a core.

    Memory is bounded: an item is only drawn when an earlier result has been taken.
    There are as many threads as cores.

    >>> list(ordered_map(len, ["a", "bb"]))
    [1, 2]
    """
    items = iter(items)
    first = list(islice(items, 2))
    if len(first) < 2:  # a thread costs a millisecond
        yield from map(function, first)
        return
    items = chain(first, items)
    waiting: deque[Future[Result]] = deque()
    threads = cores()
    pool = ThreadPoolExecutor(threads)
    try:
        for item in items:
            waiting.append(pool.submit(copy_context().run, function, item))
            if len(waiting) > ahead * threads:
                yield waiting.popleft().result()
        while waiting:
            yield waiting.popleft().result()
    finally:
        pool.shutdown(wait=True, cancel_futures=True)


class InTurn:
    """Carries out calls one after another in a thread of its own, a few behind who asks.

    >>> calls, done = InTurn(), []
    >>> calls.ask(done.append, "later")
    >>> calls.wait()
    >>> done
    ['later']
    """

    def __init__(self, behind: int = 4) -> None:
        self._pool = ThreadPoolExecutor(1)
        self._waiting: deque[Future[Any]] = deque()
        self._behind = behind

    def ask(self, call: Callable[..., Any], *with_: Any) -> None:
        """Have a call carried out; raises what an earlier one has raised."""
        self._waiting.append(self._pool.submit(copy_context().run, call, *with_))
        if len(self._waiting) > self._behind:
            self._waiting.popleft().result()

    def wait(self) -> None:
        """See all of them done."""
        while self._waiting:
            self._waiting.popleft().result()
