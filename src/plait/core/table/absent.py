"""Which cells are missing: empty ones, and markers for that among numbers, dates and times."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.table.table import Table
from plait.core.text.cells import as_text
from plait.core.types.kinds import MARKERS, takes_markers

Flags = npt.NDArray[np.bool_]


def present(table: Table, name: str) -> Flags:
    """Whether there is a value in a column on each row.

    >>> from plait.core.table.table import from_columns
    >>> present(from_columns("t", {"kg": ["7", "NA", ""]}), "kg").tolist()
    [True, False, False]
    >>> present(from_columns("t", {"code": ["x", "NA", ""]}), "code").tolist()
    [True, True, False]
    """
    marked = takes_markers(table.kind(name))
    parts = [value_there(chunk, marked) for chunk in table.whole(name).chunks]
    return np.concatenate(parts) if parts else np.zeros(0, bool)


def value_there(cells: pa.Array, marked: bool) -> Flags:
    """Which cells have a value; ``marked``: markers for missing are none."""
    texts = as_text(cells)
    found = pc.fill_null(pc.not_equal(texts, ""), False)
    if marked:
        found = pc.and_not(found, pc.is_in(texts, pa.array(MARKERS, texts.type)))
    flags: Flags = found.to_numpy(zero_copy_only=False)
    return flags
