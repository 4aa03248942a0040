"""Who works along: processes, here or on other machines, that take on parts of a job."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from contextvars import ContextVar
from typing import Protocol, TypeVar

Common = TypeVar("Common")
Item = TypeVar("Item")
Result = TypeVar("Result")

LEAST_BYTES, LEAST_ROWS = 32 << 20, 1 << 20


class Crew(Protocol):
    """Processes that carry out functions.

    Attributes
    ----------
    share : int
        What of a stretch one of them takes on at a time: 1 for ``LEAST_BYTES`` and
        ``LEAST_ROWS``, 2 for half of that, and so on.
    """

    share: int

    def each(
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


_CREW: ContextVar[Crew | None] = ContextVar("crew", default=None)


def crew() -> Crew | None:
    """Who works along with the present job, if anybody."""
    return _CREW.get()


@contextmanager
def working_with(here: Crew) -> Iterator[None]:
    """Have parts of all that is done within carried out by others."""
    token = _CREW.set(here)
    try:
        yield
    finally:
        _CREW.reset(token)


def spans_of(rows: int, here: Crew) -> list[tuple[int, int]]:
    """Stretches of rows to be shared out.

    >>> from types import SimpleNamespace
    >>> spans_of(2_500_000, SimpleNamespace(share=1))
    [(0, 1048576), (1048576, 2097152), (2097152, 2500000)]
    """
    return _cut(0, rows, max(LEAST_ROWS // here.share, 1))


def ranges_of(begin: int, end: int, here: Crew) -> list[tuple[int, int]]:
    """Stretches of bytes to be shared out."""
    return _cut(begin, end, max(LEAST_BYTES // here.share, 1))


def _cut(begin: int, end: int, step: int) -> list[tuple[int, int]]:
    return [(at, min(at + step, end)) for at in range(begin, end, step)]
