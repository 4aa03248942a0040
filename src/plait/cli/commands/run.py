"""``plait run``."""

from __future__ import annotations

import argparse
from dataclasses import replace
from pathlib import Path
from shlex import quote

from plait.cli.common_options import (
    add_figure_argument,
    add_job_arguments,
    add_plan_arguments,
    add_plan_message_arguments,
    check_figure_target,
    write_figure,
)
from plait.cli.deliver import report_waiting_for_pipes
from plait.cli.progress import Progress
from plait.cli.terminal import append_to_log
from plait.core.base.findings import pluralize
from plait.io.delivery.delivery import Delivery
from plait.io.places.address import is_address
from plait.plan.execution.resolve_sources import source_paths
from plait.plan.handover.make_report import make_run_report
from plait.plan.handover.read import handover_folder
from plait.plan.run import ExpectationsNotMetError, NothingNew, RunResult, run_plan
from plait.plan.runs.history import format_timestamp
from plait.report.document import MOST_FINDINGS, Document, Expectations, Fact, Findings, Ledger
from plait.report.run_report import run_report_json

HELP = {
    "description": (
        "Run a plan: read its sources once, perform its steps, check its "
        "expectations, and hand over the dataset with report, ledger, set-aside "
        "rows, dictionary and lineage. The folder is written completely or not at "
        "all."
    ),
    "epilog": "examples:\n  plait run season.toml\n  plait run season.toml --set month=2031-04 "
    "--replace",
}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The options of the command."""
    add_plan_arguments(parser)
    parser.add_argument(
        "--replace",
        action="store_true",
        help="replace an earlier handover",
    )
    parser.add_argument(
        "--again",
        action="store_true",
        help="carry it out even though nothing is new since the last run",
    )
    parser.add_argument(
        "--accept-change",
        action="store_true",
        help="accept every change since the last run, this once: the limits of [expect] change "
        "are not checked",
    )
    parser.add_argument(
        "--discard-added",
        action="store_true",
        help="also delete files that someone added to the earlier handover",
    )
    parser.add_argument(
        "--no-wait",
        action="store_true",
        help="stop at once if another run of this plan is in progress (default: wait)",
    )
    parser.add_argument(
        "--log",
        type=Path,
        metavar="FILE",
        help="append all messages to a log file, kept to 1 MB",
    )
    add_figure_argument(parser)
    add_plan_message_arguments(parser)
    add_job_arguments(parser)


def run(options: argparse.Namespace) -> int:
    """Carry it out; the exit status."""
    with append_to_log(options.log, f"plait run {options.plan}"):
        return _run(options)


def _run(options: argparse.Namespace) -> int:
    delivery = Delivery([str(options.plan)], options.replace)
    check_figure_target(options, delivery)
    try:
        with Progress(not options.quiet) as progress:
            ran = run_plan(
                options.plan,
                options.set,
                progress,
                options.replace,
                options.fail_on,
                accept_change=options.accept_change,
                discard_added=options.discard_added,
                again=options.again or options.discard_added or options.figure is not None,
                wait=not options.no_wait,
                waiting=_say_waiting,
                before=lambda p: report_waiting_for_pipes(source_paths(p)),
            )
            if isinstance(ran, RunResult):
                with delivery:
                    if options.figure:
                        from plait.report.drawing.plan_diagram import write_plan_figure

                        write_figure(write_plan_figure, ran.story, options, delivery)
    except ExpectationsNotMetError as refused:
        _show_refusal(refused, options)
        raise
    if not options.quiet:
        from plait.cli.document_view import print_document

        document = _document(ran) if isinstance(ran, RunResult) else _nothing_new(ran, options.plan)
        print_document(document, options.verbose)
    if options.json:
        print(run_report_json(ran.story) if isinstance(ran, RunResult) else ran.standing.account)
    return 0


def _nothing_new(ran: NothingNew, plan: Path) -> Document:
    """Nothing is new: what stands, and what was looked at."""
    standing, made = ran.standing, ran.standing.made
    size = f"{pluralize(made.rows or 0, 'row')}, {made.columns or 0} columns"
    how = f" ({pluralize(standing.hashed, 'file')} by checksum)" if standing.hashed else ""
    looked = f"{pluralize(standing.sources, 'source')}{how}, plan, parameters, version"
    return Document(
        (f"nothing new: {standing.folder}/{standing.dataset} stands, {size}",),
        (
            Fact("made by", f"run {made.run}, {format_timestamp(made.started)}"),
            Fact("as they were", looked),
            Fact("the report", f"{standing.folder}/report.html"),
            Fact("run it anyway", f"plait run {quote(str(plan))} --again --replace"),
        ),
        (Findings(ran.findings, MOST_FINDINGS),),
    )


def _say_waiting(who: str) -> None:
    from plait.cli.terminal import print_line

    print_line(f"plait: waiting for another run of this plan to finish: {who}")


def _show_refusal(refused: ExpectationsNotMetError, options: argparse.Namespace) -> None:
    """What was expected and does not hold, and what was found."""
    from plait.cli.document_view import print_document

    if not options.quiet:
        word = "finding" if refused.findings else "expectation"
        prevented = f"{pluralize(refused.in_the_way, word)} prevented it"
        document = Document(
            (f"nothing was handed over: {prevented}",),
            tuple(refused.since.facts()) if refused.since else (),
            (
                Expectations(tuple(refused.expected)),
                Findings(tuple(refused.worked.findings), MOST_FINDINGS),
            ),
        )
        print_document(document, options.verbose)
    if options.json:
        run_report = make_run_report(refused.worked, refused.expected, {})
        print(run_report_json(replace(run_report, changes=refused.since)))


def _document(ran: RunResult) -> Document:
    worked, story = ran.worked, ran.story
    folder = handover_folder(worked.plan)
    outputs = story.account.outputs
    size = f"{pluralize(story.rows, 'row')}, {len(story.contents)} columns"
    rows = f"{pluralize(story.left_out, 'row')}, listed in {folder}/aside/"
    facts = [*story.facts(), Fact("set aside", rows)]
    tables = [output for output in outputs if is_address(output.path)]
    if tables:
        beside = pluralize(len(tables) - 1, "table")
        more = f", and {beside} next to it" if tables[1:] else ""
        rows = pluralize(tables[0].rows, "row")
        facts.append(Fact("in database", f"{tables[0].path}, {rows}{more}"))
    facts += [
        Fact("the report", f"{folder}/report.html"),
        Fact("trace", f"plait trace {folder} --row 1"),
    ]
    return Document(
        (f"{folder}/{outputs[0].path}: {size}",),
        tuple(facts),
        (
            Ledger(tuple(worked.entries), flow=True),
            Expectations(tuple(story.expected)),
            Findings((*ran.findings, *story.account.findings), MOST_FINDINGS),
        ),
    )
