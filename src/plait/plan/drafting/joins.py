"""The joins of a draft: tried as the plan would do them, and taken where they add no row."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from plait.core.account.errors import PlaitError
from plait.core.account.finding import agreeing
from plait.core.keys.match import Match
from plait.core.look.family import headers_of, mostly_alike
from plait.core.look.relating.relation import Relation
from plait.core.table.keyspec import Key
from plait.core.table.table import Table
from plait.core.verbs.join import join
from plait.core.verbs.keys import keys
from plait.core.verbs.mend import mend
from plait.core.verbs.survey import Survey
from plait.plan.drafting.sources import DraftedSource

_LEAST_SHARE = 0.5


@dataclass(frozen=True)
class DraftedJoin:
    """A join of the draft: the right source, the key, and why it is as it is.

    ``lost`` is how many rows find no partner today; ``no_repeats``: no key of the right stands on
    several rows.
    """

    right: str
    key: Key
    ignore: tuple[str, ...]
    cardinality: str
    evidence: tuple[str, ...]
    lost: int = 0
    no_repeats: bool = False


@dataclass(frozen=True)
class Joined:
    """The joins that add no row, and what is to be said of the others.

    Parameters
    ----------
    joins : tuple of DraftedJoin
    splits : mapping of str to tuple of str
    unsure : tuple of str
    reasons : mapping of str to str
        Why a source is not joined.
    """

    joins: tuple[DraftedJoin, ...]
    splits: Mapping[str, tuple[str, ...]]
    unsure: tuple[str, ...]
    reasons: Mapping[str, str]


def base_of(found: Survey, drafted: Mapping[str, DraftedSource]) -> str:
    """The largest source that could be joined to others; without any, the largest."""
    lefts = dict.fromkeys(one.left for one in found.relations) or drafted
    return max(lefts, key=lambda name: drafted[name].table.rows)


def joins_of(found: Survey, drafted: Mapping[str, DraftedSource], base: str) -> Joined:
    """Try the joins that the survey found, those that match most first.

    Parameters
    ----------
    found : Survey
    drafted : mapping of str to DraftedSource
    base : str
        The source that the others are joined to.
    """
    work = _Work(drafted, base)
    waiting = _ordered(found.relations)
    while ready := [one for one in waiting if one.left in work.within]:
        waiting.remove(ready[0])
        if ready[0].right not in work.within:
            work.take(ready[0])
    apart = {one.left: one for one in reversed(waiting) if one.right in work.within}
    for one in apart.values():
        work.leave(one.left, _said_other(one))
    for one in waiting:
        for name, other in ((one.left, one.right), (one.right, one.left)):
            if name not in {*work.within, *work.left, *apart}:
                work.explain(name, f"its only match is {other}, on {_spelt(one.key)}")
    return work.done()


class _Work:
    """The result so far, and what was joined to it."""

    def __init__(self, drafted: Mapping[str, DraftedSource], base: str) -> None:
        self.drafted, self.within = drafted, [base]
        self.result = drafted[base].table
        self.joins: list[DraftedJoin] = []
        self.splits: dict[str, tuple[str, ...]] = {}
        self.left: dict[str, list[str]] = {}
        self.apart: dict[str, str] = {}

    def take(self, one: Relation) -> None:
        """Join it as the plan would, or say why not."""
        right = self.drafted[one.right]
        twin = next((name for name in self.within[1:] if _alike(self.drafted[name], right)), None)
        if twin:
            self.leave(one.right, _said_twin(twin, one))
            return
        left, table = self.result, right.table
        if one.split_of == one.right:
            table = mend(table, split=[one.split]).table
        elif one.split_of == self.within[0] and one.split not in self.splits.get(one.left, ()):
            left = mend(left, split=[one.split]).table
        made = _tried(left, table, one)
        if isinstance(made, str):
            self.leave(one.right, made)
            return
        joined, self.result = made
        self.joins.append(joined)
        self.within.append(one.right)
        known = self.splits.get(one.split_of, ())
        if one.split and one.split not in known:
            self.splits[one.split_of] = (*known, one.split)

    def leave(self, name: str, said: str) -> None:
        """Remember why a source was not joined."""
        self.left.setdefault(name, []).append(said)

    def explain(self, name: str, reason: str) -> None:
        """Remember why a source has no place, where there is nothing to decide."""
        self.apart.setdefault(name, reason)

    def done(self) -> Joined:
        """What became of all."""
        unsure = [said for told in self.left.values() for said in told]
        reasons = {name: told[-1] for name, told in self.left.items() if name not in self.within}
        return Joined(
            tuple(self.joins),
            dict(self.splits),
            tuple(dict.fromkeys(unsure)),
            {**self.apart, **reasons},
        )


def _ordered(relations: Sequence[Relation]) -> list[Relation]:
    """Those that match most first; of the same two tables the longer key first."""
    return sorted(relations, key=lambda one: (-one.shares[0], -len(one.key), -one.shares[1]))


def _alike(one: DraftedSource, other: DraftedSource) -> bool:
    """Whether two sources have mostly the same headings: one is a version of the other."""
    return mostly_alike(headers_of(one.table), headers_of(other.table))


def _spelt(key: Key) -> str:
    return ", ".join(left if left == right else f"{left} = {right}" for left, right in key)


def _tried(left: Table, right: Table, one: Relation) -> tuple[DraftedJoin, Table] | str:
    """The join as the plan would do it, or why it is left to a person."""
    named = f"{one.left} and {one.right} on {_spelt(one.key)}"
    if one.shares[0] < _LEAST_SHARE:
        return f"{named}: only {one.left_matched:,} of {one.left_rows:,} rows match"
    if not all(left.has(name) for name, _ in one.key):
        return f"{named}: the key is not in the result any more"
    looser = (one.ignore, "") if one.ignore else _looser(left, right, one.key)
    ignore, gained = looser
    try:
        made = join(left, right, dict(one.key), "left", "many-to-one", ignore)
    except PlaitError as error:
        return (
            f"{named}: not many-to-one ({error.what}). Settle or group {one.right} first, or "
            'set cardinality = "many-to-many"'
        )
    evidence = [_matched(made.match, one.right)]
    evidence += [gained] if gained else []
    return (
        DraftedJoin(
            one.right,
            one.key,
            ignore,
            made.match.cardinality,
            tuple(evidence),
            made.match.left_unmatched + made.match.left_missing_key,
            not made.match.right_duplicate_keys,
        ),
        made.table.named("combined"),
    )


def _matched(match: Match, right: str) -> str:
    lost = match.left_unmatched + match.left_missing_key
    return (
        f"{match.left_matched:,} of {match.left_rows:,} rows match, {match.cardinality}; "
        f"{lost:,} {agreeing(lost, 'has', 'have')} no match in {right}"
    )


def _looser(left: Table, right: Table, key: Key) -> tuple[tuple[str, ...], str]:
    """The looser comparison that matches more and runs no keys together, and what it gains."""
    audited = keys([left, right], [[one for one, _ in key], [one for _, one in key]])
    best = audited.why.best if audited.why else None
    if best is None or best.collisions or not best.rows:
        return (), ""
    ways = ", ".join(best.ways)
    return best.ways, f"{best.rows:,} of them only when ignoring {ways}; no keys collide"


def _said_twin(twin: str, one: Relation) -> str:
    return (
        f"{one.right} has mostly the same headings as {twin} and may be another "
        f"version of it. Compare their keys: plait keys {twin} {one.right}; or merge "
        "them with settle"
    )


def _said_other(one: Relation) -> str:
    return (
        f"{one.left} matches {one.right} on {_spelt(one.key)} ({one.left_matched:,} "
        f"of {one.left_rows:,} rows, {one.cardinality}). It has rows of its own: "
        "group it first, or join it in a separate step"
    )
