"""Two accounts compared: what is new comes first, then what is gone, then what changed."""

from __future__ import annotations

from plait.core.operations.compare import compare
from plait.core.table.table import table_from_columns
from plait.report.changes import comparison_document, diff_accounts
from plait.report.document import Grid, Note


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


def test_figures_and_sources_that_are_the_same_are_named_together_unless_all_are_wanted():
    sides = [{"rows_in": 7, "rows_out": out, "keys": 3} for out in (5, 6)]
    paths = [{"path": name, "rows": 4} for name in ("visits.csv", "hives.csv")]
    old, new = ({"figures": side, "findings": [], "sources": list(paths)} for side in sides)
    new["sources"][1] = {"path": "hives.csv", "rows": 9}
    tables = [table_from_columns(name, {"hive": ["1"], "kg": [kg]}) for name, kg in ("a2", "b3")]
    found = compare(tables, "hive")

    def told(**how: bool) -> tuple[list[str], list[str], list[str]]:
        document = comparison_document(found, diff_accounts(old, new), [], **how)
        grids = {block.title: block for block in document.blocks if isinstance(block, Grid)}
        figures = [row[0] for row in grids["figures of both runs"].rows]
        sources = [row[1] for row in grids["the sources"].rows]
        notes = [str(block.text) for block in document.blocks if isinstance(block, Note)]
        return figures, sources, [note for note in notes if "the same" in note]

    assert told() == (["rows out"], ["hives.csv"], ["the same: rows in, keys", "1 source the same"])
    assert told(whole=True) == (["rows in", "rows out", "keys"], ["hives.csv", "visits.csv"], [])
