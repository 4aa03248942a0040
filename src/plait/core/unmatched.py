"""Why keys do not match, as far as a looser comparison would mend it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from plait.core.coding import Coding, first_rows, mix, recode
from plait.core.loosen import WAYS, loosened
from plait.core.match import Matching
from plait.core.wordtable import Codes

MOST_TEXTS = 300_000


@dataclass(frozen=True)
class Gain:
    """What ignoring something in the comparison would change.

    Parameters
    ----------
    ways : tuple of str
        What would be ignored; names that ``--ignore`` takes.
    rows, keys : int
        Left rows and keys that match nothing now and would match then.
    collisions : int
        Right keys that are different now and would be one key then: left rows
        would match several of them.
    """

    ways: tuple[str, ...]
    rows: int
    keys: int
    collisions: int


def best_gain(matching: Matching) -> Gain | None:
    """The fewest ways that together match as many of the unmatched left keys as all of them.

    Returns
    -------
    Gain or None
        ``None`` when no looser comparison would match any of them, or when there
        are too many to try.

    Notes
    -----
    Works on one row for each key. A way that brings no two texts of any key
    column together is passed over without looking at the keys.
    """
    if too_many(matching.coding):
        return None
    ways = [way for way in WAYS if _brings_together(matching.coding, [way])]
    joint = [way for way in WAYS if way not in ways]
    if not ways and not (joint and _brings_together(matching.coding, joint)):
        return None
    keys = _distinct_keys(matching.coding)
    best = _gain(matching, keys, ways or joint)
    everything = _gain(matching, keys, list(WAYS))
    chosen = list(WAYS) if everything.rows > best.rows else list(best.ways)
    best = everything if everything.rows > best.rows else best
    for way in list(chosen):
        fewer = [one for one in chosen if one != way]
        smaller = _gain(matching, keys, fewer) if fewer else None
        if smaller and smaller.rows >= best.rows:
            chosen, best = fewer, smaller
    return best if best.rows else None


def too_many(coding: Coding) -> bool:
    """Whether there are more different key texts than looser comparisons are tried on."""
    return sum(column.size for column in coding.columns) > MOST_TEXTS


def _brings_together(coding: Coding, ways: Sequence[str]) -> bool:
    for column in coding.columns:
        _, texts = recode((), column.texts, loosened(column.texts, ways))
        if len(texts) < column.size:
            return True
    return False


def _distinct_keys(coding: Coding) -> list[Codes]:
    """For each key column its code in each distinct key."""
    parts = []
    first = [first_rows(codes, coding.size) for codes in coding.codes]
    for column in coding.columns:
        part = np.empty(coding.size, np.int32)
        for codes, rows in zip(column.codes, first, strict=True):
            there = np.flatnonzero(rows >= 0)
            part[there] = codes[rows[there]]
        parts.append(part)
    return parts


def _gain(matching: Matching, keys: Sequence[Codes], ways: Sequence[str]) -> Gain:
    columns = zip(matching.coding.columns, keys, strict=True)
    loose = [_loose(part, column.texts, ways) for column, part in columns]
    codes, size = loose[0]
    for part, part_size in loose[1:]:
        (codes,), size = mix([codes], size, [part], part_size)
    left, right = matching.left_counts > 0, matching.right_counts > 0
    there = np.zeros(size + 1, bool)
    there[codes[right]] = True
    there[size] = False  # keys with nothing left in them
    gained = left & ~right & there[codes]
    collisions = _collisions(codes, right, size)
    rows = int(matching.left_counts[gained].sum())
    return Gain(tuple(ways), rows, int(gained.sum()), collisions)


def _loose(part: Codes, texts: pa.Array, ways: Sequence[str]) -> tuple[Codes, int]:
    (codes,), texts = recode((part,), texts, loosened(texts, ways))
    return codes, len(texts)


def _collisions(codes: Codes, side: npt.NDArray[np.bool_], size: int) -> int:
    """Keys of a side that share their loose form with another of that side."""
    forms = np.bincount(codes[side & (codes >= 0)], minlength=size)
    return int(forms[forms > 1].sum())
