"""A join from file to file: left rows are read, looked up and written as they pass."""

from __future__ import annotations

import shutil
import tempfile
from collections.abc import Iterator
from functools import partial
from pathlib import Path
from typing import IO

import numpy as np
import pyarrow as pa

from plait.core.account.finding import Finding
from plait.core.account.names import distinct_name
from plait.core.account.parallel import half, ordered_map
from plait.core.table.table import Table
from plait.core.verbs.joining.streamed import Passed, StreamJoin
from plait.formats.text.writing import Batch, write_batch, write_batches, write_header

_SPOOLED = 16 << 20


class LostRows:
    """The left rows that the result does not have, or that match nothing, as they pass.

    Parameters
    ----------
    left : Table
        Its name and columns.
    guard : bool
        Put a ``'`` before cells that a spreadsheet would run as formulas.
    """

    def __init__(self, left: Table, guard: bool) -> None:
        self._guard = guard
        self._name, names = left.name, left.column_names
        self._spool: IO[bytes] = tempfile.SpooledTemporaryFile(_SPOOLED)  # noqa: SIM115
        self.names = [*(distinct_name(one, names) for one in ("reason", "source", "row")), *names]
        self.rows = 0

    def take(self, passed: Passed, why: tuple[str, str]) -> None:
        """Render the rows set aside of a stretch."""
        if not len(passed.lost_rows):
            return
        if not self.rows:
            write_header(self.names, self._spool, ",")
        self.rows += len(passed.lost_rows)
        missing = passed.lost_missing.astype(np.int32)
        reason = pa.DictionaryArray.from_arrays(missing, pa.array(why))
        source = pa.repeat(self._name, len(passed.lost_rows))
        cells = [reason, source, pa.array(passed.lost_rows + 1), *passed.lost]
        batch = pa.RecordBatch.from_arrays(cells, names=self.names)
        write_batch(batch, self._spool, ",", self._guard)

    def write(self, part: Path) -> None:
        """Write them to a file."""
        self._spool.seek(0)
        with part.open("wb") as file:
            shutil.copyfileobj(self._spool, file)


def pass_through(
    joining: StreamJoin,
    columns: Iterator[list[pa.Array]],
    lost: LostRows,
    target: Path,
    delimiter: str,
    guard: bool,
) -> list[Finding]:
    """Let all left rows pass, and write the result as they do.

    Parameters
    ----------
    joining : StreamJoin
    columns : iterator of list of pyarrow.Array
        Stretches of left rows, in order.
    lost : LostRows
        Gets those that are listed apart.
    target : Path
    delimiter : str
    guard : bool

    Returns
    -------
    list of Finding
        About what was written.
    """

    def batches() -> Iterator[Batch]:
        for looked in ordered_map(joining.look_up, columns, 2, half()):
            passed = joining.take(looked)
            lost.take(passed, joining.reasons)
            yield passed.start, partial(joining.batch, passed)

    with target.open("wb", buffering=0) as file:
        write_header(joining.column_names, file, delimiter)
        return write_batches(batches(), file, delimiter, guard=guard, workers=half())
