"""Calls of a driver, each waited for only so long, and never so that nothing else can happen.

A driver that is written in C waits for its server where no signal is heard. So all calls of one
connection are made in a thread of its own, and whoever wants the answer waits for that thread:
as long as is allowed, and until somebody interrupts. An answer that did not come is never waited
for again: the connection is left behind, and ends with the process.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterator
from concurrent.futures import Future, wait
from contextvars import copy_context
from queue import SimpleQueue
from typing import Any, TypeVar

import pyarrow as pa

from plait.core.account.errors import OutputError, SourceError
from plait.core.account.finding import Finding
from plait.core.table.table import Table
from plait.formats.places.address import Address
from plait.formats.places.reader import Tick
from plait.formats.places.target import How
from plait.formats.servers.relation import Database, Listed, Relation, Wanted
from plait.formats.servers.writing.into import Sources, Tables

Answer = TypeVar("Answer")

#: How long connecting may take, and the first words with a server.
CONNECT_SECONDS = 60
#: How long any one answer may take where nothing else is said.
ANSWER_SECONDS = 4 * 3600
_LOOK_SECONDS, _GRACE_SECONDS = 0.5, 1.0


class LateError(SourceError):
    """An answer did not come in time."""


class Waiter:
    """The calls of one connection.

    Parameters
    ----------
    address : Address
        Whose server answers.

    Examples
    --------
    >>> waiter = Waiter(Address("postgresql://db/co_op"))
    >>> waiter.answer(lambda: 6 * 7, 1)
    42
    """

    def __init__(self, address: Address) -> None:
        self._address = address
        self._calls: SimpleQueue[tuple[Future[Any], Callable[[], Any]]] = SimpleQueue()
        self.lost = False
        threading.Thread(target=_carry_out, args=(self._calls,), daemon=True).start()

    def answer(self, call: Callable[[], Answer], seconds: float) -> Answer:
        """What a call gives, if it comes within so many seconds.

        Raises
        ------
        LateError
            When it does not.
        """
        if self.lost:
            raise self._late(0)
        context, future = copy_context(), Future[Answer]()
        end = time.monotonic() + seconds
        self._calls.put((future, lambda: context.run(call)))
        try:
            while not future.done():
                left = end - time.monotonic()
                if left <= 0:
                    raise self._late(max(seconds, 1))
                wait([future], min(left, _LOOK_SECONDS))
        except BaseException:
            self.lost = True
            raise
        return future.result()

    def _late(self, seconds: float) -> LateError:
        parts = self._address.parts()
        who = f"{parts.host} port {parts.port}" if parts.port else parts.host or "the server"
        how = f"within {seconds:,.0f} seconds" if seconds else "any more"
        return LateError(
            f"{who} does not answer {how}",
            self._address.shown,
            "is it busy, or is it something else that listens there? --timeout SECONDS allows more",
        )


def _carry_out(calls: SimpleQueue[tuple[Future[Any], Callable[[], Any]]]) -> None:
    while True:
        future, call = calls.get()
        try:
            future.set_result(call())
        except BaseException as error:
            future.set_exception(error)


class Waited:
    """A database whose answers are waited for only so long: see ``Database``."""

    def __init__(
        self, make: Callable[[], Database], address: Address, timeout: int | None = None
    ) -> None:
        self._waiter = Waiter(address)
        self.allow(timeout)
        first = min(timeout or CONNECT_SECONDS, CONNECT_SECONDS)
        self._base = self._waiter.answer(make, first)
        self.label, self.decides = self._base.label, self._base.decides

    def allow(self, timeout: int | None) -> None:
        """Say how long what is asked from now on may take altogether, or any answer without it."""
        self._end = None if timeout is None else time.monotonic() + timeout

    def _answer(self, call: Callable[[], Answer]) -> Answer:
        if self._end is None:
            return self._waiter.answer(call, ANSWER_SECONDS)
        # The server ends a statement by itself when its time is over, and says so.
        return self._waiter.answer(call, self._end - time.monotonic() + _GRACE_SECONDS)

    def listed(self) -> list[Listed]:
        """The tables and views that may be read."""
        return self._answer(self._base.listed)

    def relation(self, one: Listed) -> Relation:
        """The columns and the key of a table."""
        return self._answer(lambda: self._base.relation(one))

    def asked(self, query: str) -> Relation:
        """What a query gives."""
        return self._answer(lambda: self._base.asked(query))

    def batches(self, relation: Relation, wanted: Wanted) -> Iterator[pa.RecordBatch]:
        """The rows, batch by batch."""
        rows = self._answer(lambda: iter(self._base.batches(relation, wanted)))
        try:
            while (batch := self._answer(lambda: next(rows, None))) is not None:
                yield batch
        finally:
            if not self._waiter.lost:
                self._answer(rows.close)  # type: ignore[attr-defined]

    def count(self, relation: Relation) -> int:
        """How many rows there are."""
        return self._answer(lambda: self._base.count(relation))

    def close(self) -> None:
        """Let go of it, unless an answer is still to come."""
        if not self._waiter.lost:
            self._waiter.answer(self._base.close, CONNECT_SECONDS)


class WaitedTables:
    """Tables that are written, each answer waited for only so long: see ``Tables``."""

    def __init__(self, begin: Callable[[], Tables], address: Address) -> None:
        self._waiter = Waiter(address)
        self._tables = self._answer(begin, CONNECT_SECONDS)

    def _answer(self, call: Callable[[], Answer], seconds: float = ANSWER_SECONDS) -> Answer:
        try:
            return self._waiter.answer(call, seconds)
        except LateError as error:
            raise OutputError(error.what, error.where, error.remedy) from None

    def check(self, name: str, append: bool, sources: Sources = ()) -> None:
        """See that a table can be written, before any work is done for it."""
        self._answer(lambda: self._tables.check(name, append, sources))

    def add(self, table: Table, name: str, tick: Tick, how: How) -> list[Finding]:
        """Write one table more."""
        return self._answer(lambda: self._tables.add(table, name, tick, how))

    def stated(self) -> dict[str, Any]:
        """What tells later whether it was made."""
        return self._answer(self._tables.stated)

    def commit(self) -> None:
        """Let the new tables take their places, all at once."""
        self._answer(self._tables.commit)

    def rollback(self) -> None:
        """Leave everything as it was; a server that does not answer does so by itself."""
        if not self._waiter.lost:
            self._answer(self._tables.rollback, CONNECT_SECONDS)
