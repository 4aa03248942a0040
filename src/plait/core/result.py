"""What a verb made of its tables, in one form for all verbs."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

from plait.core.aside import SetAside
from plait.core.conflicts import Conflicts
from plait.core.finding import Finding, merged
from plait.core.ledger import Entry, Line, entry
from plait.core.match import Match
from plait.core.table import Table

if TYPE_CHECKING:
    from plait.core.settle import Decision


@dataclass(frozen=True, eq=False)
class Result:
    """What a command made of its sources.

    Parameters
    ----------
    command : str
        The verb.
    table : Table
    entries : tuple of Entry
        The ledger.
    findings : tuple of Finding
    aside : tuple of SetAside or Conflicts
    matches : tuple of Match
        Of joins, one for each of the last entries.
    decisions : tuple of Decision
        Of settling.
    """

    command: str
    table: Table
    entries: tuple[Entry, ...]
    findings: tuple[Finding, ...]
    aside: tuple[SetAside | Conflicts, ...] = ()
    matches: tuple[Match, ...] = ()
    decisions: tuple[Decision, ...] = ()


def result_of(command: str, made: Any, table: Table | None = None) -> Result:
    """The result of a verb in the form that all share.

    Parameters
    ----------
    command : str
    made : Stacked, Joined, Settled, …
    table : Table, optional
        In place of the one that was made.
    """
    return Result(
        command,
        made.table if table is None else table,
        made.entries,
        made.findings,
        getattr(made, "aside", ()),
        getattr(made, "matches", ()),
        getattr(made, "decisions", ()),
    )


def with_reading(result: Result, tables: Sequence[Table]) -> Result:
    """The result with what was found and set aside when its sources were read in front."""
    findings = merged(finding for table in tables for finding in table.findings)
    aside = [one for table in tables for one in table.aside]
    entries = reading_entries(tables)
    return replace(
        result,
        findings=(*findings, *result.findings),
        entries=(*entries, *result.entries),
        aside=(*aside, *result.aside),
    )


def reading_entries(tables: Sequence[Table]) -> list[Entry]:
    """The accounts of sources of which not all rows were taken."""
    return [_reading(table) for table in tables if table.aside]


def _reading(table: Table) -> Entry:
    rows = table.rows + sum(one.rows for one in table.aside)
    lines = [Line(f"{_why(one)}, set aside", -one.rows) for one in table.aside]
    return entry(f"read {table.name}", [(table.name, rows)], lines, table.rows)


def _why(aside: SetAside) -> str:
    kind = aside.name.rpartition("-")[2]
    return {
        "ragged": "rows with too few or too many cells",
        "notes": "lines below the table",
        "footer": "rows at the end, as --footer says",
        "unfit": "rows with a cell that does not fit its type",
    }[kind]
