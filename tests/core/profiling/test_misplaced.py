"""Whether two distributions differ by chance, against the limit distribution."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.special import kolmogi, kolmogorov

from plait.core.profiling.misplaced_columns import _CHANCE, _may_be_chance


def test_the_limit_is_where_one_in_a_thousand_is_left():
    assert pytest.approx(kolmogi(0.001), rel=1e-9) == _CHANCE


@pytest.mark.parametrize("sizes", [(20, 20), (137, 975), (2000, 2000)])
def test_what_may_be_chance_is_told_as_the_distribution_has_it(sizes):
    one, other = (np.zeros(size) for size in sizes)
    weight = np.sqrt(sizes[0] * sizes[1] / sum(sizes))
    for distance in np.linspace(0, 1, 101):
        wanted = kolmogorov(weight * distance) >= 0.001
        assert _may_be_chance(distance, one, other) == wanted
