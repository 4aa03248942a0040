"""Run: a plan carried out, judged, and handed over."""

from __future__ import annotations

import platform
from collections.abc import Callable, Iterable, Mapping, Sequence
from concurrent.futures import Future
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path

from plait.core.account.errors import ExpectationError, OutputError, SourceError
from plait.core.account.finding import Finding, checked_codes, counted, standing
from plait.core.account.names import shown
from plait.formats.delivery.checksum import sums_of
from plait.formats.remote.opening import checksum
from plait.plan.file.faults import PlanError
from plait.plan.file.load import LoadedPlan, load_plan
from plait.plan.handing.handover import check_handover, folder_of, hand_over
from plait.plan.notice.tell import tell
from plait.plan.runs.clock import Clock, day_and_time, now
from plait.plan.runs.course import Course
from plait.plan.runs.expected import change_expectations
from plait.plan.runs.handed import added_files, is_handover
from plait.plan.runs.history import history_file
from plait.plan.runs.keeping import forget_oldest, keep, kept_only_if_replaced
from plait.plan.runs.record import Record, last_good, user
from plait.plan.runs.since import what_is_new, when_made
from plait.plan.runs.turn import Waiting, turn
from plait.plan.work import intake
from plait.plan.work.expect import expectations
from plait.plan.work.room import planned_room
from plait.plan.work.work import Phases, Worked, work
from plait.report.since import Since
from plait.report.story import Expected, Story, story_dict


class NotMetError(ExpectationError):
    """What a plan expects does not hold; nothing is handed over.

    Parameters
    ----------
    worked : Worked
        What was done.
    expected : sequence of Expected
        All that was expected.
    findings : sequence of Finding
        Those that must not occur, where they are the reason.
    since : Since or None
        What is new, where it came to that.
    """

    def __init__(
        self,
        worked: Worked,
        expected: Sequence[Expected],
        findings: Sequence[Finding],
        since: Since | None = None,
    ) -> None:
        failing = [one for one in expected if not one.holds]
        plan = worked.loaded.path
        if failing:
            what = f"{counted(len(failing), 'expectation')} of {plan.name} not met"
        else:
            codes = ", ".join(dict.fromkeys(one.code for one in findings))
            what = f"{counted(len(findings), 'finding')} named by --fail-on: {codes}"
        super().__init__(what, remedy="nothing was handed over")
        self.worked, self.expected, self.findings = worked, expected, findings
        self.since, self.in_the_way = since, len(failing) or len(findings)

    def figures(self) -> dict[str, int]:
        """As far as the run came: what would have been handed over."""
        handover = self.worked.loaded.plan.handover
        result = self.worked.results.get(handover.result) if handover else None
        return {"rows": result.rows, "columns": len(result.columns)} if result else {}


def judged(worked: Worked, fail_on: Iterable[str] = ()) -> list[Expected]:
    """What the plan expects, all of which holds.

    Parameters
    ----------
    worked : Worked
    fail_on : iterable of str
        Codes and severities of findings that must not occur either.

    Raises
    ------
    NotMetError
    """
    expected = expectations(worked)
    found = standing(worked.findings, checked_codes(fail_on))
    if found or not all(one.holds for one in expected):
        raise NotMetError(worked, expected, found)
    return expected


@dataclass(frozen=True, eq=False)
class Ran:
    """A run that handed over.

    Parameters
    ----------
    worked : Worked
    story : Story
    record : Record
        As the history has it.
    findings : tuple of Finding
        What was found after everything was handed over: a notice that could not be sent.
    """

    worked: Worked
    story: Story
    record: Record
    findings: tuple[Finding, ...]


def run(
    plan: str | Path,
    settings: Iterable[str] | Mapping[str, str],
    phases: Phases,
    replace_: bool = False,
    fail_on: Iterable[str] = (),
    *,
    accept_change: bool = False,
    discard_added: bool = False,
    wait: bool = True,
    waiting: Waiting = lambda _: None,
    before: Callable[[LoadedPlan], None] = lambda _: None,
    clock: Clock = now,
) -> Ran:
    """Carry out a plan, hand over its result, and write down in its history how that went.

    Parameters
    ----------
    plan : str or Path
    settings : texts ``NAME=VALUE``, or a mapping
        Values for parameters that the plan declares.
    phases : Phases
    replace_ : bool
        Put the new handover in the place of an earlier one.
    fail_on : iterable of str
        Codes and severities of findings that must not occur.
    accept_change : bool
        Take whatever changed since the last run, this once.
    discard_added : bool
        Delete files that somebody put into the earlier handover, with it.
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
    NotMetError
        When something that the plan expects does not hold.
    PlaitError
        With all that is wrong with the plan, a source or the folder; or when another run is
        at it, and this one does not wait.
    """
    path = Path(plan)
    if not path.is_file():
        load_plan(path, settings)
    who = f"{user()} on {platform.node()}, since {day_and_time(clock().isoformat())}"
    with turn(path, who, wait, waiting):
        loaded = _loaded(path, settings, clock)
        course = Course(path, clock, tell, loaded)
        try:
            before(loaded)
            if not discard_added:
                _check_added(folder_of(loaded))
            worked, story = _carried_out(loaded, phases, replace_, fail_on, course, accept_change)
        except NotMetError as error:
            course.failed(error, error.figures())
            raise
        except BaseException as error:
            course.failed(error)
            raise
        course.done(story, folder_of(loaded))
        return Ran(worked, story, course.record, tuple(course.findings))


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
        few = ", ".join(map(shown, names[:5])) + (" …" if len(names) > 5 else "")
        raise OutputError(
            f"{counted(len(names), 'file')} that no run wrote would be deleted: {few}",
            str(folder),
            "move them elsewhere, or delete them with the earlier handover: --discard-added",
        )


def _loaded(path: Path, settings: Iterable[str] | Mapping[str, str], clock: Clock) -> LoadedPlan:
    """The plan; that it is wrong stands in its history too, where there is one."""
    try:
        return load_plan(path, settings)
    except PlanError as error:
        if history_file(path).exists():
            Course(path, clock, tell).failed(error)
        raise


def _carried_out(
    loaded: LoadedPlan,
    phases: Phases,
    replace_: bool,
    fail_on: Iterable[str],
    course: Course,
    accept_change: bool,
) -> tuple[Worked, Story]:
    with planned_room(loaded):
        found = intake.find(loaded)
        check_handover(loaded, replace_, [one.source for one in found])
        paths = [one.source.path for one in found]
        sums = sums_of(path for path in paths if Path(path).is_file())
        worked = work(loaded, found, phases)
        with phases.phase("checking expectations"):
            expected = judged(worked, fail_on)
        known = {path: _known(path, one) for path, one in sums.items()}
        known |= {
            one.source.path: checksum(one.source)
            for one in found
            if one.source.address and not one.source.in_database
        }
        compared = partial(_compared, worked, course, phases, accept_change)
        with kept_only_if_replaced(folder_of(loaded)):
            story = hand_over(worked, expected, known, phases, replace_, compared)
        forget_oldest(folder_of(loaded), _kept(loaded))
        return worked, story


def _kept(loaded: LoadedPlan) -> int:
    """How many earlier handovers stay."""
    assert loaded.plan.handover is not None
    return loaded.plan.handover.keep


def _compared(
    worked: Worked, course: Course, phases: Phases, accept_change: bool, part: Path, story: Story
) -> Story:
    """The story with what is new; the earlier handover is kept under its own name.

    Raises
    ------
    NotMetError
        When more changed than the plan expects.
    """
    loaded = worked.loaded
    earlier, since = _earlier(loaded, course), None
    if earlier is not None:
        with phases.phase("comparing with the last run"):
            since, told = what_is_new(earlier, part, story_dict(story), course.known)
        findings = (*story.account.findings, *told)
        story = replace(story, account=replace(story.account, findings=findings), since=since)
    last = last_good(course.known)
    changes = change_expectations(loaded, since, worked.findings, last, accept_change)
    expected = [*story.expected, *changes]
    story = replace(story, expected=tuple(expected))
    if not all(one.holds for one in expected):
        raise NotMetError(worked, expected, (), since)
    if earlier == folder_of(loaded) and _kept(loaded):
        keep(earlier, when_made(earlier, course.known))
    return story


def _earlier(loaded: LoadedPlan, course: Course) -> Path | None:
    """The last handover: what has the name of this one, or else what the history names."""
    if not _kept(loaded) and loaded.plan.expect.change is None:
        return None
    last = last_good(course.known)
    known = [loaded.folder / last.handover] if last and last.handover else []
    return next((one for one in (folder_of(loaded), *known) if is_handover(one)), None)


def _known(path: str, sum_: Future[str]) -> str:
    """The checksum of a source.

    Raises
    ------
    SourceError
        When the file has gone meanwhile.
    """
    try:
        return sum_.result()
    except OSError as error:
        raise SourceError(f"cannot read the file any more: {error.strerror}", shown(path)) from None
