"""A crew of nobody: each call is packed, opened, done and sent back as a worker does it."""

from __future__ import annotations

import pickle
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from contextvars import Context
from pathlib import Path
from typing import Any

from plait.core.store.crew import working_with
from plait.core.store.lending import borrow, lend, remove_file
from plait.core.store.room import Room, working_in


class Company:
    """Does all calls itself, and counts them; stretches are so many times smaller."""

    def __init__(self, folder: Path, share: int) -> None:
        self.folder, self.share, self.calls = folder, share, 0

    def each(self, function: Callable[..., Any], common: Any, items: Sequence[Any]) -> Iterator:
        parcel = lend(common, self.folder)
        for item in items:
            self.calls += 1
            made = Context().run(self._call, pickle.dumps((function, parcel, item)))
            yield borrow(made, keep=False)
        remove_file(parcel)

    def _call(self, sent: bytes) -> Any:
        function, parcel, item = pickle.loads(sent)
        room = Room(1 << 28, lambda: self.folder)
        with working_in(room):
            room.begin()
            return lend(function(borrow(parcel), item), self.folder)


@contextmanager
def in_company(folder: Path, share: int = 1 << 13) -> Iterator[Company]:
    """All that is done within is shared out, in stretches of some 128 rows or 4 KB."""
    room = Room(1 << 28, lambda: folder)
    company = Company(folder, share)
    with working_in(room), working_with(company):
        room.begin()
        yield company
