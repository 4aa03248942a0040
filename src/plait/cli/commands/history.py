"""``plait history``."""

from __future__ import annotations

import argparse
import json
from collections.abc import Iterator, Sequence
from pathlib import Path
from shlex import quote

from plait._version import __version__
from plait.cli.arguments import whole_number
from plait.core.account.finding import counted
from plait.plan.file.place import plan_file
from plait.plan.runs.clock import day_and_time
from plait.plan.runs.history import history_file, read_history, run_of
from plait.plan.runs.record import Record, as_dict, last_good

HELP = {
    "description": (
        "List every run of a plan, successful or not: when it ran, how it ended, "
        "how long it took, who ran it, and its figures. The history is a JSON lines "
        "file next to the plan; you can use it as a source."
    ),
    "epilog": "examples:\n  plait history season.toml\n  plait history season.toml --run 12\n"
    "  plait group season.history.jsonl --by status --take runs=count",
}
MOST_RUNS = 12


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The options of the command."""
    parser.add_argument("plan", type=Path, metavar="PLAN", help="the plan file (TOML)")
    parser.add_argument("--run", type=whole_number, metavar="N", help="show run number N in full")
    parser.add_argument(
        "--last",
        type=whole_number,
        metavar="N",
        default=MOST_RUNS,
        help=f"show the last N runs (default: {MOST_RUNS})",
    )
    parser.add_argument("--json", action="store_true", help="print the runs as JSON")
    parser.add_argument("--quiet", action="store_true", help="show only errors")
    parser.add_argument(
        "--verbose", action="store_true", help="also show users, machines and versions"
    )


def run(options: argparse.Namespace) -> int:
    """Carry it out; the exit status."""
    plan = plan_file(options.plan)
    records = read_history(plan)
    if options.run is not None:
        shown: Sequence[Record] = [run_of(plan, options.run)]
    else:
        shown = records[max(0, len(records) - options.last) :]
    if options.json:
        said = {
            "command": "history",
            "version": __version__,
            "plan": str(plan),
            "history": str(history_file(plan)),
            "runs": [as_dict(one) for one in shown],
        }
        print(json.dumps(said, indent=2, ensure_ascii=False))
    elif not options.quiet:
        from plait.cli.views.history import show_run, show_runs
        from plait.cli.views.show import for_reading, show_answer

        with for_reading():
            if options.run is not None:
                show_run(shown[0])
            else:
                show_answer(_answer(plan, records))
                show_runs(shown, options.verbose)
    return 0


def _answer(plan: Path, records: Sequence[Record]) -> Iterator[str]:
    if not records:
        yield f"{plan.name} has not been run yet"
        yield f"next:        plait run {quote(str(plan))}"
        return
    last, good = records[-1], last_good(records)
    bad = sum(not one.good for one in records)
    how = f"{bad:,} of them without a handover" if bad else "each with a handover"
    yield f"{plan.name}: {counted(len(records), 'run')}, {how}"
    yield f"the last:    {_said(last)}"
    if good is not None and good is not last:
        yield f"last good:   {_said(good)}"
    yield f"one run:     plait history {quote(str(plan))} --run {last.run}"


def _said(one: Record) -> str:
    rows = f", {counted(one.rows, 'row')}" if one.rows is not None else ""
    return f"run {one.run}, {day_and_time(one.started)}, {one.status} in {one.seconds:,.1f} s{rows}"
