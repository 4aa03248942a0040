"""Sessions with servers, one a job, and the kinds of servers there are."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from threading import RLock
from typing import TYPE_CHECKING

from plait.core.base.errors import SourceError, UsageError
from plait.core.job.current import current_job, within_job
from plait.io.database.generic import GenericDatabase
from plait.io.database.relation import Database
from plait.io.places.address import Address, import_optional

if TYPE_CHECKING:
    from plait.io.database.deadlines import Waited
    from plait.io.database.relation import Database


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


@contextmanager
def snapshot_session() -> Iterator[None]:
    """Have all that is read within from one database stand in it at the same moment."""
    if current_job().databases is not None:
        yield
        return
    session = _Session()
    try:
        with within_job(databases=session):
            yield
    finally:
        session.close()


@contextmanager
def open_connection(address: Address, timeout: int | None = None) -> Iterator[Database]:
    """A connection to read from: the session's, or one for as long as needed.

    Raises
    ------
    SourceError
        When there is no way to it.
    """
    from plait.io.database.deadlines import Waited

    def make() -> Waited:
        return Waited(lambda: _connection(address, timeout), address, timeout)

    session: _Session | None = current_job().databases
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
        from plait.io.database.postgres import PostgresDatabase

        return PostgresDatabase(address, timeout)

    return connect(address, timeout)


def connect(address: Address, timeout: int | None = None) -> Database:
    """A connection to a database of any kind but PostgreSQL.

    Raises
    ------
    SourceError, UsageError
        When there is no way to it, or no dialect for it.
    """
    if address.scheme == "mysql":
        from plait.io.database.mysql import MySqlDatabase

        return MySqlDatabase(address, timeout)
    sqlalchemy = import_optional("sqlalchemy", "databases", address.shown)
    try:
        engine = sqlalchemy.create_engine(address.filled(), poolclass=sqlalchemy.pool.NullPool)
    except ImportError as error:
        raise UsageError(
            f"the driver for {address.scheme} is not installed: {error.name}",
            address.shown,
            f"pip install {error.name}",
        ) from None
    except sqlalchemy.exc.ArgumentError:
        raise UsageError(
            f"no database has addresses with {address.scheme}://",
            address.shown,
            "postgresql:// mysql:// https:// s3://, or a dialect of SQLAlchemy's",
        ) from None
    # SQLite would make the file that it is asked to open.
    file = engine.url.database if engine.dialect.name == "sqlite" else None
    if file and not Path(file).is_file():
        raise SourceError("file not found", address.shown, "a file of SQLite: FILE#TABLE")
    return GenericDatabase(address, engine)
