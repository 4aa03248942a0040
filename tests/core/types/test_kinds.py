"""The kind of a column against a slow reference: regular expressions and Python's own values."""

from __future__ import annotations

import re
from datetime import date, datetime

import pyarrow as pa
import pyarrow.compute as pc
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from cases import cases
from plait.core.operations.retype import apply_missing_markers
from plait.core.table.table import table_from_columns
from plait.core.types.column_type import DECIMAL
from plait.core.types.inference import (
    canonical_number_text,
    infer_column_type,
    parse_column,
    to_arrow_type,
)

CELLS = [
    *["0", "-0", "00", "7", "-7", "12", "007", "1.5", "-0.5", "0.5", "00.5", ".5", "5.", "-.5"],
    *["-", "1.2.3", "+1", "1e3", "9223372036854775807", "99999999999999999999", "inf", "nan"],
    *["0x1F", "1 ", " 1", "٣", "1/2", "1,5", "--1", "1-", "-00", "", "x", None],
    *["2031-02-28", "2031-02-30", "2031-1-1", "true", "FALSE", "True", "tRue"],
    *["2031-02-28 10:00", "2031-02-28T10:00:59.123", "2031-02-28 25:00"],
]


MISSING = {"NA", "N/A", "n/a", "#N/A", "NULL", "null", "None", "NaN", "nan", "-", "--", "?"}


def reference(cells):
    some = [cell for cell in cells if cell]
    if not some:
        return "empty"
    cells = [cell for cell in some if cell not in MISSING]
    if not cells:
        return "text"
    if all(re.fullmatch(r"-?(0|[1-9][0-9]*)", cell) for cell in cells):
        return "integer" if all(-(2**63) <= int(cell) < 2**63 for cell in cells) else "text"
    if all(
        re.fullmatch(r"-?((0|[1-9][0-9]{0,17})|(0|[1-9][0-9]{0,75})\.[0-9]+)", cell)
        for cell in cells
    ):
        return "decimal"
    written = [re.fullmatch(r"-?(0|[1-9][0-9]{0,75})(\.[0-9]+)?([eE][+-]?[0-9]{1,3})?", cell)
               for cell in cells]  # fmt: skip
    if all(written) and any(found[3] for found in written):
        pointed = any("." in cell or re.search("[eE][+-]", cell) for cell in cells)
        return "decimal:1e3" if pointed else "text"
    if all(cell in ("true", "True", "TRUE", "false", "False", "FALSE") for cell in some):
        return "boolean"  # a marker among these is no missing cell
    for kind, form, read in (
        ("date", r"[0-9]{4}-[0-9]{2}-[0-9]{2}", date.fromisoformat),
        (
            "datetime",
            r".{10}[ T][0-9]{2}:[0-9]{2}(:[0-9]{2}(\.[0-9]{1,6})?)?",
            datetime.fromisoformat,
        ),
    ):
        if all(re.fullmatch(form, cell, re.ASCII) for cell in cells):
            try:
                return [read(cell) for cell in cells] and kind
            except ValueError:
                return "text"
    bare = all(
        re.fullmatch(r"-?((0|[1-9][0-9]{0,17})(\.[0-9]+)?|\.[0-9]+)", cell, re.ASCII)
        for cell in cells
    )
    if bare and any(cell.lstrip("-").startswith(".") for cell in cells):
        return "decimal:.5"
    comma = all(re.fullmatch(r"-?(0|[1-9][0-9]{0,17})(,[0-9]+)?", cell) for cell in cells)
    return "decimal:1.234,5" if comma and any("," in cell for cell in cells) else "text"


@pytest.mark.slow
@settings(max_examples=cases(1500), deadline=None)
@given(
    st.lists(st.sampled_from(CELLS), max_size=4),
    st.lists(st.sampled_from(CELLS[:12]), max_size=3),
    st.sampled_from(["", "7", "1.5", "true", "2031-02-28", "x"]),
)
def test_kind_of_as_the_reference_says(some, numbers, many):
    # Many cells above hide the others from the first glance, so that every cell must be looked at.
    above = [many] * 1200 if many else []
    column = pa.chunked_array([pa.array(part, pa.string()) for part in (above, [*numbers, *some])])
    assert str(infer_column_type(column)) == reference([*above, *numbers, *some])


def test_one_odd_cell_far_down_decides():
    column = pa.chunked_array([["1"] * 5000, ["2"] * 5000 + ["007"]])
    assert str(infer_column_type(column)) == "text"
    assert str(infer_column_type(column.slice(0, 10_000))) == "integer"


@given(
    st.decimals(
        allow_nan=False, allow_infinity=False, places=4, min_value=-(10**9), max_value=10**9
    )
)
def test_decimals_are_given_back(value):
    text = f"{value:f}"
    column = pa.chunked_array([[text]])
    (made,) = parse_column(column.chunk(0), DECIMAL, to_arrow_type(DECIMAL, column)).to_pylist()
    assert float(made) == float(text)


@pytest.mark.parametrize(
    ("one", "other", "equal"),
    [("7", "7.0", True), ("7.10", "7.1", True), ("-0", "0.00", True), ("7", "70", False)],
)
def test_plain_numbers(one, other, equal):
    first, second = canonical_number_text(pa.array([one, other])).to_pylist()
    assert (first == second) is equal


def test_what_stood_in_a_cell_that_is_missing_now_decides_nothing():
    """A declared marker leaves its letters in Arrow's memory under a missing cell."""
    marked = apply_missing_markers(table_from_columns("t", {"n": ["tbc", "5", "12"]}), ["tbc"])
    cells = marked.chunks("n")
    assert str(infer_column_type(cells)) == "integer"
    assert str(infer_column_type(pa.chunked_array([cells.chunk(0).slice(1)]))) == "integer"
    text = pc.if_else(pa.array([True, False]), pa.scalar(None, pa.string()), pa.array(["x", "2"]))
    assert str(infer_column_type(pa.chunked_array([text]))) == "integer"
