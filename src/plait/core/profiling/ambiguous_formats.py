"""Written forms that one extract leaves open and another decides.

``04/05/2025`` and ``2.890`` can be read in two ways. Where all cells of a column in one source
can, its own cells do not prove how they are written; that those of another source do is no proof,
as the two may have been written by two programs. The column then stays text in the stack, so that
nothing orders or adds up what may be another day or a thousandth.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import partial

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.base.findings import (
    MOST_EXAMPLES,
    Finding,
    FindingExample,
    Location,
    agreeing,
    pluralize,
)
from plait.core.base.wording import Setting, wording
from plait.core.job.executor import map_ordered
from plait.core.table.table import Table
from plait.core.text.cells import empty_to_null, is_text_type
from plait.core.types.column_type import DECIMAL, ColumnType
from plait.core.types.inference import infer_column_type, matching_formats
from plait.core.types.missing_markers import markers_to_null

GLANCE_ROWS = 200
_DATE = r"^(0?[1-9]|1[0-2])[./-](0?[1-9]|1[0-2])[./-][0-9]{2,4}([ T,].*)?$"
_POINTED = r"^-?[1-9][0-9]{0,2}(\.[0-9]{3})+$"
_COMMAED = r"^-?[1-9][0-9]{0,2}(,[0-9]{3})+$"
_THOUSANDS = ColumnType("decimal", "1.234,5")
_THREE_PLACES = r"\.[0-9]{3}$"


def borrowed_forms(
    tables: Sequence[Table], names: Sequence[str]
) -> Iterator[tuple[str, tuple[ColumnType, ...], Finding]]:
    """Yield columns whose form in some tables only others prove, the forms, and a finding.

    Parameters
    ----------
    tables : sequence of Table
        Extracts that are stacked.
    names : sequence of str
        The columns of the result.

    Examples
    --------
    >>> from plait.core.table.table import table_from_columns
    >>> may = table_from_columns("may", {"kg": ["2.890", "1.200"]})
    >>> june = table_from_columns("june", {"kg": ["1500.25"]})
    >>> ((name, forms, finding),) = borrowed_forms([may, june], ["kg"])
    >>> name, finding.count, str(finding.remedy)
    ('kg', 2, "type={'kg': 'decimal:1.234,5'} for may or type={'kg': 'decimal'} for may")
    """
    for name in names:
        having = [table for table in tables if table.has_column(name) and table.rows]
        if len(having) < 2 or any(table.column(name).declared_type for table in having):
            continue
        rows = sum(table.rows for table in having)
        forms = list(map_ordered(partial(_open_forms, name=name), having, rows=rows))
        open_ = [(table, ways) for table, ways in zip(having, forms, strict=True) if ways]
        rest = [table for table, ways in zip(having, forms, strict=True) if not ways]
        if open_ and rest and _decides(name, rest, open_[0][1]):
            yield name, open_[0][1], _finding(name, open_, rest)


def _open_forms(table: Table, name: str) -> tuple[ColumnType, ...]:
    """The forms in which all cells of a column can be read, where there are several."""
    cells = table.chunks(name)
    if not is_text_type(cells.type):
        return ()
    glance = _telling(cells.slice(0, GLANCE_ROWS))
    for pattern in (_DATE, _POINTED, _COMMAED):
        if len(glance) and _all_match(glance, pattern):
            return _proved_by_none(_telling(cells), pattern)
    return ()


def _proved_by_none(cells: pa.ChunkedArray, pattern: str) -> tuple[ColumnType, ...]:
    if not _all_match(cells, pattern):
        return ()
    if pattern == _POINTED:
        return (_THOUSANDS, DECIMAL)
    forms = tuple(form.type for form in matching_formats(cells))
    return forms if len(forms) > 1 else ()


def _telling(cells: pa.ChunkedArray) -> pa.ChunkedArray:
    chunks = [empty_to_null(chunk).drop_null() for chunk in markers_to_null(cells).chunks]
    return pa.chunked_array(chunks, cells.type)


def _all_match(cells: pa.ChunkedArray, pattern: str) -> bool:
    return bool(pc.all(pc.match_substring_regex(cells, pattern)).as_py())


def _decides(name: str, rest: Sequence[Table], forms: Sequence[ColumnType]) -> bool:
    """Whether the others prove a form: the same kind of values, written so that it is one only.

    Numbers that have three places there too are written as those are.
    """
    families = {form.family for form in forms}
    for table in rest:
        cells = _telling(table.chunks(name))
        type_ = infer_column_type(cells)
        if type_.family not in families:
            continue
        if forms[0] == _THOUSANDS and type_ == DECIMAL:
            if not pc.any(pc.match_substring_regex(cells, _THREE_PLACES)).as_py():
                return True
        elif not type_.is_plain:
            return True
    return False


def _finding(
    name: str, open_: Sequence[tuple[Table, tuple[ColumnType, ...]]], rest: Sequence[Table]
) -> Finding:
    rows = [np.flatnonzero(_has_cells(table, name)) for table, _ in open_]
    examples = [
        FindingExample(repr(table.chunks(name)[int(row)].as_py()), table.source_rows(int(row))[:1])
        for (table, _), these in zip(open_, rows, strict=True)
        for row in these[:2].tolist()
    ]
    (first, ways), count = open_[0], sum(map(len, rows))
    names = ", ".join(table.name for table, _ in open_)
    return Finding(
        "form-borrowed",
        "warning",
        count,
        f"nothing in {names} proves how {pluralize(count, 'cell')} of {name} "
        f"{agreeing(count, 'is', 'are')} written, only {rest[0].name} does; the column stays text",
        wording(
            Setting("type", str(ways[0]), name, source=first.name),
            " or ",
            Setting("type", str(ways[1]), name, source=first.name),
        ),
        Location(column=name),
        tuple(examples[:MOST_EXAMPLES]),
    )


def _has_cells(table: Table, name: str) -> np.ndarray:
    cells = markers_to_null(table.chunks(name))
    lengths = pc.fill_null(pc.binary_length(cells), 0)
    has: np.ndarray = pc.greater(lengths, 0).to_numpy()
    return has
