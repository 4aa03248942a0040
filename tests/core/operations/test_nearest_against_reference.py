"""The nearest join against nested loops."""

from __future__ import annotations

import datetime as dt

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from cases import cases
from plait.core.base.errors import UsageError
from plait.core.operations.join import join
from plait.core.table.table import table_from_columns

KEYS = st.sampled_from(["a", "b", ""])
VALUES = st.one_of(st.none(), st.integers(-5, 5))
START = dt.date(2031, 4, 10)


@st.composite
def rows(draw):
    return draw(st.lists(st.tuples(KEYS, VALUES), max_size=8))


def partner(key, value, right, direction, within):
    """The right row, and whether another is as near."""
    if not key or value is None:
        return None, False
    found = []
    for row, (other, at) in enumerate(right):
        if other != key or at is None:
            continue
        side = {"before": at <= value, "after": at >= value, "either": True}[direction]
        if side and (within is None or abs(at - value) <= within):
            found.append((abs(at - value), at > value, row))
    if not found:
        return None, False
    best = min(found)
    return best[2], sum(one[0] == best[0] for one in found) > 1


def as_cells(values, dated):
    if dated:
        return [None if v is None else (START + dt.timedelta(v)).isoformat() for v in values]
    return [None if v is None else str(v) for v in values]


@settings(max_examples=cases(400), deadline=None)
@given(
    rows(),
    rows(),
    st.sampled_from(["before", "after", "either"]),
    st.sampled_from([None, 0, 2]),
    st.booleans(),
)
def test_partners_are_those_of_nested_loops(left, right, direction, within, dated):
    if not any(v is not None for _, v in left) or not any(v is not None for _, v in right):
        return
    tables = [
        table_from_columns(
            name,
            {"k": [key for key, _ in some], "at": as_cells([v for _, v in some], dated)},
        )
        for name, some in (("l", left), ("r", right))
    ]
    limit = None if within is None else f"{within}d" if dated else str(within)
    joined = join(*tables, key="k", nearest=f"at:{direction}", within=limit)
    expected = [partner(key, value, right, direction, within) for key, value in left]
    got = []
    for row in range(joined.table.rows):
        places = {place.source: place.row - 1 for place in joined.table.source_rows(row)}
        got.append(places.get("r"))
    assert got == [row for row, _ in expected]
    ties = [one.count for one in joined.findings if one.code == "nearest-tie"]
    assert sum(ties) == sum(tied for _, tied in expected)
    match = joined.match
    assert match.left_matched == sum(row is not None for row in got)
    assert match.right_matched == len({row for row in got if row is not None})
    (entry,) = joined.entries
    assert sum(line.rows for line in entry.lines) == entry.rows_out == len(left)


def test_times_within_an_hour_and_names_that_differ():
    seen = table_from_columns("seen", {"k": ["a"], "at": ["2031-04-05 10:00"]})
    taken = table_from_columns(
        "taken", {"k": ["a", "a"], "t": ["2031-04-05 09:30", "2031-04-05 11:30"]}
    )
    found = join(seen, taken, key="k", nearest="at=t:after", within="1h").table.to_dict()
    assert found["t"] == [None]
    found = join(seen, taken, key="k", nearest="at=t:either", within="30min").table.to_dict()
    assert found["t"] == ["2031-04-05 09:30"]


@pytest.mark.parametrize(
    ("spec", "within", "said"),
    [
        ("at:befor", None, "did you mean before?"),
        ("at", None, "nearest='at:before'"),
        ("at:before", "7 days", "write a number and one of"),
        ("word:before", None, "type"),
    ],
)
def test_what_is_asked_for_wrongly_is_told(spec, within, said):
    cells = {"k": ["a"], "at": ["2031-04-05"], "word": ["x"]}
    with pytest.raises(UsageError) as wrong:
        tables = table_from_columns("l", cells), table_from_columns("r", cells)
        join(*tables, key="k", nearest=spec, within=within)
    assert said in str(wrong.value.remedy)


def test_without_another_shared_column_the_nearest_of_all_rows_is_taken():
    seen = table_from_columns("seen", {"day": ["2031-04-05", "2031-04-01"]})
    price = table_from_columns("price", {"from": ["2031-04-02", "2031-03-01"], "eur": ["7", "6"]})
    found = join(seen, price, nearest="day=from:before").table.to_dict()
    assert found["eur"] == ["7", "6"]


@pytest.mark.parametrize("right", [["2", "5"], ["2031-01-01", ""], ["", ""], []])
@pytest.mark.parametrize("left", [["", ""], []])
def test_a_column_without_any_value_is_near_nothing(left, right):
    one = table_from_columns("one", {"k": ["a"] * len(left), "v": left})
    two = table_from_columns("two", {"k": ["a"] * len(right), "v": right})
    for first, second in ((one, two), (two, one)):
        within = "7" if right[:1] == ["2"] else "7d"
        joined = join(first, second, "k", nearest="v:either", within=within)
        assert joined.table.rows == first.rows and joined.match.left_matched == 0
