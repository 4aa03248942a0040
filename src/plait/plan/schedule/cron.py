"""Plans in the crontab of the user.

A crontab is other people's text: lines that a person wrote, variables, forms that only this
system's cron knows. Our lines end in a mark; of all others no byte is touched.
"""

from __future__ import annotations

import re
import shlex
import shutil
import subprocess
from collections.abc import Iterator
from pathlib import Path

from plait.core.base.errors import OutputError, UsageError
from plait.plan.schedule.cron_times import CronExpression, parse_cron
from plait.plan.schedule.scheduled_job import MARK, ScheduledJob, ScheduleEntry

NAME = "cron"
_SECONDS = 30
# The last mark of a line is its own: a folder's name may have a # in it too.
_OURS = re.compile(
    rb"[ \t]*(?P<when>[^\s#]\S*(?:[ \t]+\S+){4})[ \t]+(?P<command>.*) # (?P<mark>"
    + MARK.encode()
    + rb"-[A-Za-z0-9-]*-[0-9a-f]{8})[ \t]*\r?"
)


def is_there() -> bool:
    """Whether this system has it."""
    return shutil.which("crontab") is not None


def schedule_text(job: ScheduledJob) -> str:
    """The line that would stand in the crontab; a ``%`` there is a line break, so it is escaped."""
    return f"{job.when} {job.line().replace('%', chr(92) + '%')} # {job.mark}"


def install(job: ScheduledJob) -> str:
    """Set the line, in the place of an earlier one of that plan; what was done."""
    _write(with_line(_read(), job.mark, schedule_text(job)))
    return f"in the crontab of {_user()}, as {job.mark}"


def remove(mark: str) -> bool:
    """Take away the lines of that mark, and no other; whether there was one."""
    table = _read()
    without = with_line(table, mark, None)
    if without == table:
        return False
    _write(without)
    return True


def with_line(table: bytes, mark: str, line: str | None) -> bytes:
    """A crontab in which one line has a mark, or none has.

    Parameters
    ----------
    table : bytes
        The crontab as it stands.
    line : str, optional
        It takes the place of the first line that has the mark, or stands last.

    Examples
    --------
    >>> with_line(b"@daily backup", "plait-a-00000000", "0 6 * * * run # plait-a-00000000")
    b'@daily backup\\n0 6 * * * run # plait-a-00000000\\n'
    >>> with_line(b"0 6 * * * run # plait-a-00000000\\n@daily backup\\n", "plait-a-00000000", None)
    b'@daily backup\\n'
    """
    kept: list[bytes] = []
    new = None if line is None else f"{line}\n".encode("utf-8", "surrogateescape")
    for each in _lines(table):
        match = _OURS.fullmatch(each.rstrip(b"\n"))
        if match is None or match["mark"].decode() != mark:
            kept.append(each)
        elif new is not None:
            kept.append(new)
            new = None
    if new is not None:
        if kept and not kept[-1].endswith(b"\n"):
            kept[-1] += b"\n"
        kept.append(new)
    return b"".join(kept)


def scheduled() -> Iterator[ScheduleEntry]:
    """The plans in the crontab."""
    for line in _lines(_read()):
        match = _OURS.fullmatch(line.rstrip(b"\n"))
        if match:
            command = match["command"].decode("utf-8", "surrogateescape").replace("\\%", "%")
            when = _when(match["when"].decode("utf-8", "replace"))
            yield ScheduleEntry(match["mark"].decode(), NAME, _plan_in(command), when)


def _lines(table: bytes) -> list[bytes]:
    """The lines of a crontab, each with its end; only a line feed ends one."""
    return [line for line in re.split(rb"(?<=\n)", table) if line]


def _when(fields: str) -> CronExpression | None:
    try:
        return parse_cron(fields)
    except UsageError:
        return None  # forms of another cron, that a person wrote


def _plan_in(command: str) -> Path | None:
    """The plan that a line runs."""
    try:
        words = shlex.split(command)
        return Path(words[words.index("run") + 1])
    except (ValueError, IndexError):
        return None


def _read() -> bytes:
    """The user's crontab; nothing where there is none yet.

    Raises
    ------
    OutputError
    """
    if not is_there():
        raise OutputError("this machine has no crontab", remedy="apt install cron")
    ended = _crontab("-l", b"")
    if ended.returncode and b"no crontab" not in ended.stderr.lower():
        raise OutputError(f"cannot read the crontab: {_crontab_message(ended)}")
    return b"" if ended.returncode else ended.stdout


def _write(table: bytes) -> None:
    ended = _crontab("-", table)
    if ended.returncode:
        raise OutputError(f"the crontab cannot be written: {_crontab_message(ended)}")


def _crontab(word: str, feed: bytes) -> subprocess.CompletedProcess[bytes]:
    try:
        return subprocess.run(
            ["crontab", word], input=feed, capture_output=True, timeout=_SECONDS, check=False
        )
    except (OSError, subprocess.TimeoutExpired) as error:
        raise OutputError(f"crontab does not answer: {error}") from None


def _crontab_message(ended: subprocess.CompletedProcess[bytes]) -> str:
    return ended.stderr.decode("utf-8", "replace").strip() or f"status {ended.returncode}"


def _user() -> str:
    from plait.plan.runs.history import current_user

    return current_user()
