"""A key that stands in two columns of one table and, written as one, in a column of another."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.account.names import distinct_name
from plait.core.codes.counting import distinct
from plait.core.codes.loosen import ALL_WAYS, loosened
from plait.core.look.relating.composites import together
from plait.core.look.relating.pairs import matched
from plait.core.look.relating.relation import Relation
from plait.core.look.relating.values import MOST_LOOSENED, Dictionary, TalliedTable, Values
from plait.core.table.keyspec import quoted
from plait.core.text.wordtable import Codes

_SIGNS = "-_/|:. "
_SAMPLE, _LEAST = 200, 5
_NEARLY_ALL, _PART_SHARE, _ENOUGH = 0.95, 0.5, 0.6


@dataclass(frozen=True, eq=False)
class _Halves:
    """A column whose texts are two parts with a sign between them: the parts as codes."""

    name: str
    sign: str
    parts: tuple[Codes, Codes]
    rows: npt.NDArray[np.int64]


def joined_keys(
    sides: Sequence[TalliedTable], columns: Sequence[Values], dictionary: Dictionary
) -> Iterator[tuple[tuple[int, int], Relation]]:
    """The joins that splitting a column in two would make possible, by the tables' numbers.

    Parameters
    ----------
    sides : sequence of TalliedTable
    columns : sequence of Values
        Of all tables, by the loosest comparison.
    dictionary : Dictionary
        That they are coded by.
    """
    for number, side in enumerate(sides):
        for halves in _halved(side, dictionary):
            for other, partner in enumerate(sides):
                mine = [one for one in columns if one.table == other]
                if other == number or len(mine) < 2:
                    continue
                chosen = _fitting(halves, mine, len(dictionary))
                if chosen is None:
                    continue
                found = _relation(halves, chosen, side, partner, len(dictionary))
                if max(found.shares) >= _ENOUGH and found.cardinality != "many-to-many":
                    yield (min(number, other), max(number, other)), _turned(found, number > other)


def _halved(side: TalliedTable, dictionary: Dictionary) -> Iterator[_Halves]:
    for name, profile in side.profiles.items():
        if profile.kind != "text" or not _LEAST <= profile.distinct <= MOST_LOOSENED:
            continue
        tally = side.tallies[name]
        sign = _sign(tally.texts[:_SAMPLE])
        if sign is None:
            continue
        two = pc.equal(pc.count_substring(tally.texts, sign), 1)
        parts = pc.split_pattern(tally.texts.filter(two), sign, max_splits=1)
        codes = (
            dictionary.find(loosened(pc.list_element(parts, place), ALL_WAYS)) for place in (0, 1)
        )
        first, second = codes
        yield _Halves(
            name, sign, (first, second), tally.counts[0][two.to_numpy(zero_copy_only=False)]
        )


def _sign(texts: pa.Array) -> str | None:
    """The sign that stands once in nearly all texts, within them."""
    for sign in _SIGNS:
        inside = pc.match_substring_regex(texts, f"^[^{_in_class(sign)}]+[{_in_class(sign)}]"
                                          f"[^{_in_class(sign)}]+$")  # fmt: skip
        if pc.sum(inside).as_py() >= _NEARLY_ALL * len(texts):
            return sign
    return None


def _in_class(sign: str) -> str:
    return f"\\{sign}" if sign in "-|./" else sign


def _fitting(halves: _Halves, columns: Sequence[Values], size: int) -> tuple[Values, Values] | None:
    """The column that holds most of the first parts, and another that holds most of the second."""
    chosen: list[Values] = []
    for codes in halves.parts:
        known = distinct(codes)[0]
        shares = {
            place: _share(known, one.codes, size)
            for place, one in enumerate(columns)
            if one not in chosen
        }
        best = max(shares, key=shares.__getitem__, default=None)
        if best is None or shares[best] < _PART_SHARE:
            return None
        chosen.append(columns[best])
    return chosen[0], chosen[1]


def _share(wanted: Codes, there: Codes, size: int) -> float:
    standing = np.zeros(size + 1, bool)
    standing[there] = True
    return float(standing[wanted[wanted >= 0]].sum()) / max(len(wanted), 1)


def _relation(
    halves: _Halves,
    chosen: tuple[Values, Values],
    side: TalliedTable,
    partner: TalliedTable,
    size: int,
) -> Relation:
    """What the split column would match, with its table as the left one."""
    here, there = together(halves.parts, [one.by_row() for one in chosen], size)
    length = int(there.max(initial=-1)) + 1
    mine = np.bincount(here[here >= 0], weights=halves.rows[here >= 0], minlength=length)
    theirs = np.bincount(there[there >= 0], minlength=length)
    both = (mine > 0) & (theirs > 0)
    taken = set(side.table.column_names)
    names = []
    for one in chosen:
        names.append(distinct_name(one.name, taken))
        taken.add(names[-1])
    into = ",".join(map(quoted, names))
    return Relation(
        side.table.name,
        partner.table.name,
        tuple(zip(names, (one.name for one in chosen), strict=True)),
        side.table.rows,
        partner.table.rows,
        *matched(mine[both].astype(np.int64), theirs[both]),
        split=f"{quoted(halves.name)}:{halves.sign} into {into}",
        split_of=side.table.name,
        split_path=side.table.path,
    )


def _turned(one: Relation, turn: bool) -> Relation:
    """The relation with left and right exchanged."""
    if not turn:
        return one
    return replace(
        one,
        left=one.right,
        right=one.left,
        key=tuple((right, left) for left, right in one.key),
        left_rows=one.right_rows,
        right_rows=one.left_rows,
        left_matched=one.right_matched,
        right_matched=one.left_matched,
        cardinality="-to-".join(reversed(one.cardinality.split("-to-"))),
    )
