"""Which scheduler a system has, and what it has of ours."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime
from pathlib import Path
from types import ModuleType

from plait.core.base.errors import PlaitError
from plait.plan.runs.history import RunRecord, read_history
from plait.plan.schedule import cron, systemd, windows
from plait.plan.schedule.cron_times import next_run_times
from plait.plan.schedule.scheduled_job import ScheduleEntry, job_id

SCHEDULERS: dict[str, ModuleType] = {one.NAME: one for one in (windows, cron, systemd)}


def scheduler(name: str | None = None) -> ModuleType:
    """The scheduler of that name, or the first that this system has; without any, cron."""
    if name is not None:
        return SCHEDULERS[name]
    return next((v for v in SCHEDULERS.values() if v.is_there()), cron)


def list_scheduled() -> list[ScheduleEntry]:
    """The plans that run by themselves, by whichever scheduler."""
    return [plan for v in SCHEDULERS.values() if v.is_there() for plan in v.scheduled()]


def remove(plan: Path) -> list[str]:
    """Have a plan not run by itself any more; the schedulers that had it."""
    mark = job_id(plan.resolve())
    return [v.NAME for v in SCHEDULERS.values() if v.is_there() and v.remove(mark)]


def last_run(schedule_entry: ScheduleEntry) -> RunRecord | None:
    """The last run of a plan, as its history has it."""
    if schedule_entry.plan is None or not schedule_entry.plan.is_file():
        return None
    try:
        records = read_history(schedule_entry.plan)
    except PlaitError:
        return None
    return records[-1] if records else None


def next_run(schedule_entry: ScheduleEntry, moment: datetime) -> datetime | None:
    """When it runs next."""
    return (
        next(iter(next_run_times(schedule_entry.when, moment, 1)), None)
        if schedule_entry.when
        else None
    )


def format_run_times(moments: Iterator[datetime] | list[datetime]) -> str:
    """Times as people read them.

    >>> format_run_times([datetime(2031, 5, 3, 6, 0)])
    'Sat 2031-05-03 06:00'
    """
    return ", ".join(moment.strftime("%a %Y-%m-%d %H:%M") for moment in moments)
