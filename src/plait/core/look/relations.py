"""Which columns of two tables could join which, found from their values."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import combinations

import numpy as np
import numpy.typing as npt

from plait.core.account.finding import Finding
from plait.core.account.names import folded
from plait.core.codes.coding import code_keys
from plait.core.keys.match import match_keys
from plait.core.look.candidates import Candidate
from plait.core.look.profile import Profile, Tally
from plait.core.table.keyspec import Key, spelt
from plait.core.table.table import Table
from plait.core.text.dictionary import TextDictionary
from plait.core.types.forms import base
from plait.core.types.kinds import plain_number

MOST_COLUMNS = 60
MOST_RELATIONS = 4
_LEAST_SHARE = 0.3
_PART_SHARE = 0.5
_UNRELATED = 0.05
_SURE_SHARE = 0.9
_ALIKE = 75.0
_MOST_TRIED = 8
_MOST_NAMED = 4
_FEW_ADDED = 0.1
_FEW_VALUES = 3


@dataclass(frozen=True, eq=False)
class TalliedTable:
    """A table, with what is known of its columns.

    Parameters
    ----------
    table : Table
    tallies : mapping of str to Tally
        Each of one table.
    profiles : mapping of str to Profile
    keys : tuple of Candidate
    """

    table: Table
    tallies: Mapping[str, Tally]
    profiles: Mapping[str, Profile]
    keys: tuple[Candidate, ...]


@dataclass(frozen=True)
class Relation:
    """Columns on which two tables could be joined.

    Parameters
    ----------
    left, right : str
        The tables.
    key : tuple of (str, str)
        Left and right columns.
    left_rows, right_rows : int
    left_matched, right_matched : int
        Rows that would match.
    cardinality : str
        Left to right, judged on the keys that match.
    """

    left: str
    right: str
    key: Key
    left_rows: int
    right_rows: int
    left_matched: int
    right_matched: int
    cardinality: str

    @property
    def shares(self) -> tuple[float, float]:
        """Shares of the left and the right rows that would match."""
        return (
            self.left_matched / max(self.left_rows, 1),
            self.right_matched / max(self.right_rows, 1),
        )


@dataclass(frozen=True, eq=False)
class _Values:
    """A column as a set of values: their codes in a dictionary of all columns, and their rows."""

    name: str
    kind: str
    codes: npt.NDArray[np.int32]
    rows: npt.NDArray[np.int64]


@dataclass(frozen=True, eq=False)
class Pair:
    """A column of either table, what a join on them matches, and the rows it would multiply."""

    left: _Values
    right: _Values
    match: Relation
    added: int

    @property
    def likely(self) -> bool:
        """Whether a match is more than chance: numbers overlap without meaning anything."""
        one, here, there = self.match, self.left, self.right
        if max(one.shares) < _LEAST_SHARE or self.added > _FEW_ADDED * one.left_matched:
            return False
        if here.kind != there.kind and "text" not in (here.kind, there.kind):
            return False
        if here.kind == "text" or alike(here.name, there.name):
            return True
        sure = one.shares[0] >= _SURE_SHARE and one.shares[1] >= _PART_SHARE
        return sure and here.kind == "integer"


class Overlaps:
    """How far the values of two tables' columns are the same.

    Parameters
    ----------
    left, right : TalliedTable
    """

    def __init__(self, left: TalliedTable, right: TalliedTable) -> None:
        dictionary = TextDictionary()
        self.left = [_values(left, name, dictionary) for name in _comparable(left)]
        self.right = [_values(right, name, dictionary) for name in _comparable(right)]
        self.size = len(dictionary)
        self.totals = left.table.rows, right.table.rows

    def pairs(self) -> Iterator[Pair]:
        """Each pair of columns with what a join on them would match."""
        for right in self.right:
            theirs = np.zeros(self.size + 1, np.int64)
            theirs[right.codes] = right.rows
            theirs[self.size] = 0
            for left in self.left:
                yield self._pair(left, right, theirs[left.codes])

    def _pair(self, left: _Values, right: _Values, there: npt.NDArray[np.int64]) -> Pair:
        both = (there > 0) & (left.rows > 0)
        here, there = left.rows[both], there[both]
        sides = ("many" if (rows > 1).any() else "one" for rows in (here, there))
        matched = int(here.sum()), int(there.sum())
        key = ((left.name, right.name),)
        one = Relation("", "", key, *self.totals, *matched, "-to-".join(sides))
        several = (here > 1) & (there > 1)
        return Pair(left, right, one, int((here * (there - 1))[several].sum()))


def _comparable(side: TalliedTable) -> list[str]:
    """Columns that may be keys: no decimals, truths or long texts."""
    names = [
        name
        for name, found in side.profiles.items()
        if base(found.kind) not in ("decimal", "boolean", "empty") and found.distinct >= _FEW_VALUES
    ]
    return sorted(names, key=lambda name: -side.profiles[name].distinct)[:MOST_COLUMNS]


def _values(side: TalliedTable, name: str, dictionary: TextDictionary) -> _Values:
    tally, kind = side.tallies[name], side.profiles[name].kind
    texts = plain_number(tally.texts) if kind == "integer" else tally.texts
    return _Values(name, kind, dictionary.encode(texts), tally.counts[0])


def relations(left: TalliedTable, right: TalliedTable) -> tuple[list[Relation], list[Finding]]:
    """The columns, or few columns together, on which two tables could be joined.

    Parameters
    ----------
    left, right : TalliedTable

    Returns
    -------
    relations : list of Relation
        Best first.
    findings : list of Finding
        Columns of one name whose values have next to nothing in common.

    Notes
    -----
    Every pair of columns is compared by its distinct values. For the candidate
    keys of either table of several columns, each part is paired with the column
    of the other table that holds most of its values, names deciding between
    equals, and the pairs together are matched row by row.
    """
    pairs = list(Overlaps(left, right).pairs())
    names = left.table.name, right.table.name
    singles = [_named(pair.match, names) for pair in pairs if pair.likely]
    joint = list(_composites(left, right, pairs))
    found = _without_parts([*joint, *singles])
    found.sort(key=_rank, reverse=True)
    found = [_in_order(one, left.table) for one in found[:MOST_RELATIONS]]
    return found, list(_traps(pairs, names))


def _in_order(relation: Relation, left: Table) -> Relation:
    """The key's columns in the order of the left table."""
    place = left.column_names.index
    return replace(relation, key=tuple(sorted(relation.key, key=lambda pair: place(pair[0]))))


def _named(relation: Relation, names: tuple[str, str]) -> Relation:
    return replace(relation, left=names[0], right=names[1])


def alike(left: str, right: str) -> bool:
    """Whether two column names are the same but for spelling, or nearly."""
    from rapidfuzz import fuzz

    one, other = folded(left), folded(right)
    return one == other or fuzz.ratio(one, other) >= _ALIKE


def _composites(
    left: TalliedTable, right: TalliedTable, pairs: Sequence[Pair]
) -> Iterator[Relation]:
    shares = {pair.match.key[0]: pair.match.shares for pair in pairs}
    seen: set[frozenset[tuple[str, str]]] = set()
    for key in _to_try(left, right, shares):
        if frozenset(key) in seen or len(seen) == _MOST_TRIED:
            continue
        seen.add(frozenset(key))
        one, added = _matched(left.table, right.table, key)
        if max(one.shares) >= _LEAST_SHARE and added <= _FEW_ADDED * one.left_matched:
            yield one


def _to_try(
    left: TalliedTable, right: TalliedTable, shares: Mapping[tuple[str, str], tuple[float, float]]
) -> Iterator[Key]:
    """Keys of several columns: candidate keys of either side, and columns of like names."""
    for side, keys in ((1, right.keys), (0, left.keys)):
        for candidate in keys:
            mapped = _mapped(candidate.columns, side, shares)
            if mapped is not None:
                yield mapped
    named = [pair for pair, share in shares.items() if alike(*pair) and max(share) >= _PART_SHARE]
    named = _once_each(named)[:_MOST_NAMED]
    for size in range(2, len(named) + 1):
        yield from combinations(named, size)


def _once_each(pairs: Iterable[tuple[str, str]]) -> list[tuple[str, str]]:
    """The pairs without those that name a column of either side again."""
    chosen: list[tuple[str, str]] = []
    for pair in pairs:
        if not any(pair[0] == one[0] or pair[1] == one[1] for one in chosen):
            chosen.append(pair)
    return chosen


def _mapped(
    columns: Sequence[str], side: int, shares: Mapping[tuple[str, str], tuple[float, float]]
) -> Key | None:
    """For each column of a key on one side the best of the other; ``None`` without all."""
    if len(columns) < 2:
        return None
    chosen: list[tuple[str, str]] = []
    for name in columns:
        options = [
            pair
            for pair, share in shares.items()
            if pair[side] == name
            and share[1 - side] >= _PART_SHARE
            and pair[1 - side] not in [one[1 - side] for one in chosen]
        ]
        if not options:
            return None
        chosen.append(max(options, key=lambda pair: (alike(*pair), shares[pair][1 - side])))
    return tuple(chosen)


def _matched(left: Table, right: Table, key: Key) -> tuple[Relation, int]:
    """What a join would match, row by row, and the rows it would add."""
    matching = match_keys(code_keys([left, right], tuple(zip(*key, strict=True))))
    match = matching.account("left")
    one = Relation(
        left.name,
        right.name,
        key,
        match.left_rows,
        match.right_rows,
        match.left_matched,
        match.right_matched,
        match.cardinality,
    )
    return one, matching.pairs - match.left_matched


def _without_parts(found: Sequence[Relation]) -> list[Relation]:
    """Of relations whose columns are part of one another, the one that says most.

    More columns are better when they make the key unique on a side, else fewer.
    """
    return [
        one
        for one in found
        if not any(
            (set(one.key) < set(other.key) and _ones(other) > _ones(one))
            or (set(one.key) > set(other.key) and _ones(other) >= _ones(one))
            for other in found
        )
    ]


def _ones(one: Relation) -> int:
    return one.cardinality.count("one")


def _rank(one: Relation) -> tuple[bool, float, float]:
    named = all(alike(*pair) for pair in one.key)
    worth = one.shares[0] + one.shares[1] / 2 + named / 2
    return max(one.shares) >= _PART_SHARE, worth, -len(one.key)


def _traps(pairs: Sequence[Pair], names: tuple[str, str]) -> Iterator[Finding]:
    for pair in pairs:
        name, one = pair.left.name, pair.match
        if folded(name) == folded(pair.right.name) and max(one.shares) < _UNRELATED:
            yield Finding(
                "name-trap",
                "warning",
                one.left_matched,
                f"{names[0]} and {names[1]} both have {name}, and next to none of its "
                f"values are in both: {one.shares[0]:.0%} and {one.shares[1]:.0%} of the rows "
                "would match",
                f"do not join on it; name the key: --key {_other_key(pairs)}",
                f"{names[0]}, column {name}",
            )


def _other_key(pairs: Sequence[Pair]) -> str:
    likely = [pair.match for pair in pairs if pair.likely]
    return spelt(max(likely, key=_rank).key) if likely else "LEFT=RIGHT"
