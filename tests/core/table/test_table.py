"""Tables: rows taken in any order, again and again; where they come from; Arrow in and out."""

from __future__ import annotations

import datetime as dt
import random

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from plait.core.base.errors import UnknownColumnError, UsageError
from plait.core.table.columns import project_columns, rename_columns, with_headings
from plait.core.table.fragment import gather_cells, row_number_dtype
from plait.core.table.key_spec import (
    check_column,
    common_columns,
    parse_assignments,
    parse_key_columns,
    parse_multi_assignments,
    parse_names,
    quote_name,
)
from plait.core.table.set_aside import report_truncated_listings, set_rows_aside, truncate_listings
from plait.core.table.table import Table, table_from_columns


@given(st.lists(st.integers(-1, 99), max_size=30), st.integers(1, 100))
def test_gathering_from_pieces(index, piece):
    cells = [str(number) for number in range(100)]
    column = pa.chunked_array([cells[at : at + piece] for at in range(0, 100, piece)])
    expected = [cells[row] if row >= 0 else None for row in index]
    assert gather_cells(column, np.array(index, np.int64)).to_pylist() == expected


def test_a_few_rows_far_apart_are_taken_from_their_pieces():
    pieces = [[f"{piece}-{row}" for row in range(1000)] for piece in range(50)]
    column = pa.chunked_array(pieces)
    flat = [cell for piece in pieces for cell in piece]
    for index in ([49_999, 0, -1, 25_000], [3, 49_998], [0, 49_999, 1]):
        assert gather_cells(column, np.array(index)).to_pylist() == [
            flat[row] if row >= 0 else None for row in index
        ]


@pytest.mark.parametrize("seed", range(5))
def test_rows_taken_of_rows_taken_are_those_of_lists(seed):
    rng = random.Random(seed)
    cells = [f"c{number}" for number in range(200)]
    table, rows = table_from_columns("t", {"a": cells}, "t.csv"), list(range(200))
    for _ in range(5):
        taken = [rng.randrange(-1, len(rows)) for _ in range(rng.randrange(1, 150))]
        table = table.take(np.array(taken, np.int64))
        rows = [rows[one] if one >= 0 else -1 for one in taken]
    assert table.to_dict()["a"] == [cells[row] if row >= 0 else None for row in rows]
    for number, row in enumerate(rows):
        assert [place.row for place in table.source_rows(number)] == ([row + 1] if row >= 0 else [])
    sources, named = table.describe_source_rows()
    assert sources.to_pylist() == ["t" if row >= 0 else None for row in rows]
    assert named.to_pylist() == [f"row {row + 1}" if row >= 0 else None for row in rows]


def test_a_column_with_the_cells_of_other_rows_says_where_they_are_from():
    table = table_from_columns("t", {"a": ["x", "y", "z"], "b": ["1", "2", "3"]})
    made = table.with_gathered_column("a", np.array([2, -1, 0]))
    assert made.to_dict() == {"a": ["z", None, "x"], "b": ["1", "2", "3"]}
    assert made.source_columns("a") == (("t", "a"),)
    assert table.to_dict()["a"] == ["x", "y", "z"], "the table itself is as it was"


@pytest.mark.parametrize(
    ("cells", "made"),
    [
        (pa.array(["a", "b"]).dictionary_encode(), ["a", "b"]),
        (pa.array([None, None], pa.null()), [None, None]),
        (pa.array([b"\x00\xff", None]), ["00ff", None]),
        (pa.array([[1, 2], None]), ["[1,2]", None]),
        (pa.array(["x", None], pa.large_string()), ["x", None]),
        (pa.array(["x", None], pa.string_view()), ["x", None]),
        (pa.array([1, None], pa.uint8()), [1, None]),
        (pa.array([dt.date(2031, 5, 4), None]), [dt.date(2031, 5, 4), None]),
        (pa.array([1_000_000_001], pa.timestamp("ns")), ["1970-01-01 00:00:01.000000001"]),
        (pa.array([1_000_000_000], pa.timestamp("ns")), [dt.datetime(1970, 1, 1, 0, 0, 1)]),
    ],
)  # fmt: skip
def test_arrow_columns_of_every_kind_become_columns_of_single_values(cells, made):
    assert Table.from_arrow(pa.table({"c": cells})).to_dict() == {"c": made}


def test_a_structure_is_a_column_for_each_field_and_names_are_told_apart():
    place = pa.array([{"yard": "A", "at": {"x": 1, "y": 2}}])
    table = Table.from_arrow(pa.table([place, place, pa.array([7])], ["p", "p", ""]), "t")
    assert table.column_names == ("p.yard", "p.at.x", "p.at.y", "p.yard (2)", "p.at.x (2)",
                                  "p.at.y (2)", "column 7")  # fmt: skip
    assert {one.code for one in table.findings} == {"header-repeated", "header-empty"}


def test_lists_of_rows_set_aside_are_whole_or_cut_and_say_so():
    table = table_from_columns("t", {"a": [str(n) for n in range(10)]})
    kept = set_rows_aside(table, np.arange(10) % 2 == 0, "even", "it is even", "even rows")
    assert kept.to_dict()["a"] == ["1", "3", "5", "7", "9"]
    (aside,) = kept.set_aside
    assert (aside.name, aside.rows, aside.cause) == ("t-even", 5, "even rows")
    listed = aside.listed().to_dict()
    assert listed == {"reason": ["it is even"] * 5, "source": ["t"] * 5,
                      "place": [f"row {number}" for number in (1, 3, 5, 7, 9)],
                      "a": ["0", "2", "4", "6", "8"]}  # fmt: skip
    for limit, rows in ((None, 5), (2, 2), (5, 5)):
        ((shown, _),) = truncate_listings([aside], limit)
        assert shown.rows == rows
        told = report_truncated_listings(truncate_listings([aside], limit))
        assert [one.count for one in told] == ([3] if rows == 2 else [])
    assert truncate_listings([aside], 0) == []


def test_columns_are_renamed_chosen_and_put_in_order():
    table = table_from_columns("t", {"a": ["1"], "b": ["2"], "c": ["3"]})
    assert rename_columns(table, {"a": "x"}).column_names == ("x", "b", "c")
    assert rename_columns(table, {"a": "b", "b": "a"}).to_dict() == {
        "b": ["1"],
        "a": ["2"],
        "c": ["3"],
    }
    assert with_headings(table, ["x", "y", "z"]).to_dict() == {"x": ["1"], "y": ["2"], "z": ["3"]}
    assert project_columns(table, ["b"], [], ["c"]).column_names == ("c", "a")
    assert project_columns(table, [], ["c", "a"], []).column_names == ("a", "c")
    for wrong in (
        lambda: rename_columns(table, {"a": "b"}),
        lambda: with_headings(table, ["x"]),
        lambda: with_headings(table, ["x", "x", "y"]),
        lambda: project_columns(table, ["a", "b", "c"], [], []),
    ):
        with pytest.raises(UsageError):
            wrong()
    with pytest.raises(UnknownColumnError) as caught:
        project_columns(table, [], [], ["d"])
    assert caught.value.option == "order"


@pytest.mark.parametrize(
    ("spec", "key"),
    [
        ("yard,hive", (("yard", "yard"), ("hive", "hive"))),
        ('country=Country,"a,b"=c', (("country", "Country"), ("a,b", "c"))),
        ('"a=b"', (("a=b", "a=b"),)),
        ({"a": "b"}, (("a", "b"),)),
        (["a", "b=c"], (("a", "a"), ("b", "c"))),
    ],
)
def test_keys_are_read_as_they_are_written(spec, key):
    assert parse_key_columns(spec) == key


def test_names_with_commas_and_quotes_go_there_and_back():
    for name in ("plain", "with space", "a,b", 'say "so"', "a=b", "Moisture %"):
        assert parse_names(quote_name(name)) == (name,) or quote_name(name) == name
        assert parse_key_columns(quote_name(name)) == ((name, name),)
    assert parse_assignments(['"a=b"=c=d'], "--type") == {"a=b": "c=d"}
    assert parse_multi_assignments(["n=a", "n=b,c"], "--same") == {"n": ("a", "b", "c")}
    for wrong in (["a"], ["=a"], ["a=1", "a=2"]):
        with pytest.raises(UsageError):
            parse_assignments(wrong, "--type")
    with pytest.raises(UsageError, match="names no column"):
        parse_key_columns("a,=b")


def test_a_column_that_is_not_there_is_answered_with_the_nearest():
    table = table_from_columns("hives", {"Yard": ["A"], "Hive": ["1"]})
    with pytest.raises(UnknownColumnError, match="no column 'yrad' in hives") as caught:
        check_column("yrad", table)
    assert caught.value.remedy == "did you mean Yard?"
    other = table_from_columns("visits", {"hive no": ["1"], "Day": ["2"]})
    with pytest.raises(UsageError, match="no column in common"):
        common_columns(other, table)
    assert row_number_dtype(2**31 - 1) is np.int32
