"""Joins that match only, or far better, when some differences of spelling do not count."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from plait.core.codes.coding import code_keys
from plait.core.keys.match import match_keys
from plait.core.look.relating.relation import Relation
from plait.core.table.table import Table
from plait.core.unmatched.gains import best_gain, too_many

_GAINED = 0.05


def with_ways(
    found: Sequence[Relation], plain: Sequence[Relation], left: Table, right: Table
) -> list[Relation]:
    """Of the joins of two tables under the loosest comparison those that gain by it.

    Parameters
    ----------
    found : sequence of Relation
        What would match if no difference that can be ignored counted.
    plain : sequence of Relation
        What matches as it stands.
    left, right : Table

    Returns
    -------
    list of Relation
        With the fewest ways of ignoring that match as much, where they run no keys
        together.
    """
    before = {one.key: one for one in plain}
    most = max((one.left_matched for one in plain), default=0)
    gaining = [
        one
        for one in found
        if _gains(one, before.get(one.key)) and one.left_matched >= most * (1 - _GAINED)
    ]
    return [made for one in gaining if (made := _loosely(one, left, right)) is not None]


def _gains(one: Relation, before: Relation | None) -> bool:
    if before is None:
        return True
    return any(now > then + _GAINED for now, then in zip(one.shares, before.shares, strict=True))


def _loosely(one: Relation, left: Table, right: Table) -> Relation | None:
    """The relation as the join would make it with the ways that it needs."""
    columns = tuple(zip(*one.key, strict=True))
    matching = match_keys(code_keys([left, right], columns))
    gain = None if too_many(matching.coding) else best_gain(matching)
    if gain is None or gain.collisions or gain.left_collisions > one.left_rows / 2:
        return None
    match = match_keys(code_keys([left, right], columns, ignore=gain.ways)).account("left")
    if match.output_rows > match.left_rows * (1 + _GAINED):
        return None
    return replace(
        one,
        left_matched=match.left_matched,
        right_matched=match.right_matched,
        cardinality=match.cardinality,
        ignore=gain.ways,
    )
