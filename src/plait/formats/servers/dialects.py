"""Which databases other than PostgreSQL there is a way to."""

from __future__ import annotations

from pathlib import Path

from plait.core.account.errors import SourceError, UsageError
from plait.formats.places.address import Address
from plait.formats.places.extras import needed
from plait.formats.servers.alchemy import Alchemy
from plait.formats.servers.relation import Database


def connect(address: Address, timeout: int | None = None) -> Database:
    """A connection to a database of any kind but PostgreSQL.

    Raises
    ------
    SourceError, UsageError
        When there is no way to it, or no dialect for it.
    """
    if address.scheme == "mysql":
        from plait.formats.servers.mysql import MySQL

        return MySQL(address, timeout)
    sqlalchemy = needed("sqlalchemy", "databases", address.shown)
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
    return Alchemy(address, engine)
