"""What an operation made of its tables, in one form for all operations."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, TypeVar

from plait.core.base.errors import UsageError
from plait.core.base.findings import SEVERITIES, Finding, merge_same_findings, pluralize
from plait.core.base.ledger import LedgerEntry, LedgerLine, make_entry
from plait.core.base.wording import Setting, Wording, wording
from plait.core.table.table import SetAside, Table

if TYPE_CHECKING:
    from plait.core.aggregation.survivorship import RuleDecision
    from plait.core.keys.conflicts import CellConflicts
    from plait.core.keys.match import MatchCounts

_OF_ONE_SOURCE = ("footer", "header_line")


@dataclass(frozen=True, eq=False, repr=False)
class Result:
    """What a command made of its sources.

    Parameters
    ----------
    command : str
        The operation.
    entries : tuple of LedgerEntry
        The ledger.
    matches : tuple of MatchCounts
        Of joins, one for each of the last entries.
    decisions : tuple of RuleDecision
        Of settling.
    key : tuple of str
        Columns that are unique together, since the operation made them so.
    """

    command: str
    table: Table
    entries: tuple[LedgerEntry, ...]
    findings: tuple[Finding, ...]
    aside: tuple[SetAside | CellConflicts, ...] = ()
    matches: tuple[MatchCounts, ...] = ()
    decisions: tuple[RuleDecision, ...] = ()
    key: tuple[str, ...] = ()

    @property
    def match(self) -> MatchCounts:
        """How the keys of the last join matched.

        Raises
        ------
        UsageError
            For the result of another operation.
        """
        if not self.matches:
            raise UsageError(f"{self.command} matches no keys: only a join has a match")
        return self.matches[-1]

    def __repr__(self) -> str:
        return "\n".join(_in_short(self))


def _in_short(result: Result) -> Iterator[str]:
    """The answer in a few lines."""
    table = result.table
    size = f"{pluralize(table.rows, 'row')}, {pluralize(len(table.columns), 'column')}"
    yield f"{result.command}: {size}"
    for match in result.matches:
        yield (
            f"not matched: {match.left_unmatched + match.left_missing_key:,} of the left, "
            f"{match.right_unmatched + match.right_missing_key:,} of the right"
        )
    out = sum(a.rows for a in result.aside if not a.in_result)
    yield f"set aside: {pluralize(out, 'row')}"
    counter = Counter(finding.severity for finding in result.findings)
    words = [pluralize(counter[s], s) for s in reversed(SEVERITIES) if counter[s]]
    yield f"findings: {', '.join(words) or 'none'}"


AnyResult = TypeVar("AnyResult", bound=Result)


def include_reading(result: AnyResult, tables: Sequence[Table]) -> AnyResult:
    """The result with what was found and set aside when its sources were read in front."""
    findings = findings_of_reading(tables)
    aside = [s for table in tables for s in table.set_aside]
    entries = entries_of_reading(tables)
    return replace(
        result,
        findings=(*findings, *result.findings),
        entries=(*entries, *result.entries),
        aside=(*aside, *result.aside),
    )


def findings_of_reading(tables: Sequence[Table]) -> list[Finding]:
    """What was found when the sources were read, like findings of several as one."""
    several = len(tables) > 1
    return merge_same_findings(
        scope_remedy_to_source(finding, table.name if several else None)
        for table in tables
        for finding in table.findings
    )


def scope_remedy_to_extract(finding: Finding) -> Finding:
    """The finding as a plan has it: what mends one extract is not done to all of its source."""
    remedy = finding.remedy
    if isinstance(remedy, Wording) and any(s.option in _OF_ONE_SOURCE for s in remedy.settings):
        return replace(finding, remedy=wording("as a source of its own: ", remedy))
    return finding


def scope_remedy_to_source(finding: Finding, source: str | None) -> Finding:
    """The finding; where there are several sources, what mends it names its own.

    Parameters
    ----------
    source : str or None
        What the source is called; ``None`` where it is the only one.

    Examples
    --------
    >>> remedy = wording("to set it aside: ", Setting("footer", 1))
    >>> found = Finding("total-row", "warning", 1, "…", remedy)
    >>> print(scope_remedy_to_source(found, "may visits").remedy)
    to set it aside: footer=1 for may visits
    """
    remedy = finding.remedy
    if source is None or not isinstance(remedy, Wording):
        return finding
    parts = (
        replace(part, source=source)
        if isinstance(part, Setting) and part.option in _OF_ONE_SOURCE
        else part
        for part in remedy.parts
    )
    return replace(finding, remedy=Wording(tuple(parts)))


def entries_of_reading(tables: Sequence[Table]) -> list[LedgerEntry]:
    """The accounts of sources of which not all rows were taken."""
    return [_reading(table) for table in tables if table.set_aside or table.rows_in_database]


def _reading(table: Table) -> LedgerEntry:
    rows = table.rows + sum(listing.rows for listing in table.set_aside)
    rows += sum(r.rows for r in table.rows_in_database)
    lines = [
        LedgerLine(f"{row.cause}, left in the database", -row.rows)
        for row in table.rows_in_database
    ]
    lines += [LedgerLine(f"{s.cause}, set aside", -s.rows, s.listing) for s in table.set_aside]
    return make_entry(f"read {table.name}", [(table.name, rows)], lines, table.rows)
