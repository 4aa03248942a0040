"""Groups judged by SQLite, and figures that it lacks by the standard library."""

from __future__ import annotations

import sqlite3
import statistics
from contextlib import closing
from decimal import Decimal

import pytest
from hypothesis import given
from hypothesis import strategies as st

from plait.core.base.errors import UsageError
from plait.core.lineage.paths import source_rows_of_row
from plait.core.operations.group import group
from plait.core.table.table import table_from_columns

YARDS = st.sampled_from(["A", "B", "ç", ""])
HIVES = st.sampled_from(["1", "2", ""])
CENTS = st.one_of(st.just(""), st.integers(-99999, 99999).map(lambda n: f"{n / 100:.2f}"))
ROWS = st.lists(st.tuples(YARDS, HIVES, CENTS), min_size=1, max_size=40)


def _table(rows):
    return table_from_columns(
        "visits", {name: [row[at] for row in rows] for at, name in enumerate(("y", "h", "kg"))}
    )


def _cents(text: str | None) -> int | None:
    return None if text is None or text == "" else round(float(text) * 100)


def _asked(rows, query: str):
    with closing(sqlite3.connect(":memory:")) as base:
        base.execute("CREATE TABLE visits (y TEXT, h TEXT, cents INTEGER)")
        made = [(y or None, h or None, _cents(kg)) for y, h, kg in rows]
        base.executemany("INSERT INTO visits VALUES (?, ?, ?)", made)
        return {row[:2]: row[2:] for row in base.execute(query)}


def _said(table, *names):
    columns = table.to_dict()
    keys = zip(*([cell or None for cell in columns[name]] for name in ("y", "h")), strict=True)
    return dict(zip(keys, zip(*(columns[name] for name in names), strict=True), strict=True))


@given(ROWS)
def test_counts_sums_and_ends_are_those_of_sqlite(rows):
    take = {
        "rows": "count",
        "values": "count:kg",
        "kinds": "distinct:kg",
        "sum": "sum:kg",
        "least": "smallest:kg",
        "most": "largest:kg",
    }
    grouped = group(_table(rows), "y,h", take)
    found = _said(grouped.table, *take)
    wanted = _asked(
        rows,
        "SELECT y, h, COUNT(*), COUNT(cents), COUNT(DISTINCT cents), SUM(cents), MIN(cents), "
        "MAX(cents) FROM visits GROUP BY y, h",
    )
    assert found.keys() == wanted.keys()
    for key, (counts, values, kinds, *ends) in found.items():
        assert (counts, values, kinds, *map(_cents, ends)) == wanted[key]
    (entry,) = grouped.entries
    assert entry.rows_out == len(wanted)


@given(ROWS)
def test_middle_mean_and_spread_are_those_of_the_standard_library(rows):
    take = {"mean": "mean:kg", "middle": "middle:kg", "spread": "spread:kg"}
    found = _said(group(_table(rows), "y,h", take).table, *take)
    for key, (mean, middle, spread) in found.items():
        values = [
            float(kg) for y, h, kg in rows if (y or None, h or None) == key and kg not in ("", None)
        ]
        if not values:
            assert mean is middle is spread is None
            continue
        assert float(mean) == pytest.approx(statistics.mean(values), abs=5.1e-7)  # to six places
        assert float(middle) == pytest.approx(statistics.median(values), abs=1e-9)
        if len(values) > 1:
            assert float(spread) == pytest.approx(statistics.stdev(values), abs=1e-6)
        else:
            assert spread is None


@pytest.mark.slow
@given(ROWS)
def test_figures_put_onto_rows_are_those_of_their_group(rows):
    table, take = _table(rows), {"sum": "sum:kg", "most": "largest:kg", "share": "share"}
    once = _said(group(table, "y,h", take).table, *take)
    spread = group(table, "y,h", take, onto_rows=True).table
    assert spread.rows == len(rows)
    assert spread.to_dict()["kg"] == [row[2] for row in rows]
    for row, figures in zip(
        rows, zip(*(spread.to_dict()[n] for n in take), strict=True), strict=True
    ):
        assert figures == once[row[0] or None, row[1] or None]


@given(ROWS)
def test_every_row_of_a_group_is_traced(rows):
    grouped = group(_table(rows), "y,h", {"n": "count"}).table
    found = [source_rows_of_row(grouped, row) for row in range(grouped.rows)]
    assert [len(of_row) for of_row in found] == grouped.to_dict()["n"]
    assert sorted(place.row for of_row in found for place in of_row) == [*range(1, len(rows) + 1)]


def test_dates_are_grouped_by_month_quarter_and_year():
    seen = table_from_columns(
        "t", {"d": ["2031-01-31", "2031-02-01", "2031-04-01", "", "2032-01-01"]}
    )
    by = {
        part: group(seen, f"d:{part}", {"n": "count"}).table.to_dict()
        for part in ("month", "quarter", "year")
    }
    assert by["month"]["d month"] == ["2031-01", "2031-02", "2031-04", None, "2032-01"]
    assert by["quarter"] == {
        "d quarter": ["2031-Q1", "2031-Q2", None, "2032-Q1"],
        "n": [2, 1, 1, 1],
    }
    assert by["year"]["n"] == [3, 1, 1]


def test_sums_of_decimals_are_exact_and_text_is_no_number():
    table = table_from_columns("t", {"a": ["0.1"] * 10, "b": ["x"] * 10})
    assert group(table, (), {"s": "sum:a"}).table.to_dict() == {"s": [Decimal("1.0")]}
    with pytest.raises(UsageError, match="takes numbers"):
        group(table, (), {"s": "sum:b"})
    with pytest.raises(UsageError, match="unknown figure"):
        group(table, (), {"s": "summ:a"})


def test_values_that_are_missing_are_said_with_their_number():
    table = table_from_columns(
        "t", {"y": ["A", "A", "B"], "kg": ["1", "", ""], "no": ["", "x", "y"]}
    )
    found = {one.code: one for one in group(table, "y", {"m": "mean:kg"}).findings}
    assert "1 of them has no value" in found["group-values-missing"].message
    assert found["group-values-missing"].examples[0].text == "y A: 1 of 2 rows"
    (without,) = group(table, "no", {"n": "count"}).findings
    assert without.code == "group-without-value" and without.count == 1
