"""What a notice says: how a run ended, its figures, what is new, and where the report is."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from shlex import quote
from typing import Any

from plait.core.account.errors import ExpectationError, PlaitError
from plait.core.account.finding import Example, counted
from plait.plan.file.load import LoadedPlan
from plait.plan.runs.clock import day_and_time
from plait.plan.runs.record import FIGURES, NEW, Record
from plait.report.story import Expected, Story

_WHAT = {
    "done": "handed over",
    "refused": "refused: an expectation was not met, nothing was handed over",
    "failed": "failed: nothing was handed over",
    "interrupted": "interrupted: nothing was handed over",
}
_FAILED = {
    2: "the plan or the command is not valid",
    3: "a source could not be read",
    4: "the output could not be written",
}


@dataclass(frozen=True)
class Message:
    """A notice before it is sent.

    Parameters
    ----------
    subject : str
    lines : tuple of str
        The text, a paragraph a line.
    figures : mapping of str to str
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


def kinds(record: Record, ended: Story | BaseException) -> set[str]:
    """Which of ``failure``, ``change`` and ``success`` a run was."""
    if isinstance(ended, BaseException):
        return {"failure"}
    changed = ended.since is None or not ended.since.compared.changes.none
    return {"success", "change"} if changed else {"success"}


def message_of(
    loaded: LoadedPlan, record: Record, ended: Story | BaseException, examples: bool
) -> Message:
    """What is told of a run.

    Parameters
    ----------
    loaded : LoadedPlan
    record : Record
    ended : Story or error
    examples : bool
        Whether cells of the data may be shown. Without it, of an error only its kind and
        its place are told: what it says may quote a cell.
    """
    title = loaded.plan.title or loaded.path.stem
    what = _WHAT.get(record.status, record.status)
    lines = [
        f"{title}: {what}",
        *_why(ended, examples),
        *_new(ended, examples),
        "",
        _run(loaded, record),
    ]
    if isinstance(ended, BaseException):
        lines.append(f"details: plait history {quote(str(loaded.path))} --run {record.run}")
    report = None
    if isinstance(ended, Story) and record.handover:
        report = (loaded.folder / record.handover / "report.html").absolute()
    figures = {
        name.replace("_", " "): f"{value:,}"
        for name in FIGURES
        if (value := getattr(record, name)) is not None
    }
    return Message(
        f"{title}: {what.partition(':')[0]}",
        tuple(lines),
        figures,
        report,
        _data(loaded, record, ended, lines, report),
    )


def _run(loaded: LoadedPlan, record: Record) -> str:
    when = day_and_time(record.started)
    return (
        f"run {record.run} of {loaded.path.absolute()}, {when}, {record.seconds:,.0f} s, "
        f"by {record.user} on {record.machine}"
    )


def _why(ended: Story | BaseException, examples: bool) -> Iterator[str]:
    """Why nothing was handed over."""
    if isinstance(ended, ExpectationError):
        yield str(ended.what) if examples else ended.what.partition(":")[0]
        expected: list[Expected] = [*getattr(ended, "expected", ())]
        for one in expected:
            if not one.holds:
                yield f"  {one.what}: {one.found}"
                yield from _shown(one.examples if examples else ())
        for finding in getattr(ended, "findings", ()):
            yield f"  {counted(finding.count, 'time')} {finding.code}"
            yield from _shown(finding.examples if examples else ())
    elif isinstance(ended, PlaitError):
        if examples:
            yield str(ended)
        else:
            place = f", at {ended.where}" if ended.where else ""
            yield f"{_FAILED.get(ended.status, 'the run failed')}{place}"
    elif isinstance(ended, Exception):
        yield "internal error in Plait"


def _new(ended: Story | BaseException, examples: bool) -> Iterator[str]:
    """What is new since the last run."""
    since = ended.since if isinstance(ended, Story) else getattr(ended, "since", None)
    if since is not None:
        yield from since.answer()
        if examples:
            for finding in since.compared.findings:
                yield f"{finding.message}"
                yield from _shown(finding.examples)


def _shown(examples: tuple[Example, ...]) -> Iterator[str]:
    for one in examples:
        places = "; ".join(map(str, one.places))
        yield f"    {one.text}{f'  ({places})' if places else ''}"


def _data(
    loaded: LoadedPlan,
    record: Record,
    ended: Story | BaseException,
    lines: list[str],
    report: Path | None,
) -> dict[str, Any]:
    """The notice as one JSON object."""
    return {
        "plan": str(loaded.path.absolute()),
        "title": loaded.plan.title,
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
