"""Plans as tasks of Windows."""

from __future__ import annotations

import subprocess
import sys
from collections.abc import Iterator

from plait.core.base.errors import OutputError, UsageError
from plait.plan.schedule.cron_times import DAYS, CronExpression
from plait.plan.schedule.scheduled_job import ScheduledJob, ScheduleEntry, run_system_command

NAME = "windows"


def is_there() -> bool:
    """Whether this system has it."""
    return sys.platform == "win32"


def schtasks_arguments(job: ScheduledJob) -> list[str]:
    """The command that makes the task.

    >>> from pathlib import Path
    >>> from plait.plan.schedule.cron_times import weekly
    >>> job = ScheduledJob(Path("C:/co-op/season.toml"), weekly("mon", "06:00"), ("C:/plait.exe",))
    >>> schtasks_arguments(job)[3:9]
    ['/TR', 'C:/plait.exe run C:/co-op/season.toml --replace --quiet --log C:/co-op/season.log', \
'/SC', 'WEEKLY', '/D', 'MON']
    """
    command = subprocess.list2cmdline(job.words)
    return ["schtasks", "/Create", "/F", "/TR", command, *_times(job.when), "/TN", job.mark]


def _times(when: CronExpression) -> list[str]:
    """Every day, week or month at a time: a task has no more than that.

    Raises
    ------
    UsageError
    """
    minute, hour, day, month, weekday = when.fields
    if not (minute.isdecimal() and hour.isdecimal() and month == "*"):
        raise UsageError(
            f"the Windows Task Scheduler cannot run {when}", remedy="--daily, --weekly or --monthly"
        )
    clock = ["/ST", f"{int(hour):02}:{int(minute):02}"]
    if weekday.isdecimal() and day == "*":
        return ["/SC", "WEEKLY", "/D", DAYS[int(weekday) % 7].upper(), *clock]
    if day.isdecimal() and weekday == "*":
        return ["/SC", "MONTHLY", "/D", day, *clock]
    if day == weekday == "*":
        return ["/SC", "DAILY", *clock]
    raise UsageError(
        f"the Windows Task Scheduler cannot run {when}", remedy="--daily, --weekly or --monthly"
    )


def schedule_text(job: ScheduledJob) -> str:
    """The command that would be run."""
    return subprocess.list2cmdline(schtasks_arguments(job)) + "\n"


def install(job: ScheduledJob) -> str:
    """Make the task, in the place of an earlier one of that plan; what was done."""
    run_system_command(schtasks_arguments(job))
    return f"as the task {job.mark}"


def remove(mark: str) -> bool:
    """Take away the task of that mark; whether there was one."""
    try:
        run_system_command(["schtasks", "/Delete", "/F", "/TN", mark])
    except OutputError:
        return False
    return True


def scheduled() -> Iterator[ScheduleEntry]:
    """Tasks keep no plan that could be read back: the system's own list has them."""
    return iter(())
