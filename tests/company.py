"""A crew of nobody: each call is packed, opened, done and sent back as a worker does it."""

from __future__ import annotations

import pickle
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from contextvars import Context
from pathlib import Path
from typing import Any

from plait.core.job.current import within_job
from plait.core.job.memory import MemoryBudget
from plait.core.job.transfer import pack_payload, remove_payload_file, unpack_payload


class Company:
    """Does all calls itself, and counts them; stretches are so many times smaller."""

    def __init__(self, folder: Path, share: int) -> None:
        self.folder, self.tasks_per_unit, self.calls = folder, share, 0

    def map_tasks(
        self, function: Callable[..., Any], common: Any, items: Sequence[Any]
    ) -> Iterator:
        parcel = pack_payload(common, self.folder)
        for item in items:
            self.calls += 1
            made = Context().run(self._call, pickle.dumps((function, parcel, item)))
            yield unpack_payload(made, keep=False)
        remove_payload_file(parcel)

    def _call(self, sent: bytes) -> Any:
        function, parcel, item = pickle.loads(sent)
        room = MemoryBudget(1 << 28, lambda: self.folder)
        with within_job(memory=room):
            room.start_spilling()
            return pack_payload(function(unpack_payload(parcel), item), self.folder)


@contextmanager
def in_company(folder: Path, share: int = 1 << 13) -> Iterator[Company]:
    """All that is done within is shared out, in stretches of some 128 rows or 4 KB."""
    room = MemoryBudget(1 << 28, lambda: folder)
    company = Company(folder, share)
    with within_job(memory=room), within_job(workers=company):
        room.start_spilling()
        yield company
