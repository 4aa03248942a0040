"""A first plan from what a survey finds, with the joins it tries."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from plait.core.base.errors import PlaitError, SourceError
from plait.core.base.findings import agreeing
from plait.core.keys.match import MatchCounts
from plait.core.operations.join import join
from plait.core.operations.keys import audit_keys
from plait.core.operations.mend import mend
from plait.core.operations.survey import Survey, survey
from plait.core.profiling.join_candidates import JoinCandidate
from plait.core.profiling.schemas import folded_headings, schemas_match
from plait.core.table.key_spec import Key
from plait.core.table.table import Table
from plait.io.read import read_in_parallel, try_read_source
from plait.io.sources import find_sources, uniquely_named
from plait.plan.drafting.draft_sources import (
    DraftedSource,
    draft_paths,
    draft_source,
    relative_to_plan,
    with_file_safe_names,
)

_LEAST_SHARE = 0.5

LABEL = "extract"


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
class DraftedJoins:
    """The joins that add no row, and what is to be said of the others.

    Parameters
    ----------
    reasons : mapping of str to str
        Why a source is not joined.
    """

    joins: tuple[DraftedJoin, ...]
    splits: Mapping[str, tuple[str, ...]]
    unsure: tuple[str, ...]
    reasons: Mapping[str, str]


def choose_base_source(found: Survey, drafted: Mapping[str, DraftedSource]) -> str:
    """The largest source that could be joined to others; without any, the largest."""
    lefts = dict.fromkeys(relation.left for relation in found.relations) or drafted
    return max(lefts, key=lambda name: drafted[name].table.rows)


def draft_joins(found: Survey, drafted: Mapping[str, DraftedSource], base: str) -> DraftedJoins:
    """Try the joins that the survey found, those that match most first.

    Parameters
    ----------
    base : str
        The source that the others are joined to.
    """
    work = _JoinTrial(drafted, base)
    waiting = _ordered(found.relations)
    while ready := [one for one in waiting if one.left in work.within]:
        waiting.remove(ready[0])
        if ready[0].right not in work.within:
            work.take(ready[0])
    apart = {w.left: w for w in reversed(waiting) if w.right in work.within}
    for one in apart.values():
        work.leave(one.left, _said_other(one))
    for one in waiting:
        for name, other in ((one.left, one.right), (one.right, one.left)):
            if name not in {*work.within, *work.left, *apart}:
                work.explain(name, f"its only match is {other}, on {_spelt(one.key)}")
    return work.done()


class _JoinTrial:
    """The result so far, and what was joined to it."""

    def __init__(self, drafted: Mapping[str, DraftedSource], base: str) -> None:
        self.drafted, self.within = drafted, [base]
        self.result = drafted[base].table
        self.joins: list[DraftedJoin] = []
        self.splits: dict[str, tuple[str, ...]] = {}
        self.left: dict[str, list[str]] = {}
        self.apart: dict[str, str] = {}

    def take(self, join_candidate: JoinCandidate) -> None:
        """Join it as the plan would, or say why not."""
        right = self.drafted[join_candidate.right]
        twin = next((name for name in self.within[1:] if _alike(self.drafted[name], right)), None)
        if twin:
            self.leave(join_candidate.right, _said_twin(twin, join_candidate))
            return
        left, table = self.result, right.table
        if join_candidate.split_of == join_candidate.right:
            table = mend(table, split=[join_candidate.split]).table
        elif join_candidate.split_of == self.within[
            0
        ] and join_candidate.split not in self.splits.get(join_candidate.left, ()):
            left = mend(left, split=[join_candidate.split]).table
        made = _tried(left, table, join_candidate)
        if isinstance(made, str):
            self.leave(join_candidate.right, made)
            return
        joined, self.result = made
        self.joins.append(joined)
        self.within.append(join_candidate.right)
        names = self.splits.get(join_candidate.split_of, ())
        if join_candidate.split and join_candidate.split not in names:
            self.splits[join_candidate.split_of] = (*names, join_candidate.split)

    def leave(self, name: str, said: str) -> None:
        """Remember why a source was not joined."""
        self.left.setdefault(name, []).append(said)

    def explain(self, name: str, reason: str) -> None:
        """Remember why a source has no place, where there is nothing to decide."""
        self.apart.setdefault(name, reason)

    def done(self) -> DraftedJoins:
        """What became of all."""
        unsure = [said for v in self.left.values() for said in v]
        reasons = {name: i[-1] for name, i in self.left.items() if name not in self.within}
        return DraftedJoins(
            tuple(self.joins),
            dict(self.splits),
            tuple(dict.fromkeys(unsure)),
            {**self.apart, **reasons},
        )


def _ordered(relations: Sequence[JoinCandidate]) -> list[JoinCandidate]:
    """Those that match most first; of the same two tables the longer key first."""
    return sorted(
        relations,
        key=lambda relation: (-relation.shares[0], -len(relation.key), -relation.shares[1]),
    )


def _alike(drafted_source: DraftedSource, source: DraftedSource) -> bool:
    """Whether two sources have mostly the same headings: one is a version of the other."""
    return schemas_match(folded_headings(drafted_source.table), folded_headings(source.table))


def _spelt(key: Key) -> str:
    return ", ".join(left if left == right else f"{left} = {right}" for left, right in key)


def _tried(
    left: Table, right: Table, join_candidate: JoinCandidate
) -> tuple[DraftedJoin, Table] | str:
    """The join as the plan would do it, or why it is left to a person."""
    named = f"{join_candidate.left} and {join_candidate.right} on {_spelt(join_candidate.key)}"
    if join_candidate.shares[0] < _LEAST_SHARE:
        matched, rows = join_candidate.left_matched, join_candidate.left_rows
        return f"{named}: only {matched:,} of {rows:,} rows match"
    if not all(left.has_column(name) for name, _ in join_candidate.key):
        return f"{named}: the key is not in the result any more"
    looser = (
        (join_candidate.ignore, "")
        if join_candidate.ignore
        else _looser(left, right, join_candidate.key)
    )
    ignore, gained = looser
    try:
        join_result = join(left, right, dict(join_candidate.key), "left", "many-to-one", ignore)
    except PlaitError as error:
        return (
            f"{named}: not many-to-one ({error.what}). Settle or group "
            f"{join_candidate.right} first, or "
            'set cardinality = "many-to-many"'
        )
    evidence = [_matched(join_result.match, join_candidate.right)]
    evidence += [gained] if gained else []
    return (
        DraftedJoin(
            join_candidate.right,
            join_candidate.key,
            ignore,
            join_result.match.cardinality,
            tuple(evidence),
            join_result.match.left_unmatched + join_result.match.left_missing_key,
            not join_result.match.right_duplicate_keys,
        ),
        join_result.table.with_name("combined"),
    )


def _matched(match: MatchCounts, right: str) -> str:
    lost = match.left_unmatched + match.left_missing_key
    return (
        f"{match.left_matched:,} of {match.left_rows:,} rows match, {match.cardinality}; "
        f"{lost:,} {agreeing(lost, 'has', 'have')} no match in {right}"
    )


def _looser(left: Table, right: Table, key: Key) -> tuple[tuple[str, ...], str]:
    """The looser comparison that matches more and runs no keys together, and what it gains."""
    audited = audit_keys([left, right], [[one for one, _ in key], [one for _, one in key]])
    best = audited.why.best if audited.why else None
    if best is None or best.collisions or not best.rows:
        return (), ""
    ways = ", ".join(best.ways)
    return best.ways, f"{best.rows:,} of them only when ignoring {ways}; no keys collide"


def _said_twin(twin: str, join_candidate: JoinCandidate) -> str:
    return (
        f"{join_candidate.right} has mostly the same headings as {twin} and may be another "
        f"version of it. Compare their keys: plait keys {twin} {join_candidate.right}; or merge "
        "them with settle"
    )


def _said_other(join_candidate: JoinCandidate) -> str:
    return (
        f"{join_candidate.left} matches {join_candidate.right} on "
        f"{_spelt(join_candidate.key)} ({join_candidate.left_matched:,} "
        f"of {join_candidate.left_rows:,} rows, {join_candidate.cardinality}). It has "
        "rows of its own: "
        "group it first, or join it in a separate step"
    )


@dataclass(frozen=True)
class UnreadableSource:
    """A source that cannot be read: where it is from the plan's folder, and why."""

    path: str
    reason: str


@dataclass(frozen=True, eq=False)
class Draft:
    """What a draft says.

    Parameters
    ----------
    base : DraftedSource
        The source that the others are joined to.
    others : tuple of DraftedSource
        Those that are joined.
    splits : mapping of str to tuple of str
        For each source the columns that are split, as ``mend`` takes them.
    unsure : tuple of str
        Joins that were not made, and why.
    reasons : mapping of str to str
        Why each of these is not used.
    """

    base: DraftedSource
    others: tuple[DraftedSource, ...]
    joins: tuple[DraftedJoin, ...]
    splits: Mapping[str, tuple[str, ...]]
    unsure: tuple[str, ...]
    unused: tuple[DraftedSource, ...] = field(default=())
    reasons: Mapping[str, str] = field(default_factory=dict)
    unread: tuple[UnreadableSource, ...] = field(default=())

    @property
    def result(self) -> str:
        """What is handed over."""
        return "combined" if self.joins else self.base.name


def draft_plan(words: Sequence[str], folder: Path) -> Draft:
    """Find out what a plan for some sources would do.

    Parameters
    ----------
    words : sequence of str
        Sources, as on the command line.
    folder : Path
        Where the plan will stand: paths start there.

    Raises
    ------
    SourceError
        When none of the sources can be read.

    Notes
    -----
    Sources of one shape are stacked. The largest that joins others is the base;
    what could be joined to it, or to what was joined, is tried as the plan would
    do it, and taken when it adds no row.
    """
    asked = [(w, source) for w in words for source in find_sources([w], faulty=True)]
    sources = with_file_safe_names(uniquely_named([source for _, source in asked]))
    read = read_in_parallel(sources, try_read_source)
    faults = [r for r in read if isinstance(r, SourceError)]
    there = [number for number, one in enumerate(read) if isinstance(one, Table)]
    if faults and not there:
        raise faults[0]
    found = survey([one for one in read if isinstance(one, Table)])
    by_word = [word for word, _ in asked]
    made: dict[str, DraftedSource] = {}
    for family in found.families:
        numbers = [there[number] for number in family.family.members]
        members = [sources[number] for number in numbers]
        paths = draft_paths(members, [by_word[number] for number in numbers], by_word, folder)
        made[family.family.name] = draft_source(family, paths, members, found.findings)
    base = choose_base_source(found, made)
    joined = draft_joins(found, made, base)
    names = (base, *(j.right for j in joined.joins))
    return Draft(
        made[base],
        tuple(made[name] for name in names[1:]),
        joined.joins,
        joined.splits,
        joined.unsure,
        tuple(i for name, i in made.items() if name not in names),
        joined.reasons,
        tuple(
            UnreadableSource(relative_to_plan(folder, fault.where or ""), str(fault.what))
            for fault in faults
        ),
    )
