"""Cells of text in pieces: joined, cut, stripped."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.job.spill_columns import combine_column_chunks
from plait.core.text.decimals import format_decimal
from plait.core.text.words import TextBuffers

_BLOCK = 1 << 16
_ZEROS = r"(?:(\.[0-9]*[1-9])0+|\.0+)(Z?)$"  # at the end of a fraction of a second
_UTC = r"^(\d{4}-\d\d-\d\d [\d:.]+)\+00(?::00)?$"

_SHORT_ROWS, _SHORT_BYTES = 1 << 12, 1 << 20

Numbers = npt.NDArray[np.int64]


def is_text_type(kind: pa.DataType) -> bool:
    """Whether cells of this type are text as they stand."""
    return bool(pa.types.is_string(kind) or pa.types.is_large_string(kind))


def decoded(array: pa.Array) -> pa.Array:
    """Text that is stored as codes into a dictionary, as text; anything else unchanged.

    >>> decoded(pa.array(["7", "8", "7"]).dictionary_encode()).to_pylist()
    ['7', '8', '7']
    """
    return array.dictionary_decode() if pa.types.is_dictionary(array.type) else array


def to_text(array: pa.Array) -> pa.Array:
    """Cells as they would be in a text file; text itself is not touched.

    >>> to_text(pa.array([7, None])).to_pylist()
    ['7', None]
    """
    if is_text_type(array.type):
        return array
    if pa.types.is_decimal(array.type):
        return format_decimal(array)
    texts = pc.cast(array, pa.string())
    return as_clocks(texts) if has_time_of_day(array.type) else texts


def as_clocks(texts: pa.Array) -> pa.Array:
    """Texts of moments and times as they are written: no zeros at the end, ``Z`` for UTC.

    >>> as_clocks(pa.array(["06:07:08.250", "2031-04-05 06:00:00.000+00", "infinity"])).to_pylist()
    ['06:07:08.25', '2031-04-05 06:00:00Z', 'infinity']
    """
    texts = pc.replace_substring_regex(texts, _UTC, r"\1Z")
    return pc.replace_substring_regex(texts, _ZEROS, r"\1\2")


def empty_to_null(array: pa.Array) -> pa.Array:
    """Text cells, missing where they are empty.

    >>> empty_to_null(pa.array(["a", ""])).to_pylist()
    ['a', None]
    """
    if TextBuffers(array).lengths.all():
        return array
    return pc.if_else(pc.equal(array, ""), None, array)


def has_time_of_day(kind: pa.DataType) -> bool:
    """Whether values of this type have a time of day, with fractions of seconds."""
    return bool(pa.types.is_timestamp(kind) or pa.types.is_time(kind))


def repeat_cell(text: str | None, rows: int, kind: pa.DataType | None = None) -> list[pa.Array]:
    """The same cell on so many rows, in pieces that share their memory.

    >>> [len(piece) for piece in repeat_cell(None, 70_000)]
    [65536, 4464]
    """
    block = pa.repeat(pa.scalar(text, kind or pa.string()), min(rows, _BLOCK))
    whole, rest = divmod(rows, _BLOCK)
    return [block] * whole + ([block.slice(0, rest)] if rest else [])


def constant_text(text: str, rows: int) -> pa.Array:
    """One text on every row, stored once.

    >>> constant_text("as asked", 2).to_pylist()
    ['as asked', 'as asked']
    """
    return pa.DictionaryArray.from_arrays(np.zeros(rows, np.int8), pa.array([text], pa.string()))


def combine_chunks(column: pa.ChunkedArray) -> pa.Array:
    """A column in one piece, without a copy where it is in one piece already."""
    if column.num_chunks == 1:
        return column.chunk(0)
    return combine_column_chunks(column)


def iterate_batches(column: pa.ChunkedArray, rows: int) -> Iterator[pa.Array]:
    """The cells of a column, up to so many at a time, in order.

    Long pieces are cut, without a copy. Short ones are put together: what is
    done for a hundred cells often takes as long as for a thousand.

    >>> column = pa.chunked_array([["a"], ["b"], ["c"] * 5000])
    >>> [len(step) for step in iterate_batches(column, 4000)]
    [2, 4000, 1000]
    """
    short: list[pa.Array] = []
    held = 0
    for chunk in column.chunks:
        is_short = len(chunk) < _SHORT_ROWS and chunk.nbytes < _SHORT_BYTES
        if short and not (is_short and held + len(chunk) <= rows):
            yield combine_chunks(pa.chunked_array(short))
            short, held = [], 0
        if is_short:
            short.append(chunk)
            held += len(chunk)
        else:
            yield from (chunk.slice(at, rows) for at in range(0, len(chunk), rows))
    if short:
        yield combine_chunks(pa.chunked_array(short))


def slice_texts(texts: pa.Array, start: Any, stop: Any) -> pa.Array:
    """The signs of each text from one place to another, counted from 0.

    Parameters
    ----------
    start, stop : array of int, or int
        For each row; what lies outside the text is not there.

    Examples
    --------
    >>> slice_texts(pa.array(["öl", "Calm", None]), 0, np.array([1, 2, 2])).to_pylist()
    ['ö', 'Ca', None]
    """
    cells = TextBuffers(texts)
    begins = np.flatnonzero((cells.data & 0xC0) != 0x80)  # the first byte of each sign
    edges = np.append(begins, len(cells.data))
    starts = cells.starts - (cells.starts[0] if len(texts) else 0)
    first, last = np.searchsorted(begins, starts), np.searchsorted(begins, starts + cells.lengths)
    low = np.minimum(first + np.maximum(start, 0), last)
    high = np.clip(first + np.maximum(stop, 0), low, last)
    return _gathered(texts, cells.data, edges[low], edges[high] - edges[low])


def _gathered(texts: pa.Array, data: Any, begin: Numbers, lengths: Numbers) -> pa.Array:
    offsets = np.concatenate([[0], np.cumsum(lengths)])
    places = np.repeat(begin - offsets[:-1], lengths) + np.arange(offsets[-1])
    made = pa.py_buffer(data[places].tobytes())
    there = pa.py_buffer(
        np.packbits(texts.is_valid().to_numpy(zero_copy_only=False), bitorder="little")
    )
    parts = [there, pa.py_buffer(offsets.astype(np.int64)), made]
    return pa.Array.from_buffers(pa.large_string(), len(texts), parts).cast(pa.string())
