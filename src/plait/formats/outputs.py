"""Writing a table to a file, in the format that the ending says."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path
from typing import IO

from plait.core.errors import OutputError
from plait.core.finding import Finding
from plait.core.names import nearest
from plait.core.table import Table
from plait.formats.delimited_out import write_delimited
from plait.formats.endings import DATABASES, DELIMITED, JSON, JSON_LINES, WRITABLE

Tick = Callable[[int], None]

WORKBOOK = ".xlsx"


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
        from plait.formats.workbook_out import check_fits

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
        from plait.formats.columnar_out import write_parquet

        return write_parquet(table, target, tick)
    if ending in (".arrow", ".feather"):
        from plait.formats.columnar_out import write_arrow

        return write_arrow(table, target, tick)
    if ending in (JSON, *JSON_LINES):
        from plait.formats.json_out import write_json

        return write_json(table, target, ending != JSON, tick)
    if ending in DATABASES:
        from plait.formats.database_out import write_database

        return write_database({table.name: table}, target, tick)
    from plait.formats.workbook_out import write_workbook

    return write_workbook({table.name: table, **(beside or {})}, target, tick)


def write_csv_to(table: Table, file: IO[bytes], guard: bool = False) -> list[Finding]:
    """Write a table as CSV to an open file, such as standard output."""
    return write_delimited(table, file, ",", guard=guard)
