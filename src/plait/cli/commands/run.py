"""``plait run``."""

from __future__ import annotations

import argparse
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

from plait.cli.figures import add_figure, check_figure, write_figure
from plait.cli.handing import tell_waiting
from plait.cli.log import logged
from plait.cli.options import add_plan, add_plan_telling
from plait.cli.progress import Progress
from plait.cli.working import add_work
from plait.core.account.finding import counted
from plait.formats.delivery.delivery import Delivery
from plait.formats.places.address import is_address
from plait.plan.handing.handover import folder_of
from plait.plan.handing.telling import story_of
from plait.plan.run import NotMetError, Ran
from plait.plan.run import run as run_plan
from plait.plan.work.intake import paths_of
from plait.plan.work.work import Worked
from plait.report.drawn.plan import write_plan_figure
from plait.report.story import Story, story_json

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
    add_plan(parser)
    parser.add_argument(
        "--replace",
        action="store_true",
        help="replace an earlier handover",
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
    add_figure(parser)
    add_plan_telling(parser)
    add_work(parser)


def run(options: argparse.Namespace) -> int:
    """Carry it out; the exit status."""
    with logged(options.log, f"plait run {options.plan}"):
        return _run(options)


def _run(options: argparse.Namespace) -> int:
    delivery = Delivery([str(options.plan)], options.replace)
    check_figure(options, delivery)
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
                wait=not options.no_wait,
                waiting=_say_waiting,
                before=lambda loaded: tell_waiting(paths_of(loaded)),
            )
            with delivery:
                write_figure(write_plan_figure, ran.story, options, delivery)
    except NotMetError as refused:
        _show_refusal(refused, options)
        raise
    if not options.quiet:
        _show(ran, options.verbose)
    if options.json:
        print(story_json(ran.story))
    return 0


def _say_waiting(who: str) -> None:
    from plait.cli.views.show import say

    say(f"plait: waiting for another run of this plan to finish: {who}")


def _show_refusal(refused: NotMetError, options: argparse.Namespace) -> None:
    """What was expected and does not hold, and what was found."""
    from plait.cli.views.plan import MOST_FINDINGS
    from plait.cli.views.show import show_answer, show_expected, show_findings

    if not options.quiet:
        word = "finding" if refused.findings else "expectation"
        new = refused.since.answer() if refused.since else ()
        show_answer(
            [f"nothing was handed over: {counted(refused.in_the_way, word)} prevented it", *new]
        )
        show_expected(refused.expected, options.verbose)
        show_findings(refused.worked.findings, options.verbose, MOST_FINDINGS)
    if options.json:
        story = story_of(refused.worked, refused.expected, {})
        print(story_json(replace(story, since=refused.since)))


def _show(ran: Ran, verbose: bool) -> None:
    from plait.cli.views.plan import MOST_FINDINGS, show_flow
    from plait.cli.views.show import show_answer, show_expected, show_findings, show_ledger

    worked, story = ran.worked, ran.story
    show_answer([*_answer(worked, story)])
    if verbose:
        show_ledger(worked.entries)
    else:
        show_flow(worked.entries)
    show_expected(story.expected, verbose)
    show_findings((*ran.findings, *story.account.findings), verbose, MOST_FINDINGS)


def _answer(worked: Worked, story: Story) -> Iterator[str]:
    folder = folder_of(worked.loaded)
    out = story.left_out
    dataset = story.account.outputs[0].path
    yield f"{folder}/{dataset}: {counted(story.rows, 'row')}, {len(story.contents)} columns"
    yield from (line for line in story.answer()[1:] if not line.startswith("expected"))
    yield f"set aside:   {counted(out, 'row')}, listed in {folder}/aside/"
    tables = [one for one in story.account.outputs if is_address(one.path)]
    if tables:
        beside = counted(len(tables) - 1, "table")
        more = f", and {beside} beside it" if tables[1:] else ""
        yield f"in database: {tables[0].path}, {counted(tables[0].rows, 'row')}{more}"
    yield f"the report:  {folder}/report.html"
    yield f"trace:       plait trace {folder} --row 1"
