"""Surveys and audits of keys as JSON."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import asdict
from typing import Any

from plait._version import __version__
from plait.core.base.findings import Finding, by_severity
from plait.core.linkage.evidence import Level
from plait.core.linkage.linkage import Linkage
from plait.core.linkage.pairs_table import LEVEL_WORDS
from plait.core.operations.keys import KeyAudit
from plait.core.operations.survey import Survey
from plait.core.profiling.profile import ColumnProfile
from plait.core.table.key_spec import format_key_option
from plait.core.types.near_types import MixedDateFormats, NearType
from plait.core.unmatched.diagnosis import UnmatchedDiagnosis, format_keys
from plait.report.account import OutputSummary, finding_dict, source_dict

_MOST_SUGGESTED = 200


def survey_json(survey: Survey, sizes: Mapping[str, int]) -> str:
    """The survey as JSON text."""
    tables = [table for family in survey.families for table in family.tables]
    payload = {
        "command": "survey",
        "version": __version__,
        "sources": [source_dict(table) for table in tables],
        "ledger": [],
        "findings": [finding_dict(finding) for finding in by_severity(survey.findings)],
        "outputs": [],
        "profiles": [
            {
                "source": table.name,
                "bytes": sizes.get(table.name, 0),
                "written": table.read_as,
                "columns": {
                    name: _profile(column) for name, column in layout.of_table(number).items()
                },
            }
            for layout in survey.families
            for number, table in enumerate(layout.tables)
        ],
        "shapes": [
            {
                "name": layout.family.name,
                "sources": [table.name for table in layout.tables],
                "rows": layout.rows,
                "columns": {name: _profile(column) for name, column in layout.profiles.items()},
                "candidate_keys": [asdict(key) for key in layout.keys.keys],
                "keys_found": layout.keys.found,
                "sample": layout.sample,
            }
            for layout in survey.families
        ],
        "sample_rows": survey.sample,
        "joins": [
            {**asdict(relation), "key": format_key_option(relation.key)}
            for relation in survey.relations
        ],
    }
    return json.dumps(payload, indent=2, ensure_ascii=False)


def _profile(column: ColumnProfile) -> dict[str, Any]:
    return {
        **asdict(column),
        "kind": str(column.kind),
        "forms": [str(form) for form in column.forms],
        "nearly": _nearly(column.nearly) if column.nearly else None,
        "mixed": _mixed(column.mixed) if column.mixed else None,
        "commonest": [{"value": text, "rows": rows} for text, rows in column.commonest],
        "markers": dict(column.markers),
        "spread": list(column.spread.rows) if column.spread else None,
    }


def _nearly(near_type: NearType) -> dict[str, Any]:
    rivals = [str(form) for form in near_type.rivals]
    return {**asdict(near_type), "form": str(near_type.form), "rivals": rivals}


def _mixed(mixed: MixedDateFormats) -> dict[str, Any]:
    return {
        "forms": [(str(form), rows, text) for form, rows, text in mixed.forms],
        "unfit": mixed.unfit,
        "rivals": [str(form) for form in mixed.rivals],
    }


def key_audit_dict(
    key_audit: KeyAudit, findings: Sequence[Finding], outputs: Sequence[OutputSummary]
) -> dict[str, Any]:
    """The audit as plain dictionaries and lists."""
    payload: dict[str, Any] = {
        "command": "keys",
        "version": __version__,
        "sources": [source_dict(table) for table in key_audit.sources],
        "ledger": [],
        "findings": [finding_dict(finding) for finding in by_severity(findings)],
        "outputs": [asdict(output) for output in outputs],
        "key": [list(names) for names in key_audit.key],
        "tables": [asdict(table) for table in key_audit.tables],
        "pairs": [asdict(pair) for pair in key_audit.pairs],
        "holdings": [asdict(holding) for holding in key_audit.holdings],
        "extracts": [asdict(extract) for extract in key_audit.extracts],
    }
    if key_audit.uniqueness is not None:
        payload["uniqueness"] = {
            "rows_in_the_way": key_audit.uniqueness.in_the_way,
            "with_column": dict(key_audit.uniqueness.with_column),
        }
    if key_audit.why is not None:
        payload["why"] = diagnosis_dict(key_audit, key_audit.why)
    if key_audit.linkage is not None:
        payload["evidence"] = linkage_dict(key_audit, key_audit.linkage)
    return payload


def linkage_dict(key_audit: KeyAudit, linkage: Linkage) -> dict[str, Any]:
    """Partners by evidence: the model, and the pairs most in doubt first."""
    model = linkage.model
    few = linkage.rank_by_doubt()[:_MOST_SUGGESTED]
    left, right = (
        format_keys(key_audit.coding, codes[few]) for codes in (linkage.left, linkage.right)
    )
    levels = [level for level in Level if level is not Level.MISSING]
    return {
        "refused": linkage.refused or None,
        "pieces": [
            {
                "name": piece.name,
                "levels": {
                    LEVEL_WORDS[level]: {
                        "true": _significant(piece.true[level]),
                        "chance": _significant(piece.chance[level]),
                    }
                    for level in levels
                },
            }
            for piece in model.pieces
        ],
        "left_keys": linkage.records[0],
        "right_keys": linkage.records[1],
        "one_to_one": linkage.one_to_one,
        "compared": linkage.compared,
        "possible": linkage.possible,
        "cut": list(linkage.cut),
        "follows": dict(linkage.follows),
        "expected_partners": round(model.partners, 3),
        "accept": linkage.accept,
        "accepted": int(linkage.accepted.sum()),
        "expected_wrong": round(linkage.expected_wrong, 4),
        "pairs": [
            {
                "left": here,
                "right": there,
                "probability": _significant(linkage.probability[row]),
                "log_odds": round(float(linkage.log_odds[row]), 4),
                "weights": {
                    piece.name: round(float(weight), 4)
                    for piece, weight in zip(model.pieces, linkage.weights[row], strict=True)
                },
                "settled": bool(linkage.decided[row]),
                "use": bool(linkage.accepted[row]),
            }
            for here, there, row in zip(left, right, few.tolist(), strict=True)
        ],
    }


def _significant(number: float) -> float:
    """As many digits as anybody could use."""
    return float(f"{float(number):.8g}")


def diagnosis_dict(key_audit: KeyAudit, why: UnmatchedDiagnosis) -> dict[str, Any]:
    """Why keys do not match."""
    return {
        "side": ("left", "right")[why.side],
        "gains": [asdict(gain) for gain in why.gains],
        "best": asdict(why.best) if why.best else None,
        "words": asdict(why.words) if why.words else None,
        "failing": {
            side: [asdict(f) for f in why.failing[number]]
            for number, side in enumerate(("left", "right"))
        },
        "elsewhere": [asdict(e) for e in why.elsewhere],
        "keys_tried": why.tried,
        "keys_with_near": why.near,
        "keys_without_near": why.lonely,
        "bounded": why.bounded,
        "suggestions": suggestion_dicts(key_audit, why),
    }


def suggestion_dicts(key_audit: KeyAudit, why: UnmatchedDiagnosis) -> list[dict[str, Any]]:
    """The first pairs of keys that may be meant for one another."""
    few = slice(0, _MOST_SUGGESTED)
    key_suggestions = why.suggestions
    left, right = (
        format_keys(key_audit.coding, codes[few])
        for codes in (key_suggestions.left, key_suggestions.right)
    )
    return [
        {
            "left": here,
            "right": there,
            "score": round(float(score), 3),
            "ignoring": bool(ignoring),
            "use": bool(sure),
        }
        for here, there, score, ignoring, sure in zip(
            left,
            right,
            key_suggestions.score[few],
            key_suggestions.ignoring[few],
            key_suggestions.sure[few],
            strict=True,
        )
    ]


def keys_json(
    key_audit: KeyAudit, findings: Sequence[Finding], outputs: Sequence[OutputSummary]
) -> str:
    """The audit as JSON text, two spaces deep."""
    return json.dumps(key_audit_dict(key_audit, findings, outputs), indent=2, ensure_ascii=False)
