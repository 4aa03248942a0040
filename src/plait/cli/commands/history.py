"""``plait history``, and what it prints."""

from __future__ import annotations

import argparse
import json
from collections.abc import Iterator, Sequence
from operator import attrgetter
from pathlib import Path
from shlex import quote

from rich.padding import Padding
from rich.table import Table as Grid
from rich.text import Text

from plait._version import __version__
from plait.cli.arguments import parse_whole_number
from plait.cli.terminal import escape_unprintable, make_console, print_summary, render_bar
from plait.core.base.findings import pluralize
from plait.plan.file.plan_text import check_plan_path
from plait.plan.runs.history import (
    FIGURES,
    NEW,
    RunRecord,
    find_run,
    format_timestamp,
    history_file,
    last_successful_run,
    read_history,
    record_to_dict,
)
from plait.report.numbers import format_bytes

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

_BAR = 6
_STATUS_SYMBOLS = {
    "done": ("● done", "blue"),
    "running": ("… running", "bold"),
    "refused": ("○ refused", "yellow"),
    "failed": ("✗ failed", "magenta"),
    "interrupted": ("✗ interrupted", "magenta"),
    "killed": ("✗ killed", "magenta"),
}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The options of the command."""
    parser.add_argument("plan", type=Path, metavar="PLAN", help="the plan file (TOML)")
    parser.add_argument(
        "--run", type=parse_whole_number, metavar="N", help="show run number N in full"
    )
    parser.add_argument(
        "--last",
        type=parse_whole_number,
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
    plan = check_plan_path(options.plan)
    records = read_history(plan)
    if options.run is not None:
        shown: Sequence[RunRecord] = [find_run(plan, options.run)]
    else:
        shown = records[max(0, len(records) - options.last) :]
    if options.json:
        payload = {
            "command": "history",
            "version": __version__,
            "plan": str(plan),
            "history": str(history_file(plan)),
            "runs": [record_to_dict(s) for s in shown],
        }
        print(json.dumps(payload, indent=2, ensure_ascii=False))
    elif not options.quiet:
        from plait.cli.terminal import print_summary, print_to_stdout

        with print_to_stdout():
            if options.run is not None:
                print_run(shown[0])
            else:
                print_summary(_summarize_history(plan, records))
                print_history(shown, options.verbose)
    return 0


def _summarize_history(plan: Path, records: Sequence[RunRecord]) -> Iterator[str]:
    if not records:
        yield f"{plan.name} has not been run yet"
        yield f"next:        plait run {quote(str(plan))}"
        return
    last, good = records[-1], last_successful_run(records)
    bad = sum(not record.good for record in records)
    how = f"{bad:,} of them without a handover" if bad else "each with a handover"
    yield f"{plan.name}: {pluralize(len(records), 'run')}, {how}"
    yield f"the last:    {_describe_run(last)}"
    if good is not None and good is not last:
        yield f"last good:   {_describe_run(good)}"
    yield f"one run:     plait history {quote(str(plan))} --run {last.run}"


def _describe_run(run_record: RunRecord) -> str:
    rows = f", {pluralize(run_record.rows, 'row')}" if run_record.rows is not None else ""
    moment = format_timestamp(run_record.started)
    return (
        f"run {run_record.run}, {moment}, {run_record.status} in {run_record.seconds:,.1f} s{rows}"
    )


def print_history(records: Sequence[RunRecord], verbose: bool) -> None:
    """The runs, the last one at the bottom, with the course of three figures as bars."""
    if not records:
        return
    out = make_console()
    grid = Grid(box=None, pad_edge=False, padding=(0, 1, 0, 0), header_style="dim")
    grid.add_column("run", justify="right")
    grid.add_column("when", no_wrap=True)
    grid.add_column("ended", no_wrap=True)
    for head in ("rows", "unmatched", "seconds"):
        grid.add_column(head, justify="right", no_wrap=True)
        grid.add_column("", no_wrap=True)
    more = ("new", "gone", "changed") if out.width > 90 else ()
    for head in more:
        grid.add_column(head, justify="right", no_wrap=True)
    for head in ("by", "on", "with") if verbose else ():
        grid.add_column(head, no_wrap=True)
    most = [
        max((value for one in records if (value := of(one)) is not None), default=0)
        for of in _FIGURES
    ]
    for record in records:
        sign, style = _STATUS_SYMBOLS[record.status]
        cells: list[str | Text] = [
            str(record.run),
            format_timestamp(record.started),
            Text(sign, style),
        ]
        for of, top in zip(_FIGURES, most, strict=True):
            value = of(record)
            cells += [
                _number(value),
                render_bar(value or 0, top, "blue" if record.good else "dim", _BAR),
            ]
        cells += [_number(getattr(record, f"rows_{head}")) for head in more]
        cells += [escape_unprintable(text) for text in _whose(record)] if verbose else []
        grid.add_row(*cells)
    out.print()
    out.print(grid)
    failed = [r for r in records if r.failed]
    if failed:
        out.print()
    for one in failed[-3:]:
        out.print(
            Text(escape_unprintable(f"run {one.run}: {one.failed.get('what', '')}"), style="dim")
        )


_FIGURES = (attrgetter("rows"), attrgetter("unmatched"), attrgetter("seconds"))


def _whose(run_record: RunRecord) -> tuple[str, str, str]:
    return run_record.user, run_record.machine, run_record.version


def _number(value: float | None) -> str:
    """A figure, or a dot where there is none.

    >>> _number(1250), _number(4.25), _number(None)
    ('1,250', '4.2', '·')
    """
    if value is None:
        return "·"
    return f"{value:,}" if isinstance(value, int) else f"{value:,.1f}"


def print_run(run_record: RunRecord) -> None:
    """All that is known of one run."""
    out = make_console()
    print_summary(_summarize_run(run_record))
    grid = Grid(box=None, show_header=False, pad_edge=False, padding=(0, 2, 0, 0))
    grid.add_column(style="dim")
    grid.add_column(justify="right")
    for name in (*FIGURES, *NEW):
        if getattr(run_record, name) is not None:
            grid.add_row(name.replace("_", " "), _number(getattr(run_record, name)))
    if grid.row_count:
        out.print()
        out.print(Padding(grid, (0, 0, 0, 2)))
    if run_record.sources:
        out.print()
        out.print(Text("sources of this run", style="bold"))
        out.print(Padding(_sources(run_record), (0, 0, 0, 2)))


def _summarize_run(run_record: RunRecord) -> Iterator[str]:
    moment = format_timestamp(run_record.started)
    yield f"run {run_record.run}: {run_record.status}, {moment}, {run_record.seconds:,.1f} s"
    for name in ("what", "where", "remedy"):
        if run_record.failed.get(name):
            yield f"{name + ':':<12} {run_record.failed[name]}"
    yield f"run by:      {run_record.user} on {run_record.machine}, with Plait {run_record.version}"
    if run_record.parameters:
        text = ", ".join(f"{name} = {value}" for name, value in run_record.parameters.items())
        yield f"parameters:  {text}"
    if run_record.handover:
        yield f"handover:    {run_record.handover}"
    for sent in run_record.notices:
        how = f"not sent: {sent.get('failed')}" if sent.get("failed") else "sent"
        yield f"notice:      {sent.get('way')} to {sent.get('to')}, {how}"


def _sources(run_record: RunRecord) -> Grid:
    grid = Grid(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="dim")
    grid.add_column("file", overflow="fold", ratio=1)
    for head in ("rows", "size", "sha256"):
        grid.add_column(head, justify="right", no_wrap=True)
    for source in run_record.sources:
        size = format_bytes(source.get("bytes") or 0)
        sum_ = str(source.get("sha256") or "")[:12]
        rows = pluralize(source.get("rows") or 0, "row").split()[0]
        grid.add_row(Text(escape_unprintable(str(source.get("path", "")))), rows, size, sum_)
    return grid
