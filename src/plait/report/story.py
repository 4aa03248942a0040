"""All that a handover tells: what went in, what came out, and what is in it."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, field
from typing import Any

from plait._version import __version__
from plait.core.account.finding import Example, counted, worst_first
from plait.core.account.ledger import Entry
from plait.core.look.contents import Content, Partners
from plait.report.account import Account, finding_dict
from plait.report.behind import Behind
from plait.report.since import Since, since_dict


@dataclass(frozen=True)
class Expected:
    """Something that was expected, and what was found.

    Parameters
    ----------
    what : str
        The expectation, as a person would say it.
    holds : bool
    found : str
        What is the case.
    line : int
        Where the plan says it.
    examples : tuple of Example
        Where it does not hold.
    """

    what: str
    holds: bool
    found: str
    line: int
    examples: tuple[Example, ...] = ()


def holding(expected: Sequence[Expected]) -> str:
    """How many expectations are met.

    >>> holding([Expected("rows >= 1", True, "7 rows", 3)])
    '1 of 1 expectation met'
    """
    held = sum(one.holds for one in expected)
    return f"{held} of {counted(len(expected), 'expectation')} met"


@dataclass(frozen=True)
class SourceSaid:
    """A source: the plan's name for it, the file, and what was read of it."""

    name: str
    group: str
    path: str
    rows: int
    columns: int
    written: str
    bytes: int
    sha256: str


@dataclass(frozen=True)
class StepSaid:
    """A step: its verb, what it took, how many rows it gave, and how many it set aside."""

    title: str
    verb: str
    line: int
    rows: int
    columns: int
    inputs: tuple[str, ...] = ()
    result: str = ""
    set_aside: int = 0


@dataclass(frozen=True)
class Unmatched:
    """How many rows of the left table of a join found no partner in the right one."""

    left: str
    right: str
    rows: int


@dataclass(frozen=True, eq=False)
class Story:
    """Everything there is to say about a run.

    Parameters
    ----------
    title, plan, plan_text : str
        The job, the plan's file name and its text.
    parameters : mapping
    result : str
        What is handed over.
    account : Account
        Ledger, findings and files; its first outputs are the dataset.
    sources : tuple of SourceSaid
    shapes : mapping of str to tuple of Content
        For each source of the plan, what its columns hold.
    steps : tuple of StepSaid
    contents : tuple of Content
        The columns of the result.
    descriptions : mapping of str to str
    shares : tuple of str
        The sources that ``missing_by`` of the contents counts.
    rows_by : tuple of int
        The result's rows of each of them.
    partners : Partners or None
    unmatched : tuple of Unmatched
        For each join, the last first.
    left_out : int
        Rows that are in no result.
    key : tuple of str
        The key of the result, where one is known.
    expected : tuple of Expected
    since : Since or None
        What is new since the last run that handed over.
    entries_of : tuple of (int, tuple of Entry)
        The ledger once more, by steps from 1; 0 for reading.
    found_in : tuple of int
        The step of each finding of the account; those after them are of writing.
    behind : tuple of Behind
        The rows behind numbers.
    """

    title: str
    plan: str
    plan_text: str
    parameters: Mapping[str, Any]
    result: str
    account: Account
    sources: tuple[SourceSaid, ...]
    shapes: Mapping[str, tuple[Content, ...]]
    steps: tuple[StepSaid, ...]
    contents: tuple[Content, ...]
    descriptions: Mapping[str, str]
    shares: tuple[str, ...]
    rows_by: tuple[int, ...]
    partners: Partners | None
    unmatched: tuple[Unmatched, ...]
    left_out: int
    key: tuple[str, ...]
    expected: tuple[Expected, ...] = field(default=())
    since: Since | None = None
    entries_of: tuple[tuple[int, tuple[Entry, ...]], ...] = ()
    found_in: tuple[int, ...] = ()
    behind: tuple[Behind, ...] = ()

    @property
    def conflicts(self) -> int:
        """Values or keys on which sources disagree."""
        codes = ("source-conflict", "settle-conflict")
        return sum(one.count for one in self.account.findings if one.code in codes)

    @property
    def rows(self) -> int:
        """Rows of the result."""
        return self.contents[0].profile.rows if self.contents else 0

    def figures(self) -> dict[str, int]:
        """The figures by which runs are told apart."""
        return {
            "rows": self.rows,
            "columns": len(self.contents),
            "unmatched": self.unmatched[0].rows if self.unmatched else 0,
            "conflicts": self.conflicts,
            "set_aside": self.left_out,
            "findings": len(self.account.findings),
        }

    def answer(self) -> list[str]:
        """The answer in a few lines, the most important first."""
        lines = [
            f"one dataset: {self.result}, {counted(self.rows, 'row')}, "
            f"{counted(len(self.contents), 'column')}",
            *(
                f"not matched: {counted(one.rows, 'row')} of {one.left}, in {one.right}"
                for one in self.unmatched
                if one.rows
            ),
            f"conflicts:   {self.conflicts:,} values or keys on which sources disagree",
        ]
        if self.since:
            lines += self.since.answer()
        if self.expected:
            lines.append(f"expected:    {holding(self.expected)}")
        return lines

    def description(self, column: str) -> str:
        """What the plan says a column means."""
        return self.descriptions.get(column, "")


def story_dict(story: Story) -> dict[str, Any]:
    """The story as plain dictionaries and lists, as ``plait run --json`` prints it."""
    account = story.account
    said: dict[str, Any] = {
        "command": "run",
        "version": __version__,
        "plan": {
            "title": story.title,
            "file": story.plan,
            "parameters": dict(story.parameters),
            "result": story.result,
        },
        "key": list(story.key),
        "figures": story.figures(),
        "sources": [asdict(one) for one in story.sources],
        "steps": [asdict(one) for one in story.steps],
        "ledger": [asdict(entry) for entry in account.ledger],
        "findings": [finding_dict(finding) for finding in worst_first(account.findings)],
        "expected": [asdict(one) for one in story.expected],
        "outputs": [asdict(output) for output in account.outputs],
    }
    if story.since:
        said["changes"] = since_dict(story.since)
    if account.matches:
        said["match"] = asdict(account.matches[-1])
        said["matches"] = [asdict(match) for match in account.matches]
    return said


def story_json(story: Story) -> str:
    """The story as JSON text, two spaces deep."""
    return json.dumps(story_dict(story), indent=2, ensure_ascii=False, default=str)
