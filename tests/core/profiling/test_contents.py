"""What columns hold, told of in the handover."""

from __future__ import annotations

import numpy as np

from plait.core.profiling.contents import profile_columns
from plait.core.table.table import table_from_columns


def test_few_cells_that_many_rows_show_are_told_of_as_if_each_stood_there():
    stored = table_from_columns(
        "hives", {"breed": ["Carnica", "", "Buckfast", "NA", "no row shows it"]}
    )
    draw = np.random.default_rng(3)
    shown = stored.take(draw.integers(-1, 4, 500))
    written_out = table_from_columns("hives", {"breed": shown.to_dict()["breed"]})
    (found,), (expected,) = profile_columns(shown), profile_columns(written_out)
    assert found.profile == expected.profile
