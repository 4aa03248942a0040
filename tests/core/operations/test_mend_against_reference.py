"""The steps of ``mend`` against slow, obvious references over Python lists."""

from __future__ import annotations

import datetime as dt
import re
from decimal import Decimal

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from cases import cases
from plait.core.base.errors import UsageError
from plait.core.codes.sort import sort_rows
from plait.core.operations.mend import mend
from plait.core.operations.split import SplitSpec, split_column
from plait.core.table.table import table_from_columns

CELL = st.sampled_from(["a", "b", "", None, " x ", "10", "9", "a-b", "a-b-c/d", "-", "ä-ö", "/"])
NUMBER = st.one_of(st.none(), st.integers(-30, 30).map(str))


@settings(max_examples=cases(200), deadline=None)
@given(
    st.lists(st.tuples(NUMBER, st.sampled_from(["x", "y", "", "Z"])), max_size=30), st.booleans()
)
def test_rows_are_sorted_by_value_with_missing_last(rows, falling):
    numbers, texts = [a for a, _ in rows], [b for _, b in rows]
    table = table_from_columns("t", {"n": numbers, "s": texts})
    made = sort_rows(table, ["n desc" if falling else "n", "s"]).tolist()

    def rank(row):
        number, text = rows[row]
        sign = -1 if falling else 1
        return (number is None, sign * int(number or 0), not text, text)

    if any(numbers):
        assert made == sorted(range(len(rows)), key=rank)


def parts_of(cell, delimiters, count):
    """The parts of a cell, the last one holding the rest."""
    if not cell:
        return [None] * count
    rest, parts = cell, []
    for number in range(count - 1):
        head, found, tail = rest.partition(delimiters[min(number, len(delimiters) - 1)])
        if not found:
            break
        parts.append(head)
        rest = tail
    parts = [part.strip() or None for part in [*parts, rest]]
    return parts + [None] * (count - len(parts))


@settings(max_examples=cases(300), deadline=None)
@given(
    st.lists(CELL, min_size=1, max_size=20),
    st.sampled_from([("-",), ("-", "/"), ("/", "-")]),
    st.integers(2, 3),
)
def test_a_split_takes_every_sign_to_some_part(cells, delimiters, count):
    names = ("p", "q", "r")[:count]
    table = table_from_columns("t", {"at": cells})
    made = split_column(table, SplitSpec("at", delimiters, names)).to_dict()
    expected = [parts_of(cell, delimiters, count) for cell in cells]
    assert [[made[name][row] for name in names] for row in range(len(cells))] == expected
    assert made["at"] == cells


@settings(max_examples=cases(200), deadline=None)
@given(st.lists(CELL, min_size=1, max_size=30))
def test_filling_down_takes_the_nearest_cell_above(cells):
    made = mend(table_from_columns("t", {"c": cells}), fill={"c": "down"}).table.to_dict()["c"]
    markers = {"NA", "-"} if _numbers_but_for(cells, {"NA", "-", "", None}) else set()
    above = None
    for cell, now in zip(cells, made, strict=True):
        missing = cell in markers or not cell
        above = above if missing else cell
        assert (now or None) == (above or cell or None)


def _numbers_but_for(cells, others):
    """Whether there are numbers among the cells, and nothing else but those."""
    left = [cell for cell in cells if cell not in others]
    return bool(left) and all(re.fullmatch(r"-?(0|[1-9][0-9]*)(\.[0-9]+)?", cell) for cell in left)


@settings(max_examples=cases(200), deadline=None)
@given(st.lists(st.tuples(CELL, NUMBER), min_size=1, max_size=30), st.integers(-30, 30))
def test_where_keeps_its_rows_and_sets_the_others_aside(rows, limit):
    cells, numbers = [a for a, _ in rows], [b for _, b in rows]
    if not any(numbers):
        return
    table = table_from_columns("t", {"c": cells, "n": numbers})
    mended = mend(table, where=f"n > {limit}")
    kept = [row for row, number in enumerate(numbers) if number is not None and int(number) > limit]
    assert mended.table.to_dict()["c"] == [cells[row] for row in kept]
    (entry,) = mended.entries
    assert entry.rows_out == len(kept)
    aside = [place for one in mended.aside for place in one.listed().to_dict()["place"]]
    assert aside == [f"row {row + 1}" for row in range(len(rows)) if row not in kept]


@settings(max_examples=cases(100), deadline=None)
@given(
    st.lists(
        st.one_of(st.dates(dt.date(1900, 1, 1), dt.date(2099, 12, 31)), st.none()), min_size=1
    ),
    st.lists(st.sampled_from(["31.2.2031", "soon", "1.13.2031"]), max_size=3),
)
def test_types_are_read_and_unfit_cells_kept_apart(days, odd):
    cells = [f"{day.day}.{day.month}.{day.year}" if day else "" for day in days]
    table = table_from_columns(
        "t", {"d": [*cells, *odd], "n": [str(n) for n in range(len(days + odd))]}
    )
    apart = mend(table, type={"d": "date:%d.%m.%Y"}, unfit="set-aside")
    assert apart.table.to_dict()["d"] == days
    assert [cell for one in apart.aside for cell in one.table.to_dict()["d"]] == odd
    missing = mend(table, type={"d": "date:%d.%m.%Y"}, unfit="missing").table.to_dict()
    assert missing["d"] == days + [None] * len(odd)


def test_columns_dropped_kept_ordered_and_named():
    table = table_from_columns("t", {"a": ["1"], "b": ["2"], "c": ["3"]})
    assert mend(table, order="c", drop="a").table.column_names == ("c", "b")
    assert mend(table, keep="c,a").table.column_names == ("a", "c")
    assert mend(table, header="x,y,z", rename={"x": "w"}).table.column_names == ("w", "y", "z")
    assert mend(table, trim="a", name="u").table.name == "u"
    with pytest.raises(UsageError, match="two columns would be called 'b'"):
        mend(table, rename={"a": "b"})


def test_rows_of_a_mended_table_are_traced():
    table = table_from_columns("t", {"a": ["x ", "y", "z"]}, "t.csv")
    mended = mend(table, trim=True, where="a <> 'y'", sort="a desc").table
    assert [mended.source_rows(row)[0].row for row in range(2)] == [3, 1]


def test_numbers_with_a_plus_an_exponent_or_zeros_in_front_are_decimals():
    cells = ["+1.5", "1e2", "007.50", "-0.25", "1E-3", "12", "+0", None]
    mended = mend(table_from_columns("t", {"kg": cells}), type={"kg": "decimal"})
    expected = [None if cell is None else Decimal(cell) for cell in cells]
    assert mended.table.to_dict()["kg"] == expected
