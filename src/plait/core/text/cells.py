"""Cells as text."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.text.digits import decimal_text
from plait.core.text.words import Cells

_BLOCK = 1 << 16
_ZEROS = r"(?:(\.[0-9]*[1-9])0+|\.0+)(Z?)$"  # at the end of a fraction of a second
_UTC = r"^(\d{4}-\d\d-\d\d [\d:.]+)\+00(?::00)?$"


def is_text(kind: pa.DataType) -> bool:
    """Whether cells of this type are text as they stand."""
    return bool(pa.types.is_string(kind) or pa.types.is_large_string(kind))


def decoded(array: pa.Array) -> pa.Array:
    """Text that is stored as codes into a dictionary, as text; anything else unchanged.

    >>> decoded(pa.array(["7", "8", "7"]).dictionary_encode()).to_pylist()
    ['7', '8', '7']
    """
    return array.dictionary_decode() if pa.types.is_dictionary(array.type) else array


def as_text(array: pa.Array) -> pa.Array:
    """Cells as they would be in a text file; text itself is not touched.

    >>> as_text(pa.array([7, None])).to_pylist()
    ['7', None]
    """
    if is_text(array.type):
        return array
    if pa.types.is_decimal(array.type):
        return decimal_text(array)
    texts = pc.cast(array, pa.string())
    return as_clocks(texts) if has_clock(array.type) else texts


def as_clocks(texts: pa.Array) -> pa.Array:
    """Texts of moments and times as they are written: no zeros at the end, ``Z`` for UTC.

    >>> as_clocks(pa.array(["06:07:08.250", "2031-04-05 06:00:00.000+00", "infinity"])).to_pylist()
    ['06:07:08.25', '2031-04-05 06:00:00Z', 'infinity']
    """
    texts = pc.replace_substring_regex(texts, _UTC, r"\1Z")
    return pc.replace_substring_regex(texts, _ZEROS, r"\1\2")


def without_empty(array: pa.Array) -> pa.Array:
    """Text cells, missing where they are empty.

    >>> without_empty(pa.array(["a", ""])).to_pylist()
    ['a', None]
    """
    if Cells(array).lengths.all():
        return array
    return pc.if_else(pc.equal(array, ""), None, array)


def has_clock(kind: pa.DataType) -> bool:
    """Whether values of this type have a time of day, with fractions of seconds."""
    return bool(pa.types.is_timestamp(kind) or pa.types.is_time(kind))


def repeated(text: str | None, rows: int, kind: pa.DataType | None = None) -> list[pa.Array]:
    """The same cell on so many rows, in pieces that share their memory.

    >>> [len(piece) for piece in repeated(None, 70_000)]
    [65536, 4464]
    """
    block = pa.repeat(pa.scalar(text, kind or pa.string()), min(rows, _BLOCK))
    whole, rest = divmod(rows, _BLOCK)
    return [block] * whole + ([block.slice(0, rest)] if rest else [])


def the_same(text: str, rows: int) -> pa.Array:
    """One text on every row, stored once.

    >>> the_same("as asked", 2).to_pylist()
    ['as asked', 'as asked']
    """
    return pa.DictionaryArray.from_arrays(np.zeros(rows, np.int8), pa.array([text], pa.string()))
