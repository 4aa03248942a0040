"""The sources of a drafted plan, and the paths that name them."""

from __future__ import annotations

import glob
import os
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import takewhile
from pathlib import Path

from plait.core.base.errors import PlaitError
from plait.core.base.findings import Finding, Location, pluralize
from plait.core.base.names import to_file_name, unused_name
from plait.core.operations.result import Result
from plait.core.operations.stack import stack
from plait.core.operations.survey import SchemaGroupSurvey
from plait.core.profiling.schemas import find_heading_variants, merge_renamed_columns
from plait.core.table.table import Table
from plait.core.types.column_type import TEXT
from plait.io.places.address import address_for_plan, is_address
from plait.io.places.source import Source
from plait.io.sources import find_sources, name_and_path
from plait.plan.file.toml import as_plan_keys, toml_array, toml_string

_DECIDED = ("header-variant",)  # the draft does it, as ``same``

_LEAST_COMMON = 1


@dataclass(frozen=True, eq=False)
class DraftedSource:
    """A source of the draft, stacked where it has several extracts.

    Parameters
    ----------
    paths : tuple of str
        From the plan's folder.
    sheets : bool
        Whether the extracts are sheets of one file.
    same : mapping of str to sequence of str
        Headings that are spelt differently in some extracts, new to old.
    repeats : int
        Rows that equal one of an earlier extract, where none equals another of its own: two
        equal lines of one till are two sales.
    open : tuple of str
        What is not decided, in sentences.
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


def with_file_safe_names(sources: Sequence[Source]) -> list[Source]:
    """The sources with names that a result, and so a file, can have too."""
    taken: set[str] = set()
    named = []
    for source in sources:
        name = unused_name(to_file_name(source.name), taken)
        taken.add(name)
        named.append(replace(source, name=name))
    return named


def draft_source(
    schema_group_survey: SchemaGroupSurvey,
    paths: tuple[str, ...],
    members: Sequence[Source],
    findings: Sequence[Finding],
) -> DraftedSource:
    """What a plan does with the extracts of one shape."""
    name, tables = schema_group_survey.family.name, list(schema_group_survey.tables)
    same = _variants(tables)
    stacked = _stacked(tables, same, name)
    repeats = sum(aside.rows for aside in stacked.aside) if len(tables) > 1 else 0
    within = sum(map(_repeats_within, tables)) if repeats else 0
    table = stacked.table if len(tables) > 1 else tables[0]
    sheets = len({source.path for source in members}) == 1 and len(members) > 1
    likely = [
        key.columns
        for key in schema_group_survey.keys.keys
        if not key.by_chance and not key.in_the_way
    ]
    return DraftedSource(
        name,
        paths,
        len(tables),
        sheets,
        same,
        0 if within else repeats,
        (
            *_open(schema_group_survey),
            *_warned(schema_group_survey, findings),
            *_said_of_repeats(repeats, within),
        ),
        table.with_name(name),
        likely[0] if likely and all(map(table.has_column, likely[0])) else (),
    )


def _stacked(tables: Sequence[Table], same: Mapping[str, Sequence[str]], name: str) -> Result:
    plain = [replace(table, findings=(), set_aside=()) for table in tables]
    return stack(plain, distinct=len(tables) > 1, same=dict(same), name=name)


def _repeats_within(table: Table) -> int:
    """Rows of one extract that equal an earlier one of it."""
    plain = replace(table, findings=(), set_aside=())
    return sum(aside.rows for aside in stack([plain], distinct=True).aside)


def _said_of_repeats(repeats: int, within: int) -> Iterator[str]:
    if within:
        yield (
            f"{pluralize(repeats, 'row')} identical to an earlier row, {within:,} of them "
            "within one "
            "extract: identical rows may mean different things. To leave them out: distinct = true"
        )


def _variants(tables: Sequence[Table]) -> dict[str, list[str]]:
    """Headings that look like others spelt differently, and can be brought together."""
    same: dict[str, list[str]] = {}
    for new, old in find_heading_variants(tables):
        if not any(table.has_column(new) and table.has_column(old) for table in tables):
            same.setdefault(new, []).append(old)
    try:
        merge_renamed_columns(tables, same)
    except PlaitError:
        return {}
    return same


def _open(schema_group_survey: SchemaGroupSurvey) -> Iterator[str]:
    """Types that somebody has to decide."""
    for name, column in schema_group_survey.profiles.items():
        if column.forms:
            forms, first = " or ".join(map(str, column.forms)), toml_string(str(column.forms[0]))
            yield f"{name}: {forms}? Nothing proves one. type = {{ {toml_string(name)} = {first} }}"
        if column.nearly:
            form, unfit = column.nearly.form, pluralize(column.nearly.unfit, "cell")
            shown = ", ".join(map(repr, column.nearly.examples[:2]))
            yield (
                f"{name} is {form.family} except for {unfit} ({shown}). "
                f'type = {{ {toml_string(name)} = {toml_string(str(form))} }}, unfit = "set-aside"'
            )
        if column.markers and column.kind == TEXT:
            markers = [marker for marker, _ in column.markers]
            shown = ", ".join(markers)
            yield f"{name} has {shown}: do they mean missing? missing = {toml_array(markers)}"


def _warned(schema_group_survey: SchemaGroupSurvey, findings: Sequence[Finding]) -> Iterator[str]:
    """What reading the extracts and the survey warn of, and what a plan can do about it."""
    names = {schema_group_survey.family.name, *(table.name for table in schema_group_survey.tables)}
    told = [finding for table in schema_group_survey.tables for finding in table.findings]
    told += [finding for finding in findings if finding.where.source in names]
    places: dict[tuple[str, str], list[Location]] = {}
    for finding in told:
        if finding.severity != "note" and finding.code not in _DECIDED:
            places.setdefault((finding.message, as_plan_keys(finding.remedy)), []).append(
                finding.where
            )
    for (message, remedy), where in places.items():
        here = str(where[0]) if len(where) == 1 else pluralize(len(where), "extract")
        of_all = any(location.source == schema_group_survey.family.name for location in where)
        if remedy and not of_all and len(where) < len(schema_group_survey.tables):
            # A key of the source would do it to all of its extracts.
            remedy = f"as a source of its own: {remedy}"
        yield f"{here}: {message}; {remedy}" if remedy else f"{here}: {message}"


def draft_paths(
    members: Sequence[Source], said: Sequence[str], every: Sequence[str], folder: Path
) -> tuple[str, ...]:
    """The word that means just these sources, a glob or a sheet pattern, or else each path.

    Parameters
    ----------
    members : sequence of Source
        Those of one shape.
    said : sequence of str
        The words that they were named by.
    every : sequence of str
        The words of all sources.
    folder : Path
        Where the plan will stand.
    """
    words = list(dict.fromkeys(said))
    if len(words) == 1 and every.count(words[0]) == len(members):
        found = [name_and_path(words[0])[1]]
    else:
        pattern = _pattern(members) if len(members) > 1 else ""
        found = [pattern] if pattern else list(dict.fromkeys(member.where for member in members))
    return tuple(relative_to_plan(folder, path) for path in found)


def _pattern(members: Sequence[Source]) -> str:
    """A folder, or a glob, that means just these files; nothing where there is none."""
    if any(m.member or (m.part and not _is_alone(m)) for m in members):
        return ""
    paths = [Path(member.path) for member in members]
    above = {path.parent for path in paths}
    if len(above) > 1:
        return ""
    (parent,) = above
    names = [path.name for path in paths]
    first = _common_start(names)
    last = _common_start([name[len(first) :][::-1] for name in names])[::-1]
    for pattern in (f"{first.rstrip('0123456789')}*{last}", f"{first}*{last}"):
        if len(pattern) > _LEAST_COMMON and _means(parent / pattern, set(paths)):
            return str(parent / pattern)
    return ""


def _is_alone(source: Source) -> bool:
    """Whether a sheet or table is the only one of its file, which means it then."""
    return len(find_sources([source.path])) == 1


def _common_start(names: Sequence[str]) -> str:
    """The signs that all the names begin with.

    >>> _common_start(["may 1.csv", "may 2.csv"])
    'may '
    """
    same = (
        signs[0]
        for signs in takewhile(lambda signs: len(set(signs)) == 1, zip(*names, strict=False))
    )
    return "".join(same)


def _means(pattern: Path, paths: set[Path]) -> bool:
    """Whether a glob means just some files."""
    names = glob.glob(str(pattern))  # noqa: PTH207
    return {Path(f) for f in names} == paths and len(find_sources([str(pattern)])) == len(paths)


def relative_to_plan(folder: Path, path: str) -> str:
    """A path as it is written in a plan that stands in a folder; of an address, without secrets."""
    if is_address(path):
        return address_for_plan(path)
    if Path(path).is_absolute() and not Path(path).is_relative_to(folder.resolve()):
        return path
    return os.path.relpath(path, folder).replace(os.sep, "/")
