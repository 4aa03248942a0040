"""The answers of a server to a driver, waited for only so long, in a thread of their own."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from typing import Any

import pyarrow as pa

from plait.core.base.errors import OutputError, SourceError
from plait.core.base.findings import Finding
from plait.core.base.waiting import Answer, Waiter
from plait.core.base.wording import Setting, wording
from plait.core.table.table import Table
from plait.io.database.relation import Database, FetchRequest, Relation, RelationName
from plait.io.database.table_writer import Sources, Tables
from plait.io.places.address import Address
from plait.io.places.source import OnProgress
from plait.io.places.target import TableWriteOptions

#: How long connecting may take, and the first words with a server.
CONNECT_SECONDS = 60
#: How long any one answer may take where nothing else is said.
ANSWER_SECONDS = 4 * 3600
_GRACE_SECONDS = 3.0


class LateError(SourceError):
    """An answer did not come in time."""


class _Answers:
    """The answers of one server, and what is told when one does not come."""

    def __init__(self, address: Address) -> None:
        self._address, self._waiter = address, Waiter()

    @property
    def lost(self) -> bool:
        """Whether one did not come: none will from now on."""
        return self._waiter.lost

    def end(self) -> None:
        """Nothing is asked any more."""
        self._waiter.end()

    def answer(self, call: Callable[[], Answer], seconds: float) -> Answer:
        """What a call gives.

        Raises
        ------
        LateError
            When it does not come within so many seconds.
        """
        try:
            return self._waiter.answer(call, seconds)
        except TimeoutError as error:
            if not self.lost:
                raise  # the driver's own
            parts = self._address.parts()
            who = f"{parts.host} port {parts.port}" if parts.port else parts.host or "the server"
            raise LateError(
                f"{who}: {error}",
                self._address.shown,
                wording(
                    "the server may be busy, or something else may use that port; to wait longer: ",
                    Setting("timeout", "SECONDS"),
                ),
            ) from None


class Waited:
    """A database whose answers are waited for only so long: see ``Database``."""

    def __init__(
        self, make: Callable[[], Database], address: Address, timeout: int | None = None
    ) -> None:
        self._waiter = _Answers(address)
        self.allow(timeout)
        # What loads the driver goes with it, which takes a while on a busy machine.
        first = min(timeout or CONNECT_SECONDS, CONNECT_SECONDS) + _GRACE_SECONDS
        try:
            self._base = self._waiter.answer(make, first)
        except BaseException:
            self._waiter.end()
            raise
        self.label, self.decides = self._base.label, self._base.decides

    def allow(self, timeout: int | None) -> None:
        """Say how long what is asked from now on may take altogether, or any answer without it."""
        self._end = None if timeout is None else time.monotonic() + timeout

    def _answer(self, call: Callable[[], Answer]) -> Answer:
        if self._end is None:
            return self._waiter.answer(call, ANSWER_SECONDS)
        # The server ends a statement by itself when its time is over, and says so.
        return self._waiter.answer(call, self._end - time.monotonic() + _GRACE_SECONDS)

    def listed(self) -> list[RelationName]:
        """The tables and views that may be read."""
        return self._answer(self._base.listed)

    def relation(self, relation_name: RelationName) -> Relation:
        """The columns and the key of a table."""
        return self._answer(lambda: self._base.relation(relation_name))

    def asked(self, query: str) -> Relation:
        """What a query gives."""
        return self._answer(lambda: self._base.asked(query))

    def batches(self, relation: Relation, fetch_request: FetchRequest) -> Iterator[pa.RecordBatch]:
        """The rows, batch by batch."""
        rows = self._answer(lambda: iter(self._base.batches(relation, fetch_request)))
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
        self._waiter.end()


class WaitedTables:
    """Tables that are written, each answer waited for only so long: see ``TableListing``."""

    def __init__(self, begin: Callable[[], Tables], address: Address) -> None:
        self._waiter = _Answers(address)
        try:
            self._tables = self._answer(begin, CONNECT_SECONDS)
        except BaseException:
            self._waiter.end()
            raise

    def _answer(self, call: Callable[[], Answer], seconds: float = ANSWER_SECONDS) -> Answer:
        try:
            return self._waiter.answer(call, seconds)
        except LateError as error:
            raise OutputError(error.what, error.where, error.remedy) from None

    def check(self, name: str, append: bool, sources: Sources = ()) -> None:
        """See that a table can be written, before any work is done for it."""
        self._answer(lambda: self._tables.check(name, append, sources))

    def add(
        self, table: Table, name: str, on_progress: OnProgress, how: TableWriteOptions
    ) -> list[Finding]:
        """Write one table more."""
        return self._answer(lambda: self._tables.add(table, name, on_progress, how))

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
        self._waiter.end()
