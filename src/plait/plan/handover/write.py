"""The handover: dataset, report, ledger, set-aside rows, dictionary, descriptor, lineage."""

from __future__ import annotations

import json
import os
import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextvars import copy_context
from dataclasses import asdict, replace
from functools import partial
from pathlib import Path
from typing import Any

from plait._version import __version__
from plait.core.base.errors import OutputError, UsageError
from plait.core.base.findings import Finding
from plait.core.base.names import printable_path, to_file_name, unused_name
from plait.core.keys.conflicts import CellConflicts
from plait.core.lineage.paths import lineage_paths
from plait.core.operations.join import JoinResult
from plait.core.table.set_aside import report_truncated_listings, truncate_listings
from plait.core.table.table import SetAside, Table
from plait.io.database.table_writer import Tables
from plait.io.delimited.text_format import TextFormat, make_text_format
from plait.io.delivery.delivery import Delivery
from plait.io.delivery.folder import check_folder, replace_folder_atomically, write_flushed
from plait.io.delivery.seal import sealed
from plait.io.lineage_file import (
    KEYS,
    describe_column_provenance,
    find_primary_key,
    key_offsets,
    write_lineage,
    write_row_keys,
)
from plait.io.places.partial_files import sha256, sha256_of_files
from plait.io.places.source import Source
from plait.io.places.target import TableTarget, TableWriteOptions, parse_table_target
from plait.io.write import (
    WORKBOOK,
    check_target,
    open_table_writer,
    to_csv_bytes,
    write_table,
)
from plait.plan.execution.execute import PlanExecution, ProgressReporter
from plait.plan.file.load import LoadedPlan
from plait.plan.file.name_checks import name_own_handover
from plait.plan.handover.dataset_digests import write_dataset_digests
from plait.plan.handover.make_report import (
    collect_drill_downs,
    known_unique_key,
    make_run_report,
    path_from_plan,
    set_aside_by_step,
    steps_of_column,
    summarize_sources,
)
from plait.plan.handover.read import (
    HANDOVER,
    MARKS,
    digests_name,
    handover_folder,
    lineage_name,
    other_plan,
)
from plait.plan.handover.results import (
    dataset_endings,
    dictionary_table,
    write_results_workbook,
)
from plait.report.account import OutputSummary, ledger_table, summarize_output
from plait.report.as_markdown import report_markdown
from plait.report.data_package import package_json
from plait.report.document import ExpectationResult
from plait.report.html.run_page import report_page
from plait.report.run_report import RunReport, run_report_json


def check_handover_folder(
    loaded_plan: LoadedPlan, replace: bool, sources: Sequence[Source]
) -> None:
    """See that the handover can be written, before any source is read.

    Raises
    ------
    UsageError
        When the plan hands nothing over, names a format that there is not, or a result that
        has the name of another file.
    OutputError
        When the folder is there, or something in it would be lost.
    """
    folder = handover_folder(loaded_plan)
    dataset_endings(loaded_plan)
    handover_text_format(loaded_plan)
    _check_of_this_plan(loaded_plan, folder)
    paths = [source.path for source in sources]
    check_folder(folder, replace, MARKS, [*paths, str(loaded_plan.path)])
    target = handover_table(loaded_plan)
    handover = loaded_plan.plan.handover
    if target and handover:
        delivery = Delivery((), replace)
        check_target(target, target.stem, delivery, handover.append, sources)
        if handover.beside:
            check_target(target.beside(f"{target.stem}_ledger"), "ledger", delivery)


def _check_of_this_plan(loaded_plan: LoadedPlan, folder: Path) -> None:
    """See that what stands there is no handover of another plan that is in use beside this one.

    Raises
    ------
    OutputError
    """
    other = other_plan(loaded_plan, folder)
    if other:
        raise OutputError(
            f"this folder has the handover of another plan, {other}",
            str(folder),
            "give this plan a folder of its own: under [handover] "
            f'folder = "{name_own_handover(loaded_plan.path)}"',
        )


def handover_table(loaded_plan: LoadedPlan) -> TableTarget | None:
    """The table of a database that the result goes to as well, if any.

    Raises
    ------
    UsageError
    """
    handover = loaded_plan.plan.handover
    assert handover is not None
    if handover.database is None:
        if handover.append or handover.beside:
            key = "append" if handover.append else "beside"
            raise UsageError(
                f"{key} is about a database table, but no database is named",
                f"{loaded_plan.path} line {loaded_plan.line('handover', key)}",
                'write database = "postgresql://…#TABLE"',
            )
        return None
    where = f"{loaded_plan.path} line {loaded_plan.line('handover', 'database')}"
    try:
        target = parse_table_target(handover.database)
    except UsageError as error:
        raise UsageError(error.what, where, error.remedy) from None
    if target is None:
        raise UsageError("not a valid address", where, "postgresql://…#TABLE or mysql://…#TABLE")
    return target


def handover_text_format(loaded_plan: LoadedPlan) -> TextFormat:
    """How the text files of the handover are written.

    Raises
    ------
    UsageError
    """
    handover = loaded_plan.plan.handover
    assert handover is not None
    try:
        return make_text_format(handover.write, handover.guard_formulas)
    except UsageError as error:
        where = f"{loaded_plan.path} line {loaded_plan.line('handover', 'write')}"
        raise UsageError(error.what, where, error.remedy) from None


def write_handover(
    plan_execution: PlanExecution,
    expected: Sequence[ExpectationResult],
    sums: Mapping[str, str],
    phases: ProgressReporter,
    replace_: bool = False,
    compared: Callable[[Path, RunReport], RunReport] = lambda _, story: story,
) -> RunReport:
    """Write the whole folder, or nothing; and the table of a database with it.

    Parameters
    ----------
    sums : mapping of str to str
        The checksum of each source file.
    replace_ : bool
        Whether a table that is there is replaced.
    compared : callable
        Given the folder while it is written, dataset and lineage being there, and the story
        so far; the story with what is new. What it raises ends it all.

    Returns
    -------
    RunReport
        With every file, and what was found while writing them.

    Raises
    ------
    OutputError
        When something cannot be written.
    """
    target = handover_folder(plan_execution.plan)
    changes: list[Tables] = []
    with replace_folder_atomically(target, changes) as part:
        in_database = _into_database(plan_execution, changes, phases, replace_)
        further = plan_execution.further
        written, findings = _dataset(plan_execution, part, phases)
        for one in further:
            more, told = _dataset(one, part, phases)
            written, findings = written + more, findings + told
        listed, cut = _set_aside(plan_execution, part)
        written, findings = written + listed, findings + cut
        with ThreadPoolExecutor(2) as beside, phases.phase("describing columns"):
            lineage = beside.submit(copy_context().run, _lineage, plan_execution, sums, part)
            keys = beside.submit(copy_context().run, _keys, plan_execution, part)
            digests = sha256_of_files(str(part / name) for name, _, _ in written)
            story = make_run_report(plan_execution, expected, sums)
            written += [lineage.result(), *keys.result()]
            written += [_lineage(one, sums, part, one.result_name) for one in further]
            written += _digests(plan_execution, story, part)
        in_sheets, told = write_results_workbook(plan_execution, story, part, phases)
        written, findings = _in_order(plan_execution, written + in_sheets), findings + told
        outputs = [_output(part, *w, digests.get(str(part / w[0]))) for w in written]
        there = {name for name, _, _ in written}
        files = {id(one): name for name, one in set_aside_files(plan_execution) if name in there}
        account = replace(
            story.account,
            findings=(*story.account.findings, *findings),
            outputs=(*outputs, *in_database),
        )
        behind = collect_drill_downs(plan_execution, files)
        story = compared(part, replace(story, account=account, drill_downs=behind))
        text_format = handover_text_format(plan_execution.plan)
        for name, text in _texts(story, target.name, text_format.guard_formulas):
            write_flushed(part / name, partial(Path.write_text, data=text, encoding="utf-8"))
            outputs.append(_output(part, name))
        (of_lineage,) = (output.sha256 for output in outputs if output.path == MARKS[2])
        sums_of = {output.path: output.sha256 for output in outputs}
        names = [lineage_name(one.name) for one in story.further]
        seals = {name: sealed(HANDOVER, sums_of[name]) for name in names}
        seal = sealed(HANDOVER, of_lineage)
        package = package_json(story, outputs, seal, seals, text_format)
        write_flushed(part / MARKS[0], lambda path: path.write_text(package, "utf-8"))
    return story


def _into_database(
    plan_execution: PlanExecution, changes: list[Tables], phases: ProgressReporter, replace_: bool
) -> list[OutputSummary]:
    """Write the result into the database that the plan names, and what goes beside it."""
    target, handover = handover_table(plan_execution.plan), plan_execution.plan.plan.handover
    if target is None or handover is None:
        return []
    changes.append(open_table_writer(target.address, replace_))
    table, title = plan_execution.result, plan_execution.plan.plan.title
    how = TableWriteOptions(
        handover.append, known_unique_key(plan_execution), plan_execution.plan.plan.describe, title
    )
    with phases.phase("writing into the database", table.rows) as on_progress:
        changes[0].add(table, target.table, on_progress, how)
        written: list[tuple[object, Table]] = [(target, table)]
        for name, one in _beside_table(plan_execution) if handover.beside else ():
            place = target.beside(f"{target.stem}_{name}")
            changes[0].add(one, place.table, lambda _: None, TableWriteOptions())
            written.append((place, one))
    return [summarize_output(one, place) for place, one in written]


def _beside_table(plan_execution: PlanExecution) -> Iterator[tuple[str, Table]]:
    """The lists of rows set aside and the ledger, with what tables of them are called."""
    handover = plan_execution.plan.plan.handover
    assert handover is not None
    every = list(set_aside_files(plan_execution))
    names = {id(one): re.sub(r"\W+", "_", Path(name).stem) for name, one in every}
    for table, one in truncate_listings([one for _, one in every], handover.aside_limit):
        yield names[id(one)], table
    yield "ledger", ledger_table(plan_execution.entries)


_Written = tuple[str, int, int]


def _dataset(
    plan_execution: PlanExecution, part: Path, phases: ProgressReporter
) -> tuple[list[_Written], list[Finding]]:
    """The result in each format but a workbook: the files with their rows and columns."""
    table, endings = plan_execution.result, dataset_endings(plan_execution.plan)
    written_as = handover_text_format(plan_execution.plan)
    written, findings = [], []
    with phases.phase("writing", table.rows * len(endings)) as on_progress:
        for ending in endings:
            if ending == WORKBOOK:
                continue
            name = f"{plan_execution.result_name}{ending}"

            def write(path: Path, ending: str = ending) -> None:
                findings.extend(write_table(table, path, ending, on_progress, written_as))

            write_flushed(part / name, write)
            written.append((name, table.rows, len(table.columns)))
    return written, findings


def _in_order(plan_execution: PlanExecution, written: list[_Written]) -> list[_Written]:
    """The main dataset first, then its lineage, its other formats, and the rest."""
    names = [f"{plan_execution.result_name}{e}" for e in dataset_endings(plan_execution.plan)]
    main = [one for name in names for one in written if one[0] == name]
    beside = [one for one in written if one[0] in (MARKS[2], KEYS, digests_name())]
    known = {one[0] for one in (*main, *beside)}
    return [*main[:1], *beside, *main[1:], *(one for one in written if one[0] not in known)]


def _set_aside(plan_execution: PlanExecution, part: Path) -> tuple[list[_Written], list[Finding]]:
    """Every list of rows that were set aside, and what is said of those that are cut."""
    handover = plan_execution.plan.plan.handover
    assert handover is not None
    text_format, written = handover_text_format(plan_execution.plan), []
    every = list(set_aside_files(plan_execution))
    names = {id(one): name for name, one in every}
    lists = truncate_listings([one for _, one in every], handover.aside_limit)
    for table, aside in lists:
        name = names[id(aside)]
        write_flushed(
            part / name,
            partial(write_table, table, ending=".csv", text_format=text_format),
        )
        written.append((name, table.rows, len(table.columns)))
    return written, report_truncated_listings(lists)


def _lineage(
    plan_execution: PlanExecution, sums: Mapping[str, str], part: Path, result: str | None = None
) -> _Written:
    name, stated = lineage_name(result), _stated(plan_execution, sums)
    write_flushed(
        part / name,
        lambda path: write_lineage(plan_execution.result, _starts(plan_execution), stated, path),
    )
    return name, plan_execution.result.rows, len(lineage_paths(plan_execution.result))


def _digests(plan_execution: PlanExecution, story: RunReport, part: Path) -> list[_Written]:
    """The digests of the rows of every result that the next run compares by them."""
    text_format = handover_text_format(plan_execution.plan)
    converted = text_format.converts or text_format.guard_formulas
    written = write_dataset_digests(plan_execution, story.contents, converted, part)
    for one, told in zip(plan_execution.further, story.further, strict=True):
        written += write_dataset_digests(one, told.contents, converted, part, told.name)
    return written


def _keys(plan_execution: PlanExecution, part: Path) -> list[_Written]:
    """The keys of rows that are known by one, if there are any."""
    if not key_offsets(plan_execution.tables):
        return []
    rows: list[int] = []
    write_flushed(
        part / KEYS, lambda path: rows.append(write_row_keys(plan_execution.tables, path))
    )
    return [(KEYS, rows[0], 2)]


def _output(
    part: Path, name: str, rows: int = 0, columns: int = 0, digest: Future[str] | None = None
) -> OutputSummary:
    path = part / name
    text = digest.result() if digest else sha256(path)
    return OutputSummary(name, rows, columns, path.stat().st_size, text)


def set_aside_files(
    plan_execution: PlanExecution,
) -> Iterator[tuple[str, SetAside | CellConflicts]]:
    """Every list of rows that were set aside, with the file it goes to."""
    taken: set[str] = set()
    for step, one in set_aside_by_step(plan_execution):
        name = unused_name(
            f"{step}-{to_file_name(one.name)}" if step else to_file_name(one.name), taken
        )
        taken.add(name)
        yield f"aside/{name}.csv", one


def _starts(plan_execution: PlanExecution) -> dict[str, int]:
    """Where each source begins when the rows of all are numbered through."""
    starts, begin = {}, 0
    for table in plan_execution.tables:
        starts[table.name] = begin
        begin += table.rows + sum(s.rows for s in table.set_aside)
    return starts


def _stated(plan_execution: PlanExecution, sums: Mapping[str, str]) -> dict[str, Any]:
    """What lineage needs beside the rows: the sources, and where each column came from."""
    assert plan_execution.plan.plan.handover is not None
    table, starts = plan_execution.result, _starts(plan_execution)
    ways = lineage_paths(table)
    return {
        "version": __version__,
        "plan": plan_execution.plan.path.name,
        "result": plan_execution.plan.plan.handover.result,
        "up": _way_up(plan_execution),
        "sources": [
            {
                **asdict(source),
                "start": starts[source.name],
                "read": _reading(plan_execution, number),
            }
            for number, source in enumerate(summarize_sources(plan_execution, sums))
        ],
        "columns": {
            name: {
                "cells": describe_column_provenance(table, name, ways),
                "steps": steps_of_column(plan_execution, name),
            }
            for name in table.column_names
        },
        "rows": [way.name for way in ways if not way.fragment.cells_only],
        "steps": [step.title for step in plan_execution.steps],
        "evidence": list(_evidence(plan_execution, starts)),
    }


def _evidence(plan_execution: PlanExecution, starts: Mapping[str, int]) -> Iterator[dict[str, Any]]:
    """Source rows that joins took for the same by evidence, numbered through all sources."""
    for step in plan_execution.steps:
        if isinstance(step.result, JoinResult):
            for match in step.result.by_evidence:
                left, right = (
                    [starts[place.source] + place.row - 1 for place in side]
                    for side in (match.left, match.right)
                )
                yield {"left": left, "right": right, "reason": match.reason}


def _way_up(plan_execution: PlanExecution) -> str:
    """The way from the handover to the folder that paths in the plan start from."""
    target = handover_folder(plan_execution.plan).resolve()
    return os.path.relpath(plan_execution.plan.folder.resolve(), target).replace(os.sep, "/")


def _reading(plan_execution: PlanExecution, number: int) -> dict[str, Any]:
    """How a source was read, so that it can be read so again."""
    source = plan_execution.sources[number].source
    return {
        "path": path_from_plan(source.path, plan_execution.plan.folder),
        "member": source.member,
        "part": source.part,
        "given": asdict(source.options),
        **_known_by(plan_execution, number),
    }


def _known_by(plan_execution: PlanExecution, number: int) -> dict[str, Any]:
    """The key that the rows of a source are known by, and the columns whose sums tell of them."""
    table = plan_execution.tables[number]
    primary_key = find_primary_key(table)
    if primary_key is None:
        return {}
    start = key_offsets(plan_execution.tables)[table.name]
    return {"key": list(primary_key.key), "taking": list(primary_key.columns), "keys": start}


def _texts(run_report: RunReport, folder: str, guard: bool) -> Iterator[tuple[str, str]]:
    """The files of text that tell about the rest."""
    yield "ledger.json", run_report_json(run_report) + "\n"
    yield "report.md", report_markdown(run_report)
    yield "report.html", report_page(run_report, folder)
    yield (
        "dictionary.csv",
        to_csv_bytes(dictionary_table(run_report), TextFormat(guard_formulas=guard)).decode(),
    )
    yield "plan.toml", _plan_text(run_report)


def _plan_text(run_report: RunReport) -> str:
    """The plan, and above it what it was run with."""
    lines = [f"# As run by plait {__version__}. Its sources then:"]
    for one in {source.path: source for source in run_report.sources}.values():
        text = f"{one.bytes:,} bytes  sha256 {one.sha256}" if one.sha256 else one.written
        lines.append(f"#   {printable_path(one.path)}  {text}")
    for name, value in run_report.parameters.items():
        lines.append(f"# with {name} = {json.dumps(value, ensure_ascii=False)}")
    return "\n".join(lines) + "\n\n" + run_report.plan_text
