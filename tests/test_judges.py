"""The judges' cases that run with every test: more than 20,000, and others each time it is asked.

``python tests/judges.py --cases 100000`` runs more.
"""

from __future__ import annotations

import pytest

from cases import every_case
from judges import JUDGES, SLOW, run

pytestmark = pytest.mark.slow

CALLS = {
    "expressions of numbers": 900,
    "lineage": 30,
    "figures and rules": 200,
    "group": 250,
    "functions of text": 300,
    "beside and keys": 140,
    "prefer": 400,
    "nearest": 400,
    "joins": 600,
    "widen": 500,
    "types": 700,
    "orders refused or right": 600,
    "settle": 700,
    "doubles": 750,
    "compare": 200,
    "crosswalks": 300,
    "ignored": 300,
    "tolerances": 300,
    "labels": 300,
    "rare types": 200,
    "typed sources": 600,
    "typed results": 300,
    "key sets": 250,
    "small parts": 300,
    "nested records": 300,
}
# A call judges several figures of a table, or as many functions on its rows.
CASES = {"figures and rules": 9, "group": 9, "functions of text": 17, "types": 4, "doubles": 2}
_OTHERS = 900
_PARTS, _SHARE = 2, 10  # everyday runs judge a tenth of them


@pytest.mark.parametrize("part", range(_PARTS))
@pytest.mark.parametrize("name", JUDGES)
def test_nothing_is_judged_wrong(name, part):
    calls = CALLS.get(name, _OTHERS) // _PARTS // (1 if every_case() else _SHARE)
    judged, wrong = run(name, calls, f"suite {part}")
    assert not wrong
    assert judged >= calls // 4, "many cases can be judged"


def test_there_are_enough_of_them():
    assert sum(CALLS.get(name, _OTHERS) * CASES.get(name, 1) for name in JUDGES) >= 20_000
    assert set(SLOW) <= set(CALLS) <= set(JUDGES)
