"""Expressions at the edges of numbers, dates and calls, by values worked out by hand."""

from __future__ import annotations

import math
from datetime import date, datetime, time
from decimal import Decimal

import pytest

from plait.core.base.errors import SourceError, UsageError
from plait.core.expressions.expression import (
    FUNCTIONS,
    evaluate_condition,
    evaluate_expression,
    parse_expression,
)
from plait.core.table.table import table_from_columns

TABLE = table_from_columns(
    "t",
    {
        "n": ["7", "-7", "0"],
        "d": ["1234.567", "-1250.5", "0.045"],
        "big": ["9223372036854775807.5", "-9223372036854775808.5", "9223372036854775808"],
        "day": ["2031-03-31", "2032-02-29", "2031-12-31"],
        "at": ["2031-03-31 00:00:00", "2032-02-29 23:59:59", "2032-01-01 00:00:00"],
        "s": ["  padded ", "Würzburg", "a-b-c"],
    },
)


@pytest.mark.parametrize(
    ("text", "values"),
    [
        ("ROUND(d, 2)", [Decimal("1234.57"), Decimal("-1250.50"), Decimal("0.05")]),
        ("ROUND(d, -2)", [1200, -1300, 0]),
        ("ROUND(d, 1)", [Decimal("1234.6"), Decimal("-1250.5"), Decimal("0.0")]),
        ("CEIL(d)", [1235, -1250, 1]),
        ("FLOOR(d)", [1234, -1251, 0]),
        ("CAST(d AS INTEGER)", [1235, -1251, 0]),
        ("TRY_CAST(CAST(big AS DECIMAL(30, 1)) AS INTEGER)", [None, None, None]),
        ("CAST(n AS BOOLEAN)", [True, True, False]),
        ("CAST(n > 0 AS INTEGER)", [1, 0, 0]),
        ("CAST(n AS DOUBLE)", [7.0, -7.0, 0.0]),
        ("CAST(d AS DECIMAL(8, 1))", [Decimal("1234.6"), Decimal("-1250.5"), Decimal("0.0")]),
        ("CAST(at AS DATE)", [date(2031, 3, 31), date(2032, 2, 29), date(2032, 1, 1)]),
        ("CAST(at AS TIME)", [time(0), time(23, 59, 59), time(0)]),
        ("CAST(day AS TIMESTAMP)",
         [datetime(2031, 3, 31), datetime(2032, 2, 29), datetime(2031, 12, 31)]),
        ("MOD(n, 4)", [3, -3, 0]),
        ("ABS(n) + SIGN(n)", [8, 6, 0]),
        ("n / 2", [Decimal("3.5"), Decimal("-3.5"), Decimal(0)]),
        ("NULLIF(n, 0)", [7, -7, None]),
        ("10 / NULLIF(n, 0) IS NULL", [False, False, True]),
        ("day = at", [True, False, False]),
        ("day < at", [False, True, True]),
        ("at > day", [False, True, True]),
        ("day BETWEEN '2031-03-31' AND '2031-12-31'", [True, False, True]),
        ("day IN ('2031-03-31', '2032-02-29')", [True, True, False]),
        ("EXTRACT(YEAR FROM day) * 100 + EXTRACT(MONTH FROM day)", [203103, 203202, 203112]),
        ("EXTRACT(DAY FROM day)", [31, 29, 31]),
        ("EXTRACT(HOUR FROM at) * 60 + EXTRACT(MINUTE FROM at)", [0, 1439, 0]),
        ("day + INTERVAL '1' MONTH", [date(2031, 4, 30), date(2032, 3, 29), date(2032, 1, 31)]),
        ("day - INTERVAL '2' MONTH", [date(2031, 1, 31), date(2031, 12, 29), date(2031, 10, 31)]),
        ("day + INTERVAL '1' QUARTER", [date(2031, 6, 30), date(2032, 5, 29), date(2032, 3, 31)]),
        ("day - INTERVAL '10' DAY", [date(2031, 3, 21), date(2032, 2, 19), date(2031, 12, 21)]),
        ("TRY_CAST(d AS DECIMAL(5, 1))", [Decimal("1234.6"), Decimal("-1250.5"), Decimal("0.0")]),
        ("TRY_CAST(d AS DECIMAL(4, 1))", [None, None, Decimal("0.0")]),
        ("TRY_CAST(d AS DECIMAL(3, 3))", [None, None, Decimal("0.045")]),
        ("LPAD(s, 6) || '|'", ["  padd|", "Würzbu|", " a-b-c|"]),
        ("RPAD(s, 6) || '|'", ["  padd|", "Würzbu|", "a-b-c |"]),
        ("s NOT LIKE 'a!-b%' ESCAPE '!'", [True, True, False]),
        ("s LIKE 'a!-b%' ESCAPE '!'", [False, False, True]),
        ("s ILIKE 'WÜR%'", [False, True, False]),
        ("REGEXP_LIKE(s, '^[A-Z]')", [False, True, False]),
        ("REGEXP_LIKE(s, '^[A-Z]', 'i')", [False, True, True]),
        ("REGEXP_REPLACE(s, '[a-c]', 'x', 'g')", ["  pxdded ", "Würzxurg", "x-x-x"]),
        ("day - INTERVAL '1' YEAR", [date(2030, 3, 31), date(2031, 2, 28), date(2030, 12, 31)]),
        ("TRIM(s)", ["padded", "Würzburg", "a-b-c"]),
        ("LTRIM(s)", ["padded ", "Würzburg", "a-b-c"]),
        ("RTRIM(s)", ["  padded", "Würzburg", "a-b-c"]),
        ("UPPER(s)", ["  PADDED ", "WÜRZBURG", "A-B-C"]),
        ("LENGTH(s)", [9, 8, 5]),
        ("SUBSTRING(s, 2, 3)", [" pa", "ürz", "-b-"]),
        ("SUBSTRING(s FOR 3)", ["  p", "Wür", "a-b"]),
        ("SUBSTRING(s FROM 2 FOR 3)", [" pa", "ürz", "-b-"]),
        ("SUBSTRING(s, 2)", [" padded ", "ürzburg", "-b-c"]),
        ("SPLIT_PART(s, '-', 2)", [None, None, "b"]),
        ("SPLIT_PART(s, '-', 3)", [None, None, "c"]),
        ("REPLACE(s, '-', '')", ["  padded ", "Würzburg", "abc"]),
        ("LEFT(s, 3) || RIGHT(s, 1)", ["  p ", "Würg", "a-bc"]),
        ("LPAD(CAST(n AS TEXT), 4, '0')", ["0007", "00-7", "0000"]),
        ("RPAD(CAST(n AS TEXT), 3, '.')", ["7..", "-7.", "0.."]),
        ("POSITION('b' IN s)", [0, 5, 3]),
        ("s LIKE '_-%'", [False, False, True]),
        ("s NOT LIKE '%b%'", [True, False, False]),
        ("s LIKE 'W!%%' ESCAPE '!'", [False, False, False]),
        ("CASE WHEN n > 0 THEN 'up' WHEN n < 0 THEN 'down' END", ["up", "down", None]),
        ("CASE n WHEN 7 THEN 1 ELSE 0 END", [1, 0, 0]),
        ("CASE n WHEN 7 THEN 1 WHEN -7 THEN 2 WHEN 0 THEN 3 ELSE 4 END", [1, 2, 3]),
        ("CASE n WHEN 1 THEN 'a' WHEN 0 THEN 'b' END", [None, None, "b"]),
        ("CASE WHEN n = 7 THEN 1 WHEN n = -7 THEN 2 WHEN n = 0 THEN 3 END", [1, 2, 3]),
        ("at + INTERVAL '1' DAY",
         [datetime(2031, 4, 1), datetime(2032, 3, 1, 23, 59, 59), datetime(2032, 1, 2)]),
        ("at - INTERVAL '30' MINUTE",
         [datetime(2031, 3, 30, 23, 30), datetime(2032, 2, 29, 23, 29, 59),
          datetime(2031, 12, 31, 23, 30)]),
        ("day + INTERVAL '-2' WEEK", [date(2031, 3, 17), date(2032, 2, 15), date(2031, 12, 17)]),
        ("day + INTERVAL '1' HOUR",
         [datetime(2031, 3, 31, 1), datetime(2032, 2, 29, 1), datetime(2031, 12, 31, 1)]),
        ("TRY_CAST('5 April 2031' AS DATE)", [date(2031, 4, 5)] * 3),
        ("TRY_CAST('13.4.2031' AS DATE)", [date(2031, 4, 13)] * 3),
        ("TRY_CAST('3/4/2031' AS DATE)", [None] * 3),
        ("CAST('4/4/2031' AS DATE)", [date(2031, 4, 4)] * 3),
        ("CAST(' +12.50 ' AS DOUBLE)", [12.5] * 3),
        ("CAST('+12' AS INTEGER)", [12] * 3),
        ("CAST('-12.50' AS DECIMAL)", [Decimal("-12.50")] * 3),
        ("CAST(' YES' AS BOOLEAN)", [True] * 3),
        ("CAST('no' AS BOOLEAN)", [False] * 3),
        ("TRY_CAST(s AS DOUBLE)", [None] * 3),
        ("TRY_CAST(s AS BOOLEAN)", [None] * 3),
        ("TRY_CAST('12.5 kg' AS DECIMAL)", [None] * 3),
        ("GREATEST(n, 1)", [7, 1, 1]),
        ("LEAST(n, 1)", [1, -7, 0]),
        ("NOT (n > 0 OR n < -5)", [False, False, True]),
        ("n > 0 AND NULL", [None, False, False]),
        ("n > 0 OR NULL", [True, None, None]),
        ("POWER(n, 2)", [49.0, 49.0, 0.0]),
    ],
)  # fmt: skip
def test_values_worked_out_by_hand(text, values):
    assert evaluate_expression(parse_expression(text), TABLE).to_pylist() == values


@pytest.mark.parametrize("text", ["LN(n)", "SQRT(n)", "EXP(d)"])
def test_floats_are_close_and_undefined_ones_missing(text):
    made = evaluate_expression(parse_expression(text), TABLE).to_pylist()
    expected = {
        "LN(n)": [math.log(7), None, None],
        "SQRT(n)": [math.sqrt(7), None, 0.0],
        "EXP(d)": [None, 0.0, math.exp(0.045)],
    }[text]
    for one, other in zip(made, expected, strict=True):
        assert (one is None) == (other is None)
        assert one is None or math.isclose(one, other, rel_tol=1e-12, abs_tol=1e-300)


LEAST_AND_MOST = {
    "COALESCE": (1, None), "CONCAT": (1, None), "GREATEST": (1, None), "LEAST": (1, None),
    "NULLIF": (2, 2), "MOD": (2, 2), "POWER": (2, 2), "ROUND": (1, 2), "TRIM": (1, 2),
    "LTRIM": (1, 2), "RTRIM": (1, 2), "SUBSTRING": (2, 3), "LEFT": (2, 2), "RIGHT": (2, 2),
    "SPLIT_PART": (3, 3), "STRPOS": (2, 2), "REPLACE": (3, 3), "LPAD": (2, 3), "RPAD": (2, 3),
    "UPPER": (1, 1), "LOWER": (1, 1), "LENGTH": (1, 1), "ABS": (1, 1), "SQRT": (1, 1),
    "CEIL": (1, 1), "FLOOR": (1, 1), "SIGN": (1, 1), "LN": (1, 1), "EXP": (1, 1),
}  # fmt: skip


@pytest.mark.parametrize("name", sorted(set(LEAST_AND_MOST) & set(FUNCTIONS)))
def test_a_function_with_too_few_or_too_many_arguments_is_refused(name):
    least, most = LEAST_AND_MOST[name]
    wrong = [least - 1] if most is None else [least - 1, most + 1]
    for number in wrong:
        with pytest.raises(UsageError, match=f"{name} takes|have no|not a valid SQL expression"):
            evaluate_expression(parse_expression(f"{name}({', '.join(['s'] * number)})"), TABLE)


def test_a_bad_cell_is_told_with_its_place_or_its_row():
    cells = {"s": ["1", "2", "x"]}
    with pytest.raises(SourceError) as caught:
        evaluate_expression(parse_expression("CAST(s AS INTEGER)"), table_from_columns("t", cells))
    assert caught.value.where == "t row 3" and "'x'" in caught.value.what
    made = table_from_columns("t", {"a": ["", "", ""]}).extend(
        "s", table_from_columns("u", cells).chunks("s")
    )
    nowhere = made.project(["s"])
    with pytest.raises(SourceError) as caught:
        evaluate_expression(parse_expression("CAST(s AS INTEGER)"), nowhere)
    assert caught.value.where.endswith("row 3")


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("day = n", "cannot compare a date with a number"),
        ("at < 'noon'", "'noon' is no"),
        ("ROUND(d, n)", "the number of places must be a literal whole number"),
        ("ROUND(d, 1.5)", "the number of places must be a literal whole number"),
        ("LEFT(s, d)", "expected a whole number"),
        ("s + n", "expected a number, found text"),
        ("CAST(CAST(at AS TIME) AS DATE)", "a time is not made a date"),
        ("CAST(at AS BOOLEAN)", "a datetime is not made a boolean"),
        ("CAST(day AS TIME)", "a date is not made a time"),
        ("CAST(n > 0 AS DATE)", "a boolean is not made a date"),
        ("s LIKE 'a' ESCAPE '!!'", "ESCAPE follows LIKE and takes one character"),
        ("s LIKE 'a' ESCAPE ''", "ESCAPE follows LIKE and takes one character"),
        ("CAST('3/4/2031' AS DATE)", "3 April|2031-04-03|2031-03-04"),
        ("day + INTERVAL '1' FORTNIGHT", "is not a unit of time|not a valid SQL expression"),
        ("day + INTERVAL '1.5' DAY", "a whole number and a unit"),
    ],
)
def test_what_does_not_go_together_is_refused(text, says):
    with pytest.raises((UsageError, SourceError), match=says):
        evaluate_expression(parse_expression(text), TABLE)


def test_a_condition_over_many_rows_is_worked_out_batch_by_batch():
    rows = 200_003
    table = table_from_columns("t", {"n": [str(number % 97) for number in range(rows)]})
    holds = evaluate_condition(parse_expression("MOD(n, 2) = 0 AND n > 50"), table).to_pylist()
    assert holds == [n % 97 % 2 == 0 and n % 97 > 50 for n in range(rows)]


def test_parts_of_texts_are_told_apart_beside_cells_that_are_missing():
    table = table_from_columns("t", {"s": ["a-b", None, "c-d", "", "e-f-g"]})
    for which, expected in (
        ("2", ["b", None, "d", None, "f"]),
        ("-1", ["b", None, "d", None, "g"]),
    ):
        assert (
            evaluate_expression(parse_expression(f"SPLIT_PART(s, '-', {which})"), table).to_pylist()
            == expected
        )


@pytest.mark.parametrize(
    ("day", "moved", "within"),
    [
        ("9999-12-31", "+ INTERVAL '1' DAY", False),
        ("9999-12-30", "+ INTERVAL '1' DAY", True),
        ("9999-12-31", "+ INTERVAL '1' MONTH", False),
        ("9999-11-30", "+ INTERVAL '1' MONTH", True),
        ("0001-01-31", "- INTERVAL '1' MONTH", False),
        ("0001-02-28", "- INTERVAL '1' MONTH", True),
        ("9999-12-31 23:59:59", "+ INTERVAL '1' HOUR", False),
        ("9999-12-31 22:59:59", "+ INTERVAL '1' HOUR", True),
    ],
)
def test_days_and_moments_stay_in_the_years_that_there_are(day, moved, within):
    table = table_from_columns("t", {"day": [day, day]})
    if within:
        assert None not in evaluate_expression(parse_expression(f"day {moved}"), table).to_pylist()
    else:
        with pytest.raises(SourceError, match="out of the years 1 to 9999"):
            evaluate_expression(parse_expression(f"day {moved}"), table)


def test_a_count_that_is_missing_makes_the_text_missing():
    for text in ("LEFT(s, NULL)", "SPLIT_PART(s, '-', NULL)"):
        assert evaluate_expression(parse_expression(text), TABLE).to_pylist() == [
            None,
            None,
            None,
        ], text


@pytest.mark.parametrize(
    ("text", "remedy"), [("UPPR(s)", "did you mean UPPER"), ("XYZZY(s)", "docs/expressions.md")]
)
def test_a_function_that_there_is_not_is_answered_with_the_nearest_or_the_list(text, remedy):
    with pytest.raises(UsageError) as caught:
        evaluate_expression(parse_expression(text), TABLE)
    assert remedy in caught.value.remedy


@pytest.mark.parametrize(
    ("part", "expected"), [("DAY", 1), ("HOUR", 2), ("MINUTE", 3), ("SECOND", Decimal("4.5"))]
)
def test_parts_of_a_stretch_of_time_add_up_to_it(part, expected):
    table = table_from_columns("t", {"a": ["2031-04-05 00:00:00"], "b": ["2031-04-06 02:03:04.5"]})
    assert evaluate_expression(
        parse_expression(f"EXTRACT({part} FROM b - a)"), table
    ).to_pylist() == [expected]
