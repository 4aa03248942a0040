"""The story of a run, put together from what was done."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from pathlib import Path

from plait.core.account.names import shown
from plait.core.look.contents import Content, contents, partners, rows_by_source, shares
from plait.core.look.profile import Profile
from plait.core.table.keyspec import names
from plait.core.verbs.result import reading_entries
from plait.core.verbs.stack import concatenated
from plait.formats.places.address import is_address
from plait.plan.work.work import Worked
from plait.report.account import Account
from plait.report.story import Expected, SourceSaid, StepSaid, Story, Unmatched


def story_of(
    worked: Worked,
    expected: Sequence[Expected],
    sums: Mapping[str, str],
) -> Story:
    """Everything there is to say about a run, but for what it wrote.

    Parameters
    ----------
    worked : Worked
    expected : sequence of Expected
    sums : mapping of str to str
        The checksum of each source file.
    """
    loaded, table = worked.loaded, worked.result
    assert loaded.plan.handover is not None
    shapes, known = _shapes(worked)
    by = shares(table)
    return Story(
        loaded.plan.title,
        loaded.path.name,
        loaded.without_secrets(loaded.text),
        loaded.shown_parameters(),
        loaded.plan.handover.result,
        Account(
            "run",
            worked.tables,
            worked.entries,
            worked.findings,
            (),
            tuple(match for step in worked.steps for match in step.result.matches),
        ),
        tuple(sources_of(worked, sums)),
        shapes,
        tuple(_steps(worked)),
        tuple(contents(table, known, by)),
        loaded.plan.describe,
        tuple(by),
        rows_by_source(table),
        partners(table),
        _unmatched(worked),
        left_out(worked),
        key_of(worked),
        tuple(expected),
        entries_of=(
            (0, tuple(reading_entries(worked.tables))),
            *((step.number + 1, step.entries) for step in worked.steps),
        ),
        found_in=tuple(number for number, findings in worked.findings_by_step for _ in findings),
    )


def left_out(worked: Worked) -> int:
    """How many rows are in no result."""
    read = sum(one.rows for table in worked.tables for one in table.aside if not one.in_result)
    made = [one for step in worked.steps for one in step.result.aside]
    return read + sum(one.rows for one in made if not one.in_result)


def key_of(worked: Worked) -> tuple[str, ...]:
    """The key of the result, where the plan names or expects one, or a step made one."""
    handover = worked.loaded.plan.handover
    assert handover is not None
    return names(handover.key) if handover.key else unique_key_of(worked)


def unique_key_of(worked: Worked) -> tuple[str, ...]:
    """Columns that are unique together in the result, where something says so."""
    handover = worked.loaded.plan.handover
    assert handover is not None
    expected = worked.loaded.plan.expect.model_dump()["unique"].get(handover.result)
    if expected:
        return names(expected)
    made = [step for step in worked.steps if step.name == handover.result]
    return made[-1].result.key if made else ()


def shown_path(path: str, worked: Worked) -> str:
    """A path as the plan's folder sees it."""
    if is_address(path):
        return path
    if Path(path).is_absolute():
        return shown(path)
    return shown(os.path.relpath(path, worked.loaded.folder).replace(os.sep, "/"))


def sources_of(worked: Worked, sums: Mapping[str, str]) -> list[SourceSaid]:
    """What there is to say of each source."""
    return [
        SourceSaid(
            table.name,
            one.group,
            shown_path(one.source.where, worked),
            table.rows,
            len(table.columns),
            table.written,
            one.source.size,
            sums.get(one.source.path, ""),
        )
        for one, table in zip(worked.found, worked.tables, strict=True)
    ]


def _steps(worked: Worked) -> list[StepSaid]:
    return [
        StepSaid(
            step.title,
            step.verb,
            worked.loaded.line("step", step.number),
            step.result.table.rows,
            len(step.result.table.columns),
            step.inputs,
            step.name or "",
            sum(one.rows for one in step.result.aside if not one.in_result),
        )
        for step in worked.steps
    ]


def _shapes(worked: Worked) -> tuple[dict[str, tuple[Content, ...]], dict[int, Profile]]:
    """What the sources of each name hold, and the profiles of their stored columns."""
    shapes, known = {}, {}
    for name, tables in worked.sources.items():
        whole = concatenated(tables, name) if len(tables) > 1 else tables[0]
        found = contents(whole)
        shapes[name] = tuple(found)
        for column, content in zip(whole.columns, found, strict=True):
            stored = whole.stored(column.name)
            if stored is not None and len(tables) == 1:
                known[id(stored)] = content.profile
    return shapes, known


def _unmatched(worked: Worked) -> tuple[Unmatched, ...]:
    """For each join, the last first, how many left rows found no partner."""
    found = []
    for step in worked.steps:
        matches = step.result.matches
        entries = step.result.entries[len(step.result.entries) - len(matches) :]
        for entry, match in zip(entries, matches, strict=True):
            left, right = entry.rows_in
            found.append(Unmatched(left, right, match.left_unmatched + match.left_missing_key))
    return tuple(found[::-1])
