"""The report of a handover: one page that needs nothing from outside."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from plait._version import __version__
from plait.core.account.finding import Finding, worst_first
from plait.core.account.ledger import Entry, Line
from plait.report.behind import Behind, behind_finding, behind_line
from plait.report.compared import changed_columns
from plait.report.drawn.flow import opens, parts_of
from plait.report.drawn.picture import picture
from plait.report.pages.render import packed, render
from plait.report.story import SourceSaid, Story


def report_page(story: Story, folder: str) -> str:
    """The page as text; every value from data is escaped.

    Parameters
    ----------
    story : Story
    folder : str
        What the handover is called.
    """
    return render(
        "handover.html.jinja",
        ("common", "tables", "rows", "handover"),
        story=story,
        aside=story.left_out,
        folder=folder,
        version=__version__,
        flow=picture(parts_of(story)),
        opened=picture(parts_of(story, True)) if opens(story) else None,
        steps=list(_steps(story)),
        told=list(_told(story)),
        findings=story.account.findings,
        columns=changed_columns(story.since.compared.columns) if story.since else [],
        held=sum(one.holds for one in story.expected),
        behind=Counts(story.behind),
        unmatched=_unmatched(story),
        packed=packed({"lists": [_shown(one) for one in story.behind]}),
    )


class Counts:
    """Numbers of a page that open the rows that they count."""

    def __init__(self, every: Sequence[Behind]) -> None:
        self._every = every
        self._by_name = {one.name: one for one in every}
        self._place = {id(one): place for place, one in enumerate(every)}

    def count(self, rows: int, *behind: Behind | None) -> Any:
        """A number; where its rows are in the page, the place from which they open."""
        from markupsafe import Markup

        said = f"{rows:,}".replace("-", "−")
        names = " ".join(self.place(one) for one in behind if one is not None)
        if not names or not rows:
            return said
        return Markup('<span data-behind="{}">{}</span>').format(names, said)

    def place(self, behind: Behind) -> str:
        """What the script calls the rows."""
        return str(self._place[id(behind)])

    def ending(self, *endings: str, kept: bool = True) -> list[Behind]:
        """Whole lists whose names end so; without ``kept`` only of rows in no result."""
        return [
            one
            for one in self._every
            if one.listed.endswith(endings) and one.listed and not one.reason
            if kept or not one.kept
        ]

    def dataset(self, story: Story) -> Behind | None:
        """The first rows of what is handed over."""
        made = [n for n, step in enumerate(story.steps, 1) if step.result == story.result]
        name = f"step-{made[-1]}" if made else f"source-{story.result}"
        return self._by_name.get(name)

    def line(self, step: int) -> Callable[[Line], Any]:
        """The numbers of a step's ledger."""
        return lambda line: self.count(line.rows, behind_line(line, step, self._every))

    def source(self, one: SourceSaid) -> Any:
        """The rows of a source."""
        return self.count(one.rows, self._by_name.get(f"source-{one.name}"))


@dataclass(frozen=True)
class _Step:
    number: int
    title: str
    rows: int | None
    columns: int
    line: int
    aside: int
    entries: tuple[Entry, ...]
    lists: tuple[Behind, ...]
    result: Behind | None


def _steps(story: Story) -> Iterator[_Step]:
    """Each step with its part of the ledger, and the reading before them where it left rows out."""
    for number, entries in story.entries_of:
        of_step = [one for one in story.behind if one.step == number and not one.reason]
        lists = tuple(one for one in of_step if one.listed)
        if not number:
            if entries or lists:
                aside = sum(one.rows for one in lists)
                yield _Step(0, "Reading", None, 0, 0, aside, entries, lists, None)
            continue
        step = story.steps[number - 1]
        result = next((one for one in of_step if not one.listed), None)
        title = f"{number} {step.title}"
        yield _Step(
            number,
            title,
            step.rows,
            step.columns,
            step.line,
            step.set_aside,
            entries,
            lists,
            result,
        )


@dataclass(frozen=True)
class _Told:
    finding: Finding
    step: str
    source: str
    behind: Behind | None


def _told(story: Story) -> list[_Told]:
    """The findings, worst first, with where they were found."""
    steps = [*story.found_in, *(-1 for _ in story.account.findings[len(story.found_in) :])]
    of = {id(one): step for one, step in zip(story.account.findings, steps, strict=True)}
    return [
        _Told(
            one,
            _step_said(story, of[id(one)]),
            one.source,
            behind_finding(one, of[id(one)], story.behind),
        )
        for one in worst_first(story.account.findings)
    ]


def _step_said(story: Story, step: int) -> str:
    if step < 1:
        return "writing" if step else "reading"
    return f"{step} {story.steps[step - 1].title}"


def _unmatched(story: Story) -> Behind | None:
    """The rows behind the first number: those of the last join without a match."""
    if not story.unmatched:
        return None
    one = story.unmatched[0]
    return next(
        (
            list_
            for list_ in reversed(story.behind)
            if list_.listed.endswith("-unmatched")
            and not list_.reason
            and list_.table == one.left
            and list_.rows == one.rows
        ),
        None,
    )


def _shown(one: Behind) -> dict[str, Any]:
    return {
        "what": one.what,
        "rows": one.rows,
        "file": one.file,
        "columns": one.columns,
        "cells": one.cells,
    }
