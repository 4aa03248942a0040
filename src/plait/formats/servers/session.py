"""The connections of a run: one for each database, and in it one read-only snapshot."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from threading import RLock
from typing import TYPE_CHECKING

from plait.formats.places.address import Address

if TYPE_CHECKING:
    from plait.formats.servers.relation import Database
    from plait.formats.servers.waiting import Waited


class _Session:
    """Connections by their addresses, each used by one thread at a time."""

    def __init__(self) -> None:
        self._lock = RLock()
        self._open: dict[str, tuple[Waited, RLock]] = {}

    def get(self, address: Address, make: Callable[[], Waited]) -> tuple[Waited, RLock]:
        with self._lock:
            if address.written not in self._open:
                self._open[address.written] = make(), RLock()
            return self._open[address.written]

    def close(self) -> None:
        for base, _ in self._open.values():
            base.close()
        self._open = {}


_SESSION: ContextVar[_Session | None] = ContextVar("session", default=None)


@contextmanager
def one_snapshot() -> Iterator[None]:
    """Have all that is read within from one database stand in it at the same moment."""
    if _SESSION.get() is not None:
        yield
        return
    session = _Session()
    token = _SESSION.set(session)
    try:
        yield
    finally:
        _SESSION.reset(token)
        session.close()


@contextmanager
def connected(address: Address, timeout: int | None = None) -> Iterator[Database]:
    """A connection to read from: the session's, or one for as long as needed.

    Raises
    ------
    SourceError
        When there is no way to it.
    """
    from plait.formats.servers.waiting import Waited

    def make() -> Waited:
        return Waited(lambda: _connection(address, timeout), address, timeout)

    session = _SESSION.get()
    if session is None:
        base = make()
        try:
            yield base
        finally:
            base.close()
        return
    base, lock = session.get(address, make)
    with lock:
        base.allow(timeout)
        yield base


def _connection(address: Address, timeout: int | None) -> Database:
    if address.scheme == "postgresql":
        from plait.formats.servers.postgres import Postgres

        return Postgres(address, timeout)
    from plait.formats.servers.dialects import connect

    return connect(address, timeout)
