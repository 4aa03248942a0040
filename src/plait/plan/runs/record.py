"""A run as its history has it."""

from __future__ import annotations

import getpass
import platform
import traceback
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, field, replace
from datetime import datetime
from typing import TYPE_CHECKING, Any

from plait._version import __version__
from plait.core.account.errors import ExpectationError, PlaitError

if TYPE_CHECKING:
    from plait.report.story import Story

FIGURES = ("rows", "columns", "unmatched", "conflicts", "set_aside", "findings")
NEW = ("rows_new", "rows_gone", "rows_changed")
STATUSES = ("running", "done", "refused", "failed", "interrupted", "killed")


@dataclass(frozen=True)
class Record:
    """A run.

    Parameters
    ----------
    run : int
        Its number, from 1.
    status : str
        One of ``STATUSES``; ``refused``: an expectation did not hold.
    started, ended : str
        In ISO form with the distance from UTC; ``ended`` is empty while it runs.
    seconds : float
    user, machine, version : str
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
        Path, rows, bytes and checksum of each.
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
    notices: tuple[Mapping[str, Any], ...] = ()

    @property
    def good(self) -> bool:
        """Whether it handed over."""
        return self.status == "done"

    def with_story(self, story: Story) -> Record:
        """With what there is to say of it."""
        since = story.since.compared.changes if story.since else None
        figures: dict[str, Any] = {**story.figures()}
        return replace(
            self,
            parameters=dict(story.parameters),
            **figures,
            rows_new=since.rows_new if since else None,
            rows_gone=since.rows_gone if since else None,
            rows_changed=since.rows_changed if since else None,
            sources=tuple(
                {"path": one.path, "rows": one.rows, "bytes": one.bytes, "sha256": one.sha256}
                for one in story.sources
            ),
        )

    def ended_at(self, moment: datetime, began: datetime, status: str) -> Record:
        """Once it has ended."""
        seconds = round((moment - began).total_seconds(), 1)
        return replace(self, ended=_to_second(moment), seconds=seconds, status=status)


def begun(run: int, moment: datetime) -> Record:
    """A run that begins."""
    return Record(run, "running", _to_second(moment), user=user(), machine=platform.node())


def _to_second(moment: datetime) -> str:
    return moment.isoformat(timespec="seconds")


def user() -> str:
    """Who runs it."""
    try:
        return getpass.getuser().encode("utf-8", "replace").decode()
    except (ImportError, KeyError, OSError):  # no such user, and no password file to look in
        return ""


def status_of(error: BaseException) -> str:
    """How a run ended that ended so.

    >>> status_of(KeyboardInterrupt())
    'interrupted'
    """
    if isinstance(error, ExpectationError):
        return "refused"
    return "failed" if isinstance(error, Exception) else "interrupted"


def failure(error: BaseException) -> dict[str, str]:
    """What went wrong, in words."""
    if isinstance(error, PlaitError):
        said = {"what": error.what, "where": error.where, "remedy": error.remedy}
        return {name: str(text) for name, text in said.items() if text}
    if isinstance(error, Exception):
        last = traceback.format_exception_only(error)[-1].strip()
        return {"what": f"a fault of the program: {last}"}
    return {"what": "interrupted"}


def as_dict(record: Record) -> dict[str, Any]:
    """The record as a line of a history has it."""
    return asdict(record)


def from_dict(said: Any) -> Record | None:
    """The record that a line tells; ``None`` for one that tells none."""
    names = Record.__dataclass_fields__
    if not isinstance(said, dict) or not isinstance(said.get("run"), int):
        return None
    if said.get("status") not in STATUSES or not isinstance(said.get("started"), str):
        return None
    try:
        datetime.fromisoformat(said["started"])
        known = {name: _frozen(value) for name, value in said.items() if name in names}
        return Record(**known)
    except (TypeError, ValueError):
        return None


def _frozen(value: Any) -> Any:
    return tuple(value) if isinstance(value, list) else value


def last_good(records: Sequence[Record]) -> Record | None:
    """The last run that handed over."""
    return next((one for one in reversed(records) if one.good), None)
