"""A worker pool on a cluster: one that runs somewhere, or one of this machine's for the time being.

The scheduler of ``distributed`` shares the calls out, and has them done again when a worker
dies. What they need and give stands in a folder that all of them see.
"""

from __future__ import annotations

import logging
import secrets
import signal
import sys
from collections import Counter, deque
from collections.abc import Callable, Iterator, Sequence
from contextlib import ExitStack, contextmanager, suppress
from itertools import islice
from multiprocessing import resource_tracker
from pathlib import Path
from types import ModuleType
from typing import Any

from plait.core.base.errors import PlaitError, UsageError, WorkerPoolError
from plait.core.base.waiting import answer_of
from plait.core.base.wording import Setting, wording
from plait.core.job.transfer import pack_payload, remove_payload_file, unpack_payload
from plait.io.places.partial_files import defer_interrupts
from plait.io.worker import (
    check_versions,
    describe_worker,
    release_payloads,
    result_affecting_versions,
    run_task,
)

_ANSWER_SECONDS, _LOOK_SECONDS, _ALONE_SECONDS = 10, 5, 60
_AHEAD, _LOOPBACK = 3, "127.0.0.1"
_LEAST_MEMORY = 128 << 20
# Whoever is on this machine could look at its pages: there are none, and no samples for them.
_NO_PAGES = {
    "distributed.worker.profile.enabled": False,
    "distributed.scheduler.http.routes": [],
    "distributed.worker.http.routes": [],
}


@contextmanager
def open_cluster_pool(
    folder: Path, memory: int, workers: int | None = None, cluster: str | None = None
) -> Iterator[ClusterWorkerPool]:
    """A worker pool for as long as it is needed.

    Parameters
    ----------
    folder : path
        Where what is sent stands; all workers must see it.
    memory : int
        Bytes for all of them that are on one machine.
    workers : int, optional
        Start so many processes on this machine.
    cluster : str, optional
        The address of a scheduler that runs.

    Raises
    ------
    UsageError
        When the library for it is not installed.
    WorkerPoolError
        When the cluster does not answer, or a worker is not as it must be.
    """
    client_of, local_of = _library()
    with ExitStack() as until:
        try:
            address = cluster or until.enter_context(_local(local_of, workers or 1, folder))
            client = until.enter_context(_client(client_of, address))
        except Exception as error:  # whatever a stranger that listens there makes of it
            raise _silent(cluster, error) from None
        cluster_worker_pool = ClusterWorkerPool(client, cluster or "this machine", folder, memory)
        cluster_worker_pool.check()
        yield cluster_worker_pool
        if cluster:
            cluster_worker_pool.leave()


def _library() -> tuple[Any, Any]:
    try:
        from distributed import Client, LocalCluster
    except ImportError:
        raise UsageError(
            "working with others needs the library distributed",
            remedy="pip install 'plait[cluster]'",
        ) from None
    return Client, LocalCluster


@contextmanager
def _local(make: Any, workers: int, folder: Path) -> Iterator[Any]:
    """Processes of this machine, ended with the job."""
    from dask import config

    with config.set(_NO_PAGES), ExitStack() as until:
        with defer_interrupts(), _uninterrupted(), _without_script():
            cluster = make(
                n_workers=workers,
                threads_per_worker=1,
                processes=True,
                host=_LOOPBACK,
                security=True,  # or whoever is on this machine could give them work
                dashboard_address=None,
                worker_dashboard_address=f"{_LOOPBACK}:0",
                scheduler_kwargs={"dashboard_address": f"{_LOOPBACK}:0"},
                memory_limit=0,
                local_directory=str(folder),
                silence_logs=logging.CRITICAL,
            )
            until.callback(cluster.close)
        yield cluster


@contextmanager
def _without_script() -> Iterator[None]:
    """Have processes that begin within not carry out the script that began this one."""
    script = sys.modules["__main__"]
    sys.modules["__main__"] = ModuleType("__main__")
    try:
        yield
    finally:
        sys.modules["__main__"] = script


@contextmanager
def _uninterrupted() -> Iterator[None]:
    """Have threads and processes that begin within left alone by the keyboard.

    An interrupt from there goes to all processes of a terminal. It is for the program, which
    ends its workers itself.
    """
    resource_tracker.ensure_running()  # it would have them interrupted again when it begins
    before = signal.pthread_sigmask(signal.SIG_BLOCK, [signal.SIGINT])
    try:
        yield
    finally:
        signal.pthread_sigmask(signal.SIG_SETMASK, before)


@contextmanager
def _client(make: Any, address: Any) -> Iterator[Any]:
    for name in ("tornado", *logging.root.manager.loggerDict):  # what goes wrong is told by us
        if name.partition(".")[0] in ("distributed", "tornado"):
            logging.getLogger(name).setLevel(logging.CRITICAL + 1)
    client = answer_of(
        lambda: make(address, timeout=_ANSWER_SECONDS, set_as_default=False), 2 * _ANSWER_SECONDS
    )
    try:
        yield client
    finally:
        with suppress(Exception):  # a cluster that is gone cannot be left
            client.close(timeout=_LOOK_SECONDS)


def _silent(where: str | None, error: BaseException) -> WorkerPoolError:
    if where is None:
        return WorkerPoolError(
            f"workers cannot be started: {error or 'no answer'}", "this machine", "work without"
        )
    said = " ".join(str(error).split())[:200]
    if isinstance(error, MemoryError) or not said:
        said = "the program at this address is not a scheduler"  # a length that it never meant
    return WorkerPoolError(
        f"the cluster does not answer: {said}",
        where,
        "is its scheduler running, and is this its address? such as tcp://host:8786",
    )


class ClusterWorkerPool:
    """Shares calls out to the workers of a cluster.

    Parameters
    ----------
    address : str
        How messages call the cluster.
    """

    tasks_per_unit = 1

    def __init__(self, client: Any, address: str, folder: Path, memory: int) -> None:
        self._client, self._address, self._folder = client, address, folder
        self._memory = memory
        self._threads = 1

    def check(self) -> None:
        """See that there are workers, like this process, that see the folder.

        Raises
        ------
        WorkerPoolError
        """
        with suppress(Exception):
            self._client.wait_for_workers(1, timeout=_ANSWER_SECONDS)
        probe = self._folder / secrets.token_hex(8)
        probe.touch()
        try:
            answer = answer_of(
                lambda: self._client.run(describe_worker, str(probe), on_error="return"),
                _ALONE_SECONDS,
            )
        except TimeoutError as error:
            raise _silent(self._address, error) from None
        finally:
            probe.unlink()
        found = {address: i for address, i in answer.items() if not isinstance(i, OSError)}
        if not found:  # one that does not answer has gone
            raise WorkerPoolError("the cluster has no workers", self._address, "start some first")
        for address, one in found.items():
            self._check_one(address, one)
        info = self._client.scheduler_info(n_workers=-1)["workers"].values()
        self._threads = sum(member["nthreads"] for member in info)
        most = max(Counter(member["host"] for member in info).values())
        self._memory = max(self._memory // most, _LEAST_MEMORY)

    def _check_one(self, address: str, told: Any) -> None:
        if isinstance(told, BaseException):
            raise WorkerPoolError(
                f"a worker cannot work for Plait: {told}", address, "is Plait installed there?"
            )
        host, there, sees = told
        where = f"{address} on {host}"
        check_versions(there, result_affecting_versions(), where)
        if not sees:
            raise WorkerPoolError(
                f"a worker does not see the scratch folder {self._folder.parent}",
                where,
                wording(
                    Setting("scratch", "DIR"), ", a folder that all workers see under this name"
                ),
            )

    def leave(self) -> None:
        """Have the workers let go of what they have opened."""
        with suppress(Exception):
            self._client.run(release_payloads, wait=False)

    def map_tasks(
        self, function: Callable[[Any, Any], Any], common: Any, items: Sequence[Any]
    ) -> Iterator[Any]:
        """``function(common, item)`` for each item, in their order; see ``Worker pool``."""
        parcel, token = pack_payload(common, self._folder), secrets.token_hex(8)
        more, wanted = iter(items), result_affecting_versions()
        waiting: deque[Any] = deque()

        def ask(count: int) -> None:
            for item in islice(more, count):
                call = (function, parcel, token, item, str(self._folder), self._memory, wanted)
                waiting.append(self._client.submit(run_task, *call, pure=False))

        try:
            ask(_AHEAD * self._threads + 1)
            while waiting:
                made = self._result(waiting[0])
                waiting.popleft()
                ask(1)
                yield unpack_payload(made, keep=False)
        finally:
            for future in waiting:
                with suppress(Exception):
                    future.cancel()
            remove_payload_file(parcel)

    def _result(self, future: Any) -> Any:
        """What a call gave, or has raised."""
        alone = 0
        while True:
            try:
                return future.result(timeout=_LOOK_SECONDS)
            except PlaitError:
                raise
            except TimeoutError:
                alone = alone + _LOOK_SECONDS if not self._has_workers() else 0
                if alone < _ALONE_SECONDS:
                    continue
                raise WorkerPoolError(
                    "all workers have stopped", self._address, "start some"
                ) from None
            except Exception as error:
                exception = self._translate_error(error)
                if exception is error:
                    raise
                raise exception from error

    def _has_workers(self) -> bool:
        with suppress(Exception):
            return bool(self._client.scheduler_info(n_workers=-1)["workers"])
        return False

    def _translate_error(self, error: Exception) -> Exception:
        """An error of the cluster's as one of ours; any other as it is."""
        kind = type(error).__name__
        if kind == "KilledWorker":
            return WorkerPoolError(
                "every worker that tried one part of the job stopped",
                self._address,
                wording(
                    "the workers may be short of memory: lower ",
                    Setting("memory"),
                    ", or start fewer workers per machine",
                ),
            )
        if kind in (
            "FutureCancelledError",
            "CancelledError",
            "CommClosedError",
            "StreamClosedError",
        ):
            return WorkerPoolError(
                "lost the connection to the cluster while it was working",
                self._address,
                "start the command again",
            )
        return error
