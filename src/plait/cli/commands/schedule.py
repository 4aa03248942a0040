"""``plait schedule``, and what it prints."""

from __future__ import annotations

import argparse
import json
from collections.abc import Iterator, Sequence
from datetime import datetime
from pathlib import Path
from typing import Any

from rich.table import Table as Grid
from rich.text import Text

from plait._version import __version__
from plait.cli.terminal import escape_unprintable, make_console
from plait.core.base.errors import UsageError
from plait.core.base.findings import pluralize
from plait.plan.file.load import load_plan
from plait.plan.runs.history import current_time, format_timestamp
from plait.plan.schedule.cron_times import (
    CronExpression,
    daily,
    monthly,
    next_run_times,
    parse_cron,
    weekly,
)
from plait.plan.schedule.scheduled_job import ScheduleEntry, make_job
from plait.plan.schedule.scheduler import (
    SCHEDULERS,
    format_run_times,
    last_run,
    list_scheduled,
    next_run,
    remove,
    scheduler,
)
from plait.report.document import Fact

HELP = {
    "description": (
        "Run a plan at set times with the system's own scheduler: a crontab line, a "
        "systemd timer or a Windows task. Without --install, print what would be "
        "installed. Without a plan, list the scheduled plans with their last and "
        "next run."
    ),
    "epilog": "examples:\n  plait schedule season.toml --daily 06:00\n"
    "  plait schedule season.toml --monthly 1 06:00 --install\n"
    "  plait schedule season.toml --every '*/15 8-17 * * 1-5'\n"
    "  plait schedule season.toml --remove\n  plait schedule",
}
_SHOWN = 3


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The options of the command."""
    parser.add_argument("plan", type=Path, nargs="?", metavar="PLAN", help="the plan file (TOML)")
    times = parser.add_argument_group("time of the runs")
    times.add_argument("--daily", metavar="HH:MM", help="every day")
    times.add_argument(
        "--weekly", nargs=2, metavar=("DAY", "HH:MM"), help="every week on mon, tue, …"
    )
    times.add_argument("--monthly", nargs=2, metavar=("N", "HH:MM"), help="every month on day N")
    times.add_argument(
        "--every",
        metavar="FIELDS",
        help="the five fields of crontab: minute, hour, day of the month, month, day of the week",
    )
    parser.add_argument(
        "--set",
        action="append",
        default=[],
        metavar="NAME=VALUE",
        help="the value of a plan parameter, used in every run",
    )
    parser.add_argument(
        "--with",
        dest="scheduler",
        choices=tuple(SCHEDULERS),
        help="the scheduler to use (default: the first one available)",
    )
    parser.add_argument("--install", action="store_true", help="install the schedule")
    parser.add_argument("--remove", action="store_true", help="remove the plan's schedule")
    parser.add_argument("--json", action="store_true", help="print the summary as JSON")
    parser.add_argument("--quiet", action="store_true", help="show only errors")
    parser.add_argument("--verbose", action="store_true", help="show more upcoming runs")


def run(options: argparse.Namespace) -> int:
    """Carry it out; the exit status."""
    asked = [one for one in ("daily", "weekly", "monthly", "every") if getattr(options, one)]
    _check(options, asked)
    if options.plan is None:
        return _list(options)
    if options.remove:
        return _remove(options)
    return _set(options, _when(options))


def _check(options: argparse.Namespace, asked: list[str]) -> None:
    if options.plan is None and (asked or options.install or options.remove or options.set):
        raise UsageError("no plan named", remedy="plait schedule PLAN --daily 06:00")
    if len(asked) > 1:
        raise UsageError(f"use --{asked[0]} or --{asked[1]}, not both")
    if options.remove and (asked or options.install):
        raise UsageError("--remove cannot be combined with a time or with --install")
    if options.plan is not None and not asked and not options.remove:
        raise UsageError(
            "no time given for the runs",
            str(options.plan),
            "--daily 06:00, --weekly mon 06:00, --monthly 1 06:00, or --every 'FIELDS'",
        )


def _when(options: argparse.Namespace) -> CronExpression:
    if options.daily:
        return daily(options.daily)
    if options.weekly:
        return weekly(*options.weekly)
    return monthly(*options.monthly) if options.monthly else parse_cron(options.every)


def _set(options: argparse.Namespace, when: CronExpression) -> int:
    """Show what would be set, or set it."""
    load_plan(options.plan, options.set)
    more = [word for s in options.set for word in ("--set", s)]
    job, by = make_job(options.plan, when, more), scheduler(options.scheduler)
    text, done = by.schedule_text(job), by.install(job) if options.install else ""
    moments = next_run_times(when, current_time(), _SHOWN + 7 * options.verbose)
    if options.json:
        payload = {
            "plan": str(job.plan),
            "when": str(when),
            "by": by.NAME,
            "text": text,
            "installed": bool(done),
            "next": [moment.isoformat() for moment in moments],
        }
        _print(payload)
        return 0
    if not options.quiet:
        from plait.cli.terminal import print_summary

        print_summary(_answer(options, when, done, format_run_times(moments)))
    if not options.install:
        print(text, end="" if text.endswith("\n") else "\n")
    return 0


def _answer(
    options: argparse.Namespace, when: CronExpression, done: str, moments: str
) -> Iterator[str | Fact]:
    yield f"{options.plan}: {when.words}" + (f"; set {done}" if done else "")
    yield Fact("next", moments)
    yield Fact("log", f"{options.plan.with_suffix('.log')}, kept to 1 MB")
    if not done:
        yield "not scheduled yet; to schedule it as shown below: --install"


def _remove(options: argparse.Namespace) -> int:
    had = remove(options.plan)
    if options.json:
        _print({"plan": str(options.plan), "removed": had})
    elif not options.quiet:
        from plait.cli.terminal import print_summary

        text = f"is no longer scheduled; removed from {', '.join(had)}"
        print_summary([f"{options.plan} {text if had else 'was not scheduled'}"])
    return 0


def _list(options: argparse.Namespace) -> int:
    """The plans that run by themselves, with last and next run."""
    moment, found = current_time(), list_scheduled()
    if options.json:
        _print({"scheduled": [_scheduled(f, moment) for f in found]})
        return 0
    if not options.quiet:
        from plait.cli.terminal import print_summary, print_to_stdout

        with print_to_stdout():
            print_summary(
                [
                    _how_many(found),
                    *([] if found else [Fact("next", "plait schedule PLAN --daily 06:00")]),
                ]
            )
            print_schedule(
                [
                    (
                        str(one.plan or one.mark),
                        str(one.when or "?"),
                        f"{format_timestamp(last.started)} {last.status}" if last else "not yet",
                        format_run_times([then]) if (then := next_run(one, moment)) else "·",
                    )
                    for one in found
                    for last in [last_run(one)]
                ]
            )
    return 0


def _how_many(schedule_entries: list[ScheduleEntry]) -> str:
    if not schedule_entries:
        return "no plan is scheduled"
    by = " and ".join(sorted({schedule_entry.by for schedule_entry in schedule_entries}))
    return f"{pluralize(len(schedule_entries), 'plan')} scheduled with {by}"


def _scheduled(schedule_entry: ScheduleEntry, moment: datetime) -> dict[str, Any]:
    last, then = last_run(schedule_entry), next_run(schedule_entry, moment)
    return {
        "plan": str(schedule_entry.plan) if schedule_entry.plan else None,
        "mark": schedule_entry.mark,
        "by": schedule_entry.by,
        "when": str(schedule_entry.when) if schedule_entry.when else None,
        "last": {"run": last.run, "started": last.started, "status": last.status} if last else None,
        "next": then.isoformat() if then else None,
    }


def _print(said: dict[str, Any]) -> None:
    whole = {"command": "schedule", "version": __version__, **said}
    print(json.dumps(whole, indent=2, ensure_ascii=False))


def print_schedule(plans: Sequence[tuple[str, str, str, str]]) -> None:
    """A line a plan: the file, the fields of crontab, last and next run."""
    if not plans:
        return
    grid = Grid(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="dim")
    grid.add_column("plan", overflow="fold", ratio=1)
    for head in ("when", "last run", "next run"):
        grid.add_column(head, no_wrap=True)
    for plan, *others in plans:
        grid.add_row(Text(escape_unprintable(plan)), *map(escape_unprintable, others))
    out = make_console()
    out.print()
    out.print(grid)
