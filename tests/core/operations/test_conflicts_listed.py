"""Several columns and keys in conflict at once: what is listed, kept, and traced."""

from __future__ import annotations

import pytest

from plait.core.base.errors import UsageError
from plait.core.lineage.paths import source_rows_of_row
from plait.core.operations.group import group
from plait.core.operations.join import join
from plait.core.operations.reshape import widen
from plait.core.operations.settle import settle
from plait.core.table.table import table_from_columns

HIVES = table_from_columns(
    "hives",
    {
        "hive": ["1", "1", "2", "2", "3", "3", "4"],
        "breed": ["Carnica", "Buckfast", "Carnica", "Carnica", "Ligustica", "Ligustica", "none"],
        "warden": ["Ines", "Ines", "Tom", "Mara", "Ines", "Ines", "Tom"],
        "kg": ["1", "2", "3", "4", "5", "6", "7"],
    },
)


def test_each_key_in_conflict_is_listed_with_the_column_that_differs_and_no_other():
    settled = settle(HIVES, "hive", rules={"kg": "sum"})
    rows, cells = settled.aside
    assert rows.table.to_dict()["hive"] == ["1", "1", "2", "2"]
    assert [rows.cause, rows.rows] == ["rows of keys in conflict", 4]
    listed = cells.listed().to_dict()
    assert list(zip(listed["hive"], listed["column"], listed["left value"], listed["right value"],
                    listed["left place"], listed["right place"], strict=True)) == [
        ("1", "breed", "Carnica", "Buckfast", "row 1", "row 2"),
        ("2", "warden", "Tom", "Mara", "row 3", "row 4"),
    ]  # fmt: skip
    (finding,) = settled.findings
    assert finding.count == 2 and "breed in 1, warden in 1" in finding.message


def test_a_sum_beside_keys_in_conflict_rests_on_all_its_rows():
    table = settle(HIVES, "hive", rules={"kg": "sum"}).table
    assert table.to_dict()["kg"] == ["11", "7"]
    assert [[place.row for place in source_rows_of_row(table, row)] for row in (0, 1)] == [
        [5, 6],
        [7],
    ]


def test_two_columns_that_differ_in_a_join_are_listed_one_after_the_other():
    other = table_from_columns(
        "older",
        {"hive": ["1", "2", "4"], "breed": ["Buckfast", "Carnica", "none"],
         "warden": ["Ines", "Mara", "Lena"], "kg": ["3", "7", "7"]},
    )  # fmt: skip
    one_each = settle(HIVES, "hive", keep_rule="first").table.with_name("hives")
    joined = join(one_each, other, "hive")
    (cells,) = [one for one in joined.aside if one.cells_only]
    listed = cells.listed().to_dict()
    assert list(zip(listed["column"], listed["hive"], listed["left value"], listed["right value"],
                    strict=True)) == [
        ("breed", "1", "Carnica", "Buckfast"),
        ("warden", "2", "Tom", "Mara"),
        ("warden", "4", "Tom", "Lena"),
        ("kg", "1", "1", "3"),
        ("kg", "2", "3", "7"),
    ]  # fmt: skip
    told = {str(one.where): one.count for one in joined.findings if one.code == "source-conflict"}
    assert told == {"older, column breed": 1, "older, column warden": 2, "older, column kg": 2}


def test_the_middle_of_numbers_near_the_end_of_64_bits():
    table = table_from_columns(
        "t", {"g": ["a", "a", "b"], "n": [str(8 * 10**18), str(8 * 10**18), "1"]}
    )
    made = group(table, "g", {"m": "middle:n"}).table.to_dict()
    assert made["m"] == [8 * 10**18, 1]


@pytest.mark.parametrize(
    ("make", "option"),
    [
        (lambda: group(HIVES, "hive", {"n": "sum:kgs"}), "take"),
        (lambda: settle(HIVES, "hive", rules={"breed": "newest-by:kgs"}), "rule"),
        (lambda: settle(HIVES, "hive", otherwise="newest-by:kgs"), "otherwise"),
        (lambda: settle(HIVES, "hiev"), "key"),
    ],
)
def test_a_column_misspelt_within_a_figure_or_rule_is_told_with_its_option(make, option):
    with pytest.raises(UsageError, match="no column") as caught:
        make()
    assert caught.value.option == option and "did you mean" in str(caught.value.remedy)


def test_a_wide_table_has_the_name_asked_for_and_tells_which_columns_it_leaves_out():
    table = table_from_columns(
        "honey",
        {"hive": ["1", "1"], "month": ["04", "05"], "kg": ["3", "9"],
         **{f"note {n}": ["x", "x"] for n in range(1, 7)}},
    )  # fmt: skip
    assert widen(table, "month", "kg", "hive").table.name == "honey-wide"
    made = widen(table, "month", "kg", "hive", name="wide")
    assert made.table.name == "wide"
    (finding,) = [one for one in made.findings if one.code == "columns-left-out"]
    assert finding.message == (
        "6 columns of honey left out: note 1, note 2, note 3, note 4, note 5 …"
    )
    few = table.project(["hive", "month", "kg", *(f"note {n}" for n in range(1, 6))])
    (finding,) = [
        one for one in widen(few, "month", "kg", "hive").findings if one.code == "columns-left-out"
    ]
    assert finding.message.endswith("note 4, note 5")
