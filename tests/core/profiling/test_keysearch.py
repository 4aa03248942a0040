"""All minimal keys, against trying every set of columns in plain Python."""

from __future__ import annotations

import random
from itertools import combinations

import numpy as np
import pytest

from cases import every_case
from plait.core.profiling import agree_sets, minimal_keys
from plait.core.profiling.candidate_keys import find_candidate_keys
from plait.core.profiling.minimal_keys import find_minimal_keys
from plait.core.profiling.profile import count_values, profile_column
from plait.core.table.table import table_from_columns


def by_trying(columns):
    """Every minimal key of up to four columns; rows that repeat another wholly count once."""
    rows = set(zip(*columns, strict=True))
    found = []
    for size in range(1, 5):
        for names in combinations(range(len(columns)), size):
            if any(set(one) <= set(names) for one in found):
                continue
            if len({tuple(row[number] for number in names) for row in rows}) == len(rows):
                found.append(names)
    return found, len(columns[0]) - len(rows)


def drawn(rng):
    rows, width = rng.randint(2, 70), rng.randint(1, 8)
    columns = [
        [rng.randrange(rng.choice([2, 3, 5, 9, 20, rows])) for _ in range(rows)]
        for _ in range(width)
    ]
    if rng.random() < 0.3:
        columns = [[*cells, *cells[:2]] for cells in columns]
    return columns


@pytest.mark.slow
@pytest.mark.parametrize("few", [False, True], ids=["all pairs", "few pairs"])
def test_they_are_those_that_trying_all_sets_finds(monkeypatch, few):
    if few:  # so few that sampled pairs leave much open, and parts have too many pairs
        monkeypatch.setattr(agree_sets, "_PAIRS", 8)
        monkeypatch.setattr(agree_sets, "_LEAST_PAIRS", 2)
        monkeypatch.setattr(minimal_keys, "MOST_PAIRS", 5)
        monkeypatch.setattr(minimal_keys, "_LEAST_PAIRS", 5)
    for seed in range(2000 if every_case() else 300):
        columns = drawn(random.Random(seed))
        found = find_minimal_keys(
            [np.array(cells, np.int32) for cells in columns], [max(cells) + 1 for cells in columns]
        )
        keys, repeats = by_trying(columns)
        assert (sorted(found.keys), found.repeats) == (sorted(keys), repeats), seed


@pytest.mark.parametrize("seed", range(40 if every_case() else 6))
def test_they_are_those_of_larger_tables_too(seed):
    """So many rows that pairs are sampled, and sets are decided by counting parts of them."""
    rng = random.Random(seed)
    rows = rng.randint(900, 4000)
    columns = [[rng.randrange(rng.choice([3, 20, 60, 200, rows // 3])) for _ in range(rows)]
               for _ in range(rng.randint(2, 6))]  # fmt: skip
    if seed % 2:
        columns[:2] = [[n // 50 for n in range(rows)], [n % 50 for n in range(rows)]]
    if seed % 3 == 0:
        columns = [[*cells, *cells[:2]] for cells in columns]
    found = find_minimal_keys(
        [np.array(cells, np.int32) for cells in columns], [max(cells) + 1 for cells in columns]
    )
    keys, repeats = by_trying(columns)
    assert (sorted(found.keys), found.repeats) == (sorted(keys), repeats)


def test_very_many_rows_are_told_apart_by_their_hashes(monkeypatch):
    monkeypatch.setattr(minimal_keys, "_MANY_ROWS", 100)
    for seed in range(6):
        test_they_are_those_of_larger_tables_too(seed)


def sought(columns):
    tallies = {
        name: count_values([table_from_columns("t", {name: cells}).chunks(name)])
        for name, cells in columns.items()
    }
    profiles = {name: profile_column(one) for name, one in tallies.items()}
    return find_candidate_keys(tallies, profiles, len(next(iter(columns.values()))))


def panel(rows=2955, measures=46, seed=1):
    """One row a yard and year, with measures of many digits beside them."""
    rng = random.Random(seed)
    both = [(f"Yard {yard}", str(year)) for yard in range(60) for year in range(1980, 2031)]
    both = sorted(rng.sample(both, rows), key=lambda pair: (pair[1], pair[0]))
    columns = {f"figure {n}": [f"{rng.gauss(50, 20):.1f}" for _ in both] for n in range(measures)}
    return {"yard": [yard for yard, _ in both], "year": [year for _, year in both], **columns}


@pytest.mark.slow
def test_a_key_of_two_columns_goes_before_any_of_measures():
    found = sought(panel())
    assert found.keys[0].columns == ("yard", "year")
    assert not found.keys[0].by_chance
    assert found.found > 1000  # so many sets of measures happen to be unique
    assert all(key.by_chance for key in found.keys[1:])


def test_a_few_conflicts_do_not_hide_the_key():
    columns = panel(measures=4)
    for name in ("yard", "year"):
        columns[name][1:4] = columns[name][:1] * 3
    first = sought(columns).keys[0]
    assert first.columns == ("yard", "year")
    assert first.in_the_way == 3 and not first.by_chance


def test_rows_that_repeat_wholly_are_in_the_way_and_no_more():
    columns = {name: [*cells, *cells[:7]] for name, cells in panel(measures=4).items()}
    first = sought(columns).keys[0]
    assert (first.columns, first.in_the_way) == (("yard", "year"), 7)


def test_a_marker_for_missing_is_no_part_of_a_key():
    numbers = [str(n) for n in range(400)]
    found = sought({"hive": ["NA", *numbers[1:]], "box": numbers})
    assert [(key.columns, key.in_the_way) for key in found.keys] == [(("box",), 0), (("hive",), 1)]


def test_nothing_is_a_key_where_most_rows_repeat():
    columns = {name: cells[:200] * 3 for name, cells in panel(measures=3).items()}
    assert sought(columns).keys == ()
