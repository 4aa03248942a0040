"""A little of ``tests/fuzz_readers.py``."""

from __future__ import annotations

import pytest

from fuzz_readers import fuzz

pytestmark = pytest.mark.slow


def test_mutated_files_end_in_a_table_or_a_clear_error(tmp_path):
    assert fuzz(8, 2031, tmp_path) > 20
