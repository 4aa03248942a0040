"""Draft: a plan to begin with, from what the sources show."""

from __future__ import annotations

import os
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

from plait.core.account.errors import PlaitError
from plait.core.account.finding import Finding, counted
from plait.core.account.names import distinct_name, file_name
from plait.core.account.parallel import ordered_map
from plait.core.keys.match import Match
from plait.core.look.family import headers_of, mostly_alike
from plait.core.look.headers import header_variants, same_names
from plait.core.look.relating.relation import Relation
from plait.core.table.keyspec import Key
from plait.core.table.table import Table
from plait.core.verbs.join import join
from plait.core.verbs.keys import keys
from plait.core.verbs.result import Result
from plait.core.verbs.stack import stack
from plait.core.verbs.survey import Survey, Surveyed, survey
from plait.formats.reading import read_source
from plait.formats.sources import Source, find_sources, uniquely_named
from plait.plan.file.quoting import listed, quoted
from plait.plan.file.remedy import in_plan

LABEL = "extract"
_LEAST_SHARE = 0.5
_DECIDED = ("header-variant",)  # the draft does it, as ``same``


@dataclass(frozen=True)
class DraftedJoin:
    """A join of the draft: the right source, the key, and why it is as it is."""

    right: str
    key: Key
    ignore: tuple[str, ...]
    cardinality: str
    evidence: tuple[str, ...]


@dataclass(frozen=True, eq=False)
class DraftedSource:
    """A source of the draft, stacked where it has several extracts.

    Parameters
    ----------
    name : str
    paths : tuple of str
        From the plan's folder.
    extracts : int
    sheets : bool
        Whether the extracts are sheets of one file.
    same : mapping of str to sequence of str
        Headings that are spelt differently in some extracts, new to old.
    repeats : int
        Rows that equal an earlier one.
    open : tuple of str
        What is not decided, in sentences.
    table : Table
    """

    name: str
    paths: tuple[str, ...]
    extracts: int
    sheets: bool
    same: Mapping[str, Sequence[str]]
    repeats: int
    open: tuple[str, ...]
    table: Table


@dataclass(frozen=True, eq=False)
class Draft:
    """What a draft says.

    Parameters
    ----------
    base : DraftedSource
        The source that the others are joined to.
    others : tuple of DraftedSource
        Those that are joined.
    joins : tuple of DraftedJoin
    unsure : tuple of str
        Joins that were not made, and why.
    unused : tuple of DraftedSource
    """

    base: DraftedSource
    others: tuple[DraftedSource, ...]
    joins: tuple[DraftedJoin, ...]
    unsure: tuple[str, ...]
    unused: tuple[DraftedSource, ...] = field(default=())

    @property
    def result(self) -> str:
        """What is handed over."""
        return "combined" if self.joins else self.base.name


def draft(words: Sequence[str], folder: Path) -> Draft:
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
        When a source cannot be read.

    Notes
    -----
    Sources of one shape are stacked. The largest that joins others is the base;
    what could be joined to it, or to what was joined, is tried as the plan would
    do it, and taken when it adds no row.
    """
    asked = [(word, source) for word in words for source in find_sources([word])]
    sources = _named(uniquely_named([source for _, source in asked]))
    tables = list(ordered_map(read_source, sources))
    found = survey(tables)
    by_word = [word for word, _ in asked]
    drafted = {}
    for one in found.families:
        members = [sources[number] for number in one.family.members]
        said = [by_word[number] for number in one.family.members]
        paths = _paths(members, said, by_word, folder)
        drafted[one.family.name] = _drafted(one, paths, members, found.findings)
    base = _base(found, drafted)
    joins, unsure, joined = _joins(found, drafted, base)
    others = tuple(drafted[name] for name in joined)
    left = tuple(one for name, one in drafted.items() if name not in (base, *joined))
    return Draft(drafted[base], others, tuple(joins), tuple(unsure), left)


def _named(sources: Sequence[Source]) -> list[Source]:
    """The sources with names that a result, and so a file, can have too."""
    taken: set[str] = set()
    named = []
    for source in sources:
        name = distinct_name(file_name(source.name), taken)
        taken.add(name)
        named.append(replace(source, name=name))
    return named


def _paths(
    members: Sequence[Source], said: Sequence[str], every: Sequence[str], folder: Path
) -> tuple[str, ...]:
    """The word that means just these sources, or else each of their paths."""
    words = list(dict.fromkeys(said))
    if len(words) == 1 and every.count(words[0]) == len(members):
        found = [words[0].partition("=")[2] or words[0]]
    else:
        found = list(dict.fromkeys(one.where for one in members))
    return tuple(_from(folder, path) for path in found)


def _from(folder: Path, path: str) -> str:
    if Path(path).is_absolute() and not Path(path).is_relative_to(folder.resolve()):
        return path
    return os.path.relpath(path, folder).replace(os.sep, "/")


def _drafted(
    one: Surveyed, paths: tuple[str, ...], members: Sequence[Source], findings: Sequence[Finding]
) -> DraftedSource:
    name, tables = one.family.name, list(one.tables)
    same = _variants(tables)
    stacked = _stacked(tables, same, name)
    repeats = sum(aside.rows for aside in stacked.aside) if len(tables) > 1 else 0
    table = stacked.table if len(tables) > 1 else tables[0]
    sheets = len({source.path for source in members}) == 1 and len(members) > 1
    return DraftedSource(
        name,
        paths,
        len(tables),
        sheets,
        same,
        repeats,
        (*_open(one), *_warned(one, findings)),
        table.named(name),
    )


def _stacked(tables: Sequence[Table], same: Mapping[str, Sequence[str]], name: str) -> Result:
    plain = [replace(table, findings=(), aside=()) for table in tables]
    return stack(plain, distinct=len(tables) > 1, same=dict(same), name=name)


def _variants(tables: Sequence[Table]) -> dict[str, list[str]]:
    """Headings that look like others spelt differently, and can be brought together."""
    same: dict[str, list[str]] = {}
    for new, old in header_variants(tables):
        if not any(table.has(new) and table.has(old) for table in tables):
            same.setdefault(new, []).append(old)
    try:
        same_names(tables, same)
    except PlaitError:
        return {}
    return same


def _open(one: Surveyed) -> Iterator[str]:
    """Types that somebody has to decide."""
    for name, column in one.profiles.items():
        if column.forms:
            forms, first = " or ".join(column.forms), quoted(column.forms[0])
            yield f"{name}: {forms}? Nothing proves one. type = {{ {quoted(name)} = {first} }}"
        if column.nearly:
            form, unfit = column.nearly.form, counted(column.nearly.unfit, "cell")
            shown = ", ".join(map(repr, column.nearly.examples[:2]))
            yield (
                f"{name} is {form.partition(':')[0]} but for {unfit} ({shown}). "
                f'type = {{ {quoted(name)} = {quoted(form)} }}, unfit = "set-aside"'
            )
        if column.markers and column.kind == "text":
            markers = [marker for marker, _ in column.markers]
            shown = ", ".join(markers)
            yield f"{name} has {shown}: do they mean missing? missing = {listed(markers)}"


def _warned(one: Surveyed, findings: Sequence[Finding]) -> Iterator[str]:
    """What reading the extracts and the survey warn of, and what a plan can do about it."""
    names = {one.family.name, *(table.name for table in one.tables)}
    told = [finding for table in one.tables for finding in table.findings]
    told += [finding for finding in findings if finding.where.partition(",")[0] in names]
    places: dict[tuple[str, str], list[str]] = {}
    for finding in told:
        if finding.severity != "note" and finding.code not in _DECIDED:
            places.setdefault((finding.message, in_plan(finding.remedy)), []).append(finding.where)
    for (message, remedy), where in places.items():
        here = where[0] if len(where) == 1 else counted(len(where), "extract")
        if remedy and len(where) < len(one.tables):  # a key of the source would do it to all
            remedy = f"as a source of its own: {remedy}"
        yield f"{here}: {message}; {remedy}" if remedy else f"{here}: {message}"


def _base(found: Survey, drafted: Mapping[str, DraftedSource]) -> str:
    """The largest source that could be joined to others; without any, the largest."""
    lefts = {one.left for one in found.relations} or set(drafted)
    return max(lefts, key=lambda name: drafted[name].table.rows)


def _joins(
    found: Survey, drafted: Mapping[str, DraftedSource], base: str
) -> tuple[list[DraftedJoin], list[str], list[str]]:
    """The joins that add no row, those that were not made and why, and what was joined."""
    joins: list[DraftedJoin] = []
    unsure: list[str] = []
    joined: list[str] = []
    result = drafted[base].table
    waiting = _ordered(found.relations)
    while waiting:
        ready = [one for one in waiting if one.left in (base, *joined)]
        if not ready:
            break
        one = ready[0]
        waiting.remove(one)
        if one.right == base or one.right in joined:
            continue
        twin = next((name for name in joined if _alike(drafted[name], drafted[one.right])), None)
        if twin:
            unsure.append(_said_twin(twin, one))
            continue
        made = _tried(result, drafted[one.right].table, one)
        if isinstance(made, str):
            unsure.append(made)
            continue
        drafted_join, result = made
        joins.append(drafted_join)
        joined.append(one.right)
    apart = {one.left: one for one in reversed(waiting) if one.right in (base, *joined)}
    unsure += [_said_other(one) for one in apart.values()]
    return joins, list(dict.fromkeys(unsure)), joined


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
        return f"{named}: only {one.left_matched:,} of {one.left_rows:,} rows match."
    if not all(left.has(name) for name, _ in one.key):
        return f"{named}: the key is not in the result any more."
    ignore, gained = _looser(left, right, one.key)
    try:
        made = join(left, right, dict(one.key), "left", "many-to-one", ignore)
    except PlaitError as error:
        return (
            f"{named}: not many-to-one ({error.what}). Settle or group {one.right} first, or "
            'say cardinality = "many-to-many".'
        )
    evidence = [_matched(made.match, one.right)]
    evidence += [gained] if gained else []
    return (
        DraftedJoin(one.right, one.key, ignore, made.match.cardinality, tuple(evidence)),
        made.table.named("combined"),
    )


def _matched(match: Match, right: str) -> str:
    lost = match.left_unmatched + match.left_missing_key
    return (
        f"{match.left_matched:,} of {match.left_rows:,} rows match, {match.cardinality}; "
        f"{lost:,} {'has' if lost == 1 else 'have'} no partner in {right}."
    )


def _looser(left: Table, right: Table, key: Key) -> tuple[tuple[str, ...], str]:
    """The looser comparison that matches more and runs no keys together, and what it gains."""
    audited = keys([left, right], [[one for one, _ in key], [one for _, one in key]])
    best = audited.why.best if audited.why else None
    if best is None or best.collisions or not best.rows:
        return (), ""
    ways = ", ".join(best.ways)
    return best.ways, f"{best.rows:,} of them only when {ways} do not count; no keys collide."


def _said_twin(twin: str, one: Relation) -> str:
    return (
        f"{one.right} has mostly the headings of {twin}: another version of it? To set them "
        f"against each other: plait keys {twin} {one.right}; to bring them together: settle."
    )


def _said_other(one: Relation) -> str:
    return (
        f"{one.left} matches {one.right} on {_spelt(one.key)} "
        f"({one.left_matched:,} of {one.left_rows:,} rows, {one.cardinality}). It has rows of its "
        "own: join it in a step of its own, or group it first."
    )
