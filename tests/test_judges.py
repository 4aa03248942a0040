"""The judges' cases that run with every test: more than 20,000, and others each time it is asked.

``python tests/judges.py --cases 100000`` runs more.
"""

from __future__ import annotations

import pytest

from judges import JUDGES, SLOW, run

CASES = {"lineage": 40, "figures and rules": 400, "beside and keys": 300}
_PARTS = 2


@pytest.mark.parametrize("part", range(_PARTS))
@pytest.mark.parametrize("name", JUDGES)
def test_nothing_is_judged_wrong(name, part):
    cases = CASES.get(name, 1_500) // _PARTS
    judged, wrong = run(name, cases, f"suite {part}")
    assert not wrong
    assert judged >= cases // 3, "most cases can be judged"


def test_there_are_enough_of_them():
    assert sum(CASES.get(name, 1_500) for name in JUDGES) >= 20_000
    assert set(CASES) == set(SLOW) <= set(JUDGES)
