"""``join`` against a judge that knows nothing of it: SQLite, given the same tables."""

from __future__ import annotations

import pytest

from judges import run_cases


@pytest.mark.parametrize("seed", range(4))
def test_row_for_row(seed):
    kinds = run_cases(500, seed)
    assert sum(kinds.values()) == 500
    assert min(kinds.values()) > 5  # every kind was tried, and refusals too
