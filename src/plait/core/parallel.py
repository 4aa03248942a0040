"""Work on several cores, with the results in order.

NumPy and Arrow release the interpreter's lock in their inner loops, so threads
are enough.
"""

from __future__ import annotations

import os
from collections import deque
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from typing import TypeVar

Item = TypeVar("Item")
Result = TypeVar("Result")


def cores() -> int:
    """How many cores this process may use."""
    return len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1


def ordered_map(
    function: Callable[[Item], Result], items: Iterable[Item], ahead: int = 2
) -> Iterator[Result]:
    """Yield ``function(item)`` in the order of the items, working ``ahead`` items a core.

    Memory is bounded: an item is only drawn when an earlier result has been taken.

    >>> list(ordered_map(len, ["a", "bb"]))
    [1, 2]
    """
    if isinstance(items, Sequence) and len(items) < 2:
        yield from map(function, items)
        return
    waiting: deque[Future[Result]] = deque()
    pool = ThreadPoolExecutor(cores())
    try:
        for item in items:
            waiting.append(pool.submit(function, item))
            if len(waiting) > ahead * cores():
                yield waiting.popleft().result()
        while waiting:
            yield waiting.popleft().result()
    finally:
        pool.shutdown(wait=True, cancel_futures=True)
