"""Numbers set against ``fractions`` and ``decimal``: expressions, figures and rules."""

from __future__ import annotations

import random
import re
import statistics
from decimal import Context, Decimal
from fractions import Fraction
from math import ceil, floor

from plait.core.base.errors import UsageError
from plait.core.expressions.expression import (
    evaluate_condition,
    evaluate_expression,
    parse_expression,
)
from plait.core.operations.group import group
from plait.core.operations.mend import mend
from plait.core.operations.settle import settle
from plait.core.table.table import table_from_columns
from plait.core.types.column_type import TEXT

PLACES = 20
SHARE_PLACES = 10
WIDE = Context(prec=400, Emax=10**6)
COMPARED = {
    "=": lambda a, b: a == b,
    "<>": lambda a, b: a != b,
    "<": lambda a, b: a < b,
    "<=": lambda a, b: a <= b,
    ">": lambda a, b: a > b,
    ">=": lambda a, b: a >= b,
}


class TooLongError(Exception):
    """The reckoning holds a number that may be too long to be held exactly."""


def random_number(rng: random.Random, style: str) -> str:
    """A number as a file has it."""
    digits = rng.choice([1, 1, 2, 3, 8, 15, 16, 17, 18])
    whole = str(rng.randrange(10**digits))
    sign = "-" if rng.random() < 0.4 and whole.strip("0") else ""
    if style == "integer":
        return sign + whole
    places = rng.choice([0, 1, 1, 2, 2, 6, 12, 18])
    part = "".join(rng.choice("0123456789") for _ in range(places))
    if not whole.strip("0") and not part.strip("0"):
        sign = ""
    return sign + whole + ("." + part if places else "")


def random_column(rng: random.Random, rows: int) -> list[str]:
    """Cells of one style, some of them missing."""
    style = rng.choice(["integer", "decimal"])
    few = [random_number(rng, style) for _ in range(rng.choice([2, 4, 30]))]
    near = rng.choice([None, rng.choice(few)])
    empty = rng.choice([0, 0.2])
    return [
        "" if rng.random() < empty else near if near and rng.random() < 0.3 else rng.choice(few)
        for _ in range(rows)
    ]


def rounded(value: Fraction, places: int) -> Fraction:
    """To so many places, halves away from zero."""
    scaled = abs(value) * Fraction(10) ** places
    whole = floor(scaled + Fraction(1, 2))
    return (1 if value >= 0 else -1) * Fraction(whole) / Fraction(10) ** places


def _short(value: Fraction | None) -> Fraction | None:
    if value is not None and (abs(value) > 10**34 or value.denominator > 10**38):
        raise TooLongError
    return value


class Reckoning:
    """Random expressions, and what they are on a row of fractions."""

    def __init__(self, rng: random.Random) -> None:
        self.rng = rng

    def number(self, depth: int):
        """A text, and a function of a row."""
        rng = self.rng
        if depth <= 0 or rng.random() < 0.15:
            return self._leaf()
        kind = rng.choice(["+", "-", "*", "/", "%", "one", "ROUND", "choice", "many", "case"])
        if kind in "+-*/%":
            return self._two(kind, depth)
        if kind == "one":
            return self._one(depth)
        text, value = self.number(depth - 1)
        if kind == "ROUND":
            places = rng.choice([-2, -1, 0, 0, 1, 1, 2, 5])
            return f"ROUND({text}, {places})", lambda row: _on(
                value, row, lambda x: rounded(x, places)
            )
        other, second = self.number(depth - 1)
        if kind == "choice":
            return f"COALESCE({text}, {other})", lambda row: _either(value(row), second, row)
        if kind == "many":
            name, best = rng.choice([("GREATEST", max), ("LEAST", min)])
            return f"{name}({text}, {other})", lambda row: _both(value, second, row, best)
        asked, holds = self.condition(depth - 1)
        return (
            f"CASE WHEN {asked} THEN {text} ELSE {other} END",
            lambda row: value(row) if holds(row) else second(row),
        )

    def _leaf(self):
        if self.rng.random() < 0.7:
            name = self.rng.choice("abc")
            return name, lambda row: row[name]
        text = random_number(self.rng, self.rng.choice(["integer", "decimal"]))
        value = Fraction(text)
        return f"({text})", lambda row: value

    def _two(self, sign: str, depth: int):
        (one, left), (two, right) = self.number(depth - 1), self.number(depth - 1)

        def value(row):
            return _both(left, right, row, lambda x, y: _short(_reckoned(sign, x, y)))

        return f"({one} {sign} {two})", value

    def _one(self, depth: int):
        text, value = self.number(depth - 1)
        name, function = self.rng.choice(
            [
                ("ABS", abs),
                ("FLOOR", lambda x: Fraction(floor(x))),
                ("CEILING", lambda x: Fraction(ceil(x))),
                ("SIGN", lambda x: Fraction((x > 0) - (x < 0))),
                ("-", lambda x: -x),
            ]
        )
        return f"{name}({text})", lambda row: _on(value, row, function)

    def condition(self, depth: int):
        """A comparison, and whether it is true on a row (missing is not)."""
        (one, left), (two, right) = self.number(depth - 1), self.number(max(depth - 1, 0))
        sign = self.rng.choice(list(COMPARED))
        return (
            f"({one} {sign} {two})",
            lambda row: bool(_both(left, right, row, COMPARED[sign])),
        )


def _on(value, row, function):
    found = value(row)
    return None if found is None else function(found)


def _either(found, second, row):
    other = second(row)  # it is worked out in any case
    return other if found is None else found


def _both(left, right, row, function):
    one, two = left(row), right(row)
    return None if one is None or two is None else function(one, two)


def _reckoned(sign: str, one: Fraction, two: Fraction) -> Fraction | None:
    if sign in "/%" and not two:
        return None
    if sign == "/":
        return rounded(one / two, PLACES)
    if sign == "%":
        whole = abs(one) // abs(two) * (1 if (one >= 0) == (two >= 0) else -1)
        return one - two * whole
    return {"+": one + two, "-": one - two, "*": one * two}[sign]


def as_fraction(value: object) -> Fraction | None:
    """What Plait gave, exactly; a float would show here as the fraction that it is."""
    return None if value in (None, "") else Fraction(value)  # type: ignore[arg-type]


def judge_expression(rng: random.Random) -> bool:
    """One random expression of numbers; whether it could be judged."""
    rows = rng.choice([1, 3, 8])
    columns = {name: random_column(rng, rows) for name in "abc"}
    for name in "abc":
        columns[name][0] = columns[name][0] or "7"
    made = Reckoning(rng)
    depth = rng.choice([1, 2, 2, 3])
    asked = rng.random() < 0.3
    text, value = made.condition(depth) if asked else made.number(depth)
    table = table_from_columns("t", columns)
    cells = [
        {name: Fraction(columns[name][row]) if columns[name][row] else None for name in "abc"}
        for row in range(rows)
    ]
    try:
        expected = [value(row) for row in cells]
    except TooLongError:
        return False
    try:
        if asked:
            found = [
                bool(one) for one in evaluate_condition(parse_expression(text), table).to_pylist()
            ]
        else:
            found = [
                as_fraction(one)
                for one in evaluate_expression(parse_expression(text), table).to_pylist()
            ]
    except UsageError as error:
        assert "too large" in str(error) or "digits" in str(error), (text, columns, error)
        return False
    assert found == expected, (text, columns, found, expected)
    return True


def judge_figures(rng: random.Random) -> bool:
    """The figures of groups, and the rules of settling that are the same."""
    rows = rng.choice([1, 2, 5, 20])
    cells = random_column(rng, rows)
    cells[0] = cells[0] or "7"
    by = [rng.choice("xyz") for _ in range(rows)]
    table = table_from_columns("t", {"g": by, "v": cells})
    named = ("sum", "mean", "middle", "spread", "share", "smallest", "largest", "count")
    made = group(table, "g", {name: f"{name}:v" for name in named}).table.to_dict()
    total = sum((Fraction(one) for one in cells if one), Fraction(0))
    scale = max(max(0, -Decimal(one).as_tuple().exponent) for one in cells if one)
    for place, key in enumerate(made["g"]):
        values = [Fraction(c) for c, g in zip(cells, by, strict=True) if g == key and c]
        expected = expected_figures(values, total, min(scale + 4, PLACES))
        for name in named:
            if name == "spread":
                continue
            assert as_fraction(made[name][place]) == expected[name], (name, key, cells, by)
        _judge_spread(made["spread"][place], values)
    rule, figure = rng.choice(
        [("sum", "sum"), ("mean", "mean"), ("min", "smallest"), ("max", "largest")]
    )
    settled = settle(table, "g", {"v": rule}).table.to_dict()["v"]
    assert list(map(as_fraction, settled)) == list(map(as_fraction, made[figure]))
    return True


def expected_figures(
    values: list[Fraction], total: Fraction, places: int
) -> dict[str, Fraction | None]:
    """By their definitions; a mean has so many places."""
    if not values:
        return dict.fromkeys(("sum", "mean", "middle", "share", "smallest", "largest")) | {
            "count": Fraction(0)
        }
    return {
        "sum": sum(values, Fraction(0)),
        "mean": rounded(sum(values, Fraction(0)) / len(values), places),
        "middle": statistics.median(values),
        "share": rounded(sum(values, Fraction(0)) / total, SHARE_PLACES) if total else None,
        "smallest": min(values),
        "largest": max(values),
        "count": Fraction(len(values)),
    }


def _judge_spread(found: str | None, values: list[Fraction]) -> None:
    """A root is no fraction: to the last digits of a float."""
    if len(values) < 2:
        assert found is None
        return
    mean = sum(values, Fraction(0)) / len(values)
    variance = sum(((v - mean) ** 2 for v in values), Fraction(0)) / (len(values) - 1)
    exact = WIDE.divide(Decimal(variance.numerator), Decimal(variance.denominator)).sqrt(WIDE)
    assert abs(Decimal(found) - exact) <= abs(exact) * Decimal("4e-16"), (found, exact, values)


MESSY = [
    *("7", "007", "+5", "-0", "1e3", "2.5E-4", ".5", "5.", "12 kg", "tbc", "", "NA", "--3"),
    *("123456789012345678901234567890", "9223372036854775807", "9223372036854775808"),
    *("-9223372036854775808", "0.1234567890123456789", "99999999999999.000001", "1e400"),
]
_WRITTEN = re.compile(r"[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d+)?")
_WHOLE = re.compile(r"[+-]?\d+")


def judge_types(rng: random.Random) -> bool:
    """Cells given a type, and cast: what fits has its exact value, and nothing else has one."""
    cells = [rng.choice(MESSY) for _ in range(rng.choice([1, 3, 6]))]
    table = table_from_columns("t", {"v": cells, "k": ["x"] * len(cells)})
    for kind in ("decimal", "integer"):
        made = mend(table, type={"v": kind}, unfit="missing").table.to_dict()["v"]
        for cell, found in zip(cells, made, strict=True):
            expected = _typed(cell, kind)
            assert as_fraction(found) == expected, (cell, kind, found)
    if all(not cell or cell == "NA" for cell in cells):
        return True
    typed = table_from_columns("t", {"v": cells, "s": ["x"] * len(cells)}).with_types({"v": TEXT})
    floats = evaluate_expression(parse_expression("TRY_CAST(v AS DOUBLE)"), typed).to_pylist()
    whole = evaluate_expression(parse_expression("TRY_CAST(v AS INTEGER)"), typed).to_pylist()
    for cell, one, two in zip(cells, floats, whole, strict=True):
        fits = _WRITTEN.fullmatch(cell)
        assert one == (float(cell) if fits else None), (cell, one)
        assert two == _nearest_whole(cell), (cell, two)
    return True


def _nearest_whole(cell: str) -> int | None:
    """The whole number that a cast gives: halves away from zero; none beyond 64 bits."""
    if not _WRITTEN.fullmatch(cell) or Decimal(cell).adjusted() > 76:
        return None
    value = Fraction(cell.lower())
    nearest = int(abs(value) + Fraction(1, 2)) * (-1 if value < 0 else 1)
    return nearest if -(2**63) <= nearest < 2**63 else None


def _typed(cell: str, kind: str) -> Fraction | None:
    if kind == "integer":
        fits = _WHOLE.fullmatch(cell) and -(2**63) <= int(cell) < 2**63
        return Fraction(int(cell)) if fits else None
    if not _WRITTEN.fullmatch(cell) or abs(Decimal(cell).adjusted()) > 76:
        return None
    return Fraction(cell.lower())


def judge_doubles(rng: random.Random) -> bool:
    """A decimal cast to a float is the nearest one; rounded to a size it is the nearest there."""
    cells = [random_number(rng, "decimal") for _ in range(5)]
    table = table_from_columns("t", {"v": cells})
    floats = evaluate_expression(parse_expression("CAST(v AS DOUBLE)"), table).to_pylist()
    assert floats == [float(Fraction(cell)) for cell in cells], cells
    sized = evaluate_expression(
        parse_expression("TRY_CAST(v AS DECIMAL(20, 2))"), table
    ).to_pylist()
    for cell, found in zip(cells, sized, strict=True):
        expected = rounded(Fraction(cell), 2)
        assert as_fraction(found) == (expected if abs(expected) < 10**18 else None), (cell, found)
    return True


JUDGES = {
    "expressions of numbers": judge_expression,
    "figures and rules": judge_figures,
    "types": judge_types,
    "doubles": judge_doubles,
}
