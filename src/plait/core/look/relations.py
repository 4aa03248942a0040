"""Which columns of several tables could join which, found from their values."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace

import numpy as np
import numpy.typing as npt

from plait.core.account.finding import Finding
from plait.core.look.relating.composites import Composites
from plait.core.look.relating.joined import joined_keys
from plait.core.look.relating.looser import with_ways
from plait.core.look.relating.pairs import Pair, related
from plait.core.look.relating.relation import Relation, without_parts
from plait.core.look.relating.sketches import containments
from plait.core.look.relating.traps import traps
from plait.core.look.relating.values import Dictionary, TalliedTable, Values, all_values
from plait.core.table.table import Table

MOST_RELATIONS = 4
_BETTER, _GAINED = 0.2, 0.15  # sketches of 256 values may be off by a tenth

Found = dict[tuple[int, int], list[Relation]]


def relations(sides: Sequence[TalliedTable]) -> tuple[list[Relation], list[Finding]]:
    """The columns, or few columns together, on which tables could be joined.

    Parameters
    ----------
    sides : sequence of TalliedTable

    Returns
    -------
    relations : list of Relation
        Best first. The table of more rows is the left one.
    findings : list of Finding
        Shared names that a join should not be made on.

    Notes
    -----
    All columns are coded in one dictionary. How much of one stands in another is
    estimated for all pairs from sketches (``sketches``), and counted for those that
    have something in common. Whether that is more than chance gives is tested
    (``evidence``). Then keys of several columns are sought among the columns that two
    tables share, joins that need a looser comparison, and keys that one table writes
    in one column and the other in two.
    """
    sides = sorted(sides, key=lambda side: -side.table.rows)
    if len(sides) < 2:
        return [], []
    strict = Dictionary()
    columns = all_values(sides, strict)
    loose = strict.loosely()
    loosely = all_values(sides, loose, columns)
    shares, loose_shares = (containments(one, len(loose)) for one in (columns, loosely))
    found = _found(related(columns, sides, len(strict), shares), sides, len(strict))
    gaining = _gaining(columns, shares, loosely, loose_shares)
    may_gain = related(loosely, sides, len(loose), loose_shares, gaining)
    for pair, ones in _found(may_gain, sides, len(loose)).items():
        left, right = (sides[number].table for number in pair)
        plain = found.get(pair, [])
        found[pair] = _without_plainer([*with_ways(ones, plain, left, right), *plain])
    for pair, one in joined_keys(sides, loosely, loose):
        before = max((max(known.shares) for known in found.get(pair, [])), default=0.0)
        if max(one.shares) > before + _BETTER:
            found.setdefault(pair, []).append(one)
    kept = {pair: _best(ones) for pair, ones in found.items() if ones}
    told = list(_traps(kept, columns, len(strict)))
    every = [_in_order(one, sides) for ones in kept.values() for one in ones]
    return sorted(every, key=lambda one: -one.worth), told


def _found(
    pairs_of: Mapping[tuple[int, int], Sequence[Pair]], sides: Sequence[TalliedTable], size: int
) -> Found:
    """What could be joined, as the columns are coded."""
    composites = Composites(sides, size)
    found: Found = {}
    for tables, pairs in pairs_of.items():
        singles = [pair.match for pair in pairs if pair.likely]
        made = without_parts([*composites.of(pairs), *singles])
        if made:
            found[tables] = made
    return found


def _gaining(
    columns: Sequence[Values],
    shares: npt.NDArray[np.float64],
    loosely: Sequence[Values],
    loose_shares: npt.NDArray[np.float64],
) -> set[tuple[int, int]]:
    """The pairs of tables of which some columns have more in common by the loosest comparison."""
    place = {(one.table, one.name): number for number, one in enumerate(columns)}
    there = [number for number, one in enumerate(loosely) if (one.table, one.name) in place]
    known = [place[loosely[number].table, loosely[number].name] for number in there]
    more = loose_shares[np.ix_(there, there)] > shares[np.ix_(known, known)] + _GAINED
    tables = [loosely[number].table for number in there]
    return {
        (min(tables[one], tables[other]), max(tables[one], tables[other]))
        for one, other in zip(*np.nonzero(more), strict=True)
    }


def _without_plainer(found: Sequence[Relation]) -> list[Relation]:
    """Without those on the same key as one that needs a looser comparison, and gains by it."""
    loose = {one.key for one in found if one.ignore}
    return [one for one in found if one.ignore or one.key not in loose]


def _best(found: Sequence[Relation]) -> list[Relation]:
    """The best few; of several columns only those that match more than a better one does."""
    kept: list[Relation] = []
    for one in sorted(found, key=lambda one: -one.worth):
        fewer = any(
            other.left_matched >= one.left_matched and other.right_matched >= one.right_matched
            for other in kept
        )
        if not (fewer and len(one.key) > 1 and not one.named):
            kept.append(one)
    return kept[:MOST_RELATIONS]


def _in_order(relation: Relation, sides: Sequence[TalliedTable]) -> Relation:
    """The key's columns in the order of the left table."""
    table = next(side.table for side in sides if side.table.name == relation.left)
    return replace(
        relation, key=tuple(sorted(relation.key, key=lambda pair: _place(table, pair[0])))
    )


def _place(table: Table, name: str) -> int:
    names = table.column_names
    return names.index(name) if name in names else len(names)


def _traps(kept: Found, columns: Sequence[Values], size: int) -> Iterator[Finding]:
    for (left, right), ones in kept.items():
        if not ones[0].split and not ones[0].ignore:
            here = [one for one in columns if one.table == left]
            there = [one for one in columns if one.table == right]
            yield from traps(here, there, ones[0], size)
