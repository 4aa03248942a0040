"""Writing a table to a file, in the format that the ending says."""

from __future__ import annotations

import io
import re
from collections.abc import Mapping, Sequence
from functools import partial
from pathlib import Path
from typing import IO, Any

from plait.core.account.errors import OutputError, PlaitError
from plait.core.account.finding import Finding
from plait.core.account.names import nearest
from plait.core.table.table import Table
from plait.formats.delivery import journal
from plait.formats.delivery.delivery import Delivery
from plait.formats.places.address import Address
from plait.formats.places.endings import DATABASES, DELIMITED, JSON, JSON_LINES, WRITABLE
from plait.formats.places.reader import Tick
from plait.formats.places.source import Source
from plait.formats.places.target import How, TableTarget, table_target
from plait.formats.servers.writing.into import Into, Tables
from plait.formats.text.writing import write_delimited

WORKBOOK = ".xlsx"


Target = Path | TableTarget
"""A file, or a table that a server keeps."""


def file_and_table(target: str | Path) -> tuple[Target, str | None]:
    """A file, and the table in it where it is a database: ``office.db#season``; or an address.

    >>> file_and_table("office.db#season")
    (PosixPath('office.db'), 'season')
    >>> file_and_table("a#b.csv")
    (PosixPath('a#b.csv'), None)
    """
    address = table_target(str(target))
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
    target : Path or TableTarget
    name : str
        Of the table in a database.
    delivery : Delivery
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
        read = [(one.address, one.part) for one in sources if one.address and one.in_database]
        _check_queries(target, sources)
        looking = begun(target.address, delivery.replace)
        try:
            looking.check(target.table, append, read)
        finally:
            looking.rollback()
        return
    check_ending(target)
    adds = _adds(target)
    delivery.check(target, adds=adds)
    if adds:
        from plait.formats.databases.writing import check_table

        check_table(target, name, delivery.replace, append)
    elif target.suffix.lower() == WORKBOOK and target.exists():
        from plait.formats.workbooks.writing import check_replaced

        check_replaced(target, name)


def _adds(target: Path) -> bool:
    """Whether a table is added to what is there."""
    return target.suffix.lower() in DATABASES and target.is_file() and target.stat().st_size > 0


def _check_queries(target: TableTarget, sources: Sequence[Source]) -> None:
    """See that no query of the same database names the table."""
    word = re.compile(rf"(?i)(?<!\w){re.escape(target.stem)}(?!\w)")
    for one in sources:
        if one.address == target.address and word.search(one.given.query):
            raise OutputError(
                f"the query of {one.name} names this table, and sources are never written to",
                str(target),
                "write to another table",
            )


def _server_tables(target: TableTarget, delivery: Delivery) -> Tables:
    """The change in a database that a delivery makes."""

    def begin() -> Tables:
        return begun(target.address, delivery.replace)

    return delivery.joined(target, target.address.written, begin)


def begun(address: Address, replace: bool) -> Tables:
    """A change in a database of a server that is begun, and whose answers are waited for so long.

    Raises
    ------
    OutputError
    """
    from plait.formats.servers.waiting import WaitedTables

    def begin() -> Into:
        if address.scheme == "mysql":
            from plait.formats.servers.writing.mysql import MySQLTables

            return MySQLTables(address, replace)
        from plait.formats.servers.writing.postgres import PostgresTables

        return PostgresTables(address, replace)

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
        from plait.formats.servers.writing.postgres import was_committed as in_postgres

        return in_postgres(address, said["transaction"])
    from plait.formats.servers.writing.mysql import was_committed as in_mysql

    schema, part = map(str, said["part"])
    return in_mysql(address, schema, part)


journal.asking.append(_was_committed)


def deliver(
    delivery: Delivery,
    table: Table,
    target: Target,
    tick: Tick = lambda _: None,
    guard: bool = False,
    beside: Mapping[str, Table] | None = None,
    how: How | None = None,
) -> list[Finding]:
    """Have a table written to a file, or into a database, when the delivery is handed over.

    Parameters
    ----------
    delivery : Delivery
    table : Table
    target : Path
    tick, guard, beside
        As for ``write_table``.
    how : How, optional
        How it is written into a database.

    Returns
    -------
    list of Finding
    """
    how = how or How()
    if isinstance(target, TableTarget):
        return _server_tables(target, delivery).add(table, target.table, tick, how)
    if _adds(target):
        from plait.formats.databases.writing import TablesAdded

        check_target(target, table.name, delivery, how.append)
        added = delivery.joined(target, str(target.absolute()), partial(TablesAdded, target))
        return added.add(table, table.name, tick, how.append)
    findings: list[Finding] = []

    def write(part: Path) -> None:
        if how.within:
            findings.extend(_write_all(table, how.within, part, tick))
        else:
            findings.extend(write_table(table, part, target.suffix, tick, guard, beside))

    delivery.write(target, write)
    return findings


def _write_all(table: Table, within: Mapping[str, Table], part: Path, tick: Tick) -> list[Finding]:
    """Write a new database with several tables."""
    from plait.formats.databases.writing import write_database

    return write_database({table.name: table, **within}, part, tick)


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
            nearest(ending, WRITABLE) or f"one of {', '.join(WRITABLE)}",
        )


def check_room(table: Table, beside: Mapping[str, Table], target: Target) -> None:
    """See that the format holds a table of that size, before anything is written.

    Raises
    ------
    OutputError
        When a sheet of a workbook is too small.
    """
    if isinstance(target, Path) and target.suffix.lower() == WORKBOOK:
        from plait.formats.workbooks.writing import check_fits

        check_fits({table.name: table, **beside}, target)


def write_table(
    table: Table,
    target: Path,
    ending: str,
    tick: Tick = lambda _: None,
    guard: bool = False,
    beside: Mapping[str, Table] | None = None,
) -> list[Finding]:
    """Write a table to a file.

    Parameters
    ----------
    table : Table
    target : Path
        Written to directly; ``Delivery`` sees to it that files are whole.
    ending : str
        Says the format: one of ``WRITABLE``.
    tick : callable
        Told how many rows were written, each time.
    guard : bool
        Put a ``'`` before cells of text files that a spreadsheet would run.
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
            return write_delimited(table, file, DELIMITED[ending], tick, guard)
    # Each writer is loaded when it is needed, so that nobody waits for the others.
    if ending == ".parquet":
        from plait.formats.columnar.writing import write_parquet

        return write_parquet(table, target, tick)
    if ending in (".arrow", ".feather"):
        from plait.formats.columnar.writing import write_arrow

        return write_arrow(table, target, tick)
    if ending in (JSON, *JSON_LINES):
        from plait.formats.json.writing import write_json

        return write_json(table, target, ending != JSON, tick)
    if ending in DATABASES:
        from plait.formats.databases.writing import write_database

        return write_database({table.name: table}, target, tick)
    from plait.formats.workbooks.writing import write_workbook

    return write_workbook({table.name: table, **(beside or {})}, target, tick)


def csv_bytes(table: Table, guard: bool = False) -> bytes:
    """A small table as CSV."""
    out = io.BytesIO()
    write_csv_to(table, out, guard)
    return out.getvalue()


def write_csv_to(table: Table, file: IO[bytes], guard: bool = False) -> list[Finding]:
    """Write a table as CSV to an open file, such as standard output."""
    return write_delimited(table, file, ",", guard=guard)
