"""Headings that stand over the wrong values in one of several extracts."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from plait.core.base.findings import Finding, FindingExample, Location
from plait.core.base.wording import Command, Setting, wording
from plait.core.profiling.profile import ValueCounts, to_numeric_axis
from plait.core.table.table import Table
from plait.core.text.dictionary import TextDictionary
from plait.core.types.inference import infer_column_type, parse_column, to_arrow_type

_STRANGE, _AT_HOME = 0.2, 0.7
_FAR, _NEAR = 0.5, 0.25
_LEAST_ROWS = 8
_SAMPLE = 2000
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
        ``columns-swapped`` where two look exchanged, else ``column-misplaced``.

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
    texts = _TextSets(tallies)
    numbers = {name: found for name in tallies if (found := _numbers(tallies[name])) is not None}
    findings: list[Finding] = []
    for number, table in enumerate(tables):
        moved = {
            name: target
            for name in table.column_names
            if name in tallies and (target := _target(name, number, tallies, texts, numbers))
        }
        findings += _misplaced_finding(table, _homeless(moved, tallies, number), tallies, number)
    return findings


def _homeless(
    moved: Mapping[str, str], tallies: Mapping[str, ValueCounts], number: int
) -> dict[str, str]:
    """Those of the moved columns whose own place is taken, or empty, and that no other claims.

    Where the values of one column are like those of a second elsewhere, and the second has its
    own as ever, then both are alike, and nothing is under a wrong heading.
    """
    claims = list(moved.values())
    left = {name: target for name, target in moved.items() if claims.count(target) == 1}
    while at_home := {
        name
        for name, target in left.items()
        if target not in left and tallies[target].counts[number].any()
    }:
        left = {name: target for name, target in left.items() if name not in at_home}
    return left


class _TextSets:
    """The texts of all columns in one dictionary."""

    def __init__(self, tallies: Mapping[str, ValueCounts]) -> None:
        dictionary = TextDictionary()
        self.codes = {name: dictionary.encode(tally.texts) for name, tally in tallies.items()}
        self.size, self.tallies = len(dictionary), tallies

    def share(self, name: str, number: int, other: str) -> float:
        """The share of an extract's cells in a column that are in a column of the others."""
        mine = self.tallies[name].counts[number]
        theirs = sum(self.tallies[other].counts) - self.tallies[other].counts[number]
        known = np.zeros(self.size + 1, bool)
        known[self.codes[other][theirs > 0]] = True
        known[self.size] = False
        return float(mine[known[self.codes[name]]].sum() / max(mine.sum(), 1))


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
    name: str,
    number: int,
    tallies: Mapping[str, ValueCounts],
    texts: _TextSets,
    numbers: Mapping[str, npt.NDArray[np.float64]],
) -> str | None:
    """The column of the other extracts that the values look like, if not their own."""
    mine, every = tallies[name].counts[number], sum(tallies[name].counts)
    if mine.sum() < _LEAST_ROWS or (every - mine).sum() < _LEAST_ROWS:
        return None
    names = [tally for tally in tallies if tally != name]
    if name in numbers:
        return _numeric_target(name, number, tallies, numbers)
    if texts.share(name, number, name) > _STRANGE:
        return None
    best = max(names, key=lambda o: texts.share(name, number, o), default=None)
    if best is None or texts.share(name, number, best) < _AT_HOME:
        return None
    return best


def _numeric_target(
    name: str,
    number: int,
    tallies: Mapping[str, ValueCounts],
    numbers: Mapping[str, npt.NDArray[np.float64]],
) -> str | None:
    mine = _drawn(numbers[name], tallies[name].counts[number])
    own = _distance(mine, _drawn(numbers[name], _counts_without(tallies[name], number)))
    if own < _FAR:
        return None
    distances = {
        other: _distance(mine, _drawn(values, _counts_without(tallies[other], number)))
        for other, values in numbers.items()
        if other != name and _counts_without(tallies[other], number).sum() >= _LEAST_ROWS
    }
    near = [other for other, distance in distances.items() if distance < _NEAR]
    return near[0] if len(near) == 1 else None


def _counts_without(tally: ValueCounts, number: int) -> npt.NDArray[np.int64]:
    rest: npt.NDArray[np.int64] = sum(tally.counts) - tally.counts[number]
    return rest


def _drawn(values: npt.NDArray[np.float64], rows: npt.NDArray[np.int64]) -> npt.NDArray[np.float64]:
    """Up to 2,000 of the values, evenly over all rows in order of size."""
    there = (rows > 0) & np.isfinite(values)
    order = np.argsort(values[there], kind="stable")
    reached = np.cumsum(rows[there][order])
    if not len(reached):
        return np.zeros(0)
    wanted = np.linspace(0, reached[-1] - 1, min(_SAMPLE, int(reached[-1])))
    return values[there][order][np.searchsorted(reached, wanted, side="right")]


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
    table: Table, moved: Mapping[str, str], tallies: Mapping[str, ValueCounts], number: int
) -> Iterator[Finding]:
    for name, target in moved.items():
        swapped = moved.get(target) == name
        if swapped and name > target:
            continue
        examples = tuple(
            FindingExample(f"{column}: {', '.join(_sample_values(tallies[column], number))}")
            for column in ((name, target) if swapped else (name,))
            if tallies[column].counts[number].any()
        )
        rows = int(tallies[name].counts[number].sum())
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


def _sample_values(tally: ValueCounts, number: int) -> list[str]:
    some = np.flatnonzero(tally.counts[number])[:4]
    return [tally.texts[int(n)].as_py() for n in some]
