"""``plait run``."""

from __future__ import annotations

import argparse
from collections.abc import Iterator, Sequence
from pathlib import Path

from plait.cli.options import add_plan, add_plan_telling
from plait.cli.progress import Progress
from plait.core.errors import ExpectationError
from plait.core.finding import counted, standing
from plait.formats.checksum import sums_of
from plait.plan import intake
from plait.plan.expect import expectations
from plait.plan.handover import check_handover, folder_of, hand_over, left_out
from plait.plan.load import load_plan
from plait.plan.telling import story_of
from plait.plan.work import Worked, work
from plait.report.story import Expected, Story, story_json

HELP = {
    "description": "Carry out a plan: read its sources once, do its steps, see that what it "
    "expects holds, and\nhand over the dataset with report, ledger, set-aside rows, dictionary "
    "and lineage. The folder\nis there whole or not at all.",
    "epilog": "examples:\n  plait run season.toml\n  plait run season.toml --set month=2031-04 "
    "--replace",
}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The options of the command."""
    add_plan(parser)
    parser.add_argument(
        "--replace",
        action="store_true",
        help="put the new handover in the place of an earlier one",
    )
    add_plan_telling(parser)


def run(options: argparse.Namespace) -> int:
    """Carry it out; the exit status."""
    loaded = load_plan(options.plan, options.set)
    paths = [one.source.path for one in intake.find(loaded)]
    check_handover(loaded, options.replace, paths)
    with Progress(not options.quiet) as progress:
        sums = sums_of(path for path in paths if Path(path).is_file())
        worked = work(loaded, progress)
        with progress.phase("seeing what is expected"):
            expected = expectations(worked)
        _refuse(worked, expected, options)
        known = {path: one.result() for path, one in sums.items()}
        story = hand_over(worked, expected, known, progress)
    if not options.quiet:
        _show(worked, story, options.verbose)
    if options.json:
        print(story_json(story))
    return 0


def _refuse(worked: Worked, expected: Sequence[Expected], options: argparse.Namespace) -> None:
    """End when something that was expected does not hold, and show what.

    Raises
    ------
    ExpectationError
    """
    failing = [one for one in expected if not one.holds]
    found = standing(worked.findings, options.fail_on)
    if not failing and not found:
        return
    from plait.cli.show import show_answer, show_expected, show_findings
    from plait.cli.showplan import MOST_FINDINGS

    if not options.quiet:
        count = len(failing) or len(found)
        word = "expectation" if failing else "finding"
        show_answer([f"nothing is handed over: {counted(count, word)} in the way"])
        show_expected(expected, options.verbose)
        show_findings(worked.findings, options.verbose, MOST_FINDINGS)
    if options.json:
        print(story_json(story_of(worked, expected, {})))
    if failing:
        what = f"{counted(len(failing), 'expectation')} of {worked.loaded.path.name} not met"
    else:
        codes = ", ".join(dict.fromkeys(one.code for one in found))
        what = f"{counted(len(found), 'finding')} that must not stand: {codes}"
    raise ExpectationError(what, remedy="nothing was handed over")


def _show(worked: Worked, story: Story, verbose: bool) -> None:
    from plait.cli.show import show_answer, show_expected, show_findings, show_ledger
    from plait.cli.showplan import MOST_FINDINGS, show_flow

    show_answer([*_answer(worked, story)])
    if verbose:
        show_ledger(worked.entries)
    else:
        show_flow(worked.entries)
    show_expected(story.expected, verbose)
    show_findings(story.account.findings, verbose, MOST_FINDINGS)


def _answer(worked: Worked, story: Story) -> Iterator[str]:
    folder = folder_of(worked.loaded)
    out = left_out(worked)
    dataset = story.account.outputs[0].path
    yield f"{folder}/{dataset}: {counted(story.rows, 'row')}, {len(story.contents)} columns"
    yield from (line for line in story.answer()[1:] if not line.startswith("expected"))
    yield f"set aside:   {counted(out, 'row')}, listed in {folder}/aside/"
    yield f"the report:  {folder}/report.html"
    yield f"any cell:    plait trace {folder} --row 1"
