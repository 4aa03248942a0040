"""Extracts that follow one another: gaps, copies, sizes and dates of another period."""

from __future__ import annotations

import random
from datetime import date, timedelta

import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from plait.core.aggregation.series import find_series, report_series
from plait.core.base.errors import UsageError
from plait.core.table.table import table_from_columns
from plait.core.types.periods import (
    Period,
    parse_series,
    period_of_day,
    period_of_name,
    periods_of_names,
)


def _extract(name, month, rows=40, seed=0):
    rng = random.Random(f"{name}{seed}")
    days = [f"2031-{month:02}-{rng.randrange(1, 29):02}" for _ in range(rows)]
    hives = [str(rng.randrange(10**6)) for _ in range(rows)]
    return table_from_columns(name, {"hive": hives, "seen": days})


def _found(tables):
    return {one.code: one for one in report_series(tables, "visits")}


MONTHS = [_extract(f"visits_2031-{month:02}", month) for month in range(1, 8)]


def test_a_whole_series_says_nothing():
    assert _found(MONTHS) == {}
    assert _found([table_from_columns(n, {"a": ["1"]}) for n in ("north", "south", "east")]) == {}
    assert _found(MONTHS[:2]) == {}


def test_what_is_missing_is_named():
    found = _found([*MONTHS[:2], *MONTHS[4:]])
    assert list(found) == ["series-gap"]
    assert found["series-gap"].count == 2
    assert "2031-03, 2031-04, between 2031-01 and 2031-07" in found["series-gap"].message


def test_two_of_one_period_and_a_copy_under_another_name():
    two = [*MONTHS, _extract("visits 2031_05 new", 5, seed=1)]
    assert "2 extracts of 2031-05" in _found(two)["series-repeat"].message
    copy = table_from_columns("visits_2031-08", MONTHS[6].to_dict())
    found = [one.message for one in report_series([*MONTHS, copy], "visits")]
    assert "40 of 40 rows of visits_2031-08 are in visits_2031-07 too" in found[0]


def test_a_copy_kept_in_another_format_is_one_and_a_column_with_few_values_is_none():
    cells = MONTHS[6].to_dict()
    numbers = pa.array([int(hive) for hive in cells["hive"]])
    copy = table_from_columns("visits_2031-08", {**cells, "hive": numbers})
    assert _found([*MONTHS, copy])["series-repeat"].count == 40
    same = [table_from_columns(table.name, {"yard": ["Aue"] * 40}) for table in MONTHS]
    assert _found(same) == {}


@pytest.mark.parametrize(("rows", "word"), [(15, "few"), (120, "many"), (17, None), (100, None)])
def test_much_smaller_or_larger_than_its_neighbours(rows, word):
    odd = [*MONTHS[:3], _extract("visits_2031-04", 4, rows), *MONTHS[4:]]
    found = _found(odd)
    assert ("series-size" in found) is (word is not None)
    if word:
        assert f"visits_2031-04 has {word} rows: {rows}; those around" in (
            found["series-size"].message
        )


def test_rows_with_dates_of_another_month():
    cells = MONTHS[3].to_dict()
    cells["seen"][5], cells["seen"][9] = "2031-05-01", "2030-04-20"
    odd = [*MONTHS[:3], table_from_columns("visits_2031-04", cells), *MONTHS[4:]]
    found = _found(odd)["series-outside"]
    assert (found.count, found.where.column) == (2, "seen")
    assert [one.places[0].row for one in found.examples] == [6, 10]


def test_a_column_of_other_dates_tells_nothing():
    born = [f"{year}-05-07" for year in range(1950, 1990)]
    tables = [table_from_columns(table.name, {**table.to_dict(), "born": born}) for table in MONTHS]
    assert "series-outside" not in _found(tables)


@pytest.mark.parametrize(
    ("name", "period"),
    [
        ("inspections/2031-03.csv", "2031-03"),
        ("2031_03", "2031-03"),
        ("visits203103", "2031-03"),
        ("03-2031", "2031-03"),
        ("Visits March 2031", "2031-03"),
        ("Besuche_Mär2031", "2031-03"),
        ("visites août 2031", "2031-08"),
        ("2031-Q2", "2031-Q2"),
        ("Q2 2031", "2031-Q2"),
        ("KW 2031-W14", "2031-W14"),
        ("till_2031-04-05", "2031-04-05"),
        ("till 20310405", "2031-04-05"),
        ("05.04.2031", "2031-04-05"),
        ("budget 2031", "2031"),
        ("2031-13", "2031"),
        ("north", None),
        ("yard 12", None),
    ],
)
def test_the_period_in_a_name(name, period):
    found = period_of_name(name)
    assert (None if found is None else str(found)) == period


@given(st.dates(date(1900, 1, 1), date(2099, 12, 31)), st.integers(-40, 40))
def test_periods_are_those_of_the_calendar(day, steps):
    for unit in ("day", "week", "month", "quarter", "year"):
        period = period_of_day(day, unit)
        assert period.first_day <= day < period.next_day
        assert str(period_of_name(str(period))) == str(period)
        assert period_of_day(period.next_day - timedelta(days=1), unit) == period
        assert period_of_day(Period(unit, period.place + steps).first_day, unit).place == (
            period.place + steps
        )


def test_numbers_and_odd_names():
    assert [p and p.place for p in periods_of_names(["v1", "v2", "v10"])] == [1, 2, 10]
    assert find_series([table_from_columns(n, {}) for n in ("a1", "b9000", "c70000")], "x") is None


@pytest.mark.parametrize(
    ("text", "today", "ends"),
    [
        ("2031-01 .. 2031-12", date(2030, 1, 1), ("2031-01", "2031-12")),
        ("2031-W50..2032-W02", date(2030, 1, 1), ("2031-W50", "2032-W02")),
        ("monthly, to last month", date(2032, 1, 31), ("None", "2031-12")),
        ("monthly, whole, to this month", date(2032, 1, 31), ("None", "2032-01")),
        ("weekly", date(2031, 4, 2), ("None", "2031-W13")),
        ("1..12", date(2031, 4, 2), ("1", "12")),
    ],
)
def test_what_is_expected_of_a_series(text, today, ends):
    assert tuple(map(str, parse_series(text, today))) == ends


@pytest.mark.parametrize("text", ["2031-12 .. 2031-01", "2031-01 .. 2031-Q4", "often", "", "3.."])
def test_what_is_no_series_is_refused(text):
    with pytest.raises(UsageError, match="no series"):
        parse_series(text, date(2031, 1, 1))
