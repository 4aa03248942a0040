"""Candidate keys: the columns, or few columns together, that tell the rows of a table apart."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import combinations
from typing import Any

import numpy as np
import pyarrow as pa

from plait.core.look.keysearch.chance import by_chance, coincidence, expected_repeats
from plait.core.look.keysearch.clusters import all_rows, split_by
from plait.core.look.keysearch.roles import measures, weights_of
from plait.core.look.keysearch.search import MOST_TOGETHER, minimal_keys
from plait.core.look.profile import Profile, Tally, tally_by_value
from plait.core.text.wordtable import Codes
from plait.core.types.forms import base

MOST_COLUMNS = 100
MOST_KEPT = 60
_FEW_ROWS = 10
_NEARLY = 0.02
_NEAR_COLUMNS = 12
_NEAR_TRIED = 12
_FEW, _WIDE = 1 << 12, 1 << 17
_SURE_PAIRS = 20


@dataclass(frozen=True)
class Candidate:
    """Columns that are unique together, or nearly.

    Parameters
    ----------
    columns : tuple of str
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
class Candidates:
    """The smallest candidate keys.

    Parameters
    ----------
    keys : tuple of Candidate
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

    keys: tuple[Candidate, ...]
    found: int
    sought: int
    columns: int
    bounded: bool = False


def candidate_keys(
    tallies: Mapping[str, Tally], profiles: Mapping[str, Profile], rows: int
) -> Candidates:
    """Find the smallest sets of up to four columns that are unique, or nearly so.

    Parameters
    ----------
    tallies : mapping of str to Tally
        Of the columns, each of one table.
    profiles : mapping of str to Profile
        Of the same columns.
    rows : int
        How many rows the table has.

    Returns
    -------
    Candidates
        All minimal keys among up to 100 columns without missing cells (``minimal_keys``),
        every one of them counted over all rows. Rows that repeat an earlier one wholly
        are in the way of each of them. Sets that are unique but for a few rows are
        sought among the columns that look like parts of a key, where no set is unique
        that does.
    """
    names = [name for name, column in profiles.items() if column.distinct > 1]
    weights = weights_of(profiles)
    chosen = sorted(names, key=weights.__getitem__)[:MOST_COLUMNS]
    columns = {name: _Column(tallies[name], profiles[name]) for name in names if name in chosen}
    if rows < 2 or not columns:
        return Candidates((), 0, len(columns), len(profiles))
    exact, bounded = _exact(columns, rows)
    known = {one.columns for one in exact}
    near = [one for one in _single_near(columns, rows) if one.columns not in known]
    if not any(not one.by_chance and not one.in_the_way for one in exact):
        near += _near(columns, rows, weights, [*exact, *near])
    every = sorted([*exact, *near], key=lambda one: rank(one, weights))
    kept = tuple(every[:MOST_KEPT])
    return Candidates(kept, len(every), len(columns), len(profiles), bounded)


class _Column:
    """A column as codes, -1 where it is missing or holds a marker for that."""

    def __init__(self, tally: Tally, profile: Profile) -> None:
        tally = tally_by_value(tally, profile.kind)
        (codes,) = tally.codes
        assert codes is not None
        self.missing, self.profile, self.size = profile.missing, profile, len(tally.texts)
        self.coincidence = coincidence(tally.counts[0])
        self.codes: Codes = codes
        if profile.missing > tally.missing[0]:
            marked = np.isin(np.arange(self.size + 1), _marked(tally, profile))
            self.codes = np.where(marked[codes], -1, codes).astype(codes.dtype)


def _marked(tally: Tally, profile: Profile) -> list[int]:
    """The codes of the markers for missing."""
    markers = pa.array([text for text, _ in profile.markers], tally.texts.type)
    found = pa.compute.index_in(markers, tally.texts)
    return [place for place in found.to_pylist() if place is not None]


def rank(
    key: Candidate, weights: Mapping[str, float], shared: frozenset[str] = frozenset()
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


def ranked(
    found: Candidates, profiles: Mapping[str, Profile], shared: frozenset[str]
) -> Candidates:
    """The candidates with those first whose columns other sources have too."""
    weights = weights_of(profiles)
    keys = [
        replace(one, by_chance=one.by_chance and not _known(one, shared, profiles))
        for one in found.keys
    ]
    keys.sort(key=lambda one: rank(one, weights, shared))
    return replace(found, keys=tuple(keys))


def _known(key: Candidate, shared: frozenset[str], profiles: Mapping[str, Profile]) -> bool:
    """Whether others have the columns of a key too; of a composite one, all but a date."""
    alone = [name for name in key.columns if name not in shared]
    dated = all(base(profiles[name].kind) in ("date", "datetime") for name in alone)
    return not alone or (len(alone) < len(key.columns) and dated)


def _exact(columns: Mapping[str, _Column], rows: int) -> tuple[list[Candidate], bool]:
    """Keys that tell all rows apart but those that are equal in everything; if some are open."""
    names = [name for name, column in columns.items() if not column.missing]
    whole = [columns[name] for name in names]
    found = minimal_keys([one.codes for one in whole], [one.size for one in whole])
    others = [one for name, one in columns.items() if name not in names]
    repeats = _wholly(whole, others, rows, found.repeats)
    if found.repeats > (rows / 2 if repeats == found.repeats else few_in_the_way(rows)):
        return [], found.bounded
    keys = [
        Candidate(
            tuple(names[number] for number in key),
            found.repeats,
            _accidental([whole[number] for number in key], rows - found.repeats),
        )
        for key in found.keys
    ]
    return keys, found.bounded


def _wholly(whole: Sequence[_Column], others: Sequence[_Column], rows: int, repeats: int) -> int:
    """Of rows that repeat another on the columns without missing cells, those that do on all."""
    if not repeats or not others:
        return repeats
    coded = [
        (np.where(one.codes < 0, one.size, one.codes), one.size + 1) for one in (*whole, *others)
    ]
    return split_by(all_rows(rows), coded).repeats


def _accidental(columns: Sequence[_Column], rows: int, repeats: int = 0) -> bool:
    if len(columns) == 1:
        return measures(columns[0].profile)
    return by_chance(rows, (one.coincidence for one in columns), repeats)


def few_in_the_way(rows: int) -> float:
    """How many rows may be in the way of a key that is nearly one."""
    return max(_NEARLY * rows, min(_FEW_ROWS, rows // 10))


def _single_near(columns: Mapping[str, _Column], rows: int) -> list[Candidate]:
    """Columns that are unique but for a few rows, by their counts."""
    found = []
    for name, column in columns.items():
        in_the_way = rows - column.profile.distinct
        if 0 < in_the_way <= few_in_the_way(rows) and not measures(column.profile):
            found.append(Candidate((name,), in_the_way))
    return found


def _near(
    columns: Mapping[str, _Column],
    rows: int,
    weights: Mapping[str, float],
    known: Sequence[Candidate],
) -> list[Candidate]:
    """Sets of columns that look like a key and are unique but for a few rows."""
    likely = [
        name
        for name in sorted(columns, key=weights.__getitem__)
        if not measures(columns[name].profile) and columns[name].missing <= few_in_the_way(rows)
    ][:_NEAR_COLUMNS]
    found = list(known)
    for names in _hopeful(likely, columns, rows):
        if any(set(one.columns) <= set(names) and not one.by_chance for one in found):
            continue
        parts = [columns[name] for name in names]
        in_the_way = _in_the_way(parts, rows)
        if 0 < in_the_way <= few_in_the_way(rows) and not _accidental(parts, rows, in_the_way):
            found.append(Candidate(tuple(name for name in columns if name in names), in_the_way))
    return found[len(known) :]


def _hopeful(
    likely: Sequence[str], columns: Mapping[str, _Column], rows: int
) -> Iterator[tuple[str, ...]]:
    """For each size the sets that repeat least in a part of the rows."""
    few, wide = (_drawn(likely, columns, rows, number) for number in (_FEW, _WIDE))
    for size in range(2, MOST_TOGETHER + 1):
        sets = []
        for place, names in enumerate(combinations(likely, size)):
            possible = np.prod([float(columns[name].profile.distinct) for name in names])
            parts = (columns[name].coincidence for name in names)
            if possible >= (1 - _NEARLY) * rows and not by_chance(rows, parts):
                sets.append((_estimate(names, few, rows), place, names))
        for _, _, names in sorted(sets)[:_NEAR_TRIED]:
            chance = expected_repeats(rows, (columns[name].coincidence for name in names))
            most = min(_SURE_PAIRS * few_in_the_way(rows), chance / 3)
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
    return split_by(all_rows(looked), columns).repeats * (rows / looked) ** 2


def _in_the_way(parts: Sequence[_Column], rows: int) -> int:
    """How many of all rows repeat a key or have none."""
    clusters = split_by(all_rows(rows), ((one.codes, one.size) for one in parts))
    absent = np.zeros(rows, bool)
    for one in parts:
        if one.missing:
            absent |= one.codes < 0
    return clusters.repeats + int(np.count_nonzero(absent))
