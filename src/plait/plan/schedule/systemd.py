"""Plans as timers of systemd, of the user."""

from __future__ import annotations

import os
import re
import shutil
from collections.abc import Iterator
from pathlib import Path

from plait.core.base.errors import OutputError, UsageError
from plait.plan.schedule.cron_times import DAYS, CronExpression, parse_cron
from plait.plan.schedule.scheduled_job import MARK, ScheduledJob, ScheduleEntry, run_system_command

NAME = "systemd"


def is_there() -> bool:
    """Whether this system has it."""
    return shutil.which("systemctl") is not None


def unit_folder() -> Path:
    """Where the units of a user stand."""
    home = os.environ.get("XDG_CONFIG_HOME") or str(Path.home() / ".config")
    return Path(home) / "systemd" / "user"


def unit_texts(job: ScheduledJob) -> dict[str, str]:
    """The units by their names: the service that runs the plan, and its timer.

    >>> from plait.plan.schedule.cron_times import daily
    >>> job = ScheduledJob(Path("/srv/season.toml"), daily("06:00"), ("/usr/bin/plait",))
    >>> print(list(unit_texts(job).values())[1])
    [Unit]
    Description=Plait: when season.toml runs
    <BLANKLINE>
    [Timer]
    # crontab: 0 6 * * *
    OnCalendar=*-*-* 6:0:00
    Persistent=true
    <BLANKLINE>
    [Install]
    WantedBy=timers.target
    <BLANKLINE>
    """
    calendar = "\n".join(f"OnCalendar={c}" for c in calendars(job.when))
    name = _plain(job.plan.name)
    service = (
        f"[Unit]\nDescription=Plait: {name}\n\n[Service]\nType=oneshot\n"
        f"WorkingDirectory={_escaped(str(job.plan.parent))}\n"
        f"ExecStart={' '.join(map(_escape_argument, job.words))}\n"
    )
    timer = (
        f"[Unit]\nDescription=Plait: when {name} runs\n\n[Timer]\n# crontab: {job.when}\n"
        f"{calendar}\nPersistent=true\n\n[Install]\nWantedBy=timers.target\n"
    )
    return {f"{job.mark}.service": service, f"{job.mark}.timer": timer}


def calendars(when: CronExpression) -> list[str]:
    """The times as systemd writes them: two, where crontab takes either of two kinds of days.

    >>> calendars(parse_cron("*/30 8 1 * mon"))
    ['*-*-1 8:0,30:00', 'Mon *-*-* 8:0,30:00']
    """
    minutes, hours, days, months, weekdays = when.values()
    month = _list(months, 12)
    clock = f"{_list(hours, 24)}:{_list(minutes, 60)}:00"
    of_month = f"*-{month}-{_list(days, 31)} {clock}"
    names = ",".join(DAYS[day].title() for day in sorted(weekdays, key=lambda day: (day - 1) % 7))
    all_week = len(weekdays) == 7
    if when.either_day:
        return [of_month, f"{names} *-{month}-* {clock}"]
    return [of_month if all_week else f"{names} {of_month}"]


def _list(numbers: frozenset[int], every_one: int) -> str:
    return "*" if len(numbers) == every_one else ",".join(map(str, sorted(numbers)))


def _escaped(text: str) -> str:
    """A text as a unit takes it: a ``%`` begins a specifier there."""
    return text.replace("%", "%%")


def _plain(text: str) -> str:
    return _escaped(" ".join(text.split()))


def _escape_argument(word: str) -> str:
    """A word of a command line as a unit takes it, whatever is in it."""
    if re.fullmatch(r"[A-Za-z0-9_./=:@+-]+", word):
        return word
    text = word.replace("\\", "\\\\").replace('"', '\\"').replace("$", "$$")
    return f'"{_escaped(text)}"'


def schedule_text(job: ScheduledJob) -> str:
    """What would be written, file by file."""
    return "\n".join(f"# {unit_folder() / name}\n{text}" for name, text in unit_texts(job).items())


def install(job: ScheduledJob) -> str:
    """Write the units and start the timer; what was done."""
    path = unit_folder()
    try:
        path.mkdir(parents=True, exist_ok=True)
        for name, text in unit_texts(job).items():
            (path / name).write_text(text, encoding="utf-8")
    except OSError as error:
        raise OutputError(f"cannot write the file: {error.strerror}", str(path)) from None
    _systemctl("daemon-reload")
    _systemctl("enable", "--now", f"{job.mark}.timer")
    return f"in {path}, as {job.mark}.timer"


def remove(mark: str) -> bool:
    """Stop and take away the units of that mark, and no others; whether there were any."""
    files = [unit_folder() / f"{mark}{ending}" for ending in (".timer", ".service")]
    if not any(file.exists() for file in files):
        return False
    _systemctl("disable", "--now", f"{mark}.timer")
    for file in files:
        file.unlink(missing_ok=True)
    _systemctl("daemon-reload")
    return True


def scheduled() -> Iterator[ScheduleEntry]:
    """The plans that have timers."""
    for timer in sorted(unit_folder().glob(f"{MARK}-*.timer")):
        text = timer.read_text("utf-8", "replace")
        match = re.search(r"^# crontab: (.+)$", text, re.MULTILINE)
        service = timer.with_suffix(".service")
        message = service.read_text("utf-8", "replace") if service.exists() else ""
        yield ScheduleEntry(timer.stem, NAME, _plan_in(message), _when(match[1] if match else ""))


def _when(text: str) -> CronExpression | None:
    try:
        return parse_cron(text)
    except UsageError:
        return None


def _plan_in(service: str) -> Path | None:
    match = re.search(r'^ExecStart=.*? run ("(?:[^"\\]|\\.)*"|\S+)', service, re.MULTILINE)
    if not match:
        return None
    text = match[1].replace("%%", "%")
    if text.startswith('"'):
        text = re.sub(r"\\(.)", r"\1", text[1:-1]).replace("$$", "$")
    return Path(text)


def _systemctl(*words: str) -> None:
    remedy = "the units are written; --with cron uses the crontab instead"
    run_system_command(("systemctl", "--user", *words), remedy)
