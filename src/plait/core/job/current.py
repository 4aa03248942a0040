"""What a piece of work has to keep to and to work with, for all that is done within it.

A front end opens a job once. What is far below (a column that is being built, a file that is being
read) asks the present job, in place of having it handed down through every function between.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass, replace
from typing import Any

from plait.core.base.errors import scratch_full_error
from plait.core.job.executor import Item, Result, WorkerPool, map_ordered
from plait.core.job.memory import MemoryBudget

_MOST_ROWS = 1 << 24


@dataclass(frozen=True)
class Job:
    """A piece of work.

    Parameters
    ----------
    memory : MemoryBudget, optional
        What it may take, where that has a limit.
    workers : WorkerPool, optional
        Who works along.
    databases : object, optional
        Its connections, through which all that is read from one database stands in it at the
        same moment.
    cache : object, optional
        What was read of sources earlier, where somebody allows for it.
    """

    memory: MemoryBudget | None = None
    workers: WorkerPool | None = None
    databases: Any = None
    cache: Any = None

    @property
    def spilling(self) -> MemoryBudget | None:
        """Its memory, once what is worked with is large for it."""
        return self.memory if self.memory is not None and self.memory.folder is not None else None


_UNLIMITED = Job()
_JOB: ContextVar[Job] = ContextVar("job", default=_UNLIMITED)


def current_job() -> Job:
    """The job that is being done."""
    return _JOB.get()


@contextmanager
def within_job(**changes: Any) -> Iterator[Job]:
    """Have all that is done within be part of the present job, with some of what it has anew.

    Parameters
    ----------
    **changes
        Fields of ``Job``. Memory is watched over until the end.

    Raises
    ------
    ScratchError
        Instead of having no memory, when a scratch file could not be made.

    Examples
    --------
    >>> with within_job(databases="a session"):
    ...     current_job().databases
    'a session'
    >>> current_job().databases
    """
    memory: MemoryBudget | None = changes.get("memory")
    before = _JOB.get()
    _JOB.set(replace(before, **changes))
    try:
        yield _JOB.get()
    except MemoryError:
        if memory is None or memory.spill_error is None:
            raise
        raise scratch_full_error(memory.folder, memory.spill_error.strerror or "") from None
    finally:
        # Only what was changed here goes back: a reader that is left half-way ends later than the
        # job that it was begun in, and must not bring back the memory of that.
        _JOB.set(replace(_JOB.get(), **{name: getattr(before, name) for name in changes}))
        if memory is not None:
            memory.close()


def by_column(function: Callable[[Item], Result], columns: Sequence[Item]) -> Iterator[Result]:
    """What a function gives for each column: several are worked on at once while there is room.

    Where memory is short each takes what all its rows take, so there one follows another.
    """
    return map(function, columns) if current_job().spilling else map_ordered(function, columns)


def max_rows_in_memory() -> int:
    """How many rows may be sorted, or looked up in one table, without being dealt to classes."""
    memory = current_job().spilling
    if memory is None:
        return _MOST_ROWS
    return min(_MOST_ROWS, max(memory.limit >> 7, memory.min_spill_bytes >> 2))


def reserve_memory(size: int, times: int = 1) -> None:
    """Say that so many bytes will be worked with, and that they take so many times as much."""
    memory = current_job().memory
    if memory is not None:
        memory.reserve(size, times)
