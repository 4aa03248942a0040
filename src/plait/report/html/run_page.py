"""The report of a handover: one page that needs nothing from outside."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from plait._version import __version__
from plait.core.base.findings import Finding, by_severity
from plait.core.base.ledger import LedgerEntry, LedgerLine
from plait.report.changes import changed_columns
from plait.report.drawing.diagram_layout import layout_diagram
from plait.report.drawing.plan_diagram import diagram_nodes, drill_down_of_node
from plait.report.drilldown import DrillDown, drill_down_of_finding, drill_down_of_line
from plait.report.html.render import pack_script_data, render_template
from plait.report.run_report import RunReport, SourceSummary


def report_page(run_report: RunReport, folder: str) -> str:
    """The page as text; every value from data is escaped.

    Parameters
    ----------
    folder : str
        What the handover is called.
    """
    return render_template(
        "handover.html.jinja",
        ("common", "tables", "rows", "handover"),
        story=run_report,
        aside=run_report.left_out,
        folder=folder,
        version=__version__,
        flow=layout_diagram(diagram_nodes(run_report)),
        opened=layout_diagram(diagram_nodes(run_report, True))
        if drill_down_of_node(run_report)
        else None,
        steps=list(_steps(run_report)),
        told=list(_locate_findings(run_report)),
        findings=run_report.account.findings,
        columns=changed_columns(run_report.changes.compared.columns) if run_report.changes else [],
        held=sum(e.holds for e in run_report.expected),
        behind=LinkedCounts(run_report.drill_downs),
        unmatched=_unmatched(run_report),
        packed=pack_script_data(
            {"lists": [_drill_down_payload(drill_down) for drill_down in run_report.drill_downs]}
        ),
    )


class LinkedCounts:
    """Numbers of a page that open the rows that they count."""

    def __init__(self, drill_downs: Sequence[DrillDown]) -> None:
        self._every = drill_downs
        self._by_name = {drill_down.name: drill_down for drill_down in drill_downs}
        self._place = {id(down): place for place, down in enumerate(drill_downs)}

    def count(self, rows: int, *behind: DrillDown | None) -> Any:
        """A number; where its rows are in the page, the place from which they open."""
        from markupsafe import Markup

        text = f"{rows:,}".replace("-", "−")
        names = " ".join(self.place(b) for b in behind if b is not None)
        if not names or not rows:
            return text
        return Markup('<span data-behind="{}">{}</span>').format(names, text)

    def place(self, behind: DrillDown) -> str:
        """What the script calls the rows."""
        return str(self._place[id(behind)])

    def lists(self, *kinds: str, kept: bool = True) -> list[DrillDown]:
        """Whole lists of some kinds, or of all; without ``kept`` only of rows in no result."""
        return [
            one
            for one in self._every
            if one.list_kind and (not kinds or one.list_kind in kinds) and not one.reason
            if kept or not one.in_result
        ]

    def dataset(self, run_report: RunReport) -> DrillDown | None:
        """The first rows of what is handed over."""
        made = [n for n, step in enumerate(run_report.steps, 1) if step.result == run_report.result]
        name = f"step-{made[-1]}" if made else f"source-{run_report.result}"
        return self._by_name.get(name)

    def line(self, step: int) -> Callable[[LedgerLine], Any]:
        """The numbers of a step's ledger."""
        return lambda line: self.count(line.rows, drill_down_of_line(line, step, self._every))

    def source(self, source_summary: SourceSummary) -> Any:
        """The rows of a source."""
        return self.count(source_summary.rows, self._by_name.get(f"source-{source_summary.name}"))


@dataclass(frozen=True)
class _StepView:
    number: int
    title: str
    rows: int | None
    columns: int
    line: int
    aside: int
    entries: tuple[LedgerEntry, ...]
    lists: tuple[DrillDown, ...]
    result: DrillDown | None


def _steps(run_report: RunReport) -> Iterator[_StepView]:
    """Each step with its part of the ledger, and the reading before them where it left rows out."""
    for number, entries in run_report.entries_of:
        of_step = [
            drill_down
            for drill_down in run_report.drill_downs
            if drill_down.step == number and not drill_down.reason
        ]
        lists = tuple(o for o in of_step if o.list_kind)
        if not number:
            if entries or lists:
                aside = sum(list_.rows for list_ in lists)
                yield _StepView(0, "Reading", None, 0, 0, aside, entries, lists, None)
            continue
        step = run_report.steps[number - 1]
        result = next((one for one in of_step if not one.list_kind), None)
        title = f"{number} {step.title}"
        yield _StepView(
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
class _LocatedFinding:
    finding: Finding
    step: str
    source: str
    behind: DrillDown | None


def _locate_findings(run_report: RunReport) -> list[_LocatedFinding]:
    """The findings, worst first, with where they were found."""
    steps = [
        *run_report.found_in,
        *(-1 for _ in run_report.account.findings[len(run_report.found_in) :]),
    ]
    of = {
        id(finding): step for finding, step in zip(run_report.account.findings, steps, strict=True)
    }
    return [
        _LocatedFinding(
            one,
            _step_title(run_report, of[id(one)]),
            one.where.source,
            drill_down_of_finding(one, of[id(one)], run_report.drill_downs),
        )
        for one in by_severity(run_report.account.findings)
    ]


def _step_title(run_report: RunReport, step: int) -> str:
    if step < 1:
        return "writing" if step else "reading"
    return f"{step} {run_report.steps[step - 1].title}"


def _unmatched(run_report: RunReport) -> DrillDown | None:
    """The rows behind the first number: those of the last join without a match."""
    if not run_report.unmatched:
        return None
    unmatched_count = run_report.unmatched[0]
    return next(
        (
            list_
            for list_ in reversed(run_report.drill_downs)
            if list_.list_kind == "unmatched"
            and not list_.reason
            and list_.table == unmatched_count.left
            and list_.rows == unmatched_count.rows
        ),
        None,
    )


def _drill_down_payload(drill_down: DrillDown) -> dict[str, Any]:
    return {
        "what": drill_down.title,
        "rows": drill_down.rows,
        "file": drill_down.file,
        "columns": drill_down.columns,
        "cells": drill_down.cells,
    }
