"""A plan as a job of the system's scheduler."""

from __future__ import annotations

import hashlib
import shlex
import subprocess
import sys
import sysconfig
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from plait.core.base.errors import OutputError, UsageError
from plait.plan.schedule.cron_times import CronExpression

MARK = "plait"

_SECONDS = 60


@dataclass(frozen=True)
class ScheduledJob:
    """A plan that runs by itself.

    Parameters
    ----------
    plan : Path
        Absolute.
    program : tuple of str
        Absolute too.
    more : tuple of str
        Further words for ``plait run``.
    """

    plan: Path
    when: CronExpression
    program: tuple[str, ...]
    more: tuple[str, ...] = ()

    @property
    def log(self) -> Path:
        """The file that its runs write what they say to."""
        return self.plan.with_suffix(".log")

    @property
    def words(self) -> tuple[str, ...]:
        """The command."""
        tail = ("--replace", "--quiet", "--log", str(self.log), *self.more)
        return (*self.program, "run", str(self.plan), *tail)

    @property
    def mark(self) -> str:
        """By what it is known: of a plan there is one job."""
        return job_id(self.plan)

    def line(self) -> str:
        """The command for a shell; its status is that of the run."""
        return f"cd {shlex.quote(str(self.plan.parent))} && {shlex.join(self.words)}"


def job_id(plan: Path) -> str:
    """By what the job of a plan is known to a scheduler.

    >>> job_id(Path("/srv/co-op/season.toml"))
    'plait-season-236b96b3'
    """
    name = "".join(s if s.isalnum() and s.isascii() else "-" for s in plan.stem)[:40]
    return f"{MARK}-{name}-{hashlib.sha256(str(plan).encode()).hexdigest()[:8]}"


def make_job(plan: Path, when: CronExpression, more: Sequence[str] = ()) -> ScheduledJob:
    """The job of a plan.

    Raises
    ------
    UsageError
        For a path or a further word that no scheduler takes.
    """
    path = plan.resolve()
    for word in (str(path), *more):
        if any(sign in word for sign in "\n\r\0"):
            # It would begin a line of a crontab or of a unit, and be run.
            raise UsageError("a scheduled command cannot contain a line break", repr(word))
    return ScheduledJob(path, when, program_path(), tuple(more))


def program_path() -> tuple[str, ...]:
    """How this program is started from anywhere."""
    for folder in (Path(sysconfig.get_path("scripts")), Path(sys.executable).parent):
        for name in ("plait", "plait.exe"):
            if (folder / name).is_file():
                return (str((folder / name).absolute()),)
    return (sys.executable, "-m", "plait")


@dataclass(frozen=True)
class ScheduleEntry:
    """A plan that runs by itself.

    Parameters
    ----------
    mark : str
        By what the scheduler knows it.
    by : str
        Which scheduler.
    when : CronExpression or None
        ``None`` where somebody has changed it to what is none of ours.
    """

    mark: str
    by: str
    plan: Path | None
    when: CronExpression | None


def run_system_command(words: Sequence[str], remedy: str | None = None) -> None:
    """Run a program to its end.

    Raises
    ------
    OutputError
        When it cannot be run, or fails.
    """
    text = " ".join(words[:3])
    try:
        ended = subprocess.run(words, capture_output=True, text=True, timeout=_SECONDS)
    except (OSError, subprocess.TimeoutExpired) as error:
        raise OutputError(f"{text} cannot be run: {error}", remedy=remedy) from None
    if ended.returncode:
        why = " ".join(ended.stderr.split())
        raise OutputError(f"{text} failed: {why}", remedy=remedy)
