"""The survey: profiles and candidate keys against slow references; joins and faults by example."""

from __future__ import annotations

import math
import random
from itertools import combinations

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from cases import cases
from plait.core.base.wording import Setting
from plait.core.operations.survey import survey
from plait.core.profiling.candidate_keys import find_candidate_keys
from plait.core.profiling.profile import count_values, profile_column
from plait.core.table.table import table_from_columns

CELL = st.sampled_from(["a", "b", "c", "d", "1", "2", ""])


def profiled(columns):
    table = table_from_columns("t", columns)
    tallies = {name: count_values([table.chunks(name)]) for name in columns}
    return tallies, {name: profile_column(one) for name, one in tallies.items()}, table.rows


@settings(max_examples=cases(200), deadline=None)
@given(st.lists(st.tuples(CELL, CELL, CELL, CELL), min_size=1, max_size=25))
def test_unique_keys_are_those_that_counting_finds(rows):
    columns = dict(zip("pqrs", map(list, zip(*rows, strict=True)), strict=True))
    tallies, profiles, size = profiled(columns)
    found = {
        frozenset(one.columns): one.in_the_way
        for one in find_candidate_keys(tallies, profiles, size).keys
    }
    usable = [name for name in columns if len({*columns[name]} - {""}) > 1]
    usable = [name for name in usable if columns[name].count("") <= 0.02 * size]
    exact = []
    for count in range(1, 5):
        for names in combinations(usable, count):
            keys = [key for key in zip(*(columns[n] for n in names), strict=True) if "" not in key]
            in_the_way = size - len(set(keys))
            if not in_the_way and not any(set(one) <= set(names) for one in exact):
                exact.append(names)
            if frozenset(names) in found:
                assert found[frozenset(names)] == in_the_way
    assert {one for one, rows_ in found.items() if not rows_} == set(map(frozenset, exact))


@settings(max_examples=cases(150), deadline=None)
@given(st.lists(st.integers(-50, 50), min_size=1, max_size=40), st.integers(0, 5))
def test_a_profile_of_numbers(values, missing):
    found = profile_column(
        count_values(
            [table_from_columns("t", {"n": [*map(str, values), *[""] * missing]}).chunks("n")]
        )
    )
    ordered = sorted(values)
    assert (found.kind.family, found.rows, found.missing) == (
        "integer",
        len(values) + missing,
        missing,
    )
    assert found.distinct == len(set(values))
    assert (found.smallest, found.largest) == (str(ordered[0]), str(ordered[-1]))
    assert found.middle in (str(ordered[(len(values) - 1) // 2]), str(ordered[len(values) // 2]))
    assert sum(found.spread.rows) == len(values)
    assert found.commonest[0][1] == max(map(values.count, values))


def register(rows, seed=1):
    rng = random.Random(seed)
    hives = [(f"Y{n // 20}", str(n % 20)) for n in range(rows)]
    rng.shuffle(hives)
    return {
        "Yard": [yard for yard, _ in hives],
        "Hive": [hive for _, hive in hives],
        "Warden": [rng.choice(["Ines", "Tom", "Mara", "Oke"]) for _ in hives],
        "Frames": [str(rng.randint(4, 12)) for _ in hives],
    }


def test_joins_are_found_from_the_values_and_not_the_names():
    hives = register(200)
    rng = random.Random(2)
    picked = [rng.randrange(200) for _ in range(900)]
    visits = {
        "place": [hives["Yard"][n] for n in picked],
        "no": [hives["Hive"][n] for n in picked],
        "kg": [f"{rng.uniform(0, 20):.1f}" for _ in picked],
    }
    wardens = {
        "full name": ["Ines", "Tom", "Mara", "Oke", "Lise"],
        "Fee": ["1", "2", "3", "4", "5"],
    }
    found = survey(
        [
            table_from_columns("visits", visits, "v.csv"),
            table_from_columns("hives", hives, "h.csv"),
            table_from_columns("wardens", wardens, "w.csv"),
        ]
    )
    best = {(one.left, one.right): one for one in found.relations}
    assert best["visits", "hives"].key == (("place", "Yard"), ("no", "Hive"))
    assert best["visits", "hives"].left_matched == 900
    assert best["visits", "hives"].cardinality == "many-to-one"
    assert best["hives", "wardens"].key == (("Warden", "full name"),)


def test_a_shared_name_with_other_values_is_a_trap():
    left = {"code": [f"A{n}" for n in range(50)], "hive": [str(n) for n in range(50)]}
    right = {"code": [f"B{n}" for n in range(50)], "hive": [str(n) for n in range(50)]}
    found = survey(
        [table_from_columns("l", left, "1/l.csv"), table_from_columns("r", right, "2/r.csv")]
    )
    (trap,) = [one for one in found.findings if one.code == "name-trap"]
    assert "code" in trap.message
    assert Setting("key", ("hive",)) in trap.remedy.settings


def test_a_shared_name_whose_one_value_stands_early_in_the_other_table_is_a_trap_too():
    left = {"box": [f"H{n % 80}" for n in range(300)], "note": [f"n{n}" for n in range(300)]}
    right = {"hive": [f"H{n}" for n in range(80)], "note": ["n0"] * 80}
    found = survey(
        [table_from_columns("l", left, "1/l.csv"), table_from_columns("r", right, "2/r.csv")]
    )
    (trap,) = [one for one in found.findings if one.code == "name-trap"]
    assert "match only 0% of the rows of l instead of 100%" in trap.message
    assert Setting("key", ("box=hive",)) in trap.remedy.settings


@pytest.mark.parametrize(("same", "is_trap"), [(24, True), (25, False), (26, False)])
def test_a_shared_name_is_a_trap_where_it_matches_less_than_half(same, is_trap):
    rows = range(50)
    left = {"code": [f"A{n}" for n in rows], "hive": [f"H{n}" for n in rows]}
    right = {
        "code": [f"{'A' if n < same else 'B'}{n}" for n in rows],
        "hive": [f"H{n}" for n in rows],
    }
    found = survey(
        [table_from_columns("l", left, "1/l.csv"), table_from_columns("r", right, "2/r.csv")]
    )
    traps = [finding for finding in found.findings if finding.code == "name-trap"]
    assert bool(traps) == is_trap
    if is_trap:
        assert traps[0].count == 50 - same
        assert f"match only {same * 2}% of the rows of l instead of 100%" in traps[0].message


def months(**changes):
    tables = []
    for number, month in enumerate(("may", "june", "july", "august")):
        rng = random.Random(number)
        columns = {
            "Warden": [rng.choice(["Ines", "Tom", "Mara"]) for _ in range(60)],
            "Breed": [rng.choice(["Carnica", "Buckfast"]) for _ in range(60)],
            "Frames": [str(rng.randint(4, 12)) for _ in range(60)],
            "Grams": [str(rng.randint(9000, 30000)) for _ in range(60)],
        }
        if month in changes:
            columns = changes[month](columns)
        tables.append(table_from_columns(month, columns, f"visits/{month}.csv"))
    return tables


def swapped(one, other):
    def swap(columns):
        return {**columns, one: columns[other], other: columns[one]}

    return swap


@pytest.mark.parametrize("pair", [("Warden", "Breed"), ("Frames", "Grams")])
def test_swapped_headings_are_found(pair):
    found = survey(months(july=swapped(*pair))).findings
    (finding,) = [one for one in found if one.code.startswith("column")]
    assert finding.code == "columns-swapped"
    assert "in july" in finding.message
    assert all(name in finding.message for name in pair)


def test_a_column_under_the_heading_of_one_that_is_not_there_is_found():
    def without_frames(columns):
        return {name: cells for name, cells in columns.items() if name != "Grams"} | {
            "Frames": columns["Grams"]
        }

    found = [one.code for one in survey(months(july=without_frames)).findings]
    assert "column-misplaced" in found


@pytest.mark.slow
@pytest.mark.parametrize("seed", range(6))
def test_numbers_that_drift_with_the_seasons_stand_under_their_headings(seed):
    rng = random.Random(seed)
    curves = [
        (rng.uniform(0, 60), rng.uniform(0, 25), rng.uniform(1, 6), rng.uniform(0, 6))
        for _ in range(22)
    ]
    tables = [
        table_from_columns(
            f"2031-{month:02}",
            {
                f"gauge {n}": [
                    f"{mean + height * math.sin(month + shift) + rng.gauss(0, wide):.1f}"
                    for _ in range(90)
                ]
                for n, (mean, height, wide, shift) in enumerate(curves)
            },
            f"weather/2031-{month:02}.csv",
        )
        for month in range(1, 7)
    ]
    assert [one.message for one in survey(tables).findings] == []


@pytest.mark.parametrize(("side", "step"), [("right", 1), ("left", -1)])
def test_rows_with_a_delimiter_too_many_or_missing_are_shifted_rows(side, step):
    rng = random.Random(5)
    heads = ("Warden", "Hive", "Day", "kg", "Frames", "Note")
    rows = [
        ["Ines", str(n), f"2031-05-{n % 28 + 1:02}", f"{rng.random() * 30:.2f}", str(n % 12), "x"]
        for n in range(200)
    ]
    for n in (20, 150):
        rows[n] = [" Pardal", *rows[n]][:6] if step > 0 else [*rows[n][1:], ""]
    rows[70][1:4] = ["?", "unknown", "much"]  # odd, and not shifted
    table = table_from_columns(
        "visits", dict(zip(heads, map(list, zip(*rows, strict=True)), strict=True))
    )
    (finding,) = [one for one in survey([table]).findings if one.code == "rows-shifted"]
    assert finding.count == 2 and f"to the {side} of" in finding.message
    assert [place.row for example in finding.examples for place in example.places] == [21, 151]


def test_sources_of_like_headings_are_not_one_for_that():
    def named(name):
        return table_from_columns(
            name.partition(".")[0].rpartition("/")[2], {"id": [], "city": []}, name
        )

    def shapes(*names):
        orders = table_from_columns("orders", {"order": [], "kg": []}, "all/orders.csv")
        found = survey([*map(named, names), orders]).families
        return sorted(len(one.tables) for one in found)

    assert shapes("all/customers.csv", "all/suppliers.csv") == [1, 1, 1]
    assert shapes("all/customers 2030.csv", "all/customers 2031.csv") == [1, 2]
    assert shapes("all/may.csv", "all/june.csv") == [1, 2]
    assert shapes("regions/north.csv", "regions/south.csv") == [1, 2]
    assert shapes("north/customers.csv", "south/customers.csv") == [1, 2]
    assert shapes("north/customers.csv", "south/suppliers.csv") == [1, 1, 1]


def test_extracts_that_are_in_order_give_no_finding():
    assert not survey(months()).findings


def test_types_that_differ_and_headers_that_vary():
    def odd(columns):
        columns = {("frames" if name == "Frames" else name): v for name, v in columns.items()}
        return {
            **columns,
            "Grams": ["heavy" if n == 7 else v for n, v in enumerate(columns["Grams"])],
        }

    found = {one.code: one for one in survey(months(june=odd)).findings}
    assert Setting("same", ("frames",), "Frames") in found["header-variant"].remedy.settings
    assert "text in june" in found["type-differs"].message


def test_open_forms_and_markers():
    columns = {
        "day": ["3/4/2031", "5/6/2031"] * 5,
        "kg": ["1", "NA"] * 5,
        "note": ["calm", "NA"] * 5,
    }
    found = {one.code: one for one in survey([table_from_columns("t", columns)]).findings}
    assert Setting("type", "date:%d/%m/%Y", "day") in found["form-open"].remedy.settings
    assert found["marker-found"].count == 5
    assert Setting("missing", ("NA",)) in found["marker-kept"].remedy.settings


def test_two_hundred_extracts_are_one_shape():
    tables = [
        table_from_columns(f"m{n}", {"a": ["1", "2"], "b": ["x", "y"]}, f"in/m{n}.csv")
        for n in range(200)
    ]
    (family,) = survey(tables).families
    assert (family.family.name, family.rows) == ("in", 400)


def test_tables_with_nothing_in_them():
    found = survey(
        [table_from_columns("t", {"a": []}), table_from_columns("u", {"b": ["", ""]}, "x/u.csv")]
    )
    assert [one.profiles.popitem()[1].kind.family for one in found.families] == ["empty", "empty"]
