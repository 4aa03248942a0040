"""What changed between two tables, or two handovers, as JSON."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import asdict
from typing import Any

from plait._version import __version__
from plait.core.account.finding import Finding, worst_first
from plait.core.verbs.compare import Compared
from plait.core.verbs.comparing.cells import ColumnChange
from plait.core.verbs.comparing.changes import Changes
from plait.report.account import Output, finding_dict, source_dict
from plait.report.between import Between


def compared_dict(
    found: Compared,
    accounts: Between | None,
    findings: Sequence[Finding],
    outputs: Sequence[Output],
) -> dict[str, Any]:
    """All of it as plain dictionaries and lists."""
    return {
        "command": "compare",
        "version": __version__,
        "sources": [source_dict(table) for table in (found.old, found.new)],
        "ledger": [asdict(found.entry)],
        "findings": [finding_dict(finding) for finding in worst_first(findings)],
        "outputs": [asdict(output) for output in outputs],
        "changes": changes_dict(found.changes, found.columns, accounts),
    }


def changes_dict(
    changes: Changes, columns: Sequence[ColumnChange], accounts: Between | None
) -> dict[str, Any]:
    """What changed, and the figures of two accounts where there are two."""
    said = asdict(changes)
    said["types"] = {name: list(two) for name, two in changes.types.items()}
    said["cells"] = {one.name: _cells(one) for one in columns if one.cells or one.otherwise}
    figures = accounts.figures if accounts else {}
    said["figures"] = {name: list(two) for name, two in figures.items()}
    if accounts:
        said["accounts"] = {
            "findings": [asdict(one) for one in accounts.findings],
            "sources": [asdict(one) for one in accounts.sources],
        }
    return said


def _cells(one: ColumnChange) -> dict[str, Any]:
    by = one.by
    return {
        "changed": one.cells,
        "from_missing": one.from_missing,
        "to_missing": one.to_missing,
        "written_otherwise": one.otherwise,
        "within": one.within,
        "sum": None if by.sum is None else str(by.sum),
        "smallest": None if by.smallest is None else str(by.smallest),
        "largest": None if by.largest is None else str(by.largest),
    }


def compared_json(
    found: Compared,
    accounts: Between | None,
    findings: Sequence[Finding],
    outputs: Sequence[Output],
) -> str:
    """All of it as JSON text, two spaces deep."""
    said = compared_dict(found, accounts, findings, outputs)
    return json.dumps(said, indent=2, ensure_ascii=False)


def changed_columns(columns: Sequence[ColumnChange]) -> list[ColumnChange]:
    """Those in which cells changed, most first."""
    return sorted((one for one in columns if one.cells), key=lambda one: -one.cells)
