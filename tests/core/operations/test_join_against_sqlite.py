"""``join`` against a judge that knows nothing of it: every kind is tried, and refused too."""

from __future__ import annotations

import random
from collections import Counter

import pytest

from judging.joins import KINDS, one_case

pytestmark = pytest.mark.slow


def test_every_kind_of_join_is_judged():
    rng = random.Random(7)
    kinds = Counter(one_case(rng) for _ in range(200))
    assert min(kinds[kind] for kind in (*KINDS, "refused")) > 5
