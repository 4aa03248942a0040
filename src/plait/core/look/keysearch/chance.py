"""Whether columns tell rows apart because they are a key, or as any such columns would."""

from __future__ import annotations

import math
from collections.abc import Iterable

from plait.core.codes.counting import Counts

_SURE = 3.0


def coincidence(counts: Counts) -> float:
    """The chance that two different rows, taken at random, have the same value of a column.

    Parameters
    ----------
    counts : int64 array
        The rows of each value.

    Examples
    --------
    >>> import numpy as np
    >>> round(coincidence(np.array([2, 2])), 3)
    0.333
    """
    rows = int(counts.sum())
    same = float((counts.astype(float) * (counts - 1)).sum())
    return same / (rows * (rows - 1)) if rows > 1 else 0.0


def expected_repeats(rows: int, coincidences: Iterable[float]) -> float:
    """How many pairs of rows would agree on some columns if these had nothing to do with another.

    The birthday problem for values of any frequencies (von Mises, 1939): the pairs of
    rows, times the chance that a pair agrees on each column.
    """
    return rows * (rows - 1) / 2 * math.prod(coincidences)


def by_chance(rows: int, coincidences: Iterable[float], repeats: int = 0) -> bool:
    """Whether so few repeats are no more than chance gives: one time in twenty or oftener.

    With three pairs expected none is seen one time in twenty (Poisson).

    >>> by_chance(1000, [1 / 10, 1 / 10]), by_chance(1000, [1 / 900, 1 / 900])
    (False, True)
    """
    return expected_repeats(rows, coincidences) <= _SURE + 2 * repeats
