"""``plait check``."""

from __future__ import annotations

import argparse
import json
from dataclasses import asdict
from pathlib import Path
from typing import Any

from plait._version import __version__
from plait.cli.common_options import (
    add_job_arguments,
    add_plan_arguments,
    add_plan_message_arguments,
)
from plait.cli.deliver import check_report_target, report_waiting_for_pipes, write_report
from plait.cli.progress import Progress
from plait.core.base.errors import ExpectationError
from plait.core.base.findings import matching_findings, pluralize
from plait.io.delivery.delivery import Delivery
from plait.plan.check import PlanForecast, forecast_plan
from plait.plan.execution import resolve_sources
from plait.plan.execution.execute import PlanExecution, execute_plan, open_plan_job
from plait.plan.execution.expectations import judge_plan_expectations
from plait.plan.file.load import load_plan
from plait.plan.handover.make_report import summarize_sources
from plait.report.account import finding_dict
from plait.report.document import (
    MOST_FINDINGS,
    Document,
    ExpectationResult,
    Expectations,
    Findings,
    Ledger,
    Steps,
)
from plait.report.numbers import format_bytes

HELP = {
    "description": (
        "Read a plan and its sources, and show what a run would do: each step with "
        "its columns, types, exact number of rows and findings; whether the "
        "expectations are met; and how long a run would take. Nothing is written."
    ),
    "epilog": "example:\n  plait check season.toml",
}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The options of the command."""
    add_plan_arguments(parser)
    parser.add_argument(
        "--explain",
        action="store_true",
        help="tell the plan in plain sentences, step by step, for somebody who never saw one",
    )
    parser.add_argument(
        "--report",
        type=Path,
        metavar="FILE",
        help="write the plan in sentences as an HTML page (.html) or as Markdown (.md)",
    )
    parser.add_argument("--replace", action="store_true", help="overwrite existing files")
    add_plan_message_arguments(parser)
    add_job_arguments(parser)


def run(options: argparse.Namespace) -> int:
    """Carry it out; the exit status."""
    plan = load_plan(options.plan, options.set)
    delivery = Delivery([str(options.plan)], options.replace)
    check_report_target(options, delivery)
    report_waiting_for_pipes(resolve_sources.source_paths(plan))
    with open_plan_job(plan), Progress(not options.quiet) as progress:
        plan_execution = execute_plan(plan, resolve_sources.find_plan_sources(plan), progress)
        with progress.phase("checking expectations"):
            expected = judge_plan_expectations(plan_execution)
        with progress.phase("detecting types"):
            foreseen = forecast_plan(plan_execution)
        told = None
        if options.report or options.explain:
            from plait.plan.explain import explanation

            told = explanation(plan_execution, expected)
        if told and options.report:
            with delivery:
                _write_report(told, options, delivery)
    if not options.quiet:
        from plait.cli.document_view import print_document
        from plait.cli.terminal import print_to_stdout

        with print_to_stdout(aside=options.json):
            shown = told if told and options.explain else _document(foreseen, expected)
            print_document(shown, options.verbose)
    if options.json:
        print(
            json.dumps(
                _forecast_dict(plan_execution, foreseen, expected, options.explain),
                indent=2,
                ensure_ascii=False,
            )
        )
    failing = [e for e in expected if not e.holds]
    failing_findings = matching_findings(plan_execution.findings, options.fail_on)
    if failing or failing_findings:
        not_met = f"{pluralize(len(failing), 'expectation')} not met"
        named = f"{pluralize(len(failing_findings), 'finding')} named by --fail-on"
        raise ExpectationError(f"a run would hand over nothing: {not_met if failing else named}")
    return 0


def _write_report(told: Document, options: argparse.Namespace, delivery: Delivery) -> None:
    """Write the plan in sentences, as a page or as Markdown."""
    from plait.report.html.pages import explained_page

    write_report(options, delivery, "plan", lambda: explained_page(told), lambda: told)


def _forecast_dict(
    plan_execution: PlanExecution,
    foreseen: PlanForecast,
    expected: list[ExpectationResult],
    explain: bool,
) -> dict[str, Any]:
    """The account as plain dictionaries and lists."""
    from plait.plan.explain import explain_plan

    parts = [asdict(part) for part in explain_plan(plan_execution, expected)] if explain else []
    return {
        "command": "check",
        "version": __version__,
        "sources": [asdict(source) for source in summarize_sources(plan_execution, {})],
        **asdict(foreseen),
        "findings": [finding_dict(finding) for finding in foreseen.findings],
        "expected": [asdict(e) for e in expected],
        "outputs": [],
        **({"explained": parts} if explain else {}),
    }


def _document(foreseen: PlanForecast, expected: list[ExpectationResult]) -> Document:
    failing = sum(not e.holds for e in expected)
    every = pluralize(len(expected), "expectation")
    refused = f"a run would hand over nothing: {failing} of {every} not met"
    memory = f" and {format_bytes(foreseen.memory)} of memory" if foreseen.memory else ""
    return Document(
        (
            refused if failing else foreseen.answer,
            f"a run takes about {foreseen.seconds:,.0f} s{memory}, as measured by this check",
            *(
                finding.message
                for finding in foreseen.findings
                if finding.code == "fetched-in-part"
            ),
        ),
        (),
        (
            Steps(tuple(foreseen.steps)),
            Ledger(tuple(foreseen.ledger), flow=True),
            Expectations(tuple(expected)),
            Findings(tuple(foreseen.findings), MOST_FINDINGS),
        ),
    )
