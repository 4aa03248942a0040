"""Writing a table to a file, in the format that the ending says."""

from __future__ import annotations

import io
import re
from collections.abc import Mapping, Sequence
from functools import partial
from pathlib import Path
from typing import IO, Any

from plait.core.base.errors import OutputError, PlaitError
from plait.core.base.findings import Finding
from plait.core.base.names import suggest_name
from plait.core.table.table import Table
from plait.io.database.table_writer import DatabaseWriter, Tables
from plait.io.delimited.text_format import PLAIN_TEXT, TextFormat
from plait.io.delimited.write import write_delimited
from plait.io.delivery import journal
from plait.io.delivery.delivery import Delivery
from plait.io.places.address import Address
from plait.io.places.source import (
    DATABASES,
    DELIMITED,
    JSON,
    JSON_LINES,
    WRITABLE,
    OnProgress,
    Source,
)
from plait.io.places.target import TableTarget, TableWriteOptions, parse_table_target

WORKBOOK = ".xlsx"


Target = Path | TableTarget
"""A file, or a table that a server keeps."""


def split_file_and_table(target: str | Path) -> tuple[Target, str | None]:
    """A file, and the table in it where it is a database: ``office.db#season``; or an address.

    >>> split_file_and_table("office.db#season")
    (PosixPath('office.db'), 'season')
    >>> split_file_and_table("a#b.csv")
    (PosixPath('a#b.csv'), None)
    """
    address = parse_table_target(str(target))
    if address:
        return address, None
    file, sign, table = str(target).rpartition("#")
    if sign and table and Path(file).suffix.lower() in DATABASES:
        return Path(file), table
    return Path(target), None


def check_target(
    target: Target,
    name: str,
    delivery: Delivery,
    append: bool = False,
    sources: Sequence[Source] = (),
) -> None:
    """See that a result can be written to a file, or into a database, that is there perhaps.

    Parameters
    ----------
    name : str
        Of the table in a database.
    append : bool
        Whether rows are added to a table that is there.
    sources : sequence of Source
        What is read: none of it is written to.

    Raises
    ------
    OutputError
    """
    if append and not isinstance(target, TableTarget) and target.suffix.lower() not in DATABASES:
        raise OutputError(
            "rows are added to tables of databases only",
            str(target),
            "FILE.sqlite#TABLE, postgresql://…#TABLE, mysql://…#TABLE",
        )
    if isinstance(target, TableTarget):
        read = [
            (source.address, source.part)
            for source in sources
            if source.address and source.in_database
        ]
        _check_queries(target, sources)
        looking = open_table_writer(target.address, delivery.replace)
        try:
            looking.check(target.table, append, read)
        finally:
            looking.rollback()
        return
    check_ending(target)
    adds = _adds(target)
    delivery.check(target, adds=adds)
    if adds:
        from plait.io.sqlite.write import check_table

        check_table(target, name, delivery.replace, append, delivery.reads(target))
    elif target.suffix.lower() == WORKBOOK and target.exists():
        from plait.io.workbook.write import check_replaced

        check_replaced(target, name)


def _adds(target: Path) -> bool:
    """Whether a table is added to what is there."""
    return target.suffix.lower() in DATABASES and target.is_file() and target.stat().st_size > 0


def _check_queries(target: TableTarget, sources: Sequence[Source]) -> None:
    """See that no query of the same database names the table."""
    word = re.compile(rf"(?i)(?<!\w){re.escape(target.stem)}(?!\w)")
    for source in sources:
        if source.address == target.address and word.search(source.options.query):
            raise OutputError(
                f"the query of {source.name} names this table, and sources are never written to",
                str(target),
                "write to another table",
            )


def _server_tables(target: TableTarget, delivery: Delivery) -> Tables:
    """The change in a database that a delivery makes."""

    def begin() -> Tables:
        return open_table_writer(target.address, delivery.replace)

    return delivery.joined(target, target.address.written, begin)


def open_table_writer(address: Address, replace: bool) -> Tables:
    """A change in a database of a server that is begun, and whose answers are waited for so long.

    Raises
    ------
    OutputError
    """
    from plait.io.database.deadlines import WaitedTables

    def begin() -> DatabaseWriter:
        if address.scheme == "mysql":
            from plait.io.database.mysql_writer import MySqlWriter

            return MySqlWriter(address, replace)
        from plait.io.database.postgres_writer import PostgresWriter

        return PostgresWriter(address, replace)

    return WaitedTables(begin, address)


def _was_committed(said: dict[str, Any]) -> bool | None:
    """Whether a change that a killed run began was made; ``None`` where no server knows of it."""
    if not isinstance(said.get("address"), str):
        return None
    address = Address(said["address"])
    try:
        return _asked(address, said)
    except PlaitError as error:
        raise OutputError(
            "a run that was killed here also wrote to this database, which alone knows whether it "
            f"took effect: {error.what}",
            address.shown,
            error.remedy or "see that the database can be reached, and try again",
        ) from None


def _asked(address: Address, said: dict[str, Any]) -> bool:
    if isinstance(said.get("transaction"), str):
        from plait.io.database.postgres_writer import was_committed as in_postgres

        return in_postgres(address, said["transaction"])
    from plait.io.database.mysql_writer import was_committed as in_mysql

    schema, part = map(str, said["part"])
    return in_mysql(address, schema, part)


journal.asking.append(_was_committed)


def add_table_to_delivery(
    delivery: Delivery,
    table: Table,
    target: Target,
    on_progress: OnProgress = lambda _: None,
    text_format: TextFormat = PLAIN_TEXT,
    beside: Mapping[str, Table] | None = None,
    how: TableWriteOptions | None = None,
) -> list[Finding]:
    """Have a table written to a file, or into a database, when the delivery is handed over.

    Parameters
    ----------
    on_progress, text_format, beside
        As for ``write_table``.
    how : TableWriteOptions, optional
        How it is written into a database.
    """
    how = how or TableWriteOptions()
    if isinstance(target, TableTarget):
        return _server_tables(target, delivery).add(table, target.table, on_progress, how)
    if _adds(target):
        from plait.io.sqlite.write import SqliteAppend

        check_target(target, table.name, delivery, how.append)
        added = delivery.joined(target, str(target.absolute()), partial(SqliteAppend, target))
        return added.add(table, table.name, on_progress, how.append, delivery.reads(target))
    findings: list[Finding] = []

    def write(part: Path) -> None:
        if how.within:
            findings.extend(_write_all(table, how.within, part, on_progress))
        else:
            findings.extend(
                write_table(table, part, target.suffix, on_progress, text_format, beside)
            )

    delivery.write(target, write)
    return findings


def _write_all(
    table: Table, within: Mapping[str, Table], part: Path, on_progress: OnProgress
) -> list[Finding]:
    """Write a new database with several tables."""
    from plait.io.sqlite.write import write_database

    return write_database({table.name: table, **within}, part, on_progress)


def check_ending(target: Path) -> None:
    """See that some format has the ending.

    Raises
    ------
    OutputError
        Names the endings there are, and the nearest.
    """
    ending = target.suffix.lower()
    if ending not in WRITABLE:
        raise OutputError(
            f"cannot write files ending in {ending!r}"
            if ending
            else "the file name has no extension",
            str(target),
            suggest_name(ending, WRITABLE) or f"one of {', '.join(WRITABLE)}",
        )


def check_format_capacity(table: Table, beside: Mapping[str, Table], target: Target) -> None:
    """See that the format holds a table of that size, before anything is written.

    Raises
    ------
    OutputError
        When a sheet of a workbook is too small.
    """
    if isinstance(target, Path) and target.suffix.lower() == WORKBOOK:
        from plait.io.workbook.write import check_fits

        check_fits({table.name: table, **beside}, target)


def write_table(
    table: Table,
    target: Path,
    ending: str,
    on_progress: OnProgress = lambda _: None,
    text_format: TextFormat = PLAIN_TEXT,
    beside: Mapping[str, Table] | None = None,
) -> list[Finding]:
    """Write a table to a file.

    Parameters
    ----------
    target : Path
        Written to directly; ``Delivery`` sees to it that files are whole.
    ending : str
        Says the format: one of ``WRITABLE``.
    on_progress : callable
        Told how many rows were written, each time.
    text_format : TextFormat
        How delimited text is written.
    beside : mapping of str to Table, optional
        Further sheets of a workbook; other formats have no place for them.

    Returns
    -------
    list of Finding
        About what was written.
    """
    ending = ending.lower()
    if ending in DELIMITED:
        with target.open("wb", buffering=0) as file:
            return write_delimited(table, file, DELIMITED[ending], on_progress, text_format)
    # Each writer is loaded when it is needed, so that nobody waits for the others.
    if ending == ".parquet":
        from plait.io.columnar import write_parquet

        return write_parquet(table, target, on_progress)
    if ending in (".arrow", ".feather"):
        from plait.io.columnar import write_arrow

        return write_arrow(table, target, on_progress)
    if ending in (JSON, *JSON_LINES):
        from plait.io.json_files import write_json

        return write_json(table, target, ending != JSON, on_progress)
    if ending in DATABASES:
        from plait.io.sqlite.write import write_database

        return write_database({table.name: table}, target, on_progress)
    from plait.io.workbook.write import write_workbook

    return write_workbook({table.name: table, **(beside or {})}, target, on_progress)


def to_csv_bytes(table: Table, text_format: TextFormat = PLAIN_TEXT) -> bytes:
    """A small table as CSV."""
    out = io.BytesIO()
    write_csv_to(table, out, text_format)
    return out.getvalue()


def write_csv_to(
    table: Table, file: IO[bytes], text_format: TextFormat = PLAIN_TEXT
) -> list[Finding]:
    """Write a table as CSV to an open file, such as standard output."""
    return write_delimited(table, file, ",", text_format=text_format)
