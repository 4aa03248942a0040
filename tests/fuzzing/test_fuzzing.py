"""A little of each target of ``tests/fuzzing``."""

from __future__ import annotations

import pytest

from fuzzing.inputs import TARGETS
from fuzzing.trying import attempt

pytestmark = pytest.mark.slow


@pytest.mark.parametrize("target", TARGETS)
def test_inputs_made_at_random_end_well_and_in_time(target):
    tried = attempt(target, 5, 2031, 150)
    assert not tried.bad
    assert tried.count >= 10 and len(tried.statuses) > 1
