"""Which scheduler a system has, and what it has of ours."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime
from pathlib import Path
from types import ModuleType

from plait.core.account.errors import PlaitError
from plait.plan.runs.history import read_history
from plait.plan.runs.record import Record
from plait.plan.schedule import cron, systemd, windows
from plait.plan.schedule.job import mark_of
from plait.plan.schedule.scheduled import Scheduled
from plait.plan.schedule.times import first_runs

SCHEDULERS: dict[str, ModuleType] = {one.NAME: one for one in (windows, cron, systemd)}


def scheduler(name: str | None = None) -> ModuleType:
    """The scheduler of that name, or the first that this system has; without any, cron."""
    if name is not None:
        return SCHEDULERS[name]
    return next((one for one in SCHEDULERS.values() if one.is_there()), cron)


def everything() -> list[Scheduled]:
    """The plans that run by themselves, by whichever scheduler."""
    return [plan for one in SCHEDULERS.values() if one.is_there() for plan in one.scheduled()]


def remove(plan: Path) -> list[str]:
    """Have a plan not run by itself any more; the schedulers that had it."""
    mark = mark_of(plan.resolve())
    return [one.NAME for one in SCHEDULERS.values() if one.is_there() and one.remove(mark)]


def last_run(one: Scheduled) -> Record | None:
    """The last run of a plan, as its history has it."""
    if one.plan is None or not one.plan.is_file():
        return None
    try:
        records = read_history(one.plan)
    except PlaitError:
        return None
    return records[-1] if records else None


def next_run(one: Scheduled, moment: datetime) -> datetime | None:
    """When it runs next."""
    return next(iter(first_runs(one.when, moment, 1)), None) if one.when else None


def runs_shown(moments: Iterator[datetime] | list[datetime]) -> str:
    """Times as people read them.

    >>> runs_shown([datetime(2031, 5, 3, 6, 0)])
    'Sat 2031-05-03 06:00'
    """
    return ", ".join(one.strftime("%a %Y-%m-%d %H:%M") for one in moments)
