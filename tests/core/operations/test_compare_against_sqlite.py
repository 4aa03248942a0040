"""``compare`` leaves nothing to the sums by which identical are found."""

from __future__ import annotations

import random

import numpy as np
import pytest

from judging.changes import judge_compare
from plait.core.operations.comparison import record_pairing


@pytest.mark.parametrize("kinds", [1, 2])
def test_sums_that_are_the_same_for_different_rows_change_nothing(monkeypatch, kinds):
    """As if all rows, or every other one, had the same sum."""
    monkeypatch.setattr(
        record_pairing,
        "row_checksums",
        lambda columns, rows: np.arange(rows).astype(np.uint64) % kinds,
    )
    for seed in range(12):
        assert judge_compare(random.Random(seed))
