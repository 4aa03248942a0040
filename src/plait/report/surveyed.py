"""A survey as JSON."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import asdict
from typing import Any

from plait._version import __version__
from plait.core.account.finding import worst_first
from plait.core.look.profile import Profile
from plait.core.table.keyspec import spelt
from plait.core.verbs.survey import Survey
from plait.report.account import finding_dict, source_dict


def survey_json(found: Survey, sizes: Mapping[str, int]) -> str:
    """The survey as JSON text."""
    tables = [table for one in found.families for table in one.tables]
    said = {
        "command": "survey",
        "version": __version__,
        "sources": [source_dict(table) for table in tables],
        "ledger": [],
        "findings": [finding_dict(finding) for finding in worst_first(found.findings)],
        "outputs": [],
        "profiles": [
            {
                "source": table.name,
                "bytes": sizes.get(table.name, 0),
                "written": table.written,
                "columns": {
                    name: _profile(column) for name, column in one.of_table(number).items()
                },
            }
            for one in found.families
            for number, table in enumerate(one.tables)
        ],
        "shapes": [
            {
                "name": one.family.name,
                "sources": [table.name for table in one.tables],
                "rows": one.rows,
                "columns": {name: _profile(column) for name, column in one.profiles.items()},
                "candidate_keys": [asdict(key) for key in one.keys.keys],
                "keys_found": one.keys.found,
                "sample": one.sample,
            }
            for one in found.families
        ],
        "sample_rows": found.sample,
        "joins": [{**asdict(one), "key": spelt(one.key)} for one in found.relations],
    }
    return json.dumps(said, indent=2, ensure_ascii=False)


def _profile(column: Profile) -> dict[str, Any]:
    return {
        **asdict(column),
        "commonest": [{"value": text, "rows": rows} for text, rows in column.commonest],
        "markers": dict(column.markers),
        "spread": list(column.spread.rows) if column.spread else None,
    }
