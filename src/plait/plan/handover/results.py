"""The results that go into one workbook, with the account in front and the dictionary behind."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from plait.core.base.errors import OutputError, UsageError
from plait.core.base.findings import Finding, by_severity
from plait.core.base.names import suggest_name, unused_name
from plait.core.table.table import Table, table_from_columns
from plait.io.delivery.folder import write_flushed
from plait.io.lineage_file import KEYS
from plait.io.places.source import WRITABLE
from plait.io.write import WORKBOOK, check_format_capacity
from plait.plan.execution.execute import PlanExecution, ProgressReporter
from plait.plan.file.load import LoadedPlan
from plait.plan.handover.read import MARKS, digests_name
from plait.report.account import ledger_table
from plait.report.numbers import format_source_columns

if TYPE_CHECKING:
    from plait.report.run_report import RunReport

_TEXTS = ("report.md", "report.html", "dictionary.csv", "plan.toml")
_TAKEN = frozenset((*MARKS, KEYS, digests_name(), *_TEXTS))


def dataset_endings(loaded_plan: LoadedPlan) -> list[str]:
    """The endings of the dataset's files.

    Raises
    ------
    UsageError
    """
    assert loaded_plan.plan.handover is not None
    formats = loaded_plan.plan.handover.formats
    endings = [f".{name}" for name in ([formats] if isinstance(formats, str) else formats)]
    for ending in endings:
        if ending not in WRITABLE:
            names = [w[1:] for w in WRITABLE]
            raise UsageError(
                f"no format is called {ending[1:]!r}",
                f"{loaded_plan.path} line {loaded_plan.line('handover', 'formats')}",
                suggest_name(ending[1:], names) or f"one of {', '.join(names)}",
            )
    result = loaded_plan.plan.handover.result
    for ending in endings:
        if f"{result}{ending}".lower() in _TAKEN:
            raise UsageError(
                f"{result}{ending} is a file of every handover and cannot be the result as well",
                f"{loaded_plan.path} line {loaded_plan.line('handover', 'result')}",
                f"use another name, in into of the step and here: {result}-all",
            )
    return list(dict.fromkeys(endings))


def results_in_sheets(plan_execution: PlanExecution) -> list[PlanExecution]:
    """The results that have a sheet in the workbook."""
    every = (plan_execution, *plan_execution.further)
    return [one for one in every if WORKBOOK in dataset_endings(one.plan)]


def check_sheets(plan_execution: PlanExecution) -> None:
    """See that the results that go into sheets fit there.

    Raises
    ------
    OutputError
        When one has more rows or columns than a sheet holds, or a name that no sheet can have.
    """
    from plait.io.workbook.write import sheet_name

    for one in results_in_sheets(plan_execution):
        check_format_capacity(one.result, {}, Path(f"{one.result_name}{WORKBOOK}"))
        if plan_execution.further and sheet_name(one.result_name, ()) != one.result_name:
            raise OutputError(
                f"no sheet can be called {one.result_name!r}",
                str(plan_execution.plan.path),
                "use up to 25 letters, without [ ] : * ? / and \\, in into of its step and here",
            )


def write_results_workbook(
    plan_execution: PlanExecution, story: RunReport, part: Path, phases: ProgressReporter
) -> tuple[list[tuple[str, int, int]], list[Finding]]:
    """Write one workbook: the account, a sheet for each result, the dictionary and the ledger.

    Parameters
    ----------
    part : Path
        The folder that is being written.

    Returns
    -------
    list of (str, int, int)
        The file with its rows and columns, if a result goes into sheets.
    list of Finding
        What was found while writing.
    """
    from plait.io.workbook.write import write_workbook

    every = results_in_sheets(plan_execution)
    if not every:
        return [], []
    check_sheets(plan_execution)
    tables = {one.result_name: one.result for one in every}
    sheets: dict[str, Table] = {unused_name("account", tables): _account_table(story), **tables}
    sheets[unused_name("dictionary", sheets)] = dictionary_table(story)
    sheets[unused_name("ledger", sheets)] = ledger_table(plan_execution.entries)
    name = f"{plan_execution.result_name}{WORKBOOK}"
    findings: list[Finding] = []
    with phases.phase("writing", sum(table.rows for table in tables.values())) as on_progress:
        write_flushed(
            part / name, lambda path: findings.extend(write_workbook(sheets, path, on_progress))
        )
    main = tables.get(plan_execution.result_name, every[0].result)
    return [(name, main.rows, len(main.columns))], findings


def _account_table(story: RunReport) -> Table:
    """What the workbook says of itself: results, facts, findings, and where the files came from."""
    rows: list[tuple[str, str, str, str]] = []
    if story.title:
        rows.append(("title", story.title, "", ""))
    described = {one.name: one for one in story.further}
    rows.append(("result", story.result, str(story.rows), story.description_of_result))
    rows += [("result", name, str(one.rows), one.description) for name, one in described.items()]
    rows += [
        ("account", fact.label, "", fact.text) for fact in story.facts() if fact.label != "and"
    ]
    rows += [
        ("finding", f"{finding.severity} {finding.code}", str(finding.count), finding.message)
        for finding in by_severity(story.account.findings)
    ]
    rows += [("source", one.name, str(one.rows), one.path) for one in story.sources]
    heads = ("about", "name", "count", "text")
    columns = {head: [row[at] for row in rows] for at, head in enumerate(heads)}
    return table_from_columns("account", columns)


def dictionary_table(run_report: RunReport) -> Table:
    """What each column of the dataset means, holds, and came from; of several results of each."""
    heads = (
        *(("result",) if run_report.further else ()),
        *("column", "type", "description", "came from", "missing", "distinct", "smallest"),
        "largest",
    )
    cells: dict[str, list[str]] = {head: [] for head in heads}
    every = [(run_report.result, run_report.contents)]
    every += [(one.name, one.contents) for one in run_report.further]
    for result, contents in every:
        for content in contents:
            profile = content.profile
            row = (
                *((result,) if run_report.further else ()),
                *(content.name, str(profile.kind), run_report.description(content.name)),
                format_source_columns(content.came),
                *(str(profile.missing), str(profile.distinct), profile.smallest, profile.largest),
            )
            for head, cell in zip(heads, row, strict=True):
                cells[head].append(cell)
    return table_from_columns("dictionary", cells)
