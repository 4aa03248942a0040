"""Whether the rows that a database sends are in the order of their key already."""

from __future__ import annotations

import pyarrow as pa
import pytest

from plait.io.database import batches


@pytest.mark.parametrize(
    ("columns", "ordered"),
    [
        ([[1, 1, 2]], True),
        ([[1, 3, 2]], False),
        ([[1, None, 2]], False),
        ([[1.0, float("nan"), 2.0]], False),
        ([[1, 1, 2], ["b", "b", "a"]], True),
        ([[1, 1, 2], ["b", "a", "c"]], False),
        ([[1, 1, 1], ["a", "a", "a"], [1, 2, 2]], True),
        ([[1, 1, 1], ["a", "a", "a"], [1, 2, 1]], False),
        ([[7]], True),
        ([[]], True),
    ],
)
@pytest.mark.parametrize("pieces", [1, 2])
def test_rows_are_in_order_where_none_is_before_the_one_above(columns, ordered, pieces):
    half = len(columns[0]) // pieces
    chunked = [pa.chunked_array([one[:half], one[half:]], pa.array(one).type) for one in columns]
    assert batches._ascends(chunked) is ordered
