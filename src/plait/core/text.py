"""Cells as text."""

from __future__ import annotations

import pyarrow as pa
import pyarrow.compute as pc


def is_text(kind: pa.DataType) -> bool:
    """Whether cells of this type are text as they stand."""
    return bool(pa.types.is_string(kind) or pa.types.is_large_string(kind))


def as_text(array: pa.Array) -> pa.Array:
    """Cells as they would stand in a text file; text itself is not touched.

    >>> as_text(pa.array([7, None])).to_pylist()
    ['7', None]
    """
    return array if is_text(array.type) else pc.cast(array, pa.string())
