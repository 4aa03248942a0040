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
from queue import Full, Queue
from threading import Event, Thread
from types import TracebackType
from typing import Any, Generic, TypeVar

Item = TypeVar("Item")
Result = TypeVar("Result")


def cores() -> int:
    """How many cores this process may use."""
    return len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1


def half() -> int:
    """Workers for each of several stages that work at the same time."""
    return max(1, cores() // 2)


def ordered_map(
    function: Callable[[Item], Result],
    items: Iterable[Item],
    ahead: int = 2,
    workers: int | None = None,
) -> Iterator[Result]:
    """Yield ``function(item)`` in the order of the items, working ``ahead`` items a core.

    Memory is bounded: an item is only drawn when an earlier result has been taken.
    There are as many workers as cores, or fewer where several stages share them.

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
    workers = workers or cores()
    pool = ThreadPoolExecutor(workers)
    try:
        for item in items:
            waiting.append(pool.submit(copy_context().run, function, item))
            if len(waiting) > ahead * workers:
                yield waiting.popleft().result()
        while waiting:
            yield waiting.popleft().result()
    finally:
        pool.shutdown(wait=True, cancel_futures=True)


class Ahead(Generic[Item]):
    """Draws items in a thread of its own, a few ahead of who takes them.

    What is raised while an item is drawn is raised where it would have been taken.
    Leaving the ``with`` ends the drawing.

    >>> with Ahead(iter("ab")) as letters:
    ...     list(letters)
    ['a', 'b']
    """

    _END = object()

    def __init__(self, items: Iterator[Item], ahead: int = 4) -> None:
        self._items = items
        self._drawn: Queue[Any] = Queue(ahead)
        self._given_up = Event()
        self._thread = Thread(target=copy_context().run, args=(self._draw,), daemon=True)

    def __enter__(self) -> Iterator[Item]:
        self._thread.start()
        return self._taken()

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self._given_up.set()
        self._thread.join()

    def _draw(self) -> None:
        try:
            for item in self._items:
                if not self._put((item, None)):
                    return
            self._put((self._END, None))
        except BaseException as error:
            self._put((None, error))

    def _put(self, item: tuple[Any, BaseException | None]) -> bool:
        while not self._given_up.is_set():
            try:
                self._drawn.put(item, timeout=0.1)
            except Full:
                continue
            return True
        return False

    def _taken(self) -> Iterator[Item]:
        while True:
            item, error = self._drawn.get()
            if error is not None:
                raise error
            if item is self._END:
                return
            yield item


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
