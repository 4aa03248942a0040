"""The account of a command as data, and its schema."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import asdict, dataclass
from importlib.resources import files
from pathlib import Path
from typing import TYPE_CHECKING, Any

from plait._version import __version__
from plait.core.base.findings import Finding, by_severity, pluralize
from plait.core.base.ledger import LedgerEntry, LedgerLine
from plait.core.table.table import Table, table_from_columns
from plait.report.document import Document, Fact, Findings, Grid, GridColumn, Ledger
from plait.report.flags import as_flags

if TYPE_CHECKING:
    from plait.core.aggregation.survivorship import RuleDecision
    from plait.core.keys.match import MatchCounts
    from plait.core.operations.result import Result


COMMANDS = ("compare", "join", "keys")


@dataclass(frozen=True)
class OutputSummary:
    """A file that was written: its size in rows, columns and bytes, and its SHA-256.

    Of a table in a database of a server there are rows and columns only.
    """

    path: str
    rows: int
    columns: int
    bytes: int
    sha256: str


@dataclass(frozen=True, eq=False)
class Account:
    """Everything there is to say about what a command did."""

    command: str
    sources: tuple[Table, ...]
    ledger: tuple[LedgerEntry, ...]
    findings: tuple[Finding, ...]
    outputs: tuple[OutputSummary, ...]
    matches: tuple[MatchCounts, ...] = ()
    decisions: tuple[RuleDecision, ...] = ()


def summarize_output(table: Table, path: object) -> OutputSummary:
    """What there is to say about a table that was written to a file, or into a database."""
    if not isinstance(path, Path):
        return OutputSummary(str(path), table.rows, len(table.columns), 0, "")
    with path.open("rb") as file:
        digest = hashlib.file_digest(file, "sha256").hexdigest()
    return OutputSummary(str(path), table.rows, len(table.columns), path.stat().st_size, digest)


def ledger_table(entries: Sequence[LedgerEntry]) -> Table:
    """The ledger as a table: a row for each line of each operation, and one for what comes out."""
    heads = ("operation", "reason", "effect", "rows")
    payload: dict[str, list[str]] = {head: [] for head in heads}
    for entry in entries:
        lines = (*entry.lines, LedgerLine("rows out", entry.rows_out))
        for line, effect in zip(lines, (*_effects(entry), "came out"), strict=True):
            cells = (entry.operation, line.reason, effect, str(line.rows))
            for head, cell in zip(heads, cells, strict=True):
                payload[head].append(cell)
    return table_from_columns("ledger", payload)


def account_dict(account: Account) -> dict[str, Any]:
    """The account as plain dictionaries and lists.

    Notes
    -----
    Of several joins ``match`` is the last, and ``matches`` has them all.
    """
    payload: dict[str, Any] = {
        "command": account.command,
        "version": __version__,
        "sources": [source_dict(table) for table in account.sources],
        "ledger": [ledger_dict(entry) for entry in account.ledger],
        "findings": [finding_dict(finding) for finding in by_severity(account.findings)],
        "outputs": [asdict(output) for output in account.outputs],
    }
    if account.matches:
        payload["match"] = match_dict(account.matches[-1])
    if account.decisions:
        payload["decisions"] = [asdict(decision) for decision in account.decisions]
    if len(account.matches) > 1:
        payload["matches"] = [match_dict(match) for match in account.matches]
    return payload


def result_document(result: Result, written_to: str, facts: Iterable[Fact]) -> Document:
    """What a command made: its size, what did not match, the ledger, the rules, the findings.

    Parameters
    ----------
    written_to : str
        Where the result is; nothing for standard output.
    facts : iterable of Fact
        What is to be said of rows set aside.
    """
    where = f"{written_to}: " if written_to else ""
    columns = pluralize(len(result.table.columns), "column")
    unmatched = []
    joins = result.entries[len(result.entries) - len(result.matches) :]
    for match, entry in zip(result.matches, joins, strict=True):
        left, right = entry.rows_in
        text = (
            f"{match.left_unmatched + match.left_missing_key:,} of {left}, "
            f"{match.right_unmatched + match.right_missing_key:,} of {right}"
        )
        unmatched.append(Fact("not matched", text))
    return Document(
        (f"{where}{pluralize(result.table.rows, 'row')}, {columns}",),
        (*unmatched, *facts),
        (
            Ledger(result.entries),
            *_decided_by_rules(result.decisions),
            Findings(tuple(result.findings)),
        ),
    )


def _decided_by_rules(decisions: Sequence[RuleDecision]) -> Iterator[Grid]:
    """For each column whose cells differ what its rule decided, in keys."""
    some = [decision for decision in decisions if decision.differing]
    heads = ("keys that differ", "decided", "in conflict")
    if some:
        yield Grid(
            (GridColumn("column"), GridColumn("rule"), *(GridColumn(h, "right") for h in heads)),
            [
                (one.column, one.rule, one.differing, one.decided, one.differing - one.decided)
                for one in some
            ],
        )


def ledger_dict(entry: LedgerEntry) -> dict[str, Any]:
    """An entry of the ledger as plain dictionaries and lists."""
    return {
        "operation": entry.operation,
        "rows_in": dict(entry.rows_in),
        "lines": [
            {"reason": line.reason, "rows": line.rows, "effect": effect}
            for line, effect in zip(entry.lines, _effects(entry), strict=True)
        ],
        "rows_out": entry.rows_out,
    }


def _effects(entry: LedgerEntry) -> Iterator[str]:
    """What became of the rows of each line; those of the inputs came in."""
    for number, line in enumerate(entry.lines):
        yield "came in" if number < len(entry.rows_in) else line.effect


def match_dict(match: MatchCounts) -> dict[str, Any]:
    """How keys matched; by what, where they need not be equal."""
    payload = asdict(match)
    if match.matched_by is None:
        del payload["matched_by"]
    return payload


def finding_dict(finding: Finding) -> dict[str, Any]:
    """A finding as plain dictionaries and lists; places have keys where rows are known by them."""
    said = asdict(finding)
    del said["terms"]  # the message has them
    said["remedy"], said["where"] = as_flags(finding.remedy), str(finding.where)
    for example in said["examples"]:
        for place in example["places"]:
            if not place["key"]:
                del place["key"]
            line, unit = place.pop("line"), place.pop("unit")
            if line is not None:
                place[unit.replace(" ", "_")] = line
    return said


def source_dict(table: Table) -> dict[str, Any]:
    """A source as every account names it."""
    return {
        "name": table.name,
        "path": table.path,
        "rows": table.rows,
        "columns": len(table.columns),
    }


def account_json(account: Account) -> str:
    """The account as JSON text, two spaces deep."""
    return json.dumps(account_dict(account), indent=2, ensure_ascii=False)


def schema_of(command: str) -> dict[str, Any]:
    """The schema of a command's account, after JSON Schema 2020-12.

    Examples
    --------
    >>> schema_of("keys")["properties"]["command"]
    {'const': 'keys'}
    """
    text = files("plait.report").joinpath("schemas", f"{command}.schema.json").read_text()
    schema: dict[str, Any] = json.loads(text)
    return schema
