"""Writing a table to a file, in the format that the ending says."""

from __future__ import annotations

import io
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import IO

from plait.core.account.errors import OutputError
from plait.core.account.finding import Finding
from plait.core.account.names import nearest
from plait.core.table.table import Table
from plait.formats.delivery.delivery import Delivery
from plait.formats.places.endings import DATABASES, DELIMITED, JSON, JSON_LINES, WRITABLE
from plait.formats.text.writing import write_delimited

Tick = Callable[[int], None]

WORKBOOK = ".xlsx"


def file_and_table(target: str | Path) -> tuple[Path, str | None]:
    """A file, and the table in it where it is a database: ``office.db#season``.

    >>> file_and_table("office.db#season")
    (PosixPath('office.db'), 'season')
    >>> file_and_table("a#b.csv")
    (PosixPath('a#b.csv'), None)
    """
    file, sign, table = str(target).rpartition("#")
    if sign and table and Path(file).suffix.lower() in DATABASES:
        return Path(file), table
    return Path(target), None


def check_target(target: Path, name: str, delivery: Delivery) -> None:
    """See that a result can be written to a file, or into a database, that is there perhaps.

    Raises
    ------
    OutputError
    """
    check_ending(target)
    adds = _adds(target)
    delivery.check(target, adds=adds)
    if adds:
        from plait.formats.databases.writing import check_table

        check_table(target, name, delivery.replace)
    elif target.suffix.lower() == WORKBOOK and target.exists():
        from plait.formats.workbooks.writing import check_replaced

        check_replaced(target, name)


def _adds(target: Path) -> bool:
    """Whether a table is added to what is there."""
    return target.suffix.lower() in DATABASES and target.is_file() and target.stat().st_size > 0


def deliver(
    delivery: Delivery,
    table: Table,
    target: Path,
    tick: Tick = lambda _: None,
    guard: bool = False,
    beside: Mapping[str, Table] | None = None,
) -> list[Finding]:
    """Have a table written to a file, or into a database, when the delivery is handed over.

    Parameters
    ----------
    delivery : Delivery
    table : Table
    target : Path
    tick, guard, beside
        As for ``write_table``.

    Returns
    -------
    list of Finding
    """
    if _adds(target):
        from plait.formats.databases.writing import TableAdded

        check_target(target, table.name, delivery)
        added = TableAdded(table, target, table.name, tick)
        delivery.join(target, added)
        return added.findings
    findings: list[Finding] = []

    def write(part: Path) -> None:
        findings.extend(write_table(table, part, target.suffix, tick, guard, beside))

    delivery.write(target, write)
    return findings


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
            f"no format is written with the ending {ending!r}"
            if ending
            else "the name has no ending",
            str(target),
            nearest(ending, WRITABLE) or f"one of {', '.join(WRITABLE)}",
        )


def check_room(table: Table, beside: Mapping[str, Table], target: Path) -> None:
    """See that the format holds a table of that size, before anything is written.

    Raises
    ------
    OutputError
        When a sheet of a workbook is too small.
    """
    if target.suffix.lower() == WORKBOOK:
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
