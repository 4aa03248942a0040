"""All that a handover tells: what went in, what came out, and what is in it."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from dataclasses import asdict, dataclass, field
from typing import Any

from plait._version import __version__
from plait.core.base.findings import by_severity, pluralize
from plait.core.base.ledger import LedgerEntry
from plait.core.profiling.contents import ColumnContents, MatchCoverage
from plait.report.account import Account, finding_dict, ledger_dict, match_dict
from plait.report.changes import ChangesSinceLastRun, since_dict
from plait.report.document import ExpectationResult, Fact, holding
from plait.report.drilldown import DrillDown


@dataclass(frozen=True)
class SourceSummary:
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
class StepSummary:
    """A step: its operation, what it took, how many rows it gave, and how many it set aside."""

    title: str
    verb: str
    line: int
    rows: int
    columns: int
    inputs: tuple[str, ...] = ()
    result: str = ""
    set_aside: int = 0


@dataclass(frozen=True)
class UnmatchedCount:
    """How many rows of the left table of a join found no partner in the right one."""

    left: str
    right: str
    rows: int


@dataclass(frozen=True, eq=False)
class FurtherResult:
    """A result beside the main one.

    Parameters
    ----------
    contents : tuple of ColumnContents
        What its columns hold.
    changes : ChangesSinceLastRun or None
        What is new since the last run that handed over.
    """

    name: str
    description: str
    contents: tuple[ColumnContents, ...]
    key: tuple[str, ...]
    source_names: tuple[str, ...]
    rows_by_source: tuple[int, ...]
    changes: ChangesSinceLastRun | None = None

    @property
    def rows(self) -> int:
        """Rows of it."""
        return self.contents[0].profile.rows if self.contents else 0

    @property
    def size(self) -> str:
        """Its rows and columns, in words."""
        return f"{pluralize(self.rows, 'row')}, {pluralize(len(self.contents), 'column')}"


@dataclass(frozen=True, eq=False)
class RunReport:
    """Everything there is to say about a run.

    Parameters
    ----------
    title, plan, plan_text : str
        The job, the plan's file name and its text.
    result : str
        What is handed over.
    account : Account
        Ledger, findings and files; its first outputs are the dataset.
    shapes : mapping of str to tuple of ColumnContents
        For each source of the plan, what its columns hold.
    contents : tuple of ColumnContents
        The columns of the result.
    source_names : tuple of str
        The sources that ``missing_by`` of the contents counts.
    rows_by_source : tuple of int
        The result's rows of each of them.
    unmatched : tuple of UnmatchedCount
        For each join, the last first.
    left_out : int
        Rows that are in no result.
    key : tuple of str
        The key of the result, where one is known.
    changes : ChangesSinceLastRun or None
        What is new since the last run that handed over.
    entries_of : tuple of (int, tuple of LedgerEntry)
        The ledger once more, by steps from 1; 0 for reading.
    found_in : tuple of int
        The step of each finding of the account; those after them are of writing.
    drill_downs : tuple of DrillDown
        The rows behind numbers.
    further : tuple of FurtherResult
        The results beside the main one.
    """

    title: str
    plan: str
    plan_text: str
    parameters: Mapping[str, Any]
    result: str
    account: Account
    sources: tuple[SourceSummary, ...]
    shapes: Mapping[str, tuple[ColumnContents, ...]]
    steps: tuple[StepSummary, ...]
    contents: tuple[ColumnContents, ...]
    descriptions: Mapping[str, str]
    source_names: tuple[str, ...]
    rows_by_source: tuple[int, ...]
    match_coverage: MatchCoverage | None
    unmatched: tuple[UnmatchedCount, ...]
    left_out: int
    key: tuple[str, ...]
    expected: tuple[ExpectationResult, ...] = field(default=())
    changes: ChangesSinceLastRun | None = None
    entries_of: tuple[tuple[int, tuple[LedgerEntry, ...]], ...] = ()
    found_in: tuple[int, ...] = ()
    drill_downs: tuple[DrillDown, ...] = ()
    further: tuple[FurtherResult, ...] = ()
    description_of_result: str = ""

    @property
    def conflicts(self) -> int:
        """Values or keys on which sources disagree."""
        codes = ("source-conflict", "settle-conflict")
        return sum(finding.count for finding in self.account.findings if finding.code in codes)

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

    def facts(self) -> Iterator[Fact]:
        """The further results, what did not match, what disagrees, what is new since last time."""
        for one in self.further:
            since = f"; {one.changes.in_short()}" if one.changes else ""
            yield Fact("and", f"{one.name}, {one.size}{since}")
        for side in self.unmatched:
            if side.rows:
                rows = pluralize(side.rows, "row")
                yield Fact("not matched", f"{rows} of {side.left}, in {side.right}")
        yield Fact("conflicts", f"{self.conflicts:,} values or keys on which sources disagree")
        if self.changes:
            yield from self.changes.facts()

    def answer(self) -> list[str]:
        """The answer in a few lines, the most important first."""
        size = f"{pluralize(self.rows, 'row')}, {pluralize(len(self.contents), 'column')}"
        expected = [Fact("expected", holding(self.expected))] if self.expected else []
        dataset = Fact("one dataset", f"{self.result}, {size}")
        return [str(fact) for fact in (dataset, *self.facts(), *expected)]

    def description(self, column: str) -> str:
        """What the plan says a column means."""
        return self.descriptions.get(column, "")


def run_report_dict(run_report: RunReport) -> dict[str, Any]:
    """The story as plain dictionaries and lists, as ``plait run --json`` prints it."""
    account = run_report.account
    payload: dict[str, Any] = {
        "command": "run",
        "version": __version__,
        "plan": {
            "title": run_report.title,
            "file": run_report.plan,
            "parameters": dict(run_report.parameters),
            "result": run_report.result,
        },
        "key": list(run_report.key),
        "figures": run_report.figures(),
        "sources": [asdict(source) for source in run_report.sources],
        "steps": [asdict(step) for step in run_report.steps],
        "ledger": [ledger_dict(entry) for entry in account.ledger],
        "findings": [finding_dict(finding) for finding in by_severity(account.findings)],
        "expected": [asdict(e) for e in run_report.expected],
        "outputs": [asdict(output) for output in account.outputs],
    }
    if run_report.changes:
        payload["changes"] = since_dict(run_report.changes)
    if run_report.further:
        payload["further"] = [_further_dict(one) for one in run_report.further]
    if account.matches:
        payload["match"] = match_dict(account.matches[-1])
        payload["matches"] = [match_dict(match) for match in account.matches]
    return payload


def _further_dict(further: FurtherResult) -> dict[str, Any]:
    payload: dict[str, Any] = {
        "result": further.name,
        "key": list(further.key),
        "figures": {"rows": further.rows, "columns": len(further.contents)},
    }
    if further.changes:
        payload["changes"] = since_dict(further.changes)
    return payload


def run_report_json(run_report: RunReport) -> str:
    """The story as JSON text, two spaces deep."""
    return json.dumps(run_report_dict(run_report), indent=2, ensure_ascii=False, default=str)
