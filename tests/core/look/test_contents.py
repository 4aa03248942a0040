"""What columns hold, told of in the handover."""

from __future__ import annotations

import numpy as np
import pytest

from plait.core.codes.coding import code_keys
from plait.core.codes.remembered import recalled, remembering
from plait.core.look.contents import contents
from plait.core.table.table import from_columns


def test_few_cells_that_many_rows_show_are_told_of_as_if_each_stood_there():
    stored = from_columns("hives", {"breed": ["Carnica", "", "Buckfast", "NA", "no row shows it"]})
    draw = np.random.default_rng(3)
    shown = stored.at(draw.integers(-1, 4, 500))
    written_out = from_columns("hives", {"breed": shown.to_dict()["breed"]})
    (found,), (expected,) = contents(shown), contents(written_out)
    assert found.profile == expected.profile


@pytest.mark.parametrize("ignore", [(), ("case",), ("leading-zeros",)])
@pytest.mark.parametrize(
    "cells",
    [
        ["b", "B", "a", "b", "", "a"],
        ["7", "7.0", "07", "", "8.5", "7"],  # equal as numbers, and three ways to write them
        ["9", "10", "n/a", "-", "10", "9"],
        ["2031-04-05", "2031-04-05", "2031-04-06", "", "tbc", "2031-04-06"],
    ],
)
def test_a_key_column_that_was_coded_for_a_join_is_told_of_as_if_it_was_not(cells, ignore):
    left = from_columns("left", {"k": cells, "n": list("abcdef")})
    right = from_columns("right", {"k": ["a", "b", "10", "2031-04-06"]})
    expected = [contents(one) for one in (left, right)]
    with remembering():
        code_keys([left, right], [["k"], ["k"]], ignore)
        assert recalled(left.stored("k")) and not recalled(right.stored("k"))
        assert [contents(one) for one in (left, right)] == expected
        part = left.at(np.array([5, 4, 1]))
        code_keys([part], [["k"]])  # no stored column: nothing is kept of it
        assert contents(part) == contents(from_columns("left", part.to_dict()))
