"""Columns that tell the rows of a table apart, the likeliest first."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import combinations
from typing import Any

import numpy as np
import pyarrow as pa

from plait.core.profiling.agree_sets import (
    collision_probability,
    expected_duplicates,
    is_chance_unique,
)
from plait.core.profiling.equivalence_classes import refine_by_columns, single_class
from plait.core.profiling.minimal_keys import MOST_TOGETHER, find_minimal_keys
from plait.core.profiling.profile import ColumnProfile, ValueCounts, tally_by_value
from plait.core.text.hash_table import Codes

LONGEST_CELL = 40
_MIN_DISTINCT = 60
_FULL = 0.98

MOST_COLUMNS = 100
MOST_KEPT = 60
_FEW_ROWS = 10
_NEARLY = 0.02
_NEAR_COLUMNS = 12
_NEAR_TRIED = 12
_SMALL_SAMPLE_ROWS, _WIDE = 1 << 12, 1 << 17
_SURE_PAIRS = 20
_KEY_WORDS = frozenset(
    ("id", "ids", "key", "no", "nr", "num", "number", "code", "ref", "uuid", "guid", "nummer")
)


def is_measure(column: ColumnProfile) -> bool:
    """Whether a column holds measures or remarks: decimals, whole numbers below 0, long texts."""
    family = column.kind.family
    if family == "integer":
        return column.smallest.startswith("-")
    return family in ("decimal", "boolean", "empty") or column.longest > LONGEST_CELL


def key_implausibility(name: str, column: ColumnProfile, place: float) -> float:
    """How little a column looks like a part of a key: 0 to 5.

    Parameters
    ----------
    place : float
        Where it stands among the columns, 0 for the first and 1 for the last.
    """
    present = max(column.rows - column.missing, 1)
    if is_measure(column):
        return 3 + place
    wide = column.kind.family == "integer" and _MIN_DISTINCT < column.distinct < _FULL * present
    called = bool(_KEY_WORDS & set(re.split(r"[\W_\d]+", _camel_split(name).lower())))
    # Of two that are alike in all else the shorter one: a code, and no remark.
    long = min(column.longest, LONGEST_CELL) / LONGEST_CELL
    return 1 + wide + (place + 2 * long - called) / 2


def _camel_split(name: str) -> str:
    """``orderId`` as ``order Id``."""
    return re.sub(r"(?<=[a-z])(?=[A-Z])", " ", name)


def key_implausibilities(profiles: Mapping[str, ColumnProfile]) -> dict[str, float]:
    """The weight of each column of a table."""
    last = max(len(profiles) - 1, 1)
    return {
        name: key_implausibility(name, column, place / last)
        for place, (name, column) in enumerate(profiles.items())
    }


@dataclass(frozen=True)
class CandidateKey:
    """Columns that are unique together, or nearly.

    Parameters
    ----------
    in_the_way : int
        Rows that would have to go for them to be unique: repeats of a key, and
        rows where part of it is missing.
    by_chance : bool
        Whether any such columns would be unique in a table of this size.
    """

    columns: tuple[str, ...]
    in_the_way: int
    by_chance: bool = False


@dataclass(frozen=True)
class CandidateKeys:
    """The smallest candidate keys.

    Parameters
    ----------
    keys : tuple of CandidateKey
        Likely ones first; at most 60.
    found : int
        How many minimal keys there are.
    sought : int
        Among how many columns they were sought.
    columns : int
        How many the table has.
    bounded : bool
        Whether some sets of columns were left undecided, to bound the work.
    """

    keys: tuple[CandidateKey, ...]
    found: int
    sought: int
    columns: int
    bounded: bool = False


def find_candidate_keys(
    tallies: Mapping[str, ValueCounts], profiles: Mapping[str, ColumnProfile], rows: int
) -> CandidateKeys:
    """Find the smallest sets of up to four columns that are unique, or nearly so.

    Parameters
    ----------
    tallies : mapping of str to ValueCounts
        Of the columns, each of one table.
    profiles : mapping of str to ColumnProfile
        Of the same columns.
    rows : int
        How many rows the table has.

    Returns
    -------
    CandidateKeys
        All minimal keys among up to 100 columns without missing cells (``find_minimal_keys``),
        every one of them counted over all rows. Rows that repeat an earlier one wholly
        are in the way of each of them. Sets that are unique but for a few rows are
        sought among the columns that look like parts of a key, where no set is unique
        that does.
    """
    names = [name for name, column in profiles.items() if column.distinct > 1]
    weights = key_implausibilities(profiles)
    chosen = sorted(names, key=weights.__getitem__)[:MOST_COLUMNS]
    columns = {name: _Column(tallies[name], profiles[name]) for name in names if name in chosen}
    if rows < 2 or not columns:
        return CandidateKeys((), 0, len(columns), len(profiles))
    exact, bounded = _exact(columns, rows)
    known = {e.columns for e in exact}
    near = [c for c in _single_near(columns, rows) if c.columns not in known]
    if not any(not one.by_chance and not one.in_the_way for one in exact):
        near += _near(columns, rows, weights, [*exact, *near])
    every = sorted([*exact, *near], key=lambda one: plausibility_rank(one, weights))
    candidate_keies = tuple(every[:MOST_KEPT])
    return CandidateKeys(candidate_keies, len(every), len(columns), len(profiles), bounded)


class _Column:
    """A column as codes, -1 where it is missing or holds a marker for that."""

    def __init__(self, tally: ValueCounts, profile: ColumnProfile) -> None:
        tally = tally_by_value(tally, profile.kind)
        (codes,) = tally.codes
        assert codes is not None
        self.missing, self.profile, self.size = profile.missing, profile, len(tally.texts)
        self.coincidence = collision_probability(tally.counts)
        self.codes: Codes = codes
        if profile.missing > tally.missing[0]:
            marked = np.isin(np.arange(self.size + 1), _marked(tally, profile))
            self.codes = np.where(marked[codes], -1, codes).astype(codes.dtype)


def _marked(tally: ValueCounts, profile: ColumnProfile) -> list[int]:
    """The codes of the markers for missing."""
    markers = pa.array([text for text, _ in profile.markers], tally.texts.type)
    marked = pa.compute.is_in(tally.texts, markers)
    return np.flatnonzero(marked.to_numpy(zero_copy_only=False)).tolist()


def plausibility_rank(
    key: CandidateKey, weights: Mapping[str, float], shared: frozenset[str] = frozenset()
) -> tuple[float, ...]:
    """Sorts what a person would take for the key first.

    A key that others share goes first, then one that is no chance, then columns that
    identify before those that measure, few before many, and those near the front.
    """
    known = sum(name in shared for name in key.columns) / len(key.columns)
    chance = key.by_chance and known < 1
    return (
        chance,
        key.in_the_way > 0 and not known,
        sum(weights[name] - (0.75 if name in shared else 0) for name in key.columns),
        key.in_the_way,
    )


def rank_by_shared_columns(
    candidate_keys: CandidateKeys, profiles: Mapping[str, ColumnProfile], shared: frozenset[str]
) -> CandidateKeys:
    """The candidates with those first whose columns other sources have too."""
    weights = key_implausibilities(profiles)
    keys = [
        replace(key, by_chance=key.by_chance and not _is_shared_key(key, shared, profiles))
        for key in candidate_keys.keys
    ]
    keys.sort(key=lambda one: plausibility_rank(one, weights, shared))
    return replace(candidate_keys, keys=tuple(keys))


def _is_shared_key(
    key: CandidateKey, shared: frozenset[str], profiles: Mapping[str, ColumnProfile]
) -> bool:
    """Whether others have the columns of a key too; of a composite one, all but a date."""
    alone = [name for name in key.columns if name not in shared]
    dated = all(profiles[name].kind.has_day for name in alone)
    return not alone or (len(alone) < len(key.columns) and dated)


def _exact(columns: Mapping[str, _Column], rows: int) -> tuple[list[CandidateKey], bool]:
    """Keys that tell all rows apart but those that are equal in everything; if some are open."""
    names = [name for name, column in columns.items() if not column.missing]
    whole = [columns[name] for name in names]
    minimal_keys = find_minimal_keys([w.codes for w in whole], [one.size for one in whole])
    others = [c for name, c in columns.items() if name not in names]
    repeats = _wholly(whole, others, rows, minimal_keys.repeats)
    if minimal_keys.repeats > (
        rows / 2 if repeats == minimal_keys.repeats else max_tolerated_duplicates(rows)
    ):
        return [], minimal_keys.bounded
    keys = [
        CandidateKey(
            tuple(names[number] for number in key),
            minimal_keys.repeats,
            _accidental([whole[number] for number in key], rows - minimal_keys.repeats),
        )
        for key in minimal_keys.keys
    ]
    return keys, minimal_keys.bounded


def _wholly(whole: Sequence[_Column], others: Sequence[_Column], rows: int, repeats: int) -> int:
    """Of rows that repeat another on the columns without missing cells, those that do on all."""
    if not repeats or not others:
        return repeats
    coded = [
        (np.where(one.codes < 0, one.size, one.codes), one.size + 1) for one in (*whole, *others)
    ]
    return refine_by_columns(single_class(rows), coded).repeats


def _accidental(columns: Sequence[_Column], rows: int, repeats: int = 0) -> bool:
    if len(columns) == 1:
        return is_measure(columns[0].profile)
    return is_chance_unique(rows, (column.coincidence for column in columns), repeats)


def max_tolerated_duplicates(rows: int) -> float:
    """How many rows may be in the way of a key that is nearly one."""
    return max(_NEARLY * rows, min(_FEW_ROWS, rows // 10))


def _single_near(columns: Mapping[str, _Column], rows: int) -> list[CandidateKey]:
    """Columns that are unique but for a few rows, by their counts."""
    found = []
    for name, column in columns.items():
        in_the_way = rows - column.profile.distinct
        if 0 < in_the_way <= max_tolerated_duplicates(rows) and not is_measure(column.profile):
            found.append(CandidateKey((name,), in_the_way))
    return found


def _near(
    columns: Mapping[str, _Column],
    rows: int,
    weights: Mapping[str, float],
    candidate_keies: Sequence[CandidateKey],
) -> list[CandidateKey]:
    """Sets of columns that look like a key and are unique but for a few rows."""
    likely = [
        name
        for name in sorted(columns, key=weights.__getitem__)
        if not is_measure(columns[name].profile)
        and columns[name].missing <= max_tolerated_duplicates(rows)
    ][:_NEAR_COLUMNS]
    found = list(candidate_keies)
    for names in _hopeful(likely, columns, rows):
        if any(set(f.columns) <= set(names) and not f.by_chance for f in found):
            continue
        parts = [columns[name] for name in names]
        in_the_way = _in_the_way(parts, rows)
        if 0 < in_the_way <= max_tolerated_duplicates(rows) and not _accidental(
            parts, rows, in_the_way
        ):
            found.append(CandidateKey(tuple(name for name in columns if name in names), in_the_way))
    return found[len(candidate_keies) :]


def _hopeful(
    likely: Sequence[str], columns: Mapping[str, _Column], rows: int
) -> Iterator[tuple[str, ...]]:
    """For each size the sets that repeat least in a part of the rows."""
    few, wide = (_drawn(likely, columns, rows, number) for number in (_SMALL_SAMPLE_ROWS, _WIDE))
    for size in range(2, MOST_TOGETHER + 1):
        sets = []
        for place, names in enumerate(combinations(likely, size)):
            possible = np.prod([float(columns[name].profile.distinct) for name in names])
            parts = (columns[name].coincidence for name in names)
            if possible >= (1 - _NEARLY) * rows and not is_chance_unique(rows, parts):
                sets.append((_estimate(names, few, rows), place, names))
        for _, _, names in sorted(sets)[:_NEAR_TRIED]:
            chance = expected_duplicates(rows, (columns[name].coincidence for name in names))
            most = min(_SURE_PAIRS * max_tolerated_duplicates(rows), chance / 3)
            if _estimate(names, wide, rows) <= most:
                yield names


def _drawn(
    likely: Sequence[str], columns: Mapping[str, _Column], rows: int, number: int
) -> dict[str, tuple[Codes, int]]:
    """Some rows of the columns, from all over; all where they are few."""
    chosen: Any = slice(None)
    if number < rows:
        chosen = np.random.default_rng(rows).integers(0, rows, number)
    return {name: (columns[name].codes[chosen], columns[name].size) for name in likely}


def _estimate(names: Sequence[str], some: Mapping[str, tuple[Codes, int]], rows: int) -> float:
    """How many pairs of all rows agree, by those that do among some.

    Of so many pairs a part of the rows holds the square of its share.
    """
    columns = [some[name] for name in names]
    looked = len(columns[0][0])
    return refine_by_columns(single_class(looked), columns).repeats * (rows / looked) ** 2


def _in_the_way(parts: Sequence[_Column], rows: int) -> int:
    """How many of all rows repeat a key or have none."""
    clusters = refine_by_columns(single_class(rows), ((p.codes, p.size) for p in parts))
    absent = np.zeros(rows, bool)
    for part in parts:
        if part.missing:
            absent |= part.codes < 0
    return clusters.repeats + int(np.count_nonzero(absent))
