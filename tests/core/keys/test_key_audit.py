"""The audit of keys: counts, sets, near keys, crosswalks, what would be unique."""

from __future__ import annotations

import random

import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from cases import cases
from plait.core.base.errors import UsageError
from plait.core.operations.join import join
from plait.core.operations.keys import (
    audit_keys,
    list_duplicate_rows,
    select_key_set,
)
from plait.core.table.table import table_from_columns
from plait.core.unmatched.approximate import find_near_texts

CELL = st.sampled_from(["a", "b", "c", "7", "007", "é", "a long key of many bytes", "", None])


@st.composite
def tables(draw, names=("one", "two", "three")):
    made = {}
    for name in names:
        rows = draw(st.lists(st.tuples(CELL, CELL, st.sampled_from("xy")), max_size=9))
        k, m, v = (list(cells) for cells in zip(*rows, strict=True)) if rows else ([], [], [])
        made[name] = {"k": k, "m": m, "v": v}
    return made


def keys_of(cells):
    """For each row its key, None where a part is missing; as text, since 007 is among them."""
    both = zip(cells["k"], cells["m"], strict=True)
    return [(k, m) if k and m else None for k, m in both]


@settings(max_examples=cases(250), deadline=None)
@given(tables())
def test_counts_and_sets_are_those_of_sets(made):
    # A text cell in each column, so that 7 and 007 are texts throughout.
    for cells in made.values():
        for name, cell in (("k", "zz"), ("m", "zz"), ("v", "x")):
            cells[name].append(cell)
    found = audit_keys([table_from_columns(name, cells) for name, cells in made.items()], ["k,m"])
    every = {name: keys_of(cells) for name, cells in made.items()}
    for table in found.tables:
        own = every[table.name]
        distinct = {key for key in own if key}
        several = {key for key in distinct if own.count(key) > 1}
        values = {
            key: {v for k, v in zip(own, made[table.name]["v"], strict=True) if k == key}
            for key in several
        }
        assert (table.rows, table.distinct_keys) == (len(own), len(distinct))
        assert table.missing_key_rows == own.count(None)
        assert table.duplicate_keys == len(several)
        assert table.duplicate_rows == sum(own.count(key) for key in several)
        assert table.conflict_keys == sum(len(v) > 1 for v in values.values())
        assert table.repeat_keys == table.duplicate_keys - table.conflict_keys
        assert table.conflict_columns.get("v", 0) == table.conflict_keys
    for pair in found.pairs:
        left, right = ({key for key in every[name] if key} for name in (pair.left, pair.right))
        assert pair.keys_in_both == len(left & right)
        assert pair.keys_only_left == len(left - right)
        assert pair.keys_only_right == len(right - left)
        assert pair.rows_only_left == sum(key in left - right for key in every[pair.left])
    union = {key for own in every.values() for key in own if key}
    assert sum(one.keys for one in found.holdings) == len(union)
    for one in found.holdings:
        held = {
            key
            for key in union
            if all((key in every[name]) == (name in one.sources) for name in every)
        }
        assert one.keys == len(held)
        listed = select_key_set(found, "+".join(one.sources)).to_dict()
        assert set(zip(listed["k"], listed["m"], strict=True)) == held


def test_the_rows_of_a_key_set_and_those_that_repeat():
    visits = table_from_columns("visits", {"k": ["a", "b", "b", "c"], "v": ["1", "2", "3", "4"]})
    hives = table_from_columns("hives", {"k": ["a", "d"]})
    found = audit_keys([visits, hives], ["k"])
    assert select_key_set(found, "left").to_dict() == {"k": ["b", "c"], "rows visits": [2, 1]}
    assert select_key_set(found, "left", all_rows=True).to_dict()["v"] == ["2", "3", "4"]
    assert select_key_set(found, "both").to_dict() == {
        "k": ["a"],
        "rows visits": [1],
        "rows hives": [1],
    }
    assert list_duplicate_rows(audit_keys([visits], ["k"])).to_dict()["v"] == ["2", "3"]
    with pytest.raises(UsageError) as wrong:
        select_key_set(found, "hivs")
    assert wrong.value.remedy == "did you mean hives?"


def test_what_would_make_a_key_unique():
    columns = {
        "k": [str(n % 40) for n in range(200)],
        "month": [str(n // 40) for n in range(200)],
        "serial": [str(n) for n in range(200)],
        "same": ["x"] * 200,
    }
    found = audit_keys([table_from_columns("t", columns)], ["k"]).uniqueness
    assert found.in_the_way == 160
    assert set(found.complete) == {"month", "serial"}
    assert audit_keys([table_from_columns("t", columns)], ["k,month"]).uniqueness is None


def test_a_looser_comparison_says_what_it_gains_and_what_collides():
    visits = table_from_columns("visits", {"k": ["ab", "CD", "e f", "x"]})
    hives = table_from_columns("hives", {"k": ["AB", "aB", "cd", "ef"]})
    why = audit_keys([visits, hives], ["k"]).why
    gains = {one.ways: one for one in why.gains}
    assert (gains[("case",)].rows, gains[("case",)].collisions) == (2, 2)
    assert (gains[("space",)].rows, gains[("space",)].collisions) == (1, 0)
    assert why.best.ways == ("case", "space")
    assert (why.best.rows, why.best.right_keys) == (3, 4)
    assert (why.tried, why.near, why.lonely) == (1, 0, 1)


@pytest.mark.parametrize(
    ("left", "right", "way"),
    [
        (["7.0", "x"], ["7", "y"], "number-form"),
        (["1,234,567", "2,000"], ["1234567", "5"], "number-form"),
        (["5.4.2031", "13.4.2031"], ["2031-04-05", "2031-04-13"], "date-form"),
        (["2031-04-05 00:00", "2031-04-06 00:00"], ["2031-04-05", "2031-05-01"], "date-form"),
    ],
)
def test_numbers_and_dates_in_other_forms(left, right, way):
    tables = [table_from_columns("l", {"k": left}), table_from_columns("r", {"k": right})]
    found = audit_keys(tables, ["k"])
    assert found.pairs[0].keys_in_both == 0
    assert way in found.why.best.ways
    loose = audit_keys(tables, ["k"], ignore=[way])
    assert loose.pairs[0].keys_in_both == found.why.best.keys > 0
    joined = join(*tables, key="k", ignore=[way])
    assert joined.table.to_dict()["k"] == left


def test_which_part_of_a_composite_key_fails():
    visits = table_from_columns("v", {"yard": ["A", "A", "Z", "B"], "hive": ["1", "9", "1", "2"]})
    hives = table_from_columns("h", {"yard": ["A", "B", "A"], "hive": ["1", "1", "2"]})
    left, right = audit_keys([visits, hives], ["yard,hive"]).why.failing
    assert {(one.known, one.unknown, one.keys) for one in left} == {
        (("yard",), ("hive",), 1),
        (("hive",), ("yard",), 1),
        (("yard", "hive"), (), 1),
    }
    assert [(one.known, one.keys) for one in right] == [(("yard", "hive"), 2)]


def test_another_column_that_holds_the_keys():
    people = [f"Person {n}" for n in range(20)]
    visits = table_from_columns("visits", {"warden": people})
    wardens = table_from_columns("wardens", {"warden": [str(n) for n in range(20)], "name": people})
    (found,) = [
        one
        for one in audit_keys([visits, wardens], ["warden"]).why.elsewhere
        if one.other == "wardens"
    ]
    assert (found.named, found.better, found.better_share) == ("warden", "name", 1.0)


def slipped(rng, text):
    """The text with one slip of the pen."""
    at = rng.randrange(len(text) - 1)
    return rng.choice(
        [
            text[:at] + text[at + 1 :],
            text[:at] + "q" + text[at:],
            text[:at] + "q" + text[at + 1 :],
            text[:at] + text[at + 1] + text[at] + text[at + 2 :],
        ]
    )


@pytest.mark.parametrize("size", [30, 3000])
def test_one_slip_is_found_among_many(size):
    rng = random.Random(size)
    signs = "abcdefghiklmnoprstuvwxyz"
    right = list({"".join(rng.choices(signs, k=rng.randint(7, 14))) for _ in range(size)})
    left = [slipped(rng, text) for text in right]
    found = find_near_texts(pa.array(left), pa.array(right))
    first = {}
    for text, other in zip(found.text.tolist(), found.other.tolist(), strict=True):
        first.setdefault(text, other)
    hit = sum(first.get(n) == n or left[n] in right for n in range(len(right)))
    assert hit >= 0.95 * len(right)
    assert max(found.text.tolist().count(n) for n in set(found.text.tolist())) <= 3


def test_what_has_nothing_in_common_has_no_near_key_and_numbers_only_if_exchanged():
    found = find_near_texts(
        pa.array(["Elm", "10012", "10021", ""]), pa.array(["Oakwood", "10013", "10012"])
    )
    pairs = list(zip(found.text.tolist(), found.other.tolist(), strict=True))
    assert (2, 2) in pairs
    assert (0, 0) not in pairs
    assert (0, 1) not in pairs
    assert (1, 1) not in pairs


def test_suggested_pairs_come_back_as_a_crosswalk():
    visits = table_from_columns(
        "visits",
        {
            "yard": ["Northfeild", "elm court", "Northfield", "Nowhere"],
            "hive": ["1", "2", "3", "4"],
        },
    )
    hives = table_from_columns(
        "hives",
        {"yard": ["Northfield", "Elm Court", "Northfield"], "hive": ["1", "2", "3"]},
    )
    found = audit_keys([visits, hives], ["yard,hive"])
    pairs = found.crosswalk
    said = pairs.to_dict()
    assert said["left yard"] == ["Northfeild", "elm court"]
    assert said["right yard"] == ["Northfield", "Elm Court"]
    assert said["use"] == ["no", "yes"], "what is only near is left to a person"
    pairs = table_from_columns("pairs", {**said, "use": ["yes", "yes"]})
    again = audit_keys([visits, hives], ["yard,hive"], pairs=pairs)
    assert again.pairs[0].keys_only_left == 1
    joined = join(visits, hives, key="yard,hive", pairs=pairs)
    assert joined.match.left_unmatched == 1
    assert joined.table.to_dict()["yard"] == ["Northfeild", "elm court", "Northfield", "Nowhere"]


def test_a_crosswalk_with_two_answers_or_too_few_columns_is_refused():
    tables = [table_from_columns("l", {"k": ["x"]}), table_from_columns("r", {"k": ["a", "b"]})]
    twice = table_from_columns("pairs", {"from": ["x", "x"], "to": ["a", "b"]})
    with pytest.raises(UsageError, match="two different keys"):
        audit_keys(tables, ["k"], pairs=twice)
    chosen = table_from_columns("pairs", {"l": ["x", "x"], "r": ["a", "b"], "use": ["no", "yes"]})
    assert audit_keys(tables, ["k"], pairs=chosen).pairs[0].keys_in_both == 1
    with pytest.raises(UsageError, match="at least 2 columns"):
        audit_keys(tables, ["k"], pairs=table_from_columns("pairs", {"l": ["x"]}))


def test_missing_keys_match_when_asked():
    one = table_from_columns("l", {"k": ["a", "", None], "m": ["1", "", "2"]})
    two = table_from_columns("r", {"k": ["", "a"], "m": ["", "1"]})
    assert join(one, two, key="k,m").match.left_matched == 1
    asked = join(one, two, key="k,m", missing_match=True)
    assert asked.match.left_matched == 2
    assert asked.match.left_missing_key == 0


@pytest.mark.slow
@settings(max_examples=cases(150), deadline=None)
@given(tables(names=("l", "r")))
def test_inner_is_left_less_its_unmatched_and_semi_and_anti_share_the_rows(made):
    for cells in made.values():
        for name in ("k", "m", "v"):
            cells[name].append("zz")
    one, two = (table_from_columns(name, cells) for name, cells in made.items())
    kinds = ("inner", "left", "semi", "anti")
    found = {
        kind: join(one, two.project(["k", "m"]), "k,m", kind, "many-to-many") for kind in kinds
    }
    rows = {kind: places(joined.table) for kind, joined in found.items()}
    assert rows["inner"] == [pair for pair in rows["left"] if pair[1] is not None]
    assert [(left, None) for left, right in rows["left"] if right is None] == rows["anti"]
    semi = [left for left, _ in rows["semi"]]
    assert semi == sorted({left for left, _ in rows["inner"]})
    assert sorted(semi + [left for left, _ in rows["anti"]]) == list(range(one.rows))


def places(table):
    found = []
    for row in range(table.rows):
        by_source = {place.source: place.row - 1 for place in table.source_rows(row)}
        found.append((by_source.get("l"), by_source.get("r")))
    return found
