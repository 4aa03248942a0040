"""Plans in the crontab of the user."""

from __future__ import annotations

import re
import shlex
import shutil
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from plait.core.account.errors import OutputError, UsageError
from plait.formats.places.extras import needed
from plait.plan.schedule.job import MARK, Job
from plait.plan.schedule.scheduled import Scheduled
from plait.plan.schedule.times import every

NAME = "cron"


def is_there() -> bool:
    """Whether this system has it."""
    return shutil.which("crontab") is not None


def text_of(job: Job) -> str:
    """The line that would stand in the crontab; a ``%`` there is a line break, so it is escaped."""
    return f"{job.when} {job.line().replace('%', chr(92) + '%')} # {job.mark}"


def install(job: Job) -> str:
    """Set the line, in the place of an earlier one of that plan; what was done."""
    table = _table()
    table.remove_all(comment=job.mark)
    made = table.new(command=job.line(), comment=job.mark)
    made.setall(str(job.when))
    _write(table)
    return f"in the crontab of {_user()}, as {job.mark}"


def remove(mark: str) -> bool:
    """Take away the line of that mark, and no other; whether there was one."""
    table = _table()
    if not table.remove_all(comment=mark):
        return False
    _write(table)
    return True


def scheduled() -> Iterator[Scheduled]:
    """The plans in the crontab."""
    for one in _table():
        found = re.fullmatch(rf"{MARK}-.*-[0-9a-f]{{8}}", str(one.comment or ""))
        if found and one.is_enabled():
            yield Scheduled(one.comment, NAME, _plan_in(str(one.command)), _when(one))


def _when(one: Any) -> Any:
    try:
        return every(str(one.slices))
    except UsageError:
        return None  # @reboot and the like, that a person wrote


def _plan_in(command: str) -> Path | None:
    """The plan that a line runs."""
    try:
        words = shlex.split(command)
        return Path(words[words.index("run") + 1])
    except (ValueError, IndexError):
        return None


def _table() -> Any:
    """The user's crontab.

    Raises
    ------
    OutputError
    """
    crontab = needed("crontab", "schedule", "crontab")
    if not is_there():
        raise OutputError("there is no crontab on this machine", remedy="apt install cron")
    try:
        return crontab.CronTab(user=True)
    except OSError as error:
        raise OutputError(f"the crontab cannot be read: {error}") from None


def _write(table: Any) -> None:
    try:
        table.write()
    except OSError as error:
        raise OutputError(f"the crontab cannot be written: {error}") from None


def _user() -> str:
    from plait.plan.runs.record import user

    return user()
