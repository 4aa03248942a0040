"""Writing a table to a file, in the format that the ending says."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import IO

from plait.core.errors import OutputError
from plait.core.names import nearest
from plait.core.table import Table
from plait.formats.delimited_out import write_delimited

Tick = Callable[[int], None]

_DELIMITERS = {".csv": ",", ".tsv": "\t", ".tab": "\t"}
ENDINGS = (*_DELIMITERS, ".parquet")


def check_ending(target: Path) -> None:
    """See that some format has the ending.

    Raises
    ------
    OutputError
        Names the endings there are, and the nearest.
    """
    ending = target.suffix.lower()
    if ending not in ENDINGS:
        raise OutputError(
            f"no format has the ending {ending!r}" if ending else "the name has no ending",
            str(target),
            nearest(ending, ENDINGS) or f"one of {', '.join(ENDINGS)}",
        )


def write_table(table: Table, target: Path, ending: str, tick: Tick = lambda _: None) -> None:
    """Write a table to a file.

    Parameters
    ----------
    table : Table
    target : Path
        Written to directly; ``Delivery`` sees to it that files are whole.
    ending : str
        Says the format: one of ``ENDINGS``.
    tick : callable
        Told how many rows were written, each time.
    """
    if ending.lower() == ".parquet":
        from plait.formats.parquet import write_parquet

        write_parquet(table, target, tick)
    else:
        with target.open("wb", buffering=0) as file:
            write_delimited(table, file, _DELIMITERS[ending.lower()], tick)


def write_csv_to(table: Table, file: IO[bytes]) -> None:
    """Write a table as CSV to an open file, such as standard output."""
    write_delimited(table, file, ",")
