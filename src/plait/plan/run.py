"""Run: a plan carried out, judged, and handed over."""

from __future__ import annotations

import platform
from collections.abc import Callable, Iterable, Mapping, Sequence
from concurrent.futures import Future
from dataclasses import dataclass, replace
from datetime import date
from functools import partial
from pathlib import Path

from plait.core.base.errors import ExpectationError, OutputError, SourceError
from plait.core.base.findings import Finding, check_finding_codes, matching_findings, pluralize
from plait.core.base.names import printable_path
from plait.core.base.wording import Setting, wording
from plait.io.places.address import is_address
from plait.io.places.fetch import source_checksum
from plait.io.places.partial_files import sha256_of_files
from plait.plan.execution import resolve_sources
from plait.plan.execution.execute import (
    PlanExecution,
    ProgressReporter,
    execute_plan,
    open_plan_job,
)
from plait.plan.execution.expectations import judge_plan_expectations
from plait.plan.file.line_numbers import PlanError
from plait.plan.file.load import LoadedPlan, load_plan
from plait.plan.handover.dataset_digests import is_compared_later
from plait.plan.handover.read import added_files, handover_folder, is_handover
from plait.plan.handover.retention import (
    delete_oldest_retained,
    kept_only_if_replaced,
    retain_handover,
)
from plait.plan.handover.write import check_handover_folder, write_handover
from plait.plan.notices.send import notify_recipients
from plait.plan.runs.history import (
    Clock,
    RunRecord,
    current_time,
    current_user,
    format_timestamp,
    history_file,
    last_successful_run,
)
from plait.plan.runs.lock import Waiting, run_lock
from plait.plan.runs.recorder import RunRecorder
from plait.plan.runs.since_last_run import (
    changes_since_last_run,
    handover_time,
    judge_change_expectations,
)
from plait.plan.runs.standing_handover import StandingHandover, find_standing_handover
from plait.report.changes import ChangesSinceLastRun
from plait.report.document import ExpectationResult
from plait.report.run_report import RunReport, run_report_dict


class ExpectationsNotMetError(ExpectationError):
    """An expectation of a plan is not met; nothing is handed over.

    Parameters
    ----------
    plan_execution : PlanExecution
        What was done.
    expected : sequence of ExpectationResult
        All that was expected.
    findings : sequence of Finding
        Those that ``--fail-on`` names, where they are the reason.
    since : ChangesSinceLastRun or None
        What is new, where it came to that.
    """

    def __init__(
        self,
        plan_execution: PlanExecution,
        expected: Sequence[ExpectationResult],
        findings: Sequence[Finding],
        since: ChangesSinceLastRun | None = None,
    ) -> None:
        failing = [e for e in expected if not e.holds]
        plan = plan_execution.plan.path
        if failing:
            what = wording(f"{pluralize(len(failing), 'expectation')} of {plan.name} not met")
        else:
            codes = ", ".join(dict.fromkeys(finding.code for finding in findings))
            named = f"{pluralize(len(findings), 'finding')} named by "
            what = wording(named, Setting("fail_on"), f": {codes}")
        super().__init__(what, remedy="nothing was handed over")
        self.worked, self.expected, self.findings = plan_execution, expected, findings
        self.since, self.in_the_way = since, len(failing) or len(findings)

    def figures(self) -> dict[str, int]:
        """As far as the run came: what would have been handed over."""
        handover = self.worked.plan.plan.handover
        result = self.worked.results.get(handover.result) if handover else None
        return {"rows": result.rows, "columns": len(result.columns)} if result else {}


def judge_expectations(
    plan_execution: PlanExecution, fail_on: Iterable[str] = ()
) -> list[ExpectationResult]:
    """What the plan expects, all of which holds.

    Parameters
    ----------
    fail_on : iterable of str
        Codes and severities of findings that must not occur either.

    Raises
    ------
    ExpectationsNotMetError
    """
    expected = judge_plan_expectations(plan_execution)
    findings = matching_findings(plan_execution.findings, check_finding_codes(fail_on))
    if findings or not all(e.holds for e in expected):
        raise ExpectationsNotMetError(plan_execution, expected, findings)
    return expected


@dataclass(frozen=True, eq=False)
class RunResult:
    """A run that handed over.

    Parameters
    ----------
    record : RunRecord
        As the history has it.
    findings : tuple of Finding
        What was found after everything was handed over: a notice that could not be sent.
    """

    worked: PlanExecution
    story: RunReport
    record: RunRecord
    findings: tuple[Finding, ...]


@dataclass(frozen=True, eq=False)
class NothingNew:
    """A run that found nothing new: the earlier handover stands.

    Parameters
    ----------
    record : RunRecord
        As the history has it.
    findings : tuple of Finding
        A notice that could not be sent.
    """

    standing: StandingHandover
    record: RunRecord
    findings: tuple[Finding, ...]


def run_plan(
    plan: str | Path,
    settings: Iterable[str] | Mapping[str, str],
    phases: ProgressReporter,
    replace_: bool = False,
    fail_on: Iterable[str] = (),
    *,
    accept_change: bool = False,
    discard_added: bool = False,
    again: bool = True,
    wait: bool = True,
    waiting: Waiting = lambda _: None,
    before: Callable[[LoadedPlan], None] = lambda _: None,
    clock: Clock = current_time,
) -> RunResult | NothingNew:
    """Carry out a plan, hand over its result, and write down in its history how that went.

    Parameters
    ----------
    settings : texts ``NAME=VALUE``, or a mapping
        Values for parameters that the plan declares.
    replace_ : bool
        Put the new handover in the place of an earlier one.
    fail_on : iterable of str
        Codes and severities of findings that must not occur.
    accept_change : bool
        Take whatever changed since the last run, this once.
    discard_added : bool
        Delete files that somebody put into the earlier handover, with it.
    again : bool
        Whether to carry it out though sources, plan, parameters and version are what they were in
        the last run, and what that handed over stands.
    wait : bool
        Whether to wait for another run of the plan to end.
    waiting : callable
        Told who is being waited for.
    before : callable
        Given the plan once it is read.
    clock : callable
        What time it is.

    Raises
    ------
    ExpectationsNotMetError
        When something that the plan expects does not hold.
    PlaitError
        With all that is wrong with the plan, a source or the folder; or when another run is
        at it, and this one does not wait.
    """
    path = Path(plan)
    if not path.is_file():
        load_plan(path, settings)
    who = f"{current_user()} on {platform.node()}, since {format_timestamp(clock().isoformat())}"
    with run_lock(path, who, wait, waiting):
        loaded_plan = _loaded(path, settings, clock)
        course = RunRecorder(path, clock, notify_recipients, loaded_plan)
        try:
            before(loaded_plan)
            if not (again or fail_on or accept_change):
                with phases.phase("looking for what is new"):
                    standing = _standing(loaded_plan, course)
                if standing is not None:
                    course.stands(standing)
                    return NothingNew(standing, course.record, tuple(course.findings))
            if not discard_added:
                _check_added(handover_folder(loaded_plan))
            worked, story = _carried_out(
                loaded_plan, phases, replace_, fail_on, course, accept_change
            )
        except ExpectationsNotMetError as error:
            course.failed(error, error.figures())
            raise
        except BaseException as error:
            course.failed(error)
            raise
        course.done(story, handover_folder(loaded_plan))
        return RunResult(worked, story, course.record, tuple(course.findings))


def _standing(loaded_plan: LoadedPlan, course: RunRecorder) -> StandingHandover | None:
    """What the last run handed over, where nothing is new since."""
    if any(map(is_address, resolve_sources.source_paths(loaded_plan))):
        return None  # to ask whether it is new is to fetch it
    plan_sources = resolve_sources.find_plan_sources(loaded_plan)
    sources = [plan_source.source for plan_source in plan_sources]
    not_taken = resolve_sources.not_taken(loaded_plan, plan_sources)
    folder, today = handover_folder(loaded_plan), date.fromisoformat(course.record.started[:10])
    return find_standing_handover(loaded_plan, folder, sources, not_taken, course.known, today)


def _check_added(folder: Path) -> None:
    """Check that nobody's own files would go with an earlier handover.

    Raises
    ------
    OutputError
    """
    try:
        names = added_files(folder) if is_handover(folder) else []
    except OSError:
        return  # that no such folder can be made is told when it is
    if names:
        few = ", ".join(map(printable_path, names[:5])) + (" …" if len(names) > 5 else "")
        raise OutputError(
            f"{pluralize(len(names), 'file')} that no run wrote would be deleted: {few}",
            str(folder),
            "move them elsewhere, or delete them with the earlier handover: --discard-added",
        )


def _loaded(path: Path, settings: Iterable[str] | Mapping[str, str], clock: Clock) -> LoadedPlan:
    """The plan; that it is wrong stands in its history too, where there is one."""
    try:
        return load_plan(path, settings)
    except PlanError as error:
        if history_file(path).exists():
            RunRecorder(path, clock, notify_recipients).failed(error)
        raise


def _carried_out(
    loaded_plan: LoadedPlan,
    phases: ProgressReporter,
    replace_: bool,
    fail_on: Iterable[str],
    course: RunRecorder,
    accept_change: bool,
) -> tuple[PlanExecution, RunReport]:
    with open_plan_job(loaded_plan):
        plan_sources = resolve_sources.find_plan_sources(loaded_plan)
        course.look_at([p.source for p in plan_sources])
        check_handover_folder(loaded_plan, replace_, [p.source for p in plan_sources])
        paths = [plan_source.source.path for plan_source in plan_sources]
        sums = sha256_of_files(path for path in paths if Path(path).is_file())
        plan_execution = execute_plan(loaded_plan, plan_sources, phases)
        with phases.phase("checking expectations"):
            expected = judge_expectations(plan_execution, fail_on)
        known = {path: _source_checksum(path, s) for path, s in sums.items()}
        known |= {
            source.source.path: source_checksum(source.source)
            for source in plan_sources
            if source.source.address and not source.source.in_database
        }
        compared = partial(_compared, plan_execution, course, phases, accept_change)
        with kept_only_if_replaced(handover_folder(loaded_plan)):
            handover = write_handover(plan_execution, expected, known, phases, replace_, compared)
        delete_oldest_retained(handover_folder(loaded_plan), _handovers_to_keep(loaded_plan))
        return plan_execution, handover


def _handovers_to_keep(loaded_plan: LoadedPlan) -> int:
    """How many earlier handovers stay."""
    assert loaded_plan.plan.handover is not None
    return loaded_plan.plan.handover.keep


def _compared(
    plan_execution: PlanExecution,
    course: RunRecorder,
    phases: ProgressReporter,
    accept_change: bool,
    part: Path,
    run_report: RunReport,
) -> RunReport:
    """The story with what is new; the earlier handover is kept under its own name.

    Raises
    ------
    ExpectationsNotMetError
        When more changed than the plan expects.
    """
    loaded = plan_execution.plan
    earlier, since = _earlier(loaded, course), None
    if earlier is not None:
        with phases.phase("comparing with the last run"):
            since, told = changes_since_last_run(
                earlier, part, run_report_dict(run_report), course.known
            )
            further = []
            for one in run_report.further:
                changes_of, more = changes_since_last_run(
                    earlier, part, run_report_dict(run_report), course.known, one.name
                )
                further.append(replace(one, changes=changes_of))
                told += more
        findings = (*run_report.account.findings, *told)
        run_report = replace(
            run_report,
            account=replace(run_report.account, findings=findings),
            changes=since,
            further=tuple(further),
        )
    last = last_successful_run(course.known)
    changes = judge_change_expectations(loaded, since, plan_execution.findings, last, accept_change)
    expected = [*run_report.expected, *changes]
    run_report = replace(run_report, expected=tuple(expected))
    if not all(e.holds for e in expected):
        raise ExpectationsNotMetError(plan_execution, expected, (), since)
    if earlier == handover_folder(loaded) and _handovers_to_keep(loaded):
        retain_handover(earlier, handover_time(earlier, course.known))
    return run_report


def _earlier(loaded_plan: LoadedPlan, course: RunRecorder) -> Path | None:
    """The last handover: what has the name of this one, or else what the history names."""
    if not is_compared_later(loaded_plan):
        return None
    last = last_successful_run(course.known)
    paths = [loaded_plan.folder / last.handover] if last and last.handover else []
    return next((one for one in (handover_folder(loaded_plan), *paths) if is_handover(one)), None)


def _source_checksum(path: str, sum_: Future[str]) -> str:
    """The checksum of a source.

    Raises
    ------
    SourceError
        When the file has gone meanwhile.
    """
    try:
        return sum_.result()
    except OSError as error:
        raise SourceError(
            f"cannot read the file any more: {error.strerror}", printable_path(path)
        ) from None
