"""``stack`` against a slow, obvious reference: lists of dictionaries."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from cases import cases
from plait.core.base.errors import UsageError
from plait.core.operations.stack import stack
from plait.core.table.table import table_from_columns

CELL = st.sampled_from(["", "a", "b", "7", "007", "é", "x" * 9, 'quo"te', "two\nlines"])


@st.composite
def extracts(draw):
    made = []
    for number in range(draw(st.integers(1, 4))):
        names = draw(st.permutations(["a", "b", "c", "d"]))[: draw(st.integers(1, 4))]
        rows = draw(st.integers(0, 6))
        cells = {name: draw(st.lists(CELL, min_size=rows, max_size=rows)) for name in names}
        made.append((f"s{number}", cells))
    return made


def as_rows(made):
    rows = []
    for name, cells in made:
        for number in range(len(next(iter(cells.values())))):
            rows.append((name, number + 1, {key: values[number] for key, values in cells.items()}))
    return rows


def stacked(made, **options):
    return stack(
        [table_from_columns(name, cells, f"{name}.csv") for name, cells in made], **options
    )


@settings(max_examples=cases(300), deadline=None)
@given(extracts())
def test_rows_columns_and_lineage(made):
    result = stacked(made, label={"from": "{stem}"}, number="no")
    names = list(dict.fromkeys(name for _, cells in made for name in cells))
    rows = as_rows(made)
    assert result.table.column_names == (*names, "from", "no")
    got = result.table.to_dict()
    for name in names:
        assert got[name] == [row.get(name) for _, _, row in rows]
    assert got["from"] == [source for source, _, _ in rows]
    assert got["no"] == list(range(1, len(rows) + 1))
    places = [result.table.source_rows(row)[0] for row in range(result.table.rows)]
    assert [(place.source, place.row) for place in places] == [(s, n) for s, n, _ in rows]


@settings(max_examples=cases(300), deadline=None)
@given(extracts())
def test_distinct_keeps_the_first_of_equal_rows_and_sets_the_others_aside(made):
    result = stacked(made, distinct=True)
    names = result.table.column_names
    seen, kept, left_out = set(), [], []
    for source, number, row in as_rows(made):
        cells = tuple(row.get(name) or "" for name in names)
        (left_out if cells in seen else kept).append((source, number))
        seen.add(cells)
    places = [result.table.source_rows(row)[0] for row in range(result.table.rows)]
    assert [(place.source, place.row) for place in places] == kept
    listed = [
        pair
        for aside in result.aside
        for pair in zip(*map(aside.listed().to_dict().get, ("source", "place")), strict=True)
    ]
    assert listed == [(source, f"row {number}") for source, number in left_out]
    assert result.entries[0].rows_out == len(kept)


@pytest.mark.slow
@settings(max_examples=cases(100), deadline=None)
@given(extracts(), extracts())
def test_stacking_stacks_keeps_the_lineage(one, two):
    two = [(f"t{name}", cells) for name, cells in two]
    both = stack([stacked(one, distinct=True).table, stacked(two).table])
    places = [both.table.source_rows(row)[0] for row in range(both.table.rows)]
    plain = [(source, number) for source, number, _ in as_rows(two)]
    assert [(place.source, place.row) for place in places][-len(plain) or len(places) :] == plain


def test_same_and_fold_headers_bring_columns_together():
    made = [("s1", {"Moisture %": ["1"]}), ("s2", {"moisture": ["2"]}), ("s3", {"Moistre": ["3"]})]
    result = stacked(made, fold_headers=True, same={"Moisture %": "Moistre"})
    assert result.table.to_dict() == {"Moisture %": ["1", "2", "3"]}
    variants = [f for f in stacked(made).findings if f.code == "header-variant"]
    assert {str(finding.where) for finding in variants} >= {"column moisture"}


def test_a_label_that_is_a_column_already_is_refused():
    with pytest.raises(UsageError, match="already"):
        stacked([("s1", {"a": ["1"]})], label={"a": "{stem}"})
    with pytest.raises(UsageError, match="did you mean stem"):
        stacked([("s1", {"a": ["1"]})], label={"b": "{stme}"})


@pytest.mark.slow
@settings(max_examples=cases(200), deadline=None)
@given(extracts())
def test_splitting_by_the_label_gives_the_sources_back(made):
    result = stacked(made, label={"from": "{stem}"})
    labels = result.table.to_dict()["from"]
    for name, cells in made:
        rows = [row for row, label in enumerate(labels) if label == name]
        part = result.table.take(np.array(rows, np.int64)).to_dict()
        for column, values in part.items():
            if column != "from":
                assert values == cells.get(column, [None] * len(rows))
