"""Relations between many tables: those that were planted are found, with the shares counted."""

from __future__ import annotations

import random

import pytest

from plait.core.table.table import from_columns
from plait.core.verbs.survey import survey


def _words(prefix: str, number: int) -> list[str]:
    return [f"{prefix}{n:04d}" for n in range(number)]


def _planted(seed: int):
    """A hub, and tables that refer to it under names of their own, each for a share of its rows."""
    rng = random.Random(seed)
    hives = _words("H", 120)
    tables = [from_columns("hives", {"hive": hives, "breed": [rng.choice("ABC") for _ in hives]})]
    expected = {}
    for number in range(9):
        rows = rng.randrange(40, 90)
        share = rng.choice([0.6, 0.8, 1.0])
        cells = [
            rng.choice(hives) if rng.random() < share else f"X{rng.randrange(10**6):06d}"
            for _ in range(rows)
        ]
        name, column = f"visits{number}", f"box {number}"
        tables.append(from_columns(name, {column: cells, "n": [str(n) for n in range(rows)]}))
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
        from_columns(f"t{n}", {f"count {n}": [str(rng.randrange(30)) for _ in range(60)],
                               f"name {n}": _words(f"{n}-", 60)})
        for n in range(6)
    ]  # fmt: skip
    assert survey(tables).relations == ()


def test_a_key_of_two_columns_is_one_relation_and_its_order_is_the_left_tables():
    yards, numbers = ["ALD", "BRK", "CUL", "DUN"], [f"{n:03d}" for n in range(1, 16)]
    both = [(yard, number) for yard in yards for number in numbers]
    hives = from_columns("hives", {"hive": [n for _, n in both], "yard": [y for y, _ in both],
                                   "breed": ["Carnica"] * 60})  # fmt: skip
    rng = random.Random(5)
    seen = [rng.choice(both) for _ in range(200)]
    visits = from_columns("visits", {"place": [y for y, _ in seen], "box": [n for _, n in seen],
                                     "note": _words("n", 200)})  # fmt: skip
    (one,) = survey([visits, hives]).relations
    assert one.key == (("place", "yard"), ("box", "hive"))
    assert one.shares == (1.0, len(set(seen)) / 60) and one.cardinality == "many-to-one"
