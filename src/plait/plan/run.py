"""Run: a plan carried out, judged, and handed over."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from concurrent.futures import Future
from pathlib import Path

from plait.core.account.errors import ExpectationError, SourceError
from plait.core.account.finding import Finding, checked_codes, counted, standing
from plait.core.account.names import shown
from plait.formats.delivery.checksum import sums_of
from plait.formats.remote.opening import checksum
from plait.plan.file.load import LoadedPlan
from plait.plan.handing.handover import check_handover, hand_over
from plait.plan.work import intake
from plait.plan.work.expect import expectations
from plait.plan.work.room import planned_room
from plait.plan.work.work import Phases, Worked, work
from plait.report.story import Expected, Story


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
    """

    def __init__(
        self, worked: Worked, expected: Sequence[Expected], findings: Sequence[Finding]
    ) -> None:
        failing = [one for one in expected if not one.holds]
        plan = worked.loaded.path
        if failing:
            what = f"{counted(len(failing), 'expectation')} of {plan.name} not met"
        else:
            codes = ", ".join(dict.fromkeys(one.code for one in findings))
            what = f"{counted(len(findings), 'finding')} that must not occur: {codes}"
        super().__init__(what, remedy="nothing was handed over")
        self.worked, self.expected, self.findings = worked, expected, findings
        self.in_the_way = len(failing) or len(findings)


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


def run(
    loaded: LoadedPlan, phases: Phases, replace: bool = False, fail_on: Iterable[str] = ()
) -> tuple[Worked, Story]:
    """Carry out a plan and hand over its result.

    Parameters
    ----------
    loaded : LoadedPlan
    phases : Phases
    replace : bool
        Put the new handover in the place of an earlier one.
    fail_on : iterable of str
        Codes and severities of findings that must not occur.

    Raises
    ------
    NotMetError
        When something that the plan expects does not hold.
    PlaitError
        With all that is wrong with the plan, a source or the folder.
    """
    with planned_room(loaded):
        found = intake.find(loaded)
        check_handover(loaded, replace, [one.source for one in found])
        paths = [one.source.path for one in found]
        sums = sums_of(path for path in paths if Path(path).is_file())
        worked = work(loaded, found, phases)
        with phases.phase("seeing what is expected"):
            expected = judged(worked, fail_on)
        known = {path: _known(path, one) for path, one in sums.items()}
        known |= {
            one.source.path: checksum(one.source)
            for one in found
            if one.source.address and not one.source.in_database
        }
        return worked, hand_over(worked, expected, known, phases, replace)


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
        raise SourceError(f"it cannot be read any more: {error.strerror}", shown(path)) from None
