"""Rows with too few or too many cells, and notes below a table: kept apart with their places."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
import pyarrow as pa

from plait.core.account.finding import MOST_EXAMPLES, Example, Finding, counted
from plait.core.table.strand import Origin
from plait.core.table.table import SetAside, Table, from_columns
from plait.core.table.whence import place_in

MOST_NOTES = 10
_WORDS = re.compile(r"[^\W\d_]\S*\s+\S|^\W*\w+:")

_CAUSES = {
    "ragged": "rows with too few or too many cells",
    "notes": "lines below the table",
}


@dataclass(frozen=True)
class Ragged:
    """A row that does not fit its header: its row number from 0, how many cells, its text."""

    row: int
    cells: int
    text: str


def are_notes(rows: Sequence[Ragged]) -> bool:
    """Whether rows at the end of a file are notes below the table: few, of one cell, of words."""
    return len(rows) <= MOST_NOTES and all(
        row.cells == 1 and _WORDS.search(row.text) for row in rows
    )


def without_ragged(table: Table, ragged: Sequence[Ragged], notes: int) -> Table:
    """Tell of rows that a table was read without.

    Parameters
    ----------
    table : Table
        The rows that fit.
    ragged : sequence of Ragged
        The others, in order; their numbers count all rows.
    notes : int
        How many of them, the last ones, are notes below the table.

    Returns
    -------
    Table
        With a finding, the rows set aside, and row numbers that count all rows.
    """
    if not ragged:
        return table
    columns = len(table.columns)
    origin = table.strands[0].origins[0]
    assert isinstance(origin, Origin)  # it was just read
    numbers = np.delete(np.arange(table.rows + len(ragged)), [one.row for one in ragged])
    strand = replace(table.strands[0], origins=(replace(origin, numbers=numbers),))
    split = len(ragged) - notes
    aside, findings = [], []
    for rows, kind in ((ragged[:split], "ragged"), (ragged[split:], "notes")):
        if rows:
            aside.append(_set_aside(table.name, origin, rows, columns, kind))
            findings.append(_finding(origin, rows, columns, kind))
    return replace(
        table,
        strands=(strand, *table.strands[1:]),
        findings=(*table.findings, *findings),
        aside=(*table.aside, *aside),
    )


def _set_aside(
    name: str, origin: Origin, rows: Sequence[Ragged], columns: int, kind: str
) -> SetAside:
    made = from_columns(name, {"record": [row.text for row in rows]}, origin.path)
    numbers = np.array([row.row for row in rows])
    strand = replace(made.strands[0], origins=(replace(origin, rows=len(rows), numbers=numbers),))
    reasons = [
        f"{counted(row.cells, 'cell')} where the header has {columns}"
        if kind == "ragged"
        else "a line below the table"
        for row in rows
    ]
    return SetAside(
        f"{name}-{kind}", replace(made, strands=(strand,)), pa.array(reasons), False, _CAUSES[kind]
    )


def _finding(origin: Origin, rows: Sequence[Ragged], columns: int, kind: str) -> Finding:
    examples = tuple(
        Example(row.text[:60], (place_in(origin, row.row),)) for row in rows[:MOST_EXAMPLES]
    )
    if kind == "notes":
        return Finding(
            "footer-lines",
            "warning",
            len(rows),
            f"{counted(len(rows), 'line')} below the table set aside",
            "if it is an incomplete record, get the file again",
            origin.path,
            examples,
        )
    return Finding(
        "row-ragged",
        "warning",
        len(rows),
        f"{counted(len(rows), 'row')} set aside: not the {columns} cells of the header",
        "fix the rows in the source",
        origin.path,
        examples,
    )
