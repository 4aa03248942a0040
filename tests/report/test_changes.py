"""Two accounts compared: what is new comes first, then what is gone, then what changed."""

from __future__ import annotations

from plait.report.changes import diff_accounts


def _account(counts: dict[str, int]) -> dict:
    found = [
        {"code": "key-unmatched", "where": where, "message": f"{count} rows", "count": count}
        for where, count in counts.items()
    ]
    return {"figures": {}, "findings": found, "sources": []}


def test_new_findings_come_first_then_those_that_are_gone():
    old = _account({"gone": 3, "fewer": 9, "the same": 4})
    new = _account({"fewer": 2, "the same": 4, "new": 7})
    changes = [(one.old, one.new) for one in diff_accounts(old, new).findings]
    assert changes[:2] == [(0, 7), (3, 0)] and (9, 2) in changes[2:]
