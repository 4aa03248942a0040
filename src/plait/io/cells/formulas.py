"""Cells that a spreadsheet would run as formulas when it opens a text file."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.base.findings import MOST_EXAMPLES, Finding, FindingExample, pluralize
from plait.core.base.wording import Setting, wording
from plait.core.text.cells import is_text_type
from plait.core.text.words import TextBuffers

HEADING = -1  # the row that it has
_FORMULA_STARTS = b"=+-@\t\r"
_STARTS = np.zeros(256, bool)
_STARTS[list(_FORMULA_STARTS)] = True
_NUMBER = r"^[+-]?[0-9]*[.,]?[0-9]+([eE][+-]?[0-9]+)?%?$"


def find_formula_cells(cells: pa.Array) -> npt.NDArray[np.int64]:
    """Rows whose cell begins as a formula does, and is no number.

    >>> find_formula_cells(pa.array(["=1+1", "-5", "-", "@x", "a", None])).tolist()
    [0, 3]
    """
    if pa.types.is_dictionary(cells.type):
        return _coded_rows(cells)
    if not is_text_type(cells.type) or not len(cells):
        return np.zeros(0, np.int64)
    some = _suspects(TextBuffers(cells))
    if not len(some):
        return some
    taken = cells.take(pa.array(some))
    plain = pc.or_(pc.match_substring_regex(taken, _NUMBER), pc.equal(pc.utf8_length(taken), 1))
    rows: npt.NDArray[np.int64] = some[~plain.to_numpy(zero_copy_only=False)]
    return rows


def _suspects(cells: TextBuffers) -> npt.NDArray[np.int64]:
    """Rows whose cell begins with one of the signs."""
    text = cells.data.tobytes()  # one look at all bytes is much faster than one at each cell
    if not any(f in text for f in _FORMULA_STARTS):
        return np.zeros(0, np.int64)
    return np.flatnonzero(_STARTS[cells.byte(0)])


def _coded_rows(cells: pa.DictionaryArray) -> npt.NDArray[np.int64]:
    formula_cells = find_formula_cells(cells.dictionary)
    if not len(formula_cells):
        return formula_cells
    return np.flatnonzero(np.isin(pc.fill_null(cells.indices, -1).to_numpy(), formula_cells))


def escape_formulas(batch: pa.RecordBatch) -> pa.RecordBatch:
    """The batch with a ``'`` before each such cell, so that it is shown as it stands."""
    columns = []
    for column in batch.columns:
        rows = find_formula_cells(column)
        if len(rows):
            column = column.cast(pa.string()) if not is_text_type(column.type) else column
            mask = np.zeros(len(column), bool)
            mask[rows] = True
            column = pc.if_else(
                pa.array(mask), pc.binary_join_element_wise("'", column, ""), column
            )
        columns.append(column)
    return pa.RecordBatch.from_arrays(columns, names=batch.schema.names)


def _where(row: int, column: str) -> str:
    return "heading" if row == HEADING else f"result row {row + 1:,}, column {column}"


def report_formula_cells(
    found: list[tuple[int, str, str]], count: int, guard: bool
) -> list[Finding]:
    """What is to be said of formula cells; ``found`` has a few as row, column and text."""
    if not count:
        return []
    examples = tuple(
        FindingExample(f"{_where(row, column)}: {text[:60]}")
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
            f"{pluralize(count, 'cell')} {done}",
            "" if guard else wording("to prevent this: ", Setting("guard_formulas", True)),
            examples=examples,
        )
    ]
