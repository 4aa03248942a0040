"""An audit of keys as JSON."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import asdict
from typing import Any

from plait._version import __version__
from plait.core.account.finding import Finding, worst_first
from plait.core.unmatched.whynot import WhyNot, key_texts
from plait.core.verbs.keys import Audited
from plait.report.account import Output, finding_dict, source_dict

_MOST_SUGGESTED = 200


def keys_dict(
    found: Audited, findings: Sequence[Finding], outputs: Sequence[Output]
) -> dict[str, Any]:
    """The audit as plain dictionaries and lists."""
    said: dict[str, Any] = {
        "command": "keys",
        "version": __version__,
        "sources": [source_dict(table) for table in found.sources],
        "ledger": [],
        "findings": [finding_dict(finding) for finding in worst_first(findings)],
        "outputs": [asdict(output) for output in outputs],
        "key": [list(names) for names in found.key],
        "tables": [asdict(table) for table in found.tables],
        "pairs": [asdict(pair) for pair in found.pairs],
        "holdings": [asdict(one) for one in found.holdings],
    }
    if found.uniqueness is not None:
        said["uniqueness"] = {
            "rows_in_the_way": found.uniqueness.in_the_way,
            "with_column": dict(found.uniqueness.with_column),
        }
    if found.why is not None:
        said["why"] = why_dict(found, found.why)
    return said


def why_dict(found: Audited, why: WhyNot) -> dict[str, Any]:
    """Why keys do not match."""
    return {
        "side": ("left", "right")[why.side],
        "gains": [asdict(one) for one in why.gains],
        "best": asdict(why.best) if why.best else None,
        "failing": {
            side: [asdict(one) for one in why.failing[number]]
            for number, side in enumerate(("left", "right"))
        },
        "elsewhere": [asdict(one) for one in why.elsewhere],
        "keys_tried": why.tried,
        "keys_with_near": why.near,
        "keys_without_near": why.lonely,
        "bounded": why.bounded,
        "suggestions": suggestions(found, why),
    }


def suggestions(found: Audited, why: WhyNot) -> list[dict[str, Any]]:
    """The first pairs of keys that may be meant for one another."""
    few = slice(0, _MOST_SUGGESTED)
    one = why.suggestions
    left, right = (key_texts(found.coding, codes[few]) for codes in (one.left, one.right))
    return [
        {
            "left": here,
            "right": there,
            "score": round(float(score), 3),
            "ignoring": bool(ignoring),
            "use": bool(sure),
        }
        for here, there, score, ignoring, sure in zip(
            left, right, one.score[few], one.ignoring[few], one.sure[few], strict=True
        )
    ]


def keys_json(found: Audited, findings: Sequence[Finding], outputs: Sequence[Output]) -> str:
    """The audit as JSON text, two spaces deep."""
    return json.dumps(keys_dict(found, findings, outputs), indent=2, ensure_ascii=False)
