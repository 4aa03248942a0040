"""Where two columns do not say the same, to the letter."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.account.parallel import ordered_map
from plait.core.codes.groups import Rows
from plait.core.table.absent import Flags
from plait.core.table.table import Table
from plait.core.text.cells import as_text, is_text

_SAFE = (pa.types.is_integer, pa.types.is_decimal, pa.types.is_date, pa.types.is_boolean)


def unequal_rows(old: Table, new: Table, names: tuple[str, str]) -> Rows:
    """The rows whose cells are not the same text, or the same value of the same type.

    Parameters
    ----------
    old, new : Table
        With as many rows each.
    names : (str, str)
        What the old and the new table call the column.

    Examples
    --------
    >>> from plait.core.table.table import from_columns
    >>> one = from_columns("a", {"k": ["x", "", "7"]})
    >>> other = from_columns("b", {"k": ["x", "y", "7.0"]})
    >>> unequal_rows(one, other, ("k", "k")).tolist()
    [1, 2]
    """
    here, there = old.column(names[0]), new.column(names[1])

    def part(span: tuple[int, int]) -> Rows:
        ours, theirs = old.cells(here, *span), new.cells(there, *span)
        return span[0] + np.flatnonzero(_unequal(ours, theirs))

    found = list(ordered_map(part, list(old.spans())))
    return np.concatenate(found) if found else np.empty(0, np.int64)


def _unequal(ours: pa.Array, theirs: pa.Array) -> Flags:
    if ours.type != theirs.type or not (is_text(ours.type) or any(t(ours.type) for t in _SAFE)):
        ours, theirs = as_text(ours), as_text(theirs)
    differ = pc.fill_null(pc.not_equal(ours, theirs), False)
    if ours.null_count or theirs.null_count:
        differ = pc.or_(differ, pc.xor(pc.is_null(ours), pc.is_null(theirs)))
    flags: Flags = differ.to_numpy(zero_copy_only=False)
    return flags
