"""Dates that one column writes in several ways."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from plait.core.types.forms import base
from plait.core.types.kinds import may_be_typed
from plait.core.types.nearly import Counts, readings

_LEAST_SHARE = 0.95
_LEAST_CELLS = 2
_MOST_FORMS = 4
_SAMPLE = 500


@dataclass(frozen=True)
class Mixed:
    """Forms that together read nearly all cells of a column.

    Parameters
    ----------
    forms : tuple of (str, int, str)
        As ``--type`` takes them, the cells that each is the first to read, and one of these.
    unfit : int
        Cells that none reads.
    rivals : tuple of str
        Forms that read as many, and nothing proves less right.
    """

    forms: tuple[tuple[str, int, str], ...]
    unfit: int
    rivals: tuple[str, ...]

    @property
    def type(self) -> str:
        """What ``--type`` takes for all of them."""
        written = (_pattern(form) for form, _, _ in self.forms)
        return f"{base(self.forms[0][0])}:{'|'.join(written)}"


_PATTERNS = {"date": "%Y-%m-%d", "datetime": "%Y-%m-%d %H:%M:%S"}


def _pattern(form: str) -> str:
    return form.partition(":")[2] or _PATTERNS[form]


def mixed_dates(texts: pa.Array, times: Counts) -> Mixed | None:
    """The forms of dates that a text column mixes; ``None`` where it does not.

    Parameters
    ----------
    texts : pyarrow.Array
        Distinct texts, none of them empty.
    times : array of int64
        Cells of each.

    Examples
    --------
    >>> cells = pa.array(["2031-04-05", "2031-04-06", "13.4.2031", "14.4.2031"])
    >>> mixed_dates(cells, np.array([3, 2, 1, 1])).type
    'date:%Y-%m-%d|%d.%m.%Y'
    """
    if not len(texts) or not may_be_typed(texts.slice(0, _SAMPLE)).mean() >= _LEAST_SHARE:
        return None
    for kind in ("date", "datetime"):
        found = _of_kind(kind, texts, times)
        if found is not None:
            return found
    return None


def _of_kind(kind: str, texts: pa.Array, times: Counts) -> Mixed | None:
    reads = readings(texts, [kind], _SAMPLE)
    left = np.ones(len(texts), bool)
    chosen: list[tuple[str, int, str]] = []
    rivals: list[str] = []
    while reads and len(chosen) < _MOST_FORMS:
        counts = {name: int(times[one & left].sum()) for name, one in reads.items()}
        best = max(counts, key=counts.__getitem__)
        if counts[best] < _LEAST_CELLS:
            break
        rivals += _alike(best, reads, left)
        first = int(np.flatnonzero(reads[best] & left)[0])
        chosen.append((best, counts[best], texts[first].as_py()))
        left &= ~reads.pop(best)
    unfit = int(times[left].sum())
    if len(chosen) < 2 or unfit > (1 - _LEAST_SHARE) * times.sum():
        return None
    return Mixed(tuple(chosen), unfit, tuple(rivals))


def _alike(
    best: str, reads: dict[str, npt.NDArray[np.bool_]], left: npt.NDArray[np.bool_]
) -> Iterable[str]:
    """Other forms that read exactly the same cells."""
    mine = reads[best] & left
    return [name for name, one in reads.items() if name != best and (one[mine]).all()]
