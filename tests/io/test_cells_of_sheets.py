"""What the values of a sheet become: each as it is, or as the text that a sheet shows."""

from __future__ import annotations

import datetime as dt

import pytest

from plait.io.cells.conversion import column_from_values

DAY, MOMENT = dt.date(2031, 4, 5), dt.datetime(2031, 4, 6, 7, 8, 9, 500)


@pytest.mark.parametrize(
    ("values", "cells"),
    [
        ([DAY, MOMENT, None, ""], [dt.datetime(2031, 4, 5), MOMENT, None, None]),
        ([MOMENT, MOMENT], [MOMENT, MOMENT]),
        ([DAY, None, ""], [DAY, None, None]),
        ([3.0, 4, None], [3, 4, None]),
        ([2.0**53, 1], [str(2**53), "1"]),
        ([2.0**53 - 1, 1], [2**53 - 1, 1]),
        ([2**63 - 1, -(2**63)], [2**63 - 1, -(2**63)]),
        ([2**63, 1], [str(2**63), "1"]),
        ([1.5, 2], [1.5, 2.0]),
        ([1.5, 2**53], ["1.5", str(2**53)]),
        ([True, False, ""], [True, False, None]),
        ([True, 1], ["true", "1"]),
        ([dt.time(7, 8), None], [dt.time(7, 8), None]),
        (["x", "", None], ["x", "", None]),
        (["x", 1, DAY, MOMENT], ["x", "1", "2031-04-05", "2031-04-06 07:08:09.000500"]),
        ([None, ""], [None, None]),
        ([], []),
    ],
)
def test_values_of_one_kind_keep_it_and_others_are_text(values, cells):
    assert column_from_values(values).to_pylist() == cells
