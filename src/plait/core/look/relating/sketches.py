"""How much of each column's values stands in each other column, from a sketch of each."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

from plait.core.look.relating.values import Values
from plait.core.text.wordtable import Codes

SKETCH = 256
_SPREAD = np.uint32(0x9E3779B1)


def sketch(codes: Codes) -> Codes:
    """The up to 256 values whose hash is least: the same ones in every column that has them.

    The bottom-k sketch of Broder ("On the resemblance and containment of documents", 1997).
    """
    if len(codes) <= SKETCH:
        return codes
    hashes = codes.astype(np.uint32) * _SPREAD
    chosen: Codes = codes[np.argpartition(hashes, SKETCH)[:SKETCH]]
    return chosen


def containments(columns: Sequence[Values], size: int) -> npt.NDArray[np.float64]:
    """For each column the share of its sketch that stands in each other one.

    Parameters
    ----------
    columns : sequence of Values
    size : int
        How many codes there are.

    Returns
    -------
    float64 array, (columns, columns)
        Row: the column whose values are looked for. Exact for columns of up to 256 values.

    Notes
    -----
    The sketches of all columns are looked up in one column at a time, so the work
    grows with the number of all values, and only the looking up with the pairs.
    """
    sketches = [sketch(one.codes) for one in columns]
    lengths = np.array([max(len(one), 1) for one in sketches])
    begins = np.concatenate([[0], np.cumsum([len(one) for one in sketches])])
    every = np.concatenate([*sketches, np.zeros(1, np.int32)])  # one more, so that sums end there
    found = np.zeros((len(columns), len(columns)))
    standing = np.zeros(size + 1, bool)
    for number, one in enumerate(columns):
        standing[one.codes] = True
        sums = np.concatenate([[0], np.cumsum(standing[every])])
        found[:, number] = (sums[begins[1:]] - sums[begins[:-1]]) / lengths
        standing[one.codes] = False
    return found
