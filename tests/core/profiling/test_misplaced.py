"""Headings over the wrong values: the limit distribution, and a count of all rows."""

from __future__ import annotations

import random

import numpy as np
import pyarrow as pa
import pytest
from scipy.special import kolmogi, kolmogorov

from plait.core.profiling import misplaced_columns
from plait.core.profiling.misplaced_columns import (
    _CHANCE,
    _may_be_chance,
    _shared_columns,
    find_misplaced_columns,
)
from plait.core.profiling.profile import count_values
from plait.core.table.table import table_from_columns


def test_the_limit_is_where_one_in_a_thousand_is_left():
    assert pytest.approx(kolmogi(0.001), rel=1e-9) == _CHANCE


@pytest.mark.parametrize("sizes", [(20, 20), (137, 975), (2000, 2000)])
def test_what_may_be_chance_is_told_as_the_distribution_has_it(sizes):
    one, other = (np.zeros(size) for size in sizes)
    weight = np.sqrt(sizes[0] * sizes[1] / sum(sizes))
    for distance in np.linspace(0, 1, 101):
        wanted = kolmogorov(weight * distance) >= 0.001
        assert _may_be_chance(distance, one, other) == wanted


@pytest.mark.parametrize("seed", range(12))
def test_what_the_other_extracts_have_is_as_all_rows_of_them_say(seed):
    rng = random.Random(seed)
    extracts = [
        [rng.choice(["7", "7.0", "-2", "12.5", "300", ""]) for _ in range(rng.choice([0, 5, 40]))]
        for _ in range(4)
    ]
    tally = count_values([pa.chunked_array([pa.array(cells, pa.string())]) for cells in extracts])
    column = _shared_columns({"kg": tally, "other": tally})["kg"]
    for number in range(4):
        part = column.part(number)
        rest = [cell for at, cells in enumerate(extracts) if at != number for cell in cells if cell]
        ordered, own = sorted(map(float, rest)), sorted(float(c) for c in extracts[number] if c)
        wanted = [ordered[int(n)] for n in np.linspace(0, len(rest) - 1, len(rest))]
        assert column.drawn_elsewhere(part).tolist() == wanted
        assert part.drawn(column).tolist() == own
        times = column.times_elsewhere(column.shared, part)
        assert times.tolist() == [rest.count(text) for text in tally.texts.to_pylist()]
        shared = [cell for cell in extracts[number] if cell in rest]
        assert part.share(column, column, part) == len(shared) / max(len(own), 1)


@pytest.mark.parametrize(
    ("most", "codes"), [(7, ["headings-not-compared"]), (8, ["columns-swapped"])]
)
def test_extracts_that_are_strange_all_over_are_not_compared(monkeypatch, most, codes):
    """Two columns that are exchanged, in a table of four: eight pairs to be looked at."""
    monkeypatch.setattr(misplaced_columns, "_MOST_COMPARED", most)
    names = {"warden": "Ada", "breed": "Carnica", "yard": "Aue", "road": "Moor"}
    months = []
    for month in ("may", "june", "july"):
        cells = {name: [f"{text} {row % 5}" for row in range(20)] for name, text in names.items()}
        if month == "july":
            cells["warden"], cells["breed"] = cells["breed"], cells["warden"]
        months.append(table_from_columns(month, cells))
    tallies = {name: count_values([month.chunks(name) for month in months]) for name in names}
    found = find_misplaced_columns(months, tallies)
    assert [finding.code for finding in found] == codes


def test_numbers_of_records_are_strange_to_no_one():
    """They are others in each extract, and stand in no other column either."""
    months = [
        table_from_columns(
            month, {f"c{c}": [f"{month}-{c}-{row}" for row in range(20)] for c in "ab"}
        )
        for month in ("may", "june", "july")
    ]
    tallies = {
        name: count_values([month.chunks(name) for month in months]) for name in ("ca", "cb")
    }
    columns = _shared_columns(tallies)
    assert not any(columns["ca"].part(n).is_strange(columns["ca"]) for n in range(3))
    assert find_misplaced_columns(months, tallies) == []
