"""Long to wide and back: what one does the other undoes, and every row is accounted for."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from plait.core.base.errors import UsageError
from plait.core.lineage.paths import source_rows_of_row
from plait.core.operations.reshape import lengthen, widen
from plait.core.table.table import table_from_columns

KEYS = st.tuples(st.sampled_from("ABC"), st.sampled_from(["1", "02"]))
CELL = st.sampled_from(["3", "4.50", "é", "007"])
LONG = st.dictionaries(st.tuples(KEYS, st.sampled_from(["03", "04", "05"])), CELL, min_size=1)


def _long(cells):
    rows = [(yard, hive, month, cell) for ((yard, hive), month), cell in cells.items()]
    names = ("yard", "hive", "month", "kg")
    return table_from_columns("t", {n: [row[at] for row in rows] for at, n in enumerate(names)})


def _rows(table):
    return sorted(zip(*table.to_dict().values(), strict=True))


@given(LONG)
def test_lengthening_undoes_widening(cells):
    long = _long(cells)
    wide = widen(long, "month", "kg")
    assert wide.table.rows == len({key for key, _ in cells})
    back = lengthen(wide.table, "month", "kg", key="yard,hive", without_missing=True).table
    assert back.column_names == long.column_names
    assert _rows(back) == _rows(long)


@given(st.lists(st.tuples(CELL, CELL), min_size=1, max_size=9))
def test_widening_undoes_lengthening(rows):
    wide = table_from_columns(
        "t",
        {
            "hive": [f"h{number}" for number in range(len(rows))],
            "04": [row[0] for row in rows],
            "05": [row[1] for row in rows],
        },
    )
    long = lengthen(wide, "month", "kg", columns="04,05")
    assert long.table.rows == 2 * wide.rows
    assert widen(long.table, "month", "kg").table.to_dict() == wide.to_dict()


@given(LONG)
def test_each_wide_cell_is_traced_to_its_row(cells):
    long, rows = _long(cells), list(cells.items())
    wide = widen(long, "month", "kg").table
    for row in range(wide.rows):
        of_row = {name: column[row] for name, column in wide.to_dict().items()}
        key = (of_row["yard"], of_row["hive"])
        wanted = {at for at, ((one, _), _) in enumerate(rows, 1) if one == key}
        assert {place.row for place in source_rows_of_row(wide, row)} == wanted
        for month in set(of_row) - {"yard", "hive"}:
            assert of_row[month] == cells.get((key, month))


def test_rows_that_fall_into_one_cell_are_decided_by_the_rule_or_set_aside():
    table = table_from_columns(
        "t", {"hive": ["1", "1", "2", "2"], "month": ["04"] * 4, "kg": ["3", "5", "7", "7"]}
    )
    agreed = widen(table, "month", "kg")
    assert agreed.table.to_dict() == {"hive": ["2"], "04": ["7"]}
    assert {one.name for one in agreed.aside} == {"t-conflict", "t-conflicts"}
    summed = widen(table, "month", "kg", rule="sum")
    assert summed.table.to_dict() == {"hive": ["1", "2"], "04": ["8", "14"]}
    assert [one.code for one in summed.findings] == ["cell-of-several"]
    for made in (agreed, summed):
        (entry,) = made.entries
        assert sum(line.rows for line in entry.lines) == made.table.rows


def test_several_columns_of_cells_and_rows_without_a_head():
    table = table_from_columns(
        "t", {"hive": ["1", "1"], "month": ["04", ""], "kg": ["3", "4"], "n": ["5", "6"]}
    )
    wide = widen(table, "month", ["kg", "n"], key="hive")
    assert wide.table.to_dict() == {"hive": ["1"], "04 kg": ["3"], "04 n": ["5"]}
    assert [one.code for one in wide.findings] == ["key-missing"]


def test_heads_stand_in_the_order_in_which_they_first_come():
    table = table_from_columns(
        "t", {"h": ["1"] * 3, "week": ["10", "9", "2"], "kg": ["a", "b", "c"]}
    )
    assert widen(table, "week", "kg").table.column_names == ("h", "10", "9", "2")


@pytest.mark.parametrize(
    ("wrong", "said"),
    [
        (lambda t: widen(t, "mnth", "kg"), "no column 'mnth'"),
        (lambda t: widen(t, "kg", "kg"), "different columns"),
        (lambda t: lengthen(t, "kg", "kg", key="hive"), "already"),
        (lambda t: lengthen(t, "a", "b"), "either"),
        (lambda t: lengthen(t, "a", "b", columns="kg", key="hive"), "either"),
    ],
)
def test_what_cannot_be_done_is_said(wrong, said):
    table = table_from_columns("t", {"hive": ["1"], "month": ["04"], "kg": ["3"]})
    with pytest.raises(UsageError, match=said):
        wrong(table)


@pytest.mark.parametrize("part", ["month", "quarter", "week", "year"])
@given(rows=st.lists(st.tuples(st.sampled_from("ABC"), st.dates(), st.integers(0, 9)), min_size=1))
def test_heads_are_parts_of_dates_in_the_order_of_time(part, rows):
    names = ("hive", "seen", "kg")
    columns = {name: [str(row[at]) for row in rows] for at, name in enumerate(names)}
    result = widen(table_from_columns("t", columns), f"seen:{part}", "kg", rule="sum")
    written = {
        "month": lambda day: f"{day.year:04}-{day.month:02}",
        "quarter": lambda day: f"{day.year:04}-Q{(day.month + 2) // 3}",
        "week": lambda day: "{:04}-W{:02}".format(*day.isocalendar()[:2]),
        "year": lambda day: f"{day.year:04}",
    }[part]
    sums = {}
    for hive, day, kg in rows:
        sums[hive, written(day)] = sums.get((hive, written(day)), 0) + kg
    heads = sorted({head for _, head in sums})
    assert list(result.table.column_names[1:]) == heads or part == "year"
    hives = list(dict.fromkeys(hive for hive, _, _ in rows))
    cells = result.table.to_dict()
    for head in heads:
        expected = [sums.get((hive, head)) for hive in hives]
        assert [None if c is None else int(c) for c in cells[head]] == expected
    assert not [one for one in result.findings if one.severity == "warning"]


@pytest.mark.parametrize(
    ("heads", "in_time"),
    [
        (["2031-10", "2031-09"], ["2031-09", "2031-10"]),
        (["2031-W40", "2031-W08"], ["2031-W08", "2031-W40"]),
        (["5.10.2031", "13.9.2031"], ["13.9.2031", "5.10.2031"]),
        (["October", "May", "April"], ["April", "May", "October"]),
        (["Oct", "Apr"], ["Apr", "Oct"]),
        (["12", "7"], ["12", "7"]),
        (["May", "Mixed"], ["May", "Mixed"]),
    ],
)
def test_heads_that_name_times_stand_in_their_order(heads, in_time):
    columns = {"hive": ["1"] * len(heads), "month": heads, "kg": ["3"] * len(heads)}
    table = widen(table_from_columns("t", columns), "month", "kg").table
    assert list(table.column_names[1:]) == in_time
