"""Stretches of texts whose beginnings and ends are worked out for each row."""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from plait.core.text.words import Cells

Numbers = npt.NDArray[np.int64]


def sliced(texts: pa.Array, start: Any, stop: Any) -> pa.Array:
    """The signs of each text from one place to another, counted from 0.

    Parameters
    ----------
    texts : pyarrow.Array
    start, stop : array of int, or int
        For each row; what lies outside the text is not there.

    Examples
    --------
    >>> sliced(pa.array(["öl", "Calm", None]), 0, np.array([1, 2, 2])).to_pylist()
    ['ö', 'Ca', None]
    """
    cells = Cells(texts)
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
