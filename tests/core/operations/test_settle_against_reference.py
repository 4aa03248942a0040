"""``settle`` against a slow, obvious reference: dictionaries of lists."""

from __future__ import annotations

from collections import Counter
from decimal import Decimal

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from cases import cases
from plait.core.base.errors import UsageError
from plait.core.lineage.source_labels import add_source_column
from plait.core.operations.settle import settle
from plait.core.table.table import table_from_columns

KEYS = st.sampled_from(["a", "b", "c", "", None])
TEXTS = st.sampled_from(
    ["", None, "x", "y", "zz", "é", "a longer cell of text", "another long one"]
)
NUMBERS = st.sampled_from(["", None, "1", "2.50", "-0.05", "10", "7.5"])


@st.composite
def tables(draw):
    rows = draw(st.integers(0, 12))
    return {
        "k": draw(st.lists(KEYS, min_size=rows, max_size=rows)),
        "t": draw(st.lists(TEXTS, min_size=rows, max_size=rows)),
        "n": draw(st.lists(NUMBERS, min_size=rows, max_size=rows)),
    }


def groups_of(table):
    """Row numbers of each key, in the order in which the keys first stand."""
    found = {}
    for row, key in enumerate(table["k"]):
        if key:
            found.setdefault(key, []).append(row)
    return found


def by_reference(cells, rule, numeric):
    """The cell that a rule gives, or ``ValueError`` for a conflict; missing is ''."""
    present = [cell for cell in cells if cell]
    order = Decimal if numeric else str
    if not present:
        return ""
    if rule == "agree":
        if len(set(present)) > 1:
            raise ValueError
        return present[0]
    counts = Counter(present)
    chosen = {
        "first": lambda: present[0],
        "last": lambda: present[-1],
        "min": lambda: min(present, key=order),
        "max": lambda: max(present, key=order),
        "longest": lambda: max(present, key=len),
        "commonest": lambda: max(present, key=lambda cell: counts[cell]),
    }
    return chosen[rule]()


RULES = ["agree", "first", "last", "min", "max", "longest", "commonest"]


def is_numeric(table):
    return any(table["n"])


@settings(max_examples=cases(300), deadline=None)
@given(tables(), st.sampled_from(RULES), st.sampled_from(RULES))
def test_each_key_gets_the_cells_that_the_rules_give(table, text_rule, number_rule):
    settled = settle(table_from_columns("t", table), "k", {"t": text_rule, "n": number_rule})
    expected, in_conflict = {"k": [], "t": [], "n": []}, []
    for key, rows in groups_of(table).items():
        try:
            text = by_reference([table["t"][row] for row in rows], text_rule, False)
            number = by_reference([table["n"][row] for row in rows], number_rule, is_numeric(table))
        except ValueError:
            in_conflict += rows
            continue
        for name, cell in (("k", key), ("t", text), ("n", number)):
            expected[name].append(cell)
    got = settled.table.to_dict()
    assert {name: [cell or "" for cell in cells] for name, cells in got.items()} == expected
    listed = [
        int(place.removeprefix("row ")) - 1
        for one in settled.aside
        if one.name == "t-conflict"
        for place in one.listed().to_dict()["place"]
    ]
    assert sorted(listed) == sorted(in_conflict)
    (entry,) = settled.entries
    assert sum(line.rows for line in entry.lines) == entry.rows_out == len(expected["k"])


@pytest.mark.slow
@settings(max_examples=cases(200), deadline=None)
@given(tables(), st.sampled_from(RULES))
def test_settling_twice_is_settling_once(table, rule):
    once = settle(table_from_columns("t", table), "k", otherwise=rule).table
    twice = settle(once, "k", otherwise=rule)
    assert twice.table.to_dict() == once.to_dict()
    assert not [one for one in twice.aside if one.rows]


@settings(max_examples=cases(200), deadline=None)
@given(tables())
def test_a_settled_cell_is_traced_to_a_row_that_holds_it(table):
    settled = settle(table_from_columns("t", table), "k", otherwise="commonest").table
    for row in range(settled.rows):
        rows = [place.row - 1 for place in settled.source_rows(row)]
        for name, cells in settled.to_dict().items():
            cell = cells[row] or ""
            assert cell in [table[name][number] or "" for number in rows]
    assert set(add_source_column(settled, "from").to_dict()["from"]) <= {"t"}


@settings(max_examples=cases(200), deadline=None)
@given(tables())
def test_sums_are_exact(table):
    settled = settle(
        table_from_columns("t", table), "k", {"t": "first", "n": "sum"}
    ).table.to_dict()
    for key, sum_ in zip(settled["k"], settled["n"], strict=True):
        cells = [table["n"][row] for row in groups_of(table)[key]]
        present = [Decimal(cell) for cell in cells if cell]
        if not present:
            assert not sum_
        else:
            assert Decimal(sum_) == sum(present)


@settings(max_examples=cases(200), deadline=None)
@given(tables(), st.sampled_from(["first", "last", "fullest", "newest-by:n", "oldest-by:n"]))
def test_rows_kept_whole_are_rows_of_the_source(table, rule):
    settled = settle(table_from_columns("t", table), "k", keep_rule=rule)
    every = list(zip(*table.values(), strict=True))
    kept = list(zip(*settled.table.to_dict().values(), strict=True))
    grouped = groups_of(table)
    assert [row[0] for row in kept] == list(grouped)
    for row, rows in zip(kept, grouped.values(), strict=True):
        assert row in [every[number] for number in rows]
        if rule == "fullest":
            assert sum(map(bool, row)) == max(sum(map(bool, every[n])) for n in rows)
        if rule == "newest-by:n" and any(every[n][2] for n in rows):
            order = Decimal if is_numeric(table) else str
            assert row[2] == max((every[n][2] for n in rows if every[n][2]), key=order)
    out = sum(one.rows for one in settled.aside)
    assert out + len(kept) == len(every)


def test_sums_keep_the_cells_of_single_rows_and_refuse_what_is_no_number():
    table = table_from_columns("t", {"k": ["a", "b", "b"], "kg": ["1.5", "2.25", "0.75"]})
    assert settle(table, "k", {"kg": "sum"}).table.to_dict()["kg"] == ["1.5", "3.00"]
    assert settle(table, "k", {"kg": "mean"}).table.to_dict()["kg"] == ["1.5", "1.5"]
    words = table_from_columns("t", {"k": ["a", "a"], "w": ["x", "y"]})
    with pytest.raises(UsageError, match="takes numbers"):
        settle(words, "k", {"w": "sum"})
    with pytest.raises(UsageError, match="unknown rule 'frist'") as wrong:
        settle(words, "k", {"w": "frist"})
    assert wrong.value.remedy == "did you mean first?"


def test_large_sums_are_exact():
    cells = ["9007199254740993", "1", "4"]
    table = table_from_columns("t", {"k": ["a"] * 3, "n": cells})
    assert settle(table, "k", {"n": "sum"}).table.to_dict()["n"] == ["9007199254740998"]
    large = table_from_columns("t", {"k": ["a", "a"], "n": ["9000000000000000000"] * 2})
    assert settle(large, "k", {"n": "sum"}).table.to_dict()["n"] == ["18000000000000000000"]


def test_a_crosswalk_brings_spellings_together():
    table = table_from_columns("t", {"k": ["Elm Rd", "Elm Road"], "n": ["", "7"]})
    pairs = table_from_columns("pairs", {"from": ["Elm Rd"], "to": ["Elm Road"]})
    settled = settle(table, "k", pairs=pairs).table.to_dict()
    assert settled == {"k": ["Elm Rd"], "n": ["7"]}


def test_the_column_that_decides_is_decided_with_it():
    hives = table_from_columns(
        "hives",
        {
            "hive": ["1", "1", "2"],
            "phone": ["11", "12", "5"],
            "updated": ["2031-01-02", "2031-03-02", "2031-01-01"],
        },
    )
    result = settle(hives, "hive", {"phone": "newest-by:updated"})
    assert result.table.to_dict() == {
        "hive": ["1", "2"],
        "phone": ["12", "5"],
        "updated": ["2031-03-02", "2031-01-01"],
    }
    ruled = settle(hives, "hive", {"phone": "newest-by:updated", "updated": "min"})
    assert ruled.table.to_dict()["updated"] == ["2031-01-02", "2031-01-01"]
