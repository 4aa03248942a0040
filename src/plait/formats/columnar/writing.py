"""Writing Parquet and Arrow files: each column in the type that was found for it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from pathlib import Path

import pyarrow as pa
import pyarrow.parquet

from plait.core.account.finding import Finding
from plait.core.table.table import Table
from plait.core.text.cells import is_text
from plait.formats.cells.typed import Typing, groups, likely_typing, marker_findings, sure_typing

ROW_GROUP = 1 << 20
ARROW_BATCH = 1 << 16

Tick = Callable[[int], None]


def write_parquet(table: Table, target: Path, tick: Tick = lambda _: None) -> list[Finding]:
    """Write a table as Parquet.

    Parameters
    ----------
    table : Table
        A text column is written as integers, decimals, true/false, dates or
        times where all of its cells are such; empty cells are missing.
    target : Path
    tick : callable
        Told how many rows were written, each time.

    Returns
    -------
    list of Finding
        About markers for missing.

    Notes
    -----
    A glance decides the types at first, and each cell is checked as it is
    converted, while others are written. Should one turn out not to be of the
    type, all cells are looked at and the file is written once more.
    """
    try:
        return _write(likely_typing(table), target, tick)
    except pa.ArrowInvalid:
        return _write(sure_typing(table), target, lambda _: None)


def _write(typing: Typing, target: Path, tick: Tick) -> list[Finding]:
    # The least and greatest text of a row group cost more time than any reader gets back.
    schema = typing.schema
    missing: Counter[str] = Counter()
    ranged = [field.name for field in schema if not is_text(field.type)]
    with pa.parquet.ParquetWriter(target, schema, write_statistics=ranged or False) as writer:
        for made in groups(typing, ROW_GROUP):
            writer.write_table(made, row_group_size=ROW_GROUP)
            missing.update({name: made[name].null_count for name in made.column_names})
            tick(made.num_rows)
    return marker_findings(typing, [name for name, count in missing.items() if count])


def write_arrow(table: Table, target: Path, tick: Tick = lambda _: None) -> list[Finding]:
    """Write a table as an Arrow file, with the types that ``write_parquet`` gives."""
    typing = sure_typing(table)
    with pa.OSFile(str(target), "wb") as file, pa.ipc.new_file(file, typing.schema) as writer:
        for made in groups(typing, ARROW_BATCH):
            writer.write_table(made, ARROW_BATCH)
            tick(made.num_rows)
    return marker_findings(typing)
