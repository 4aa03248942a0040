"""Expressions: against SQLite where the two languages agree, and by example where they do not."""

from __future__ import annotations

import sqlite3
from datetime import date, datetime
from decimal import Decimal
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from cases import cases
from plait.core.base.errors import SourceError, UsageError
from plait.core.expressions.expression import (
    FUNCTIONS,
    evaluate_condition,
    evaluate_expression,
    parse_expression,
)
from plait.core.table.table import table_from_columns

NUMBER = st.one_of(
    st.sampled_from(["n", "k", "0", "1", "7", "(n)", "NULL"]),
    st.integers(-50, 50).map(lambda n: f"({n})"),
)
TEXT = st.sampled_from(["s", "t", "'a'", "'Yard 7'", "'%'"])


def numbers(inner):
    return st.one_of(
        st.tuples(inner, st.sampled_from("+-*"), inner).map(lambda p: f"({p[0]} {p[1]} {p[2]})"),
        inner.map(lambda x: f"ABS({x})"),
        inner.map(lambda x: f"(-{x})"),
        st.tuples(inner, inner).map(lambda p: f"COALESCE({p[0]}, {p[1]})"),
        st.tuples(inner, inner).map(lambda p: f"NULLIF({p[0]}, {p[1]})"),
        st.tuples(TEXT).map(lambda p: f"LENGTH({p[0]})"),
        st.tuples(inner, inner, inner).map(
            lambda p: f"CASE WHEN {p[0]} > {p[1]} THEN {p[2]} ELSE n END"
        ),
        st.tuples(inner, inner).map(lambda p: f"CASE {p[0]} WHEN 1 THEN {p[1]} WHEN k THEN 5 END"),
    )


ARITHMETIC = st.recursive(NUMBER, numbers, max_leaves=6)
WORDS = st.one_of(
    TEXT,
    st.tuples(TEXT, TEXT).map(lambda p: f"({p[0]} || {p[1]})"),
    TEXT.map(lambda x: f"UPPER({x})"),
    TEXT.map(lambda x: f"REPLACE({x}, 'a', 'bc')"),
    st.tuples(TEXT, st.integers(1, 4), st.integers(0, 4)).map(
        # An empty text is NULL here, and so it has to be there.
        lambda p: f"NULLIF(SUBSTR({p[0]}, {p[1]}, {p[2]}), '')"
    ),
    TEXT.map(lambda x: f"NULLIF(TRIM({x}), '')"),
)
COMPARED = st.sampled_from(["=", "<>", "<", "<=", ">", ">="])


def conditions(inner):
    return st.one_of(
        st.tuples(inner, st.sampled_from(["AND", "OR"]), inner).map(
            lambda p: f"({p[0]} {p[1]} {p[2]})"
        ),
        inner.map(lambda x: f"(NOT {x})"),
    )


CONDITION = st.recursive(
    st.one_of(
        st.tuples(ARITHMETIC, COMPARED, ARITHMETIC).map(" ".join).map("({})".format),
        st.tuples(WORDS, COMPARED, WORDS).map(" ".join).map("({})".format),
        ARITHMETIC.map(lambda x: f"({x} IS NULL)"),
        st.tuples(ARITHMETIC, NUMBER, NUMBER).map(lambda p: f"({p[0]} IN (1, {p[1]}, {p[2]}))"),
        st.tuples(ARITHMETIC, NUMBER).map(lambda p: f"({p[0]} NOT BETWEEN -5 AND {p[1]})"),
        st.tuples(TEXT, st.sampled_from(["a%", "%", "_", "%7", "", "Y_rd%"])).map(
            lambda p: f"({p[0]} LIKE '{p[1]}')"
        ),
    ),
    conditions,
    max_leaves=5,
)
CELLS = st.lists(
    st.tuples(
        st.one_of(st.none(), st.integers(-20, 20)),
        st.integers(-3, 3),
        st.sampled_from([None, "a", "b", "Yard 7", " a ", "%", "abc"]),
        st.sampled_from(["a", "x", "a%"]),
    ),
    min_size=1,
    max_size=8,
)


def judged(rows, text):
    """What SQLite says of an expression on each row; empty texts are missing here."""
    base = sqlite3.connect(":memory:")
    base.execute("PRAGMA case_sensitive_like = ON")
    base.execute("CREATE TABLE r (n INTEGER, k INTEGER, s TEXT, t TEXT)")
    base.executemany("INSERT INTO r VALUES (?, ?, ?, ?)", rows)
    return [value for (value,) in base.execute(f"SELECT {text} FROM r ORDER BY rowid")]


def ours(rows, text):
    columns = dict(zip("nkst", map(list, zip(*rows, strict=True)), strict=True))
    for name in "nk":
        columns[name] = [None if v is None else str(v) for v in columns[name]]
    if not any(columns["n"]):
        columns["n"][0] = "1"
        rows[0] = (1, *rows[0][1:])
    if not any(columns["s"]):
        columns["s"][0] = "a"
        rows[0] = (*rows[0][:2], "a", rows[0][3])
    return evaluate_expression(parse_expression(text), table_from_columns("r", columns)).to_pylist()


@settings(max_examples=cases(500), deadline=None)
@given(CELLS, st.one_of(ARITHMETIC, WORDS, CONDITION))
def test_the_same_as_sqlite(rows, text):
    made = ours(rows, text)
    expected = judged(rows, text)
    assert [int(v) if isinstance(v, bool) else v for v in made] == expected, text


TABLE = table_from_columns(
    "visits",
    {
        "kg": ["12.50", "", "9"],
        "frames": ["5", "4", "0"],
        "seen": ["2031-01-31", "2032-02-29", ""],
        "written": ["3.4.2031", "14.4.2031", ""],
        "note": ["Calm", "", "öl"],
        "Moisture %": ["18,5", "NA", "17,25"],
        "id": ["007", "08", "9"],
    },
)


@pytest.mark.parametrize(
    ("text", "values"),
    [
        ("kg + 0.1", [Decimal("12.60"), None, Decimal("9.10")]),
        ("kg / frames", [2.5, None, None]),
        ("7 / 2", [3.5] * 3),
        ("MOD(-7, 3)", [-1] * 3),
        ("'kg: ' || kg", ["kg: 12.50", None, "kg: 9"]),
        ("seen + INTERVAL '1' MONTH", [date(2031, 2, 28), date(2032, 3, 29), None]),
        ("seen + 1", [date(2031, 2, 1), date(2032, 3, 1), None]),
        ("seen - DATE '2031-01-01'", [30, 424, None]),
        ("EXTRACT(MONTH FROM written)", [4, 4, None]),
        ("CAST(seen AS TIMESTAMP)", [datetime(2031, 1, 31), datetime(2032, 2, 29), None]),
        ("CAST('2031-' || frames || '-1' AS DATE)", None),
        ("TRY_CAST('2031-' || frames || '-1' AS DATE)", [date(2031, 5, 1), date(2031, 4, 1), None]),
        ('"Moisture %" > 18', [True, None, False]),
        ("ROUND(2.5) + ROUND(-2.5)", [Decimal(0)] * 3),
        ("POSITION('l' IN note)", [3, None, 2]),
        ("CAST(id AS INTEGER)", [7, 8, 9]),
        ("GREATEST(frames, kg)", [Decimal("12.50"), None, Decimal("9.00")]),
        ("note IS DISTINCT FROM 'Calm'", [False, True, True]),
        ("seen > '2031-12-31'", [False, True, None]),
        ("RIGHT(note, 2) || LPAD(id, 4, '0')", ["lm0007", None, "öl0009"]),
        ("SQRT(frames - 5)", [0.0, None, None]),
    ],
)
def test_by_example(text, values):
    if values is None:
        with pytest.raises(SourceError, match="'2031-0-1' is not of type date") as error:
            evaluate_expression(parse_expression(text), TABLE)
        assert error.value.where == "visits row 3"
    else:
        assert evaluate_expression(parse_expression(text), TABLE).to_pylist() == values


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("kgs > 1", "no column 'kgs'.*did you mean kg"),
        ("kg > 'x'", "cannot compare a number with text"),
        ("note + 1", "expected a number, found text"),
        ("SOUNDEX(note)", "unknown function SOUNDEX"),
        ("SUM(kg)", "unknown function SUM"),
        ("(SELECT 1)", "no SUBQUERY"),
        ("kg; DROP TABLE x", "2 expressions, and not one"),
        ("kg >", "not a valid SQL expression"),
        ("CASE WHEN kg > 1 THEN 'a' ELSE 1 END", "must have one type"),
        ("EXTRACT(YEAR FROM note)", "this is a text"),
        ("CAST(kg AS POINT)", "unknown type"),
        ("CAST(seen AS INTEGER)", "is not made"),
        ("frames" + " * 900000000000000000" * 5, "a number is too large"),
        ("(" * 300 + "kg" + ")" * 300, "nested too deep"),
        ("note LIKE note", "a text in quotes"),
    ],
)  # fmt: skip
def test_what_is_wrong_is_told(text, says):
    with pytest.raises(UsageError, match=says):
        evaluate_expression(parse_expression(text), TABLE)


def test_a_condition_is_true_or_false():
    assert evaluate_condition(parse_expression("kg > 10"), TABLE).to_pylist() == [True, None, False]
    with pytest.raises(UsageError, match="a condition must be true or false"):
        evaluate_condition(parse_expression("kg"), TABLE)


def test_the_page_names_every_function():
    page = (Path(__file__).parents[3] / "docs" / "expressions.md").read_text()
    for name in FUNCTIONS:
        assert name in page, name


@pytest.mark.parametrize(
    "text",
    [
        "e <> 0", "e = 'x'", "e > DATE '2031-01-01'", "e + 1 > 2", "d > e", "d - e > 3", "e = d",
        "e IN (1, 2)", "e BETWEEN 1 AND 2", "UPPER(e) = 'X'", "NOT (e = 1)", "e / 2 > 1", "e",
        "EXTRACT(YEAR FROM e) = 2031", "e + INTERVAL '3' DAY > d", "d + e > d",
    ],
)  # fmt: skip
def test_a_column_without_any_value_is_null_to_every_operator(text):
    for rows in (["", ""], []):
        table = table_from_columns("t", {"e": rows, "d": ["2031-01-01", ""][: len(rows)]})
        assert not any(evaluate_condition(parse_expression(text), table).to_pylist())
