"""The account of a command, and its JSON form."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from plait._version import __version__
from plait.core.account.finding import Finding, worst_first
from plait.core.account.ledger import Entry, Line
from plait.core.table.table import Table, from_columns

if TYPE_CHECKING:
    from plait.core.figures.rules import Decision
    from plait.core.keys.match import Match


@dataclass(frozen=True)
class Output:
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
    ledger: tuple[Entry, ...]
    findings: tuple[Finding, ...]
    outputs: tuple[Output, ...]
    matches: tuple[Match, ...] = ()
    decisions: tuple[Decision, ...] = ()


def output_of(table: Table, path: object) -> Output:
    """What there is to say about a table that was written to a file, or into a database."""
    if not isinstance(path, Path):
        return Output(str(path), table.rows, len(table.columns), 0, "")
    with path.open("rb") as file:
        digest = hashlib.file_digest(file, "sha256").hexdigest()
    return Output(str(path), table.rows, len(table.columns), path.stat().st_size, digest)


def ledger_table(entries: Sequence[Entry]) -> Table:
    """The ledger as a table: a row for each line of each operation, and one for what comes out."""
    said: dict[str, list[str]] = {"operation": [], "reason": [], "rows": []}
    for one in entries:
        for line in (*one.lines, Line("rows out", one.rows_out)):
            said["operation"].append(one.operation)
            said["reason"].append(line.reason)
            said["rows"].append(str(line.rows))
    return from_columns("ledger", said)


def account_dict(account: Account) -> dict[str, Any]:
    """The account as plain dictionaries and lists.

    Notes
    -----
    Of several joins ``match`` is the last, and ``matches`` has them all.
    """
    said: dict[str, Any] = {
        "command": account.command,
        "version": __version__,
        "sources": [source_dict(table) for table in account.sources],
        "ledger": [asdict(entry) for entry in account.ledger],
        "findings": [finding_dict(finding) for finding in worst_first(account.findings)],
        "outputs": [asdict(output) for output in account.outputs],
    }
    if account.matches:
        said["match"] = asdict(account.matches[-1])
    if account.decisions:
        said["decisions"] = [asdict(decision) for decision in account.decisions]
    if len(account.matches) > 1:
        said["matches"] = [asdict(match) for match in account.matches]
    return said


def finding_dict(finding: Finding) -> dict[str, Any]:
    """A finding as plain dictionaries and lists; places have keys where rows are known by them."""
    said = asdict(finding)
    del said["terms"]  # the message has them
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
