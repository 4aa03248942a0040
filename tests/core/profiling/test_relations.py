"""Relations between many tables: those that were planted are found, with the shares counted."""

from __future__ import annotations

import random
from types import SimpleNamespace

import pytest

from plait.core.operations.join import join
from plait.core.operations.survey import survey
from plait.core.profiling.join_candidates import without_reused_columns
from plait.core.table.table import table_from_columns


def _words(prefix: str, number: int) -> list[str]:
    return [f"{prefix}{n:04d}" for n in range(number)]


def _planted(seed: int):
    """A hub, and tables that refer to it under names of their own, each for a share of its rows."""
    rng = random.Random(seed)
    hives = _words("H", 120)
    tables = [
        table_from_columns("hives", {"hive": hives, "breed": [rng.choice("ABC") for _ in hives]})
    ]
    expected = {}
    for number in range(9):
        rows = rng.randrange(40, 90)
        share = rng.choice([0.6, 0.8, 1.0])
        cells = [
            rng.choice(hives) if rng.random() < share else f"X{rng.randrange(10**6):06d}"
            for _ in range(rows)
        ]
        name, column = f"visits{number}", f"box {number}"
        tables.append(table_from_columns(name, {column: cells, "n": [str(n) for n in range(rows)]}))
        expected[name] = (column, sum(cell in set(hives) for cell in cells), rows,
                          len(set(cells) & set(hives)), len(set(cells)) == rows)  # fmt: skip
    return tables, expected


@pytest.mark.parametrize("seed", range(4))
def test_tables_that_refer_to_one_are_found_with_their_shares(seed):
    tables, expected = _planted(seed)
    found = {one.left if one.right == "hives" else one.right: one
             for one in survey(tables).relations if "hives" in (one.left, one.right)}  # fmt: skip
    assert set(found) == set(expected)
    for name, (column, matched, rows, hives, unique) in expected.items():
        one = found[name]
        turned = one.left == "hives"
        key = (("hive", column),) if turned else ((column, "hive"),)
        assert one.key == key
        mine, hub = (1, 0) if turned else (0, 1)
        counts = (one.left_matched, one.right_matched), (one.left_rows, one.right_rows)
        assert [each[mine] for each in counts] == [matched, rows]
        assert [each[hub] for each in counts] == [hives, 120]
        to_one = "one-to-one" if unique else "one-to-many" if turned else "many-to-one"
        assert one.cardinality == to_one


def test_numbers_that_overlap_by_chance_are_no_relation():
    rng = random.Random(3)
    tables = [
        table_from_columns(f"t{n}", {f"count {n}": [str(rng.randrange(30)) for _ in range(60)],
                               f"name {n}": _words(f"{n}-", 60)})
        for n in range(6)
    ]  # fmt: skip
    assert survey(tables).relations == ()


@pytest.mark.parametrize(("common", "related"), [(3, False), (30, True)])
def test_columns_of_one_name_are_related_by_what_they_have_in_common(common, related):
    left, right = _words("a", 40), _words("a", common) + _words("b", 40 - common)
    tables = [table_from_columns("left", {"tag": left, "kg": [f"{n}.5" for n in range(40)]}),
              table_from_columns("right", {"tag": right, "breed": ["Carnica"] * 40})]  # fmt: skip
    assert bool(survey(tables).relations) == related


def test_a_key_of_two_columns_is_one_relation_and_its_order_is_the_left_tables():
    yards, numbers = ["ALD", "BRK", "CUL", "DUN"], [f"{n:03d}" for n in range(1, 16)]
    both = [(yard, number) for yard in yards for number in numbers]
    hives = table_from_columns("hives", {"hive": [n for _, n in both], "yard": [y for y, _ in both],
                                   "breed": ["Carnica"] * 60})  # fmt: skip
    rng = random.Random(5)
    seen = [rng.choice(both) for _ in range(200)]
    places, boxes = [yard for yard, _ in seen], [number for _, number in seen]
    visits = table_from_columns("visits", {"place": places, "box": boxes,
                                     "note": _words("n", 200)})  # fmt: skip
    (one,) = survey([visits, hives]).relations
    assert one.key == (("place", "yard"), ("box", "hive"))
    assert one.shares == (1.0, len(set(seen)) / 60) and one.cardinality == "many-to-one"


def _panel(rng, yards=60, years=range(1980, 2031), rows=2955):
    return sorted(
        rng.sample([(f"Yard {n}", str(year)) for n in range(yards) for year in years], rows)
    )


def test_a_join_on_two_columns_is_found_among_forty_measures():
    rng = random.Random(11)
    both = _panel(rng)
    wide = {f"figure {n}": [f"{rng.gauss(50, 20):.1f}" for _ in both] for n in range(46)}
    harvest = table_from_columns(
        "harvest", {**wide, "yard": [y for y, _ in both], "year": [y for _, y in both]}
    )
    rng.shuffle(both)
    many = [pair for pair in both for _ in range(2)]
    visits = table_from_columns(
        "visits",
        {
            "yard": [y for y, _ in many],
            "year": [y for _, y in many],
            "kg": [str(rng.randrange(90)) for _ in many],
            "frames": [str(rng.randrange(12)) for _ in many],
        },
    )
    (one,) = survey([visits, harvest]).relations
    assert one.key == (("yard", "yard"), ("year", "year"))
    assert one.shares == (1.0, 1.0) and one.cardinality == "many-to-one"


def test_codes_of_small_numbers_join_nothing():
    """A questionnaire: every answer is 1 to 5, every question would fit every other."""
    rng = random.Random(4)
    tables = [
        table_from_columns(
            f"part{part}",
            {f"q{part}_{n}": [str(rng.randint(1, 5)) for _ in range(300)] for n in range(20)},
        )
        for part in range(3)
    ]
    tables.append(table_from_columns("grades", {"grade": list("12345"), "meaning": _words("m", 5)}))
    assert survey(tables).relations == ()


def test_a_small_lookup_is_found_by_its_name():
    rng = random.Random(4)
    answers = table_from_columns(
        "answers",
        {
            "person": _words("p", 300),
            "grade": [str(rng.randint(1, 5)) for _ in range(300)],
            "frames": [str(rng.randint(1, 5)) for _ in range(300)],
        },
    )
    grades = table_from_columns("grades", {"grade": list("12345"), "meaning": _words("m", 5)})
    (one,) = survey([answers, grades]).relations
    assert one.key == (("grade", "grade"),) and one.cardinality == "many-to-one"


LOOSE = {
    "leading zeros": (lambda n: f"{n:03d}", str, {"leading-zeros"}),
    "case": (lambda n: f"ash{n}", lambda n: f"ASH{n}", {"case"}),
    "case and space": (lambda n: f"ash {n}", lambda n: f"ASH{n}", {"case", "space"}),
    "dates": (
        lambda n: f"{['Jan', 'Feb', 'Mar', 'Apr'][n % 4]} {n // 4 + 1} 2031",
        lambda n: f"2031-{n % 4 + 1:02d}-{n // 4 + 1:02d}",
        {"date-form"},
    ),
}


@pytest.mark.parametrize("name", LOOSE)
def test_a_join_that_needs_a_looser_comparison_is_found_with_it(name):
    here, there, ways = LOOSE[name]
    rng = random.Random(8)
    picked = [rng.randrange(80) for _ in range(300)]
    visits = table_from_columns(
        "visits",
        {"box": [here(n) for n in picked], "kg": [f"{rng.uniform(1, 9):.2f}" for _ in picked]},
    )
    hives = table_from_columns(
        "hives",
        {"box": [there(n) for n in range(80)], "breed": [rng.choice("AB") for _ in range(80)]},
    )
    (one,) = survey([visits, hives]).relations
    assert one.key == (("box", "box"),) and set(one.ignore) == ways
    assert one.shares == (1.0, len(set(picked)) / 80) and one.cardinality == "many-to-one"


def test_a_composite_key_in_another_spelling_is_found():
    rng = random.Random(9)
    both = [
        (yard, hive) for yard in ("Ash", "Birch", "Cedar", "Elder", "Fir") for hive in range(1, 31)
    ]
    seen = [rng.choice(both) for _ in range(500)]
    visits = table_from_columns(
        "visits",
        {
            "yard": [y.upper() for y, _ in seen],
            "hive": [str(h) for _, h in seen],
            "kg": [f"{rng.uniform(1, 9):.2f}" for _ in seen],
        },
    )
    hives = table_from_columns(
        "hives",
        {
            "yard": [y for y, _ in both],
            "hive": [f"{h:03d}" for _, h in both],
            "queen": _words("q", 150),
        },
    )
    (one,) = survey([visits, hives]).relations
    assert one.key == (("yard", "yard"), ("hive", "hive"))
    assert set(one.ignore) == {"case", "leading-zeros"} and one.shares[0] == 1.0


def test_a_key_written_in_one_column_and_in_two_is_found_with_the_split():
    rng = random.Random(9)
    both = [(f"P{plot}", f"{n:02d}") for plot in range(1, 13) for n in range(1, 16)]
    seen = [rng.choice(both) for _ in range(500)]
    visits = table_from_columns(
        "visits",
        {
            "plot": [p for p, _ in seen],
            "box": [b for _, b in seen],
            "kg": [f"{rng.uniform(1, 9):.2f}" for _ in seen],
        },
        "visits.csv",
    )
    hives = table_from_columns(
        "hives", {"label": [f"{p}-{b}" for p, b in both], "queen": _words("q", 180)}, "hives.csv"
    )
    (one,) = survey([visits, hives]).relations
    assert str(one.prepare) == "plait.mend('hives.csv', split='label:- into plot,box')"
    assert one.key == (("plot", "plot"), ("box", "box"))
    assert one.shares[0] == 1.0 and one.cardinality == "many-to-one"


def test_two_tables_that_number_their_own_rows_have_nothing_in_common():
    one = table_from_columns("a", {"id": [str(n) for n in range(1, 201)], "note": _words("x", 200)})
    other = table_from_columns(
        "b", {"id": [str(n) for n in range(1, 151)], "what": _words("y", 150)}
    )
    assert survey([one, other]).relations == ()


@pytest.mark.parametrize("seed", range(12))
def test_what_is_said_of_a_join_is_what_the_join_does(seed):
    rng = random.Random(seed)
    keys = [(f"Y{n % 7}", str(n // 7)) for n in range(rng.randint(30, 90))]
    right = [pair for pair in keys if rng.random() < 0.9]
    left = [rng.choice(keys) if rng.random() < 0.9 else ("", "NA") for _ in range(300)]
    visits = table_from_columns(
        "visits", {"yard": [y for y, _ in left], "hive": [h for _, h in left]}
    )
    hives = table_from_columns(
        "hives", {"yard": [y for y, _ in right], "hive": [h for _, h in right]}
    )
    for one in survey([visits, hives]).relations:
        match = join(visits, hives, dict(one.key), "left", "many-to-many", one.ignore).match
        assert (one.left_matched, one.right_matched) == (match.left_matched, match.right_matched)
        assert one.cardinality == match.cardinality


def test_a_column_of_either_side_is_used_in_one_pair_only():
    pairs = [
        SimpleNamespace(left=SimpleNamespace(name=left), right=SimpleNamespace(name=right))
        for left, right in ("ax", "bx", "ay", "by", "cz")
    ]
    kept = [pair.left.name + pair.right.name for pair in without_reused_columns(pairs)]
    assert kept == ["ax", "by", "cz"]
