"""Sums over the cells of single rows, which tell later whether a row is as it was."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from plait.core.text.cells import as_text
from plait.core.text.words import PIECE, Cells

Sums = npt.NDArray[np.uint64]

_SPREAD, _SHIFT = np.uint64(0x9E3779B97F4A7C15), np.uint64(29)
_MISSING = np.uint64(0xD1B54A32D192ED03)


def row_sums(columns: Iterable[pa.Array], rows: int) -> Sums:
    """A sum for each row, of the texts of its cells in their order.

    Parameters
    ----------
    columns : iterable of pyarrow.Array
        Of one length, of any type.
    rows : int
        That length.

    Notes
    -----
    Each word of seven bytes is mixed in by multiplication and a shift, as in D. E. Knuth,
    The Art of Computer Programming, vol. 3, section 6.4. It shows a change that somebody
    made, to all but one of 2**64; it is no protection from somebody who wants to hide one.

    Examples
    --------
    >>> one, other, same = row_sums([pa.array(["A", "B", "A"]), pa.array([7, 7, 7])], 3)
    >>> bool(one == other), bool(one == same)
    (False, True)
    """
    sums = np.zeros(rows, np.uint64)
    for column in columns:
        _mix_in(sums, column)
    return sums


def _mix_in(sums: Sums, column: pa.Array) -> None:
    text = as_text(column)
    cells = Cells(text)
    absent = text.is_null().to_numpy(zero_copy_only=False)
    here: npt.NDArray[np.int64] | None = None
    for piece in range(max(1, -(-cells.longest // PIECE))):
        if piece:
            here = np.flatnonzero(cells.lengths > piece * PIECE)
        words = cells.words(piece, here)
        if not piece:
            words = np.where(absent, _MISSING, words)
        at = slice(None) if here is None else here
        mixed = (sums[at] ^ words) * _SPREAD
        sums[at] = mixed ^ (mixed >> _SHIFT)
