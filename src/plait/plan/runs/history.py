"""The history of a plan: every run, good or bad, a line each in a file beside the plan."""

from __future__ import annotations

import errno
import json
import stat
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from plait.core.account.errors import SourceError, UsageError
from plait.formats.delivery.flushing import flush_folder
from plait.formats.delivery.plain_files import read_plain, write_plain
from plait.formats.places.endings import HISTORY
from plait.plan.runs.record import Record, as_dict, begun, from_dict
from plait.plan.runs.turn import is_running

_RIGHTS = 0o666  # of a new one, less what the system takes off for this user


def history_file(plan: Path) -> Path:
    """Where the history of a plan stands.

    >>> history_file(Path("jobs/season.toml"))
    PosixPath('jobs/season.history.jsonl')
    """
    return plan.with_name(f"{plan.stem}{HISTORY}")


@dataclass(frozen=True)
class History:
    """The history of a plan, changed only by the run whose turn it is.

    Parameters
    ----------
    path : Path
        A file of JSON lines. It is written anew beside itself and then takes its name, so
        that a run that is killed leaves it whole; lines that are none of ours stay.
    """

    path: Path

    def begin(self, moment: Any) -> Record:
        """Write down that a run begins; earlier ones that never ended were killed.

        Raises
        ------
        OSError
        """
        lines = [_killed(line) for line in _lines(self.path)]
        known = [one for line in lines if (one := _record(line))]
        record = begun(max((one.run for one in known), default=0) + 1, moment)
        self._write([*lines, _line(record)])
        return record

    def put(self, record: Record) -> None:
        """Write down what has become of a run.

        Raises
        ------
        OSError
        """
        lines = _lines(self.path)
        at = [n for n, line in enumerate(lines) if (one := _record(line)) and one.run == record.run]
        for number in at or [len(lines)]:
            lines[number : number + 1] = [_line(record)]
        self._write(lines)

    def _write(self, lines: Sequence[str]) -> None:
        if self.path.is_symlink():
            raise OSError(
                errno.ELOOP, "the history is a link; links are not followed", str(self.path)
            )
        mode = stat.S_IMODE(self.path.stat().st_mode) if self.path.exists() else _RIGHTS
        part = self.path.with_name(f".{self.path.name}.plait-new")
        write_plain(part, "".join(f"{line}\n" for line in lines).encode(), mode)
        with suppress(OSError):
            if stat.S_IMODE(part.stat().st_mode) != mode and self.path.exists():
                part.chmod(mode)
        part.replace(self.path)
        with suppress(OSError):
            flush_folder(self.path.parent)


def read_history(plan: Path) -> list[Record]:
    """Every run of a plan, the first one first.

    Raises
    ------
    SourceError
        When the history cannot be read.
    """
    path = history_file(plan)
    try:
        lines = _lines(path)
    except (OSError, UnicodeDecodeError) as error:
        raise SourceError(f"cannot read the history: {error}", str(path)) from None
    running = is_running(plan)
    records = [one for line in lines if (one := _record(line))]
    return [one if running and one is records[-1] else _unended(one) for one in records]


def run_of(plan: Path, number: int) -> Record:
    """One run, by its number.

    Raises
    ------
    UsageError
    """
    records = read_history(plan)
    for one in records:
        if one.run == number:
            return one
    known = (
        f"the history has runs {records[0].run} to {records[-1].run}"
        if records
        else "there is none yet"
    )
    raise UsageError(f"no run {number} of this plan", str(plan), known)


def run_with(records: Sequence[Record], ledger: str) -> Record | None:
    """The run that wrote the account of that checksum."""
    return next((one for one in reversed(records) if ledger and one.ledger == ledger), None)


def _lines(path: Path) -> list[str]:
    try:
        # Records end with a line feed only: a parameter may hold other signs that end a line.
        return [line for line in read_plain(path).decode("utf-8").split("\n") if line.strip()]
    except FileNotFoundError:
        return []


def _line(record: Record) -> str:
    return json.dumps(as_dict(record), ensure_ascii=False, default=str)


def _record(line: str) -> Record | None:
    try:
        return from_dict(json.loads(line))
    except (ValueError, RecursionError):
        return None


def _unended(record: Record) -> Record:
    """A run that did not end, and is not at it any more, was killed."""
    return replace(record, status="killed") if record.status == "running" else record


def _killed(line: str) -> str:
    record = _record(line)
    return line if record is None or record.status != "running" else _line(_unended(record))
