"""What a notice says: how a run ended, its figures, what is new, and where the report is."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from shlex import quote
from typing import Any

from plait.core.base.errors import ExpectationError, PlaitError
from plait.core.base.findings import FindingExample, pluralize
from plait.plan.file.load import LoadedPlan
from plait.plan.runs.history import FIGURES, NEW, RunRecord, format_timestamp
from plait.plan.runs.recorder import RunOutcome
from plait.plan.runs.standing_handover import StandingHandover
from plait.report.document import ExpectationResult
from plait.report.flags import as_flags
from plait.report.run_report import RunReport

_WHAT = {
    "done": ("handed over", ""),
    "refused": ("refused", ": an expectation was not met, nothing was handed over"),
    "failed": ("failed", ": nothing was handed over"),
    "interrupted": ("interrupted", ": nothing was handed over"),
}
_FAILED = {
    2: "the plan or the command is not valid",
    3: "a source could not be read",
    4: "the output could not be written",
}


@dataclass(frozen=True)
class NoticeMessage:
    """A notice before it is sent.

    Parameters
    ----------
    lines : tuple of str
        The text, a paragraph a line.
    report : Path or None
        The page of the handover, where there is one.
    data : mapping
        The same for a program.
    """

    subject: str
    lines: tuple[str, ...]
    figures: dict[str, str]
    report: Path | None
    data: dict[str, Any]

    def text(self) -> str:
        """All of it as plain text."""
        width = max((len(name) for name in self.figures), default=0)
        figures = [f"{name:<{width}}  {value}" for name, value in self.figures.items()]
        report = ["", f"the report: {self.report}"] if self.report else []
        return "\n".join([*self.lines, *([""] if figures else []), *figures, *report, ""])


def notice_events(record: RunRecord, ended: RunOutcome) -> set[str]:
    """Which of ``failure``, ``change`` and ``success`` a run was."""
    if isinstance(ended, BaseException):
        return {"failure"}
    if isinstance(ended, StandingHandover):
        return {"success"}
    changed = ended.changes is None or not ended.changes.compared.changes.none
    return {"success", "change"} if changed else {"success"}


def compose_notice(
    loaded_plan: LoadedPlan, record: RunRecord, ended: RunOutcome, examples: bool
) -> NoticeMessage:
    """What is told of a run.

    Parameters
    ----------
    examples : bool
        Whether cells of the data may be shown. Without it, of an error only its kind and
        its place are told: what it says may quote a cell.
    """
    title = loaded_plan.plan.title or loaded_plan.path.stem
    ending, detail = _WHAT.get(record.status, (record.status, ""))
    if isinstance(ended, StandingHandover):
        ending, detail = "nothing new", f": what run {ended.made.run} handed over stands"
    lines = [
        f"{title}: {ending}{detail}",
        *_why(ended, examples),
        *_new(ended, examples),
        "",
        _run(loaded_plan, record),
    ]
    if isinstance(ended, BaseException):
        lines.append(f"details: plait history {quote(str(loaded_plan.path))} --run {record.run}")
    report = None
    if not isinstance(ended, BaseException) and record.handover:
        report = (loaded_plan.folder / record.handover / "report.html").absolute()
    figures = {
        name.replace("_", " "): f"{value:,}"
        for name in FIGURES
        if (value := getattr(record, name)) is not None
    }
    return NoticeMessage(
        f"{title}: {ending}",
        tuple(lines),
        figures,
        report,
        _data(loaded_plan, record, ended, lines, report),
    )


def _run(loaded_plan: LoadedPlan, record: RunRecord) -> str:
    when = format_timestamp(record.started)
    return (
        f"run {record.run} of {loaded_plan.path.absolute()}, {when}, {record.seconds:,.0f} s, "
        f"by {record.user} on {record.machine}"
    )


def _why(ended: RunOutcome, examples: bool) -> Iterator[str]:
    """Why nothing was handed over."""
    if isinstance(ended, ExpectationError):
        yield as_flags(ended.what)
        expected: list[ExpectationResult] = [*getattr(ended, "expected", ())]
        for one in expected:
            if not one.holds:
                yield f"  {one.what}: {one.found}"
                yield from _example_lines(one.examples if examples else ())
        for finding in getattr(ended, "findings", ()):
            yield f"  {pluralize(finding.count, 'time')} {finding.code}"
            yield from _example_lines(finding.examples if examples else ())
    elif isinstance(ended, PlaitError):
        if examples:
            yield str(ended)
        else:
            text = f", at {ended.where}" if ended.where else ""
            yield f"{_FAILED.get(ended.status, 'the run failed')}{text}"
    elif isinstance(ended, Exception):
        yield "internal error in Plait"


def _new(ended: RunOutcome, examples: bool) -> Iterator[str]:
    """What is new since the last run."""
    since = ended.changes if isinstance(ended, RunReport) else getattr(ended, "since", None)
    if since is not None:
        yield from map(str, since.facts())
        if examples:
            for finding in since.compared.findings:
                yield f"{finding.message}"
                yield from _example_lines(finding.examples)


def _example_lines(examples: tuple[FindingExample, ...]) -> Iterator[str]:
    for example in examples:
        places = "; ".join(map(str, example.places))
        yield f"    {example.text}{f'  ({places})' if places else ''}"


def _data(
    loaded_plan: LoadedPlan,
    record: RunRecord,
    ended: RunOutcome,
    lines: list[str],
    report: Path | None,
) -> dict[str, Any]:
    """The notice as one JSON object."""
    return {
        "plan": str(loaded_plan.path.absolute()),
        "title": loaded_plan.plan.title,
        "run": record.run,
        "status": record.status,
        "started": record.started,
        "ended": record.ended,
        "seconds": record.seconds,
        "user": record.user,
        "machine": record.machine,
        "figures": {name: getattr(record, name) for name in FIGURES},
        "changes": {name: getattr(record, name) for name in NEW},
        "text": "\n".join(lines),
        "report": str(report) if report else None,
        "exit_status": getattr(ended, "status", 1) if isinstance(ended, BaseException) else 0,
    }
