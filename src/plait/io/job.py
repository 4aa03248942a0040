"""The room that a job works in, as a person asks for it: so much memory, and a scratch folder."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path

from plait.core.base.errors import UsageError, attribute_errors_to_option
from plait.core.base.platform import IS_POSIX
from plait.core.base.wording import Setting, wording
from plait.core.job.current import within_job
from plait.core.job.memory import MemoryBudget, default_memory_limit, parse_memory_size
from plait.io.places.partial_files import scratch_folder
from plait.io.source_cache import open_source_cache

_MOST_WORKERS = 256


@contextmanager
def working(
    memory: str | None = None,
    folder: Path | None = None,
    workers: int | None = None,
    cluster: str | None = None,
    cache: str | None = None,
) -> Iterator[MemoryBudget]:
    """Have all that is done within keep to a limit on memory; what does not fit goes to files.

    Parameters
    ----------
    memory : str, optional
        ``"2GB"``. Without it half of what is free.
    folder : path, optional
        Where scratch files go. Without it the system's temporary folder. They are
        removed at the end, those of a run that was killed by the next one.
    workers : int, optional
        So many processes of this machine take on parts of the work.
    cluster : str, optional
        The address of a scheduler of ``distributed`` whose workers do: ``tcp://host:8786``.
    cache : str, optional
        Keep what was read of workbooks, JSON and packed files for the next time, up to that size
        (``"2GB"``), in the user's cache folder. Without it, and for ``"none"``, nothing is kept.

    Raises
    ------
    UsageError
        For an amount that is none, a folder that is not there, or both ``workers`` and
        ``cluster``.
    ScratchError
        When what does not fit in memory does not fit there either.
    WorkerPoolError
        When workers cannot be reached, or are not as they must be.

    Examples
    --------
    >>> with working("2GB") as room:
    ...     room.limit
    2147483648
    """
    for option, value in (("memory", memory), ("workers", workers), ("cluster", cluster)):
        if value and not IS_POSIX:
            with attribute_errors_to_option(option):
                raise UsageError("this is done on Linux and macOS only")
    with attribute_errors_to_option("scratch"):
        # Path.is_dir is an error for a name that no folder can have.
        if folder is not None and not os.path.isdir(folder):  # noqa: PTH112
            raise UsageError("the folder for scratch files does not exist", str(folder))
    with attribute_errors_to_option("workers"):
        _check_workers(workers, cluster)
    with attribute_errors_to_option("memory"):
        limit = parse_memory_size(memory) if memory else default_memory_limit()
    with attribute_errors_to_option("cache"):
        source_cache = open_source_cache(cache)
    with ExitStack() as made:
        by_somebody = bool(memory or folder or workers or cluster)
        if workers:
            limit //= 2  # the other half is theirs
        memory_budget = MemoryBudget(
            limit, lambda: made.enter_context(scratch_folder(folder)), asked=by_somebody
        )
        with within_job(memory=memory_budget, cache=source_cache):
            if workers or cluster:
                with attribute_errors_to_option("workers" if workers else "cluster"):
                    made.enter_context(_together(memory_budget, workers, cluster))
            yield memory_budget


def _check_workers(workers: int | None, cluster: str | None) -> None:
    if workers is not None and cluster:
        raise UsageError(
            wording(
                Setting("workers"),
                " starts workers, and ",
                Setting("cluster"),
                " has some: ask for one of them",
            )
        )
    if workers is not None and not 1 <= workers <= _MOST_WORKERS:
        raise UsageError(
            f"{workers} workers cannot be started", remedy=f"1 to {_MOST_WORKERS}, such as 2"
        )


@contextmanager
def _together(
    memory_budget: MemoryBudget, workers: int | None, cluster: str | None
) -> Iterator[None]:
    """Have workers take on parts of what is done in a room."""
    from plait.io.cluster import open_cluster_pool  # loading it takes long

    memory_budget.start_spilling()
    assert memory_budget.folder
    with (
        open_cluster_pool(
            memory_budget.folder, memory_budget.limit, workers, cluster
        ) as cluster_pool,
        within_job(workers=cluster_pool),
    ):
        yield
