"""Which rows of an old and a new table are the same record."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from plait.core.codes.coding import Coding, code_keys
from plait.core.codes.counting import (
    Counts,
    by_code,
    count,
    first_rows,
    rows_by_code,
    within_each,
)
from plait.core.codes.groups import Rows
from plait.core.table.table import Table
from plait.core.text.wordtable import Codes

Names = Sequence[tuple[str, str]]
_NO_ROWS = np.empty(0, np.int64)


@dataclass(frozen=True, eq=False)
class Pairing:
    """Rows of two tables that are one record, and those that have no partner.

    Parameters
    ----------
    old, new : arrays of int
        The partners, of equal length: row ``old[n]`` became ``new[n]``.
    gone, added : arrays of int
        Rows of the old table only, rows of the new one only.
    repeated : array of int
        The first row, in either table, of each key that is on several rows of one.
    repeated_in : str
        Which table those rows are of: ``old`` or ``new``.
    keys_repeated : int
        How many keys are on several rows of either.
    """

    old: Rows
    new: Rows
    gone: Rows
    added: Rows
    repeated: tuple[Rows, Rows]
    keys_repeated: int = 0


def paired_by_key(old: Table, new: Table, coding: Coding, shared: Names) -> Pairing:
    """Pair the rows of keys that are on one row of each table.

    Parameters
    ----------
    old, new : Table
    coding : Coding
        Of their keys; missing parts match one another.
    shared : sequence of (str, str)
        The columns that both have, by their old and their new names.

    Returns
    -------
    Pairing

    Notes
    -----
    Which of several rows of a key became which is never guessed: those that are equal
    as wholes are partners, as many as there are on both sides; the others have none.
    """
    counts = coding.counts(0), coding.counts(1)
    both = (counts[0] > 0) & (counts[1] > 0)
    single = both & (counts[0] == 1) & (counts[1] == 1)
    here = np.flatnonzero(by_code(single, coding.codes[0], False))
    there = first_rows(coding.codes[1], coding.size)[coding.codes[0][here]]
    several = (counts[0] > 1) | (counts[1] > 1)
    if not several.any():
        return Pairing(here, there, *_alone(coding, both), (_NO_ROWS, _NO_ROWS))
    wanted = both & several
    # What its cells are is a question of a whole column, not of these rows of it.
    old = old.with_kinds({name: old.kind_in_words(name) for name, _ in shared})
    new = new.with_kinds({name: new.kind_in_words(name) for _, name in shared})
    rows = tuple(np.flatnonzero(by_code(wanted, codes, False)) for codes in coding.codes)
    equal = _equal_wholes(old.at(rows[0]), new.at(rows[1]), shared)
    partners = [
        np.concatenate(one) for one in zip((here, there), _picked(rows, equal), strict=True)
    ]
    alone = [
        np.sort(np.concatenate([few, np.delete(some, one)]))
        for few, some, one in zip(_alone(coding, both), rows, equal, strict=True)
    ]
    order = np.argsort(partners[0], kind="stable")
    return Pairing(
        partners[0][order],
        partners[1][order],
        alone[0],
        alone[1],
        _first_of(coding, several),
        int(several.sum()),
    )


def paired_as_wholes(old: Table, new: Table, shared: Names) -> Pairing:
    """Pair equal rows, as many as there are on both sides; nothing else is a partner."""
    here, there = _equal_wholes(old, new, shared)
    order = np.argsort(here, kind="stable")
    gone = np.delete(np.arange(old.rows), here)
    added = np.delete(np.arange(new.rows), there)
    return Pairing(here[order], there[order], gone, added, (_NO_ROWS, _NO_ROWS))


def _picked(rows: Sequence[Rows], some: Sequence[Rows]) -> list[Rows]:
    return [every[few] for every, few in zip(rows, some, strict=True)]


def _alone(coding: Coding, both: npt.NDArray[np.bool_]) -> tuple[Rows, Rows]:
    """The rows of each table whose key is not on the other side."""
    old, new = (np.flatnonzero(~by_code(both, codes, False)) for codes in coding.codes)
    return old, new


def _first_of(coding: Coding, several: npt.NDArray[np.bool_]) -> tuple[Rows, Rows]:
    """The first rows of keys that are on several: old ones, and new ones of keys only there."""
    old = first_rows(coding.codes[0], coding.size)[several]
    new = first_rows(coding.codes[1], coding.size)[several]
    return old[old >= 0], new[old < 0]


def _equal_wholes(old: Table, new: Table, shared: Names) -> tuple[Rows, Rows]:
    """Pairs of rows that are equal in all columns, each row in one pair at most."""
    if not shared or not old.rows or not new.rows:
        return _NO_ROWS, _NO_ROWS
    names = [list(side) for side in zip(*shared, strict=True)]
    coding = code_keys([old, new], names, missing_match=True)
    counts = [count(codes, coding.size) for codes in coding.codes]
    common = np.minimum(*counts)
    old_rows, new_rows = (
        _first_few(codes, own, common) for codes, own in zip(coding.codes, counts, strict=True)
    )
    return old_rows, new_rows


def _first_few(codes: Codes, counts: Counts, few: Counts) -> Rows:
    """The first rows of each code, so many of each, code after code."""
    rows, _ = rows_by_code(codes, counts)
    kept: Rows = rows[within_each(counts) < np.repeat(few, counts)]
    return kept
