"""Cells that a spreadsheet would run as formulas when it opens a text file."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.account.finding import MOST_EXAMPLES, Example, Finding, counted
from plait.core.text.cells import is_text
from plait.core.text.words import Cells

HEADING = -1  # the row that it has
_SIGNS = b"=+-@\t\r"
_STARTS = np.zeros(256, bool)
_STARTS[list(_SIGNS)] = True
_NUMBER = r"^[+-]?[0-9]*[.,]?[0-9]+([eE][+-]?[0-9]+)?%?$"


def formula_rows(cells: pa.Array) -> npt.NDArray[np.int64]:
    """Rows whose cell begins as a formula does, and is no number.

    >>> formula_rows(pa.array(["=1+1", "-5", "-", "@x", "a", None])).tolist()
    [0, 3]
    """
    if pa.types.is_dictionary(cells.type):
        return _coded_rows(cells)
    if not is_text(cells.type) or not len(cells):
        return np.zeros(0, np.int64)
    some = _suspects(Cells(cells))
    if not len(some):
        return some
    taken = cells.take(pa.array(some))
    plain = pc.or_(pc.match_substring_regex(taken, _NUMBER), pc.equal(pc.utf8_length(taken), 1))
    rows: npt.NDArray[np.int64] = some[~plain.to_numpy(zero_copy_only=False)]
    return rows


def _suspects(cells: Cells) -> npt.NDArray[np.int64]:
    """Rows whose cell begins with one of the signs."""
    text = cells.data.tobytes()  # one look at all bytes is much faster than one at each cell
    if not any(sign in text for sign in _SIGNS):
        return np.zeros(0, np.int64)
    return np.flatnonzero(_STARTS[cells.byte(0)])


def _coded_rows(cells: pa.DictionaryArray) -> npt.NDArray[np.int64]:
    known = formula_rows(cells.dictionary)
    if not len(known):
        return known
    return np.flatnonzero(np.isin(pc.fill_null(cells.indices, -1).to_numpy(), known))


def guarded(batch: pa.RecordBatch) -> pa.RecordBatch:
    """The batch with a ``'`` before each such cell, so that it is shown as it stands."""
    columns = []
    for column in batch.columns:
        rows = formula_rows(column)
        if len(rows):
            column = column.cast(pa.string()) if not is_text(column.type) else column
            mask = np.zeros(len(column), bool)
            mask[rows] = True
            column = pc.if_else(
                pa.array(mask), pc.binary_join_element_wise("'", column, ""), column
            )
        columns.append(column)
    return pa.RecordBatch.from_arrays(columns, names=batch.schema.names)


def _where(row: int, column: str) -> str:
    return "heading" if row == HEADING else f"result row {row + 1:,}, column {column}"


def formula_finding(found: list[tuple[int, str, str]], count: int, guard: bool) -> list[Finding]:
    """What is to be said of formula cells; ``found`` has a few as row, column and text."""
    if not count:
        return []
    examples = tuple(
        Example(f"{_where(row, column)}: {text[:60]}")
        for row, column, text in sorted(found)[:MOST_EXAMPLES]
    )
    done = (
        "were prefixed with ' so that they do not run as formulas"
        if guard
        else "would run as formulas when opened in a spreadsheet"
    )
    return [
        Finding(
            "formula-cells",
            "note" if guard else "warning",
            count,
            f"{counted(count, 'cell')} {done}",
            "" if guard else "to prevent this: --guard-formulas",
            examples=examples,
        )
    ]
