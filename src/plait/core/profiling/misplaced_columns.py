"""Headings that stand over the wrong values in one of several extracts."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from plait.core.base.findings import (
    Finding,
    FindingExample,
    Location,
    agreeing,
    pluralize,
)
from plait.core.base.wording import Command, Setting, wording
from plait.core.profiling.profile import ValueCounts, to_numeric_axis
from plait.core.table.table import Table
from plait.core.text.dictionary import TextDictionary
from plait.core.text.hash_table import Codes
from plait.core.types.inference import infer_column_type, parse_column, to_arrow_type

_STRANGE, _AT_HOME = 0.2, 0.7
_FAR, _NEAR = 0.5, 0.25
_LEAST_ROWS = 8
_SAMPLE = 2000
#: Pairs of a strange column and another, of all extracts.
_MOST_COMPARED = 50_000
_CHANCE = 1.9494746035  # beyond this the limit distribution has one thousandth


def find_misplaced_columns(
    tables: Sequence[Table], tallies: Mapping[str, ValueCounts]
) -> list[Finding]:
    """Find columns of one extract whose values look like those of another column elsewhere.

    Parameters
    ----------
    tables : sequence of Table
        Of one shape.
    tallies : mapping of str to ValueCounts
        Of their columns, over these tables.

    Returns
    -------
    list of Finding
        ``columns-swapped`` where two look exchanged, else ``column-misplaced``;
        ``headings-not-compared`` where so many columns are unlike those of the others that
        their pairs are not gone through.

    Notes
    -----
    Texts are compared as sets: hardly any value of the column is in the same
    column of the other extracts, and most are in another. Numbers are compared
    by their distribution, with the two-sample test of Kolmogorov and Smirnov; those
    that are like more than one other column tell nothing. A column is misplaced only
    where the one that it belongs to has no values of its own there, or has others too.
    """
    if len(tables) < 2:
        return []
    columns = _shared_columns(tallies)
    strange = [
        [
            name
            for name in table.column_names
            if name in columns and columns[name].part(number).is_strange(columns[name])
        ]
        for number, table in enumerate(tables)
    ]
    if sum(map(len, strange)) * len(columns) > _MOST_COMPARED:
        return [_not_compared(strange)]  # each holds something else, and not a few are exchanged
    findings: list[Finding] = []
    for number, names in enumerate(strange):
        if names:
            parts = {name: column.part(number) for name, column in columns.items()}
            targets = {name: _target(name, parts, columns) for name in names}
            moved = {name: target for name, target in targets.items() if target is not None}
            findings += _misplaced_finding(tables[number], _homeless(moved, parts), parts, tallies)
    return findings


def _not_compared(strange: Sequence[Sequence[str]]) -> Finding:
    names = dict.fromkeys(name for names in strange for name in names)
    sources = sum(map(bool, strange))
    return Finding(
        "headings-not-compared",
        "note",
        sources,
        f"{pluralize(len(names), 'column')} {agreeing(len(names), 'has', 'have')} other values in "
        f"{pluralize(sources, 'source')} than in the rest: too many to look for swapped headings",
        "see whether all sources hold the same kind of data",
    )


@dataclass(frozen=True, eq=False)
class _ExtractColumn:
    """A column over all extracts: its texts in a dictionary of all columns, its numbers in order.

    Parameters
    ----------
    shared : array of int32
        The code of each text in that dictionary.
    by_code : array of int64
        The texts in order of these codes.
    everywhere : array of int64
        How often the text of each code stands in all columns of all extracts.
    numbers : array of float64, optional
        What each text stands for.
    by_size : array of int64
        The texts that stand for finite numbers, from the smallest on.
    up_to : array of int64
        The rows of all extracts up to each of these.
    """

    name: str
    tally: ValueCounts
    shared: Codes
    by_code: npt.NDArray[np.int64]
    everywhere: npt.NDArray[np.int64]
    numbers: npt.NDArray[np.float64] | None
    by_size: npt.NDArray[np.int64]
    up_to: npt.NDArray[np.int64]

    @cached_property
    def rows(self) -> int:
        """The rows of all extracts that have a value."""
        return int(self.tally.counts.sum())

    @cached_property
    def rank(self) -> npt.NDArray[np.int64]:
        """For each text its place in the order of size, -1 where it has none."""
        rank = np.full(len(self.tally.texts), -1, np.int64)
        rank[self.by_size] = np.arange(len(self.by_size))
        return rank

    def part(self, number: int) -> _ExtractValues:
        """What one of the extracts has of it."""
        return _ExtractValues(*self.tally.values_of_table(number))

    def times_elsewhere(self, shared: Codes, part: _ExtractValues) -> npt.NDArray[np.int64]:
        """How often texts stand in the column of all extracts but the one of the part."""
        if not len(self.shared):
            return np.zeros(len(shared), np.int64)
        place = np.searchsorted(self.shared, shared, sorter=self.by_code)
        place = self.by_code[np.minimum(place, len(self.by_code) - 1)]
        own = np.searchsorted(part.texts, place)
        times = self.tally.counts[place]
        within = own < len(part.texts)
        within[within] = part.texts[own[within]] == place[within]
        times[within] -= part.times[own[within]]
        return np.where(self.shared[place] == shared, times, 0)

    def drawn_elsewhere(self, part: _ExtractValues) -> npt.NDArray[np.float64]:
        """Up to 2,000 numbers, evenly over the rows of all extracts but the one of the part."""
        assert self.numbers is not None
        places, times = part.ranked(self)
        before = np.concatenate([[0], np.cumsum(times)])
        rows = int(self.up_to[-1] - before[-1]) if len(self.up_to) else 0
        if rows <= 0:
            return np.zeros(0)
        wanted = _evenly(rows)
        # Of the part's numbers, those whose place is reached before a wanted row do not count.
        passed = np.searchsorted(self.up_to[places] - before[1:], wanted, side="right")
        at = np.searchsorted(self.up_to, wanted + before[passed], side="right")
        drawn: npt.NDArray[np.float64] = self.numbers[self.by_size[at]]
        return drawn


@dataclass(frozen=True, eq=False)
class _ExtractValues:
    """What one extract has of a column: the places of its texts in the tally, and their rows."""

    texts: npt.NDArray[np.int64]
    times: npt.NDArray[np.int64]

    @cached_property
    def rows(self) -> int:
        """The rows that have a value."""
        return int(self.times.sum())

    def ranked(self, column: _ExtractColumn) -> tuple[npt.NDArray[np.int64], npt.NDArray[np.int64]]:
        """The places of its numbers in the order of size, and their rows."""
        rank = column.rank[self.texts]
        order = np.argsort(rank, kind="stable")[np.count_nonzero(rank < 0) :]
        return rank[order], self.times[order]

    def drawn(self, column: _ExtractColumn) -> npt.NDArray[np.float64]:
        """Up to 2,000 of its numbers, evenly over its rows in order of size."""
        assert column.numbers is not None
        places, times = self.ranked(column)
        reached = np.cumsum(times)
        if not len(reached):
            return np.zeros(0)
        at = np.searchsorted(reached, _evenly(int(reached[-1])), side="right")
        return column.numbers[column.by_size[places[at]]]

    def share(self, own: _ExtractColumn, other: _ExtractColumn, elsewhere: _ExtractValues) -> float:
        """The share of its rows whose text is in a column of the other extracts."""
        times = other.times_elsewhere(own.shared[self.texts], elsewhere)
        return float(self.times[times > 0].sum() / max(self.rows, 1))

    def is_strange(self, column: _ExtractColumn) -> bool:
        """Whether its values are unlike those of the column in the other extracts."""
        if min(self.rows, column.rows - self.rows) < _LEAST_ROWS:
            return False
        if column.numbers is not None:
            return _distance(self.drawn(column), column.drawn_elsewhere(self)) >= _FAR
        # Values that stand nowhere else, such as numbers of records, can be of no other column.
        known = column.everywhere[column.shared[self.texts]] > self.times
        return (
            self.times[known].sum() / self.rows >= _AT_HOME
            and self.share(column, column, self) <= _STRANGE
        )


def _shared_columns(tallies: Mapping[str, ValueCounts]) -> dict[str, _ExtractColumn]:
    """The columns, their texts in one dictionary."""
    dictionary = TextDictionary()
    codes = {name: dictionary.encode(tally.texts) for name, tally in tallies.items()}
    everywhere = np.zeros(len(dictionary), np.int64)
    for name, tally in tallies.items():
        everywhere[codes[name]] += tally.counts  # each text is once in a tally
    columns = {}
    for name, tally in tallies.items():
        numbers = _numbers(tally)
        finite = np.zeros(0, np.int64) if numbers is None else np.flatnonzero(np.isfinite(numbers))
        if numbers is not None:
            finite = finite[np.argsort(numbers[finite], kind="stable")]
        columns[name] = _ExtractColumn(
            name,
            tally,
            codes[name],
            np.argsort(codes[name], kind="stable"),
            everywhere,
            numbers,
            finite,
            np.cumsum(tally.counts[finite]),
        )
    return columns


def _homeless(moved: Mapping[str, str], parts: Mapping[str, _ExtractValues]) -> dict[str, str]:
    """Those of the moved columns whose own place is taken, or empty, and that no other claims.

    Where the values of one column are like those of a second elsewhere, and the second has its
    own as ever, then both are alike, and nothing is under a wrong heading.
    """
    claims = Counter(moved.values())
    left = {name: target for name, target in moved.items() if claims[target] == 1}
    while at_home := {
        name for name, target in left.items() if target not in left and parts[target].rows
    }:
        left = {name: target for name, target in left.items() if name not in at_home}
    return left


def _numbers(tally: ValueCounts) -> npt.NDArray[np.float64] | None:
    """The number that each text of a column stands for."""
    column = pa.chunked_array([tally.texts], tally.texts.type)
    type_ = tally.declared_type or infer_column_type(column)
    if type_.is_plain and type_.family in ("text", "empty", "boolean"):
        return None
    try:
        made = parse_column(tally.texts, type_, to_arrow_type(type_, column))
    except pa.ArrowInvalid:
        return None  # some are no finite numbers, as those of a typed column may be
    found = to_numeric_axis(made)
    return (
        None
        if found is None
        else np.where(made.is_null().to_numpy(zero_copy_only=False), np.nan, found)
    )


def _target(
    name: str, parts: Mapping[str, _ExtractValues], columns: Mapping[str, _ExtractColumn]
) -> str | None:
    """The column of the other extracts that the values of a strange one look like."""
    own, part = columns[name], parts[name]
    others = [column for column in columns.values() if column.name != name]
    if own.numbers is None:
        shares = [part.share(own, other, parts[other.name]) for other in others]
        best = int(np.argmax(shares)) if shares else -1
        return others[best].name if shares and shares[best] >= _AT_HOME else None
    mine = part.drawn(own)
    near = [
        other.name
        for other in others
        if other.numbers is not None
        and other.rows - (elsewhere := parts[other.name]).rows >= _LEAST_ROWS
        and _distance(mine, other.drawn_elsewhere(elsewhere)) < _NEAR
    ]
    return near[0] if len(near) == 1 else None


def _evenly(rows: int) -> npt.NDArray[np.float64]:
    """Up to 2,000 of some rows, at equal distances."""
    return np.linspace(0, rows - 1, min(_SAMPLE, rows))


def _distance(one: npt.NDArray[np.float64], other: npt.NDArray[np.float64]) -> float:
    """The greatest distance between two distributions; 0 where it may be chance.

    The two-sample test of Kolmogorov and Smirnov, with its limit distribution
    (Smirnov, 1948).
    """
    if min(len(one), len(other)) < _LEAST_ROWS:
        return 0.0
    every = np.concatenate([one, other])
    below = [np.searchsorted(part, every, side="right") / len(part) for part in (one, other)]
    distance = float(np.abs(below[0] - below[1]).max())
    return 0.0 if distance >= _FAR and _may_be_chance(distance, one, other) else distance


def _may_be_chance(
    distance: float, one: npt.NDArray[np.float64], other: npt.NDArray[np.float64]
) -> bool:
    weight = np.sqrt(len(one) * len(other) / (len(one) + len(other)))
    return bool(weight * distance <= _CHANCE)


def _misplaced_finding(
    table: Table,
    moved: Mapping[str, str],
    parts: Mapping[str, _ExtractValues],
    tallies: Mapping[str, ValueCounts],
) -> Iterator[Finding]:
    for name, target in moved.items():
        swapped = moved.get(target) == name
        if swapped and name > target:
            continue
        examples = tuple(
            FindingExample(f"{column}: {', '.join(_sample_values(tallies[column], parts[column]))}")
            for column in ((name, target) if swapped else (name,))
            if parts[column].rows
        )
        rows = parts[name].rows
        if swapped:
            yield Finding(
                "columns-swapped",
                "warning",
                rows,
                f"headings {name} and {target} look swapped in {table.name}: each column "
                "holds the kind of values that the other holds in the other sources",
                wording(
                    Command(
                        "mend",
                        (table.path or table.name,),
                        (
                            Setting("rename", target, name),
                            Setting("rename", name, target),
                            Setting("out", "…"),
                        ),
                    )
                ),
                Location(table.name),
                examples,
            )
        else:
            yield Finding(
                "column-misplaced",
                "warning",
                rows,
                f"the values of {name} in {table.name} look like those of {target} in the "
                "other sources",
                wording(
                    f"check the heading; to stack it as {target}: ",
                    Setting("same", (name,), target),
                ),
                Location(table.name),
                examples,
            )


def _sample_values(tally: ValueCounts, part: _ExtractValues) -> list[str]:
    return [tally.texts[int(place)].as_py() for place in part.texts[:4]]
