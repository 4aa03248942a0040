"""The report of a run, from what its steps did."""

from __future__ import annotations

import os
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

from plait.core.base.names import printable_path
from plait.core.keys.conflicts import CellConflicts
from plait.core.operations.result import entries_of_reading
from plait.core.operations.stack import concatenate_tables
from plait.core.profiling.contents import (
    ColumnContents,
    count_rows_by_source,
    match_coverage,
    profile_columns,
    source_names,
)
from plait.core.profiling.profile import ColumnProfile
from plait.core.table.key_spec import parse_names
from plait.core.table.table import SetAside, Table
from plait.io.places.address import is_address
from plait.plan.execution.execute import PlanExecution, StepResult
from plait.report.account import Account
from plait.report.document import ExpectationResult
from plait.report.drilldown import DrillDown, drill_down_list, drill_down_table
from plait.report.run_report import (
    FurtherResult,
    RunReport,
    SourceSummary,
    StepSummary,
    UnmatchedCount,
)

_MOST_TABLES = 60


def make_run_report(
    plan_execution: PlanExecution,
    expected: Sequence[ExpectationResult],
    sums: Mapping[str, str],
) -> RunReport:
    """Everything there is to say about a run, but for what it wrote.

    Parameters
    ----------
    sums : mapping of str to str
        The checksum of each source file.
    """
    loaded, table = plan_execution.plan, plan_execution.result
    assert loaded.plan.handover is not None
    shapes, known = _shapes(plan_execution)
    by = source_names(table)
    return RunReport(
        loaded.plan.title,
        loaded.path.name,
        loaded.without_secrets(loaded.text),
        loaded.shown_parameters(),
        loaded.plan.handover.result,
        Account(
            "run",
            plan_execution.tables,
            plan_execution.entries,
            plan_execution.findings,
            (),
            tuple(match for step in plan_execution.steps for match in step.result.matches),
        ),
        tuple(summarize_sources(plan_execution, sums)),
        shapes,
        tuple(_steps(plan_execution)),
        tuple(profile_columns(table, known, by)),
        loaded.plan.describe,
        tuple(by),
        count_rows_by_source(table),
        match_coverage(table),
        _unmatched(plan_execution),
        count_left_out(plan_execution),
        handover_key(plan_execution),
        tuple(expected),
        entries_of=(
            (0, tuple(entries_of_reading(plan_execution.tables))),
            *((step.number + 1, step.entries) for step in plan_execution.steps),
        ),
        found_in=tuple(
            number for number, findings in plan_execution.findings_by_step for _ in findings
        ),
        further=tuple(map(describe_further_result, plan_execution.further)),
        description_of_result=loaded.plan.handover.of_result(
            loaded.plan.handover.result
        ).description,
    )


def describe_further_result(plan_execution: PlanExecution) -> FurtherResult:
    """What there is to say of a result beside the main one.

    Parameters
    ----------
    plan_execution : PlanExecution
        As ``PlanExecution.of_result`` gives it.
    """
    handover, table = plan_execution.plan.plan.handover, plan_execution.result
    assert handover is not None
    by = source_names(table)
    return FurtherResult(
        handover.result,
        handover.description,
        tuple(profile_columns(table, {}, by)),
        handover_key(plan_execution),
        tuple(by),
        count_rows_by_source(table),
    )


def count_left_out(plan_execution: PlanExecution) -> int:
    """How many rows are in no result."""
    read = sum(
        listing.rows
        for table in plan_execution.tables
        for listing in table.set_aside
        if not listing.in_result
    )
    made = [a for step in plan_execution.steps for a in step.result.aside]
    return read + sum(m.rows for m in made if not m.in_result)


def handover_key(plan_execution: PlanExecution) -> tuple[str, ...]:
    """The key of the result, where the plan names or expects one, or a step made one."""
    handover = plan_execution.plan.plan.handover
    assert handover is not None
    return parse_names(handover.key) if handover.key else known_unique_key(plan_execution)


def known_unique_key(plan_execution: PlanExecution) -> tuple[str, ...]:
    """Columns that are unique together in the result, where something says so."""
    handover = plan_execution.plan.plan.handover
    assert handover is not None
    expected = plan_execution.plan.plan.expect.model_dump()["unique"].get(handover.result)
    if expected:
        return parse_names(expected)
    step_results = [step for step in plan_execution.steps if step.name == handover.result]
    return step_results[-1].result.key if step_results else ()


def path_from_plan(path: str, folder: Path) -> str:
    """A path as the plan's folder sees it."""
    if is_address(path):
        return path
    if Path(path).is_absolute():
        return printable_path(path)
    return printable_path(os.path.relpath(path, folder).replace(os.sep, "/"))


def summarize_sources(
    plan_execution: PlanExecution, sums: Mapping[str, str]
) -> list[SourceSummary]:
    """What there is to say of each source."""
    return [
        SourceSummary(
            table.name,
            source.group,
            path_from_plan(source.source.where, plan_execution.plan.folder),
            table.rows,
            len(table.columns),
            table.read_as,
            source.source.size,
            sums.get(source.source.path, ""),
        )
        for source, table in zip(plan_execution.sources, plan_execution.tables, strict=True)
    ]


def _steps(plan_execution: PlanExecution) -> list[StepSummary]:
    return [
        StepSummary(
            step.title,
            step.operation,
            plan_execution.plan.line("step", step.number),
            step.result.table.rows,
            len(step.result.table.columns),
            step.inputs,
            step.name or "",
            sum(a.rows for a in step.result.aside if not a.in_result),
        )
        for step in plan_execution.steps
    ]


def _shapes(
    plan_execution: PlanExecution,
) -> tuple[dict[str, tuple[ColumnContents, ...]], dict[int, ColumnProfile]]:
    """What the sources of each name hold, and the profiles of their stored columns."""
    shapes, known = {}, {}
    for name, tables in plan_execution.tables_by_source.items():
        table = concatenate_tables(tables, name) if len(tables) > 1 else tables[0]
        columns = profile_columns(table)
        shapes[name] = tuple(columns)
        for column, content in zip(table.columns, columns, strict=True):
            stored = table.stored_chunks(column.name)
            if stored is not None and len(tables) == 1:
                known[id(stored)] = content.profile
    return shapes, known


def _unmatched(plan_execution: PlanExecution) -> tuple[UnmatchedCount, ...]:
    """For each join, the last first, how many left rows found no partner."""
    found = []
    for step in plan_execution.steps:
        matches = step.result.matches
        entries = step.result.entries[len(step.result.entries) - len(matches) :]
        for entry, match in zip(entries, matches, strict=True):
            left, right = entry.rows_in
            found.append(UnmatchedCount(left, right, match.left_unmatched + match.left_missing_key))
    return tuple(found[::-1])


def collect_drill_downs(
    plan_execution: PlanExecution, files: Mapping[int, str]
) -> tuple[DrillDown, ...]:
    """The first rows of sources, steps and lists of rows set aside.

    Parameters
    ----------
    files : mapping of int to str
        The file of each list, by its identity.
    """
    return (*_lists(plan_execution, files), *_tables(plan_execution))


def set_aside_by_step(
    plan_execution: PlanExecution,
) -> Iterator[tuple[int, SetAside | CellConflicts]]:
    """Every list of rows set aside, with its step from 1; 0 for those of reading."""
    yield from ((0, s) for table in plan_execution.tables for s in table.set_aside)
    yield from (
        (step.number + 1, listing) for step in plan_execution.steps for listing in step.result.aside
    )


def _lists(plan_execution: PlanExecution, files: Mapping[int, str]) -> Iterator[DrillDown]:
    for step, one in set_aside_by_step(plan_execution):
        yield from drill_down_list(one, files.get(id(one), ""), step)


def _tables(plan_execution: PlanExecution) -> Iterator[DrillDown]:
    """Of very many sources the first only."""
    for table in plan_execution.tables[:_MOST_TABLES]:
        yield drill_down_table(f"source-{table.name}", f"rows of {table.name}", table)
    for step in plan_execution.steps:
        number, made = step.number + 1, step.result.table
        if step.name:
            yield drill_down_table(f"step-{number}", f"rows of {step.name}", made, number)


def steps_of_column(plan_execution: PlanExecution, column: str) -> list[dict[str, Any]]:
    """The steps that a column came through, in order.

    Parameters
    ----------
    column : str
        Of the result.

    Returns
    -------
    list of dict
        ``step`` (its title) and ``changed``: whether it made or changed cells of
        the column, and did not only carry them on.
    """
    wanted = set(plan_execution.result.source_columns(column))
    path = []
    for step in _leading(plan_execution):
        table = step.result.table
        through = [
            name
            for name in table.column_names
            if (wanted & set(table.source_columns(name))) or (not wanted and name == column)
        ]
        if through:
            path.append(
                {"step": step.title, "changed": _changed(plan_execution, step, column, through)}
            )
    return path


def _leading(plan_execution: PlanExecution) -> list[StepResult]:
    """The steps on whose results the result rests."""
    assert plan_execution.plan.plan.handover is not None
    needed, found = {plan_execution.plan.plan.handover.result}, []
    for step in reversed(plan_execution.steps):
        if step.name in needed:
            found.append(step)
            needed.discard(step.name)
            needed.update(step.inputs)
    return found[::-1]


def _changed(
    plan_execution: PlanExecution, step: StepResult, column: str, through: list[str]
) -> bool:
    """Whether the step made or changed the cells of the column itself."""
    name = column if column in through else through[0]
    if step.operation == "mend":
        return _made_here(step.result.table, name)
    return step.operation in ("group", "settle", "widen") and _made_here(step.result.table, name)


def _made_here(table: Table, name: str) -> bool:
    """Whether the cells are in a fragment of no source, as made ones do."""
    return any(
        not table.fragments[fragment].shows_source_rows
        for fragment, _ in table.column(name).cell_refs
    )
