"""The course of one run: its record in the history, and those who are told how it ended."""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from dataclasses import asdict, replace
from pathlib import Path
from shlex import quote
from types import MappingProxyType
from typing import Any

from plait.core.base.errors import PlaitError
from plait.core.base.findings import Finding, Location
from plait.io.places.partial_files import sha256
from plait.io.places.source import Source
from plait.plan.file.load import LoadedPlan
from plait.plan.runs.history import (
    Clock,
    RunHistory,
    RunRecord,
    failure,
    failure_status,
    history_file,
    new_run_record,
    read_history,
)
from plait.plan.runs.standing_handover import StandingHandover, modification_times
from plait.report.run_report import RunReport

RunOutcome = RunReport | StandingHandover | BaseException
Told = Callable[[LoadedPlan, RunRecord, RunOutcome], Sequence[Any]]


class RunRecorder:
    """A run as it goes on; what it says is in the history at once.

    A history that cannot be written changes nothing in the run: it is a finding.

    Parameters
    ----------
    tell : callable
        Sends the notices that a plan asks for.
    loaded_plan : LoadedPlan, optional
        The plan, where it could be read.
    """

    def __init__(
        self, plan: Path, clock: Clock, tell: Told, loaded_plan: LoadedPlan | None = None
    ) -> None:
        self._history, self._clock, self._tell = RunHistory(history_file(plan)), clock, tell
        self._loaded = loaded_plan
        self.findings: list[Finding] = []
        self._modified: Mapping[str, int] = {}
        self.known: list[RunRecord] = []
        with suppress(PlaitError):
            self.known = read_history(plan)
        self._began = clock()
        try:
            self.record = self._history.begin(self._began)
        except (OSError, UnicodeDecodeError) as error:
            self.record = new_run_record(len(self.known) + 1, self._began)
            self._unwritten(error)
        if loaded_plan:
            self._put(replace(self.record, parameters=loaded_plan.shown_parameters()))

    def failed(
        self, error: BaseException, figures: Mapping[str, int] = MappingProxyType({})
    ) -> None:
        """Write down that it did not hand over, why, and the figures that it came to."""
        ended = self.record.ended_at(self._clock(), self._began, failure_status(error))
        came_to: dict[str, Any] = {**figures}
        self._put(replace(ended, failed=failure(error), **came_to))
        self._send_notices(error)

    def stands(self, standing: StandingHandover) -> None:
        """Write down that nothing is new, and what stands."""
        record = self.record.standing(standing.made)
        self._put(record.ended_at(self._clock(), self._began, "done"))
        self._send_notices(standing)

    def look_at(self, sources: Sequence[Source]) -> None:
        """Keep in mind when the sources were changed last, before they are read."""
        folder = self._history.path.parent
        self._modified = modification_times(sources, folder, self._began)

    def done(self, run_report: RunReport, folder: Path) -> None:
        """Write down what it handed over, and when its sources were changed last."""
        record = self.record.with_story(run_report, self._modified)
        record = record.ended_at(self._clock(), self._began, "done")
        where = os.path.relpath(folder, self._history.path.parent).replace(os.sep, "/")
        self._put(replace(record, handover=where, ledger=sha256(folder / "ledger.json")))
        self._send_notices(run_report)

    def _send_notices(self, ended: RunOutcome) -> None:
        """Send the notices; one that cannot be sent is a finding, and stands in the history."""
        if self._loaded is None:
            return
        notices = self._tell(self._loaded, self.record, ended)
        for notice in notices:
            if notice.failed:
                self.findings.append(
                    Finding(
                        "notice-unsent",
                        "warning",
                        1,
                        f"1 notice not sent to {notice.to}: {notice.failed}",
                        f"plait notify {quote(str(self._loaded.path))} --test",
                    )
                )
        if notices:
            self._put(replace(self.record, notices=tuple(asdict(n) for n in notices)))

    def _put(self, record: RunRecord) -> None:
        self.record = record
        try:
            self._history.put(record)
        except (OSError, UnicodeDecodeError) as error:
            self._unwritten(error)

    def _unwritten(self, error: OSError | UnicodeDecodeError) -> None:
        if not any(finding.code == "history-unwritten" for finding in self.findings):
            why = getattr(error, "strerror", None) or error
            self.findings.append(
                Finding(
                    "history-unwritten",
                    "warning",
                    1,
                    f"cannot write the history of this plan: {why}",
                    f"check the permissions of {self._history.path.parent}",
                    Location(str(self._history.path)),
                )
            )
