"""Texts that programs write where a cell is missing: where they stand, and columns without them."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.job.spill_columns import build_column
from plait.core.text.cells import is_text_type
from plait.core.text.words import TextBuffers

MARKERS = ("NA", "N/A", "n/a", "#N/A", "NULL", "null", "None", "NaN", "nan", "-", "--", "?")
_DASHES = 2  # of the longest marker that is of these alone
_MINUS, _POINT = ord("-"), ord(".")


def marker_mask(texts: pa.Array) -> pa.Array | None:
    """Where well-known markers for missing stand; ``None`` where all are bare numbers or dates.

    Most columns are, and a column that has no markers need not be made anew without them.

    >>> marker_mask(pa.array(["7", "NA", "-"])).to_pylist(), marker_mask(pa.array(["-7.5", ""]))
    ([False, True, True], None)
    """
    cells = TextBuffers(texts)
    signs = cells.non_digits
    if not signs or signs == {_POINT}:
        return None
    if -1 not in signs and not (cells.lengths[cells.byte(0) == _MINUS] <= _DASHES).any():
        return None
    return pc.is_in(texts, pa.array(MARKERS, texts.type))


def marker_flags(texts: pa.Array) -> npt.NDArray[np.bool_]:
    """For each text whether it is a well-known marker for missing.

    >>> marker_flags(pa.array(["7", "NA"])).tolist()
    [False, True]
    """
    mask = marker_mask(texts)
    if mask is None:
        return np.zeros(len(texts), bool)
    flags: npt.NDArray[np.bool_] = mask.to_numpy(zero_copy_only=False)
    return flags


def has_markers(array: pa.Array) -> bool:
    """Whether a well-known marker for missing stands anywhere."""
    mask = marker_mask(array)
    return mask is not None and bool(pc.any(mask).as_py())


def blank_markers(array: pa.Array) -> pa.Array:
    """The array, empty where a well-known marker for missing stands."""
    mask = marker_mask(array)
    return array if mask is None else pc.if_else(mask, "", array)


def markers_to_null(column: pa.ChunkedArray) -> pa.ChunkedArray:
    """A text column, empty where a well-known marker for missing stands.

    >>> markers_to_null(pa.chunked_array([["7", "N/A"]])).to_pylist()
    ['7', '']
    """
    return build_column((blank_markers(chunk) for chunk in column.chunks), column.type)


def count_missing_markers(column: pa.ChunkedArray) -> dict[str, int]:
    """How often each well-known marker for missing is in a text column.

    >>> count_missing_markers(pa.chunked_array([["7", "NA", "-", "NA"]]))
    {'NA': 2, '-': 1}
    """
    if not is_text_type(column.type):
        return {}
    counts = dict.fromkeys(MARKERS, 0)
    for chunk in column.chunks:
        place = pc.index_in(chunk, pa.array(MARKERS, chunk.type)).drop_null().to_numpy()
        for number, times in enumerate(np.bincount(place, minlength=len(MARKERS)).tolist()):
            counts[MARKERS[number]] += times
    return {marker: times for marker, times in counts.items() if times}
