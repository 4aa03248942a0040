"""Two accounts compared: what is new comes first, what is gone last."""

from __future__ import annotations

from plait.report.changes import diff_accounts


def _account(counts: dict[str, int]) -> dict:
    found = [
        {"code": "key-unmatched", "where": where, "message": f"{count} rows", "count": count}
        for where, count in counts.items()
    ]
    return {"figures": {}, "findings": found, "sources": []}


def test_new_findings_come_first_then_changed_ones_then_those_that_are_gone():
    old = _account({"gone": 3, "fewer": 9, "the same": 4})
    new = _account({"fewer": 2, "the same": 4, "new": 7})
    changes = [(one.old, one.new) for one in diff_accounts(old, new).findings]
    assert changes[0] == (0, 7) and changes[-1] == (3, 0)
    assert (9, 2) in changes[1:-1]
