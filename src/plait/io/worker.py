"""What a worker does: functions of ours, on what it is sent."""

from __future__ import annotations

import platform
import socket
import threading
from collections import OrderedDict
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

from plait._version import __version__
from plait.core.base.errors import WorkerPoolError
from plait.core.job.current import within_job
from plait.core.job.memory import MemoryBudget
from plait.core.job.transfer import Payload, pack_payload, unpack_payload

_MOST_KEPT = 4

# What several calls need is opened once for all of them.
_OPENED: OrderedDict[str, Any] = OrderedDict()
_OPENING = threading.Lock()


def result_affecting_versions() -> dict[str, str]:
    """What makes results the same or not."""
    return {
        "plait": __version__,
        "python": platform.python_version(),
        "numpy": np.__version__,
        "pyarrow": pa.__version__,
    }


def check_versions(there: dict[str, str], wanted: dict[str, str], where: str) -> None:
    """See that a worker has the versions that are wanted.

    Raises
    ------
    WorkerPoolError
    """
    for name, version in wanted.items():
        if there[name] != version:
            raise WorkerPoolError(
                f"a worker has {name} {there[name]}, and here it is {version}",
                where,
                "results are the same where versions are: install the same ones",
            )


def describe_worker(probe: str) -> tuple[str, dict[str, str], bool]:
    """The machine, the versions, and whether a file is seen there."""
    return socket.gethostname(), result_affecting_versions(), Path(probe).is_file()


def run_task(
    function: Callable[[Any, Any], Any],
    common: Payload,
    token: str,
    item: Any,
    folder: str,
    memory: int,
    wanted: dict[str, str],
) -> Payload:
    """``function(common, item)``, with so much memory; the result as a parcel in a folder.

    Raises
    ------
    WorkerPoolError
        When this worker, which may have come late, has other versions than are wanted.
    """
    check_versions(result_affecting_versions(), wanted, socket.gethostname())
    memory_budget = MemoryBudget(memory, lambda: Path(folder))
    with within_job(memory=memory_budget):
        memory_budget.start_spilling()
        return pack_payload(function(_opened(token, common), item), Path(folder))


def _opened(token: str, common: Payload) -> Any:
    with _OPENING:
        if token not in _OPENED:
            while len(_OPENED) >= _MOST_KEPT:
                _OPENED.popitem(last=False)
            _OPENED[token] = unpack_payload(common)
        return _OPENED[token]


def release_payloads() -> None:
    """Let go of what was opened."""
    with _OPENING:
        _OPENED.clear()
