"""Cells as text."""

from __future__ import annotations

import pyarrow as pa
import pyarrow.compute as pc

_BLOCK = 1 << 16


def is_text(kind: pa.DataType) -> bool:
    """Whether cells of this type are text as they stand."""
    return bool(pa.types.is_string(kind) or pa.types.is_large_string(kind))


def as_text(array: pa.Array) -> pa.Array:
    """Cells as they would stand in a text file; text itself is not touched.

    >>> as_text(pa.array([7, None])).to_pylist()
    ['7', None]
    """
    return array if is_text(array.type) else pc.cast(array, pa.string())


def repeated(text: str | None, rows: int) -> list[pa.Array]:
    """The same cell on so many rows, in pieces that share their memory.

    >>> [len(piece) for piece in repeated(None, 70_000)]
    [65536, 4464]
    """
    block = pa.repeat(pa.scalar(text, pa.string()), min(rows, _BLOCK))
    whole, rest = divmod(rows, _BLOCK)
    return [block] * whole + ([block.slice(0, rest)] if rest else [])
