"""``plait check``."""

from __future__ import annotations

import argparse
import json
from dataclasses import asdict
from typing import Any

from plait._version import __version__
from plait.cli.handing import tell_waiting
from plait.cli.options import add_plan, add_plan_telling
from plait.cli.progress import Progress
from plait.cli.working import add_work
from plait.core.account.errors import ExpectationError
from plait.core.account.finding import counted, standing
from plait.plan.check import Foreseen, check
from plait.plan.file.load import load_plan
from plait.plan.handing.telling import sources_of
from plait.plan.work import intake
from plait.plan.work.expect import expectations
from plait.plan.work.room import planned_room
from plait.plan.work.work import Worked, work
from plait.report.account import finding_dict
from plait.report.figures import bytes_shown
from plait.report.story import Expected

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
    add_plan(parser)
    add_plan_telling(parser)
    add_work(parser)


def run(options: argparse.Namespace) -> int:
    """Carry it out; the exit status."""
    loaded = load_plan(options.plan, options.set)
    tell_waiting(intake.paths_of(loaded))
    with planned_room(loaded), Progress(not options.quiet) as progress:
        worked = work(loaded, intake.find(loaded), progress)
        with progress.phase("checking expectations"):
            expected = expectations(worked)
        with progress.phase("detecting types"):
            foreseen = check(worked)
    if not options.quiet:
        from plait.cli.views.show import for_reading

        with for_reading(aside=options.json):
            _show(foreseen, expected, options.verbose)
    if options.json:
        print(json.dumps(_said(worked, foreseen, expected), indent=2, ensure_ascii=False))
    failing = [one for one in expected if not one.holds]
    failing_findings = standing(worked.findings, options.fail_on)
    if failing or failing_findings:
        not_met = f"{counted(len(failing), 'expectation')} not met"
        named = f"{counted(len(failing_findings), 'finding')} named by --fail-on"
        raise ExpectationError(f"a run would hand over nothing: {not_met if failing else named}")
    return 0


def _said(worked: Worked, foreseen: Foreseen, expected: list[Expected]) -> dict[str, Any]:
    """The account as plain dictionaries and lists."""
    return {
        "command": "check",
        "version": __version__,
        "sources": [asdict(one) for one in sources_of(worked, {})],
        **asdict(foreseen),
        "findings": [finding_dict(one) for one in foreseen.findings],
        "expected": [asdict(one) for one in expected],
        "outputs": [],
    }


def _show(foreseen: Foreseen, expected: list[Expected], verbose: bool) -> None:
    from plait.cli.views.plan import MOST_FINDINGS, show_flow, show_steps
    from plait.cli.views.show import show_answer, show_expected, show_findings, show_ledger

    failing = sum(not one.holds for one in expected)
    every = counted(len(expected), "expectation")
    refused = f"a run would hand over nothing: {failing} of {every} not met"
    memory = f" and {bytes_shown(foreseen.memory)} of memory" if foreseen.memory else ""
    show_answer(
        [
            refused if failing else foreseen.answer,
            f"a run takes about {foreseen.seconds:,.0f} s{memory}, as measured by this check",
            *(one.message for one in foreseen.findings if one.code == "fetched-in-part"),
        ]
    )
    show_steps(foreseen.steps)
    if verbose:
        show_ledger(foreseen.ledger)
    else:
        show_flow(foreseen.ledger)
    show_expected(expected, verbose)
    show_findings(foreseen.findings, verbose, MOST_FINDINGS)
