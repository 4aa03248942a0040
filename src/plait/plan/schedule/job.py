"""What a scheduler runs: the same line for all of them, with nothing left to its environment."""

from __future__ import annotations

import hashlib
import shlex
import sys
import sysconfig
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from plait.core.account.errors import UsageError
from plait.plan.schedule.times import When

MARK = "plait"


@dataclass(frozen=True)
class Job:
    """A plan that runs by itself.

    Parameters
    ----------
    plan : Path
        Absolute.
    when : When
    program : tuple of str
        Absolute too.
    more : tuple of str
        Further words for ``plait run``.
    """

    plan: Path
    when: When
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
        return mark_of(self.plan)

    def line(self) -> str:
        """The command for a shell; its status is that of the run."""
        return f"cd {shlex.quote(str(self.plan.parent))} && {shlex.join(self.words)}"


def mark_of(plan: Path) -> str:
    """By what the job of a plan is known to a scheduler.

    >>> mark_of(Path("/srv/co-op/season.toml"))
    'plait-season-236b96b3'
    """
    name = "".join(sign if sign.isalnum() and sign.isascii() else "-" for sign in plan.stem)[:40]
    return f"{MARK}-{name}-{hashlib.sha256(str(plan).encode()).hexdigest()[:8]}"


def job_of(plan: Path, when: When, more: Sequence[str] = ()) -> Job:
    """The job of a plan.

    Raises
    ------
    UsageError
        For a path or a further word that no scheduler takes.
    """
    whole = plan.resolve()
    for word in (str(whole), *more):
        if any(sign in word for sign in "\n\r\0"):
            # It would begin a line of a crontab or of a unit, and be run.
            raise UsageError("a scheduled command cannot contain a line break", repr(word))
    return Job(whole, when, program(), tuple(more))


def program() -> tuple[str, ...]:
    """How this program is started from anywhere."""
    for folder in (Path(sysconfig.get_path("scripts")), Path(sys.executable).parent):
        for name in ("plait", "plait.exe"):
            if (folder / name).is_file():
                return (str((folder / name).absolute()),)
    return (sys.executable, "-m", "plait")
