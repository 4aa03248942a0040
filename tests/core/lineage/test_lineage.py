"""Lineage through many steps: every source row that went into a row, and no other."""

from __future__ import annotations

import random
from collections import defaultdict

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from plait.core.lineage.paths import lineage_path, lineage_paths, source_rows_of_row
from plait.core.lineage.source_labels import add_source_column
from plait.core.operations.group import group
from plait.core.operations.join import join
from plait.core.operations.mend import mend
from plait.core.operations.reshape import lengthen, widen
from plait.core.operations.settle import settle
from plait.core.operations.stack import stack
from plait.core.profiling.contents import (
    count_rows_by_source,
    match_coverage,
    profile_columns,
    source_names,
)
from plait.core.table.table import table_from_columns

YARD, HIVE = st.sampled_from("ABC"), st.sampled_from("12")
ROWS = st.lists(st.tuples(YARD, HIVE, st.integers(0, 9).map(str)), max_size=12)


def _visits(name, rows):
    columns = {key: [row[at] for row in rows] for at, key in enumerate(("yard", "hive", "kg"))}
    return table_from_columns(name, columns, f"{name}.csv")


def _hives():
    keys = [(yard, hive) for yard in "AB" for hive in "12"]
    return table_from_columns(
        "hives", {"yard": [k[0] for k in keys], "hive": [k[1] for k in keys], "breed": ["x"] * 4}
    )


def _named(table, row):
    return {(place.source, place.row) for place in source_rows_of_row(table, row)}


@pytest.mark.slow
@given(ROWS, ROWS, ROWS)
def test_rows_are_known_through_stack_join_settle_stack_and_group(may, june, july):
    """Settled extracts, stacked on to another and grouped: brute force over the keys."""
    tables = [_visits("may", may), _visits("june", june)]
    joined = join(stack(tables).table, _hives(), "yard,hive").table
    kept = mend(joined, where="kg <> 0").table
    settled = settle(kept, "yard,hive", {"kg": "max"}).table
    both = stack([settled, _visits("july", july)]).table
    grouped = group(both, "yard", {"n": "count", "kg": "sum:kg", "most": "largest:kg"}).table

    wanted = defaultdict(set)
    for name, rows in (("may", may), ("june", june)):
        for number, (yard, hive, kg) in enumerate(rows, 1):
            if kg != "0":
                wanted[yard].add((name, number))
                if yard in "AB":
                    wanted[yard].add(("hives", "AB".index(yard) * 2 + int(hive)))
    for number, (yard, _, _) in enumerate(july, 1):
        wanted[yard].add(("july", number))
    found = {yard: _named(grouped, row) for row, yard in enumerate(grouped.to_dict()["yard"])}
    assert found == {yard: rows for yard, rows in wanted.items() if rows}


@given(ROWS)
def test_a_settled_cell_leads_to_the_row_it_was_chosen_from_and_the_row_to_all(rows):
    table = _visits("may", rows)
    settled = settle(table, "yard,hive", {"kg": "max"}).table
    cells, ways = settled.to_dict(), lineage_paths(settled)
    of_kg = [
        lineage_path(settled.fragments[leaf.fragment], ways) for leaf in settled.provenance("kg")
    ]
    for row in range(settled.rows):
        key = cells["yard"][row], cells["hive"][row]
        mine = [at for at, one in enumerate(rows) if one[:2] == key]
        assert _named(settled, row) == {("may", at + 1) for at in mine}
        chosen = [int(at) for way in of_kg for at in way.rows(row, row + 1)[2]]
        assert {rows[at][2] for at in chosen} == {cells["kg"][row]}
        assert len(set(chosen)) == 1


@given(ROWS)
def test_wide_and_long_rows_keep_their_sources(rows):
    table = _visits("may", rows)
    wide = widen(table, "hive", "kg", "yard", rule="sum").table
    for row, yard in enumerate(wide.to_dict()["yard"]):
        mine = {("may", at) for at, one in enumerate(rows, 1) if one[0] == yard}
        assert _named(wide, row) == mine
    heads = [name for name in wide.column_names if name != "yard"]
    if heads:
        long = lengthen(wide, "hive", "kg", columns=heads).table
        assert all(_named(long, row) == _named(wide, row // len(heads)) for row in range(long.rows))


@given(ROWS, ROWS)
def test_columns_name_the_source_columns_they_were_made_from(may, june):
    renamed = mend(_visits("june", june), rename={"kg": "weight"}).table
    both = stack([_visits("may", may), renamed], same={"kg": "weight"}).table
    made = mend(both, compute={"both": "yard || kg"}, split=["hive:- into a,b"]).table
    assert made.source_columns("kg") == (("may", "kg"), ("june", "kg"))
    assert set(made.source_columns("both")) == {
        (s, c) for s in ("may", "june") for c in ("yard", "kg")
    }
    assert made.source_columns("a") == (("may", "hive"), ("june", "hive"))
    joined = join(made, _hives(), "yard,hive").table
    assert joined.source_columns("breed") == (("hives", "breed"),)
    assert joined.source_columns("kg") == made.source_columns("kg")


@given(ROWS, ROWS)
def test_shares_and_partners_count_rows_by_source(may, june):
    both = stack([_visits("may", may), _visits("june", june)]).table
    joined = join(both, _hives(), "yard,hive").table
    assert source_names(joined) == ["may", "june"]
    assert count_rows_by_source(joined) == (len(may), len(june))
    grid = match_coverage(joined)
    matched = tuple((sum(row[0] in "AB" for row in rows),) for rows in (may, june))
    assert grid.matched == matched and grid.others == ("hives",)
    (breed,) = [
        one for one in profile_columns(joined, {}, source_names(joined)) if one.name == "breed"
    ]
    assert breed.missing_by == tuple(
        len(rows) - one for rows, (one,) in zip((may, june), matched, strict=True)
    )
    assert match_coverage(both) is None


def test_rows_that_no_source_has_lead_nowhere():
    joined = join(_visits("may", [("C", "1", "3")]), _hives(), "yard,hive", "full").table
    assert [_named(joined, row) for row in range(5)] == [
        {("may", 1)}, {("hives", 1)}, {("hives", 2)}, {("hives", 3)}, {("hives", 4)}
    ]  # fmt: skip
    assert _named(joined.take(np.array([-1])), 0) == set()


def test_the_origin_of_groups_of_many_sources_names_each_once_in_order():
    """Brute force over plain lists: which sources have a row in each group."""
    rng = random.Random(11)
    tables, rows = [], []
    for number in range(9):
        hives = [str(rng.randrange(25)) for _ in range(12)]
        tables.append(table_from_columns(f"m{number}", {"hive": hives}))
        rows += [(hive, f"m{number}") for hive in hives]
    grouped = group(stack(tables).table, "hive", {"n": "count"}, name="g").table
    made = add_source_column(grouped, "from").to_dict()
    expected: dict[str, dict[str, None]] = {}
    for hive, name in rows:
        expected.setdefault(hive, {})[name] = None
    assert made["from"] == ["+".join(expected[hive]) for hive in made["hive"]]
    assert made["n"] == [sum(one == hive for one, _ in rows) for hive in made["hive"]]
