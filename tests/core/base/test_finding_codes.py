"""The codes that a person may name are those that findings have."""

from __future__ import annotations

import ast
import re
from pathlib import Path

from plait.core.base.findings import CODES

SOURCE = Path(__file__).parents[3] / "src" / "plait"


def _codes_made() -> set[str]:
    """What is written as the code of a finding anywhere."""
    found = set()
    for path in SOURCE.rglob("*.py"):
        if path.name == "finding.py":
            continue
        for node in ast.walk(ast.parse(path.read_text())):
            if not isinstance(node, ast.Call) or not node.args:
                continue
            first = node.args[0]
            if getattr(node.func, "id", "") == "Finding" and isinstance(first, ast.Constant):
                found.add(first.value)
            if getattr(node.func, "id", "") == "Finding" and isinstance(first, ast.JoinedStr):
                found |= {code for code in CODES if code.startswith(first.values[0].value)}
    return found


def test_every_code_that_is_made_can_be_named():
    assert _codes_made() <= set(CODES)


def test_every_code_that_can_be_named_is_made():
    written = "".join(
        path.read_text() for path in SOURCE.rglob("*.py") if path.name != "finding.py"
    )
    for code in CODES:
        head = re.escape(code.split("-")[0])
        assert f'"{code}"' in written or re.search(rf'f"{head}-\{{', written), code
