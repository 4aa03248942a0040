"""Work done by several threads or processes, its results in order.

NumPy and Arrow release the interpreter's lock in their inner loops, so threads
are enough. Each works in a copy of the context of who asks, so that what holds
there (the room that the work has) holds for it too.
"""

from __future__ import annotations

import os
from collections import deque
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextvars import copy_context
from itertools import chain, islice
from typing import Any, Protocol, TypeVar

Item = TypeVar("Item")
Result = TypeVar("Result")

Common = TypeVar("Common")

LEAST_BYTES, LEAST_ROWS = 32 << 20, 1 << 20

#: A thread costs a third of a millisecond to start, as much as a few thousand cells to look at.
_FEW_ROWS = 1 << 14


def available_cores() -> int:
    """How many cores this process may use."""
    return len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1


def map_ordered(
    function: Callable[[Item], Result],
    items: Iterable[Item],
    ahead: int = 2,
    rows: int | None = None,
) -> Iterator[Result]:
    """Yield ``function(item)`` in the order of the items, working ``ahead`` items a core.

    Memory is bounded: an item is only drawn when an earlier result has been taken.
    There are as many threads as cores, and none where all items together have few rows.

    >>> list(map_ordered(len, ["a", "bb"]))
    [1, 2]
    """
    items = iter(items)
    first = list(islice(items, 2))
    items = chain(first, items)
    if len(first) < 2 or (rows is not None and rows < _FEW_ROWS):
        yield from map(function, items)
        return
    waiting: deque[Future[Result]] = deque()
    paths = available_cores()
    pool = ThreadPoolExecutor(paths)
    try:
        for item in items:
            waiting.append(pool.submit(copy_context().run, function, item))
            if len(waiting) > ahead * paths:
                yield waiting.popleft().result()
        while waiting:
            yield waiting.popleft().result()
    finally:
        pool.shutdown(wait=True, cancel_futures=True)


class SerialWorker:
    """Carries out calls one after another in a thread of its own, a few behind who asks.

    >>> calls, done = SerialWorker(), []
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


class WorkerPool(Protocol):
    """Processes that carry out functions.

    Attributes
    ----------
    share : int
        What of a stretch one of them takes on at a time: 1 for ``LEAST_BYTES`` and
        ``LEAST_ROWS``, 2 for half of that, and so on.
    """

    tasks_per_unit: int

    def map_tasks(
        self, function: Callable[[Common, Item], Result], common: Common, items: Sequence[Item]
    ) -> Iterator[Result]:
        """``function(common, item)`` for each item, in the order of the items.

        Parameters
        ----------
        function : callable
            Of a module, as it is sent by its name.
        common : object
            What all of them need. Columns and arrays that stand in files that all see are
            sent as the names of the files; large ones that do not are put there.
        items : sequence
            Small.

        Raises
        ------
        PlaitError
            What a call has raised, or that nobody can carry it out.
        """


def split_rows(rows: int, worker_pool: WorkerPool) -> list[tuple[int, int]]:
    """Stretches of rows to be shared out.

    >>> from types import SimpleNamespace
    >>> split_rows(2_500_000, SimpleNamespace(tasks_per_unit=1))
    [(0, 1048576), (1048576, 2097152), (2097152, 2500000)]
    """
    return _cut(0, rows, max(LEAST_ROWS // worker_pool.tasks_per_unit, 1))


def split_bytes(begin: int, end: int, worker_pool: WorkerPool) -> list[tuple[int, int]]:
    """Stretches of bytes to be shared out."""
    return _cut(begin, end, max(LEAST_BYTES // worker_pool.tasks_per_unit, 1))


def _cut(begin: int, end: int, step: int) -> list[tuple[int, int]]:
    return [(b, min(b + step, end)) for b in range(begin, end, step)]
