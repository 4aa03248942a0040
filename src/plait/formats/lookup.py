"""Single rows of a source looked up again: their cells as they are there, and their lines."""

from __future__ import annotations

import io
from collections.abc import Sequence
from dataclasses import dataclass
from typing import IO

import numpy as np

from plait.core.table.table import Table
from plait.core.table.whence import source_rows
from plait.core.text.cells import as_text
from plait.formats.endings import DELIMITED
from plait.formats.reading import open_bytes, read_source
from plait.formats.sources import Source
from plait.formats.text.dialect import csv_reader
from plait.formats.text.reading import record_blocks


@dataclass(frozen=True)
class Looked:
    """A row of a source: the line it begins on, where it has lines, and its cells by column."""

    line: int | None
    cells: dict[str, str]


def look_up(source: Source, rows: Sequence[int]) -> dict[int, Looked]:
    """Some rows of a source.

    Parameters
    ----------
    source : Source
    rows : sequence of int
        From 0, the header not counted. Those that are not there are left out.

    Raises
    ------
    SourceError
        When it cannot be read.
    """
    if source.ending in DELIMITED:
        with open_bytes(source) as stream:
            return _in_text(source, stream, sorted(set(rows)))
    return _in_table(read_source(source), rows)


def _in_text(source: Source, stream: IO[bytes], rows: Sequence[int]) -> dict[int, Looked]:
    """The records of a text file, found block by block."""
    names, delimiter, found = record_blocks(
        stream, source.where, DELIMITED[source.ending], source.given.dialect
    )
    looked: dict[int, Looked] = {}
    begin = 0
    for data, records, lines in found:
        here = [row - begin for row in rows if begin <= row < begin + records]
        if here:
            for row, one in _records(data, delimiter, names, set(here), lines).items():
                looked[begin + row] = one
        begin += records
        if begin > rows[-1]:
            break
    return looked


def _records(
    data: bytes, delimiter: str, names: Sequence[str], wanted: set[int], lines: int
) -> dict[int, Looked]:
    text = io.StringIO(data.decode("utf-8", "replace"), newline="")
    reader = csv_reader(text, delimiter=delimiter)
    looked: dict[int, Looked] = {}
    row, line = 0, lines + 1
    for cells in reader:
        if cells or len(names) == 1:
            if row in wanted:
                looked[row] = Looked(line, dict(zip(names, cells or [""], strict=False)))
            row += 1
        line = lines + reader.line_num + 1
    return looked


def _in_table(table: Table, rows: Sequence[int]) -> dict[int, Looked]:
    """The rows of a table that was read whole."""
    _, numbers = source_rows(table.strands[0], np.arange(table.rows))
    looked: dict[int, Looked] = {}
    for row in rows:
        at = np.flatnonzero(numbers == row)
        if len(at):
            place = int(at[0])
            cells = {
                column.name: as_text(table.cells(column, place, place + 1))[0].as_py() or ""
                for column in table.columns
            }
            looked[row] = Looked(None, cells)
    return looked
