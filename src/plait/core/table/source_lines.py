"""Which line of its file, or row of its sheet, each row of a source begins on."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

Numbers = npt.NDArray[np.integer[Any]]
Steps = tuple[Numbers, Numbers]

LINE, SHEET_ROW = "line", "sheet row"


@dataclass(frozen=True, eq=False)
class Lines:
    """The lines of a source's rows.

    Titles, blank lines and line breaks within cells come between a row's number and its line.
    In most files there are none below the header, and one step says all.

    Parameters
    ----------
    unit : str
        ``line`` or ``sheet row``.
    rows, lines : array of int
        The steps: from each of these rows on, from 0, lines go up by one, beginning with that
        line, from 1.

    Examples
    --------
    >>> Lines("line", *steps(np.array([2, 3, 9, 10]))).of(np.array([1, 2, 3]))
    array([ 3,  9, 10])
    """

    unit: str
    rows: Numbers
    lines: Numbers

    def of(self, rows: Numbers) -> Numbers:
        """The lines of some rows, which count from 0."""
        step = np.searchsorted(self.rows, rows, side="right") - 1
        return self.lines[step] + (rows - self.rows[step])


def steps(lines: Numbers) -> Steps:
    """The rows whose line does not follow on that of the row before, and these lines.

    >>> steps(np.array([2, 3, 9, 10]))
    (array([0, 2]), array([2, 9]))
    """
    rows = np.flatnonzero(np.append(True, np.diff(lines) != 1)[: len(lines)])
    return rows, lines[rows]


def joined(unit: str, stretches: Iterable[Steps]) -> Lines | None:
    """The lines of a source from those of its stretches; ``None`` where it has no rows."""
    every = list(stretches)
    if not every:
        return None
    rows, lines = (np.concatenate(e) for e in zip(*every, strict=True))
    return Lines(unit, rows, lines)
