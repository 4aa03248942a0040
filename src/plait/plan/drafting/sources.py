"""A drafted source: its extracts under one another, and what is to be decided of it."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace

from plait.core.account.errors import PlaitError
from plait.core.account.finding import Finding, counted
from plait.core.account.names import distinct_name, file_name
from plait.core.look.headers import header_variants, same_names
from plait.core.table.table import Table
from plait.core.verbs.result import Result
from plait.core.verbs.stack import stack
from plait.core.verbs.survey import Surveyed
from plait.formats.places.source import Source
from plait.plan.file.quoting import listed, quoted
from plait.plan.file.remedy import in_plan

_DECIDED = ("header-variant",)  # the draft does it, as ``same``


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
        Rows that equal one of an earlier extract, where none equals another of its own: two
        equal lines of one till are two sales.
    open : tuple of str
        What is not decided, in sentences.
    table : Table
    key : tuple of str
        Columns that are unique together; none where there are no likely ones.
    """

    name: str
    paths: tuple[str, ...]
    extracts: int
    sheets: bool
    same: Mapping[str, Sequence[str]]
    repeats: int
    open: tuple[str, ...]
    table: Table
    key: tuple[str, ...] = ()


def plainly_named(sources: Sequence[Source]) -> list[Source]:
    """The sources with names that a result, and so a file, can have too."""
    taken: set[str] = set()
    named = []
    for source in sources:
        name = distinct_name(file_name(source.name), taken)
        taken.add(name)
        named.append(replace(source, name=name))
    return named


def drafted(
    one: Surveyed, paths: tuple[str, ...], members: Sequence[Source], findings: Sequence[Finding]
) -> DraftedSource:
    """What a plan does with the extracts of one shape."""
    name, tables = one.family.name, list(one.tables)
    same = _variants(tables)
    stacked = _stacked(tables, same, name)
    repeats = sum(aside.rows for aside in stacked.aside) if len(tables) > 1 else 0
    within = sum(map(_repeats_within, tables)) if repeats else 0
    table = stacked.table if len(tables) > 1 else tables[0]
    sheets = len({source.path for source in members}) == 1 and len(members) > 1
    likely = [key.columns for key in one.keys.keys if not key.by_chance and not key.in_the_way]
    return DraftedSource(
        name,
        paths,
        len(tables),
        sheets,
        same,
        0 if within else repeats,
        (*_open(one), *_warned(one, findings), *_said_of_repeats(repeats, within)),
        table.named(name),
        likely[0] if likely and all(map(table.has, likely[0])) else (),
    )


def _stacked(tables: Sequence[Table], same: Mapping[str, Sequence[str]], name: str) -> Result:
    plain = [replace(table, findings=(), aside=()) for table in tables]
    return stack(plain, distinct=len(tables) > 1, same=dict(same), name=name)


def _repeats_within(table: Table) -> int:
    """Rows of one extract that equal an earlier one of it."""
    plain = replace(table, findings=(), aside=())
    return sum(aside.rows for aside in stack([plain], distinct=True).aside)


def _said_of_repeats(repeats: int, within: int) -> Iterator[str]:
    if within:
        yield (
            f"{counted(repeats, 'row')} identical to an earlier row, {within:,} of them within one "
            "extract: identical rows may mean different things. To leave them out: distinct = true"
        )


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
