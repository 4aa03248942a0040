"""The runs of a plan, one line of JSON each."""

from __future__ import annotations

import errno
import getpass
import hashlib
import json
import platform
import stat
import traceback
from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from dataclasses import asdict, dataclass, field, replace
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

from plait._version import __version__
from plait.core.base.errors import ExpectationError, PlaitError, SourceError, UsageError
from plait.io.places.partial_files import flush_folder
from plait.io.places.safe_files import read_plain, write_plain
from plait.io.places.source import HISTORY
from plait.plan.runs.lock import is_run_locked
from plait.report.flags import as_flags

if TYPE_CHECKING:
    from plait.report.run_report import RunReport


FIGURES = ("rows", "columns", "unmatched", "conflicts", "set_aside", "findings")
NEW = ("rows_new", "rows_gone", "rows_changed")
STATUSES = ("running", "done", "refused", "failed", "interrupted", "killed")

_RIGHTS = 0o666  # of a new one, less what the system takes off for this user

Clock = Callable[[], datetime]


@dataclass(frozen=True)
class RunRecord:
    """A run.

    Parameters
    ----------
    run : int
        Its number, from 1.
    status : str
        One of ``STATUSES``; ``refused``: an expectation did not hold.
    started, ended : str
        In ISO form with the distance from UTC; ``ended`` is empty while it runs.
    parameters : mapping
        What was set.
    rows, columns, unmatched, conflicts, set_aside, findings : int or None
        The answer's figures, as far as it came.
    rows_new, rows_gone, rows_changed : int or None
        Since the last run that succeeded.
    handover, ledger : str
        The folder, from the plan's own, and the checksum of the account in it.
    failed : mapping
        What went wrong, where, and the remedy.
    sources : tuple of mapping
        Path, rows, bytes and checksum of each; ``modified`` is when its file was changed last, in
        nanoseconds, and 0 where that was just before.
    plan_sha256 : str
        The checksum of the plan's text.
    same_as : int or None
        The run whose handover stands, where nothing was new.
    notices : tuple of mapping
        Who was told, and whether that worked.
    """

    run: int
    status: str
    started: str
    ended: str = ""
    seconds: float = 0.0
    user: str = ""
    machine: str = ""
    version: str = __version__
    parameters: Mapping[str, Any] = field(default_factory=dict)
    rows: int | None = None
    columns: int | None = None
    unmatched: int | None = None
    conflicts: int | None = None
    set_aside: int | None = None
    findings: int | None = None
    rows_new: int | None = None
    rows_gone: int | None = None
    rows_changed: int | None = None
    handover: str = ""
    ledger: str = ""
    failed: Mapping[str, str] = field(default_factory=dict)
    sources: tuple[Mapping[str, Any], ...] = ()
    plan_sha256: str = ""
    same_as: int | None = None
    notices: tuple[Mapping[str, Any], ...] = ()

    @property
    def good(self) -> bool:
        """Whether it handed over."""
        return self.status == "done"

    def with_story(self, run_report: RunReport, modified: Mapping[str, int]) -> RunRecord:
        """With what there is to say of it, and when each source was changed last."""
        since = run_report.changes.compared.changes if run_report.changes else None
        figures: dict[str, Any] = {**run_report.figures()}
        return replace(
            self,
            parameters=dict(run_report.parameters),
            **figures,
            rows_new=since.rows_new if since else None,
            rows_gone=since.rows_gone if since else None,
            rows_changed=since.rows_changed if since else None,
            sources=tuple(
                {
                    "path": source.path,
                    "rows": source.rows,
                    "bytes": source.bytes,
                    "sha256": source.sha256,
                    "modified": modified.get(source.path, 0),
                }
                for source in run_report.sources
            ),
            plan_sha256=text_checksum(run_report.plan_text),
        )

    def standing(self, made: RunRecord) -> RunRecord:
        """With what an earlier run handed over, as nothing is new since."""
        kept = ("parameters", *FIGURES, "handover", "ledger", "sources", "plan_sha256")
        changes: dict[str, Any] = dict.fromkeys(NEW, 0)
        return replace(
            self, **{name: getattr(made, name) for name in kept}, **changes, same_as=made.run
        )

    def ended_at(self, moment: datetime, began: datetime, status: str) -> RunRecord:
        """Once it has ended."""
        seconds = round((moment - began).total_seconds(), 1)
        return replace(self, ended=_to_second(moment), seconds=seconds, status=status)


def text_checksum(text: str) -> str:
    """The SHA-256 of a text, in hexadecimal digits."""
    return hashlib.sha256(text.encode()).hexdigest()


def new_run_record(run: int, moment: datetime) -> RunRecord:
    """A run that begins."""
    return RunRecord(
        run, "running", _to_second(moment), user=current_user(), machine=platform.node()
    )


def _to_second(moment: datetime) -> str:
    return moment.isoformat(timespec="seconds")


def current_user() -> str:
    """Who runs it."""
    try:
        return getpass.getuser().encode("utf-8", "replace").decode()
    except (ImportError, KeyError, OSError):  # no such user, and no password file to look in
        return ""


def failure_status(error: BaseException) -> str:
    """How a run ended that ended so.

    >>> failure_status(KeyboardInterrupt())
    'interrupted'
    """
    if isinstance(error, ExpectationError):
        return "refused"
    return "failed" if isinstance(error, Exception) else "interrupted"


def failure(error: BaseException) -> dict[str, str]:
    """What went wrong, in words."""
    if isinstance(error, PlaitError):
        payload = {"what": error.what, "where": error.where, "remedy": error.remedy}
        return {name: as_flags(text) for name, text in payload.items() if text}
    if isinstance(error, Exception):
        last = traceback.format_exception_only(error)[-1].strip()
        return {"what": f"a fault of the program: {last}"}
    return {"what": "interrupted"}


def record_to_dict(record: RunRecord) -> dict[str, Any]:
    """The record as a line of a history has it."""
    return asdict(record)


def record_from_dict(said: Any) -> RunRecord | None:
    """The record that a line tells; ``None`` for one that tells none."""
    names = RunRecord.__dataclass_fields__
    if not isinstance(said, dict) or not isinstance(said.get("run"), int):
        return None
    if said.get("status") not in STATUSES or not isinstance(said.get("started"), str):
        return None
    try:
        datetime.fromisoformat(said["started"])
        known = {name: _frozen(value) for name, value in said.items() if name in names}
        return RunRecord(**known)
    except (TypeError, ValueError):
        return None


def _frozen(value: Any) -> Any:
    return tuple(value) if isinstance(value, list) else value


def last_successful_run(records: Sequence[RunRecord]) -> RunRecord | None:
    """The last run that handed over."""
    return next((record for record in reversed(records) if record.good), None)


def history_file(plan: Path) -> Path:
    """Where the history of a plan stands.

    >>> history_file(Path("jobs/season.toml"))
    PosixPath('jobs/season.history.jsonl')
    """
    return plan.with_name(f"{plan.stem}{HISTORY}")


@dataclass(frozen=True)
class RunHistory:
    """The history of a plan, changed only by the run whose turn it is.

    Parameters
    ----------
    path : Path
        A file of JSON lines. It is written anew beside itself and then takes its name, so
        that a run that is killed leaves it whole; lines that are none of ours stay.
    """

    path: Path

    def begin(self, moment: Any) -> RunRecord:
        """Write down that a run begins; earlier ones that never ended were killed.

        Raises
        ------
        OSError
        """
        lines = [_killed(line) for line in _lines(self.path)]
        run_records = [one for line in lines if (one := _record(line))]
        record = new_run_record(max((k.run for k in run_records), default=0) + 1, moment)
        self._write([*lines, _line(record)])
        return record

    def put(self, record: RunRecord) -> None:
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


def read_history(plan: Path) -> list[RunRecord]:
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
    running = is_run_locked(plan)
    records = [one for line in lines if (one := _record(line))]
    return [record if running and record is records[-1] else _unended(record) for record in records]


def find_run(plan: Path, number: int) -> RunRecord:
    """One run, by its number.

    Raises
    ------
    UsageError
    """
    records = read_history(plan)
    for record in records:
        if record.run == number:
            return record
    known = (
        f"the history has runs {records[0].run} to {records[-1].run}"
        if records
        else "there is none yet"
    )
    raise UsageError(f"no run {number} of this plan", str(plan), known)


def find_run_by_ledger(records: Sequence[RunRecord], ledger: str) -> RunRecord | None:
    """The run that wrote the account of that checksum."""
    wrote = (one for one in reversed(records) if one.ledger == ledger and one.same_as is None)
    return next(wrote, None) if ledger else None


def _lines(path: Path) -> list[str]:
    try:
        # Records end with a line feed only: a parameter may hold other signs that end a line.
        return [line for line in read_plain(path).decode("utf-8").split("\n") if line.strip()]
    except FileNotFoundError:
        return []


def _line(record: RunRecord) -> str:
    return json.dumps(record_to_dict(record), ensure_ascii=False, default=str)


def _record(line: str) -> RunRecord | None:
    try:
        return record_from_dict(json.loads(line))
    except (ValueError, RecursionError):
        return None


def _unended(record: RunRecord) -> RunRecord:
    """A run that did not end, and is not at it any more, was killed."""
    return replace(record, status="killed") if record.status == "running" else record


def _killed(line: str) -> str:
    record = _record(line)
    return line if record is None or record.status != "running" else _line(_unended(record))


def current_time() -> datetime:
    """The time here, with its distance from UTC."""
    return datetime.now().astimezone()


def format_timestamp(moment: str) -> str:
    """A time of a history as people read it, as it was on the clock of that place.

    >>> format_timestamp("2031-05-03T06:00:00+02:00")
    '2031-05-03 06:00'
    """
    return moment[:16].replace("T", " ")
