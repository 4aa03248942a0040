"""Plans as tasks of Windows."""

from __future__ import annotations

import subprocess
import sys
from collections.abc import Iterator

from plait.core.account.errors import OutputError, UsageError
from plait.plan.schedule.command import carry_out
from plait.plan.schedule.job import Job
from plait.plan.schedule.scheduled import Scheduled
from plait.plan.schedule.times import DAYS, When

NAME = "windows"


def is_there() -> bool:
    """Whether this system has it."""
    return sys.platform == "win32"


def words_of(job: Job) -> list[str]:
    """The command that makes the task.

    >>> from pathlib import Path
    >>> from plait.plan.schedule.times import weekly
    >>> job = Job(Path("C:/co-op/season.toml"), weekly("mon", "06:00"), ("C:/plait.exe",))
    >>> words_of(job)[3:9]
    ['/TR', 'C:/plait.exe run C:/co-op/season.toml --replace --quiet --log C:/co-op/season.log', \
'/SC', 'WEEKLY', '/D', 'MON']
    """
    command = subprocess.list2cmdline(job.words)
    return ["schtasks", "/Create", "/F", "/TR", command, *_times(job.when), "/TN", job.mark]


def _times(when: When) -> list[str]:
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


def text_of(job: Job) -> str:
    """The command that would be run."""
    return subprocess.list2cmdline(words_of(job)) + "\n"


def install(job: Job) -> str:
    """Make the task, in the place of an earlier one of that plan; what was done."""
    carry_out(words_of(job))
    return f"as the task {job.mark}"


def remove(mark: str) -> bool:
    """Take away the task of that mark; whether there was one."""
    try:
        carry_out(["schtasks", "/Delete", "/F", "/TN", mark])
    except OutputError:
        return False
    return True


def scheduled() -> Iterator[Scheduled]:
    """Tasks keep no plan that could be read back: the system's own list has them."""
    return iter(())
