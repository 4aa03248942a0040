"""Figures of groups: against the standard library, over random columns with gaps."""

from __future__ import annotations

import random
import statistics
from decimal import Decimal
from fractions import Fraction

import pyarrow as pa
import pytest

from plait.core.base.errors import UsageError
from plait.core.operations.group import group
from plait.core.operations.settle import settle
from plait.core.table.table import table_from_columns


def _random(seed: int) -> tuple[list[str], list[str | None]]:
    rng = random.Random(seed)
    groups = [rng.choice("abcd") for _ in range(120)]
    cells = [
        rng.choice([None, "", str(rng.randrange(-999, 999)), f"{rng.randrange(-9999, 9999) / 100}"])
        for _ in groups
    ]
    return groups, cells


def _by_group(groups: list[str], cells: list[str | None]) -> dict[str, list[Decimal]]:
    found: dict[str, list[Decimal]] = {name: [] for name in dict.fromkeys(groups)}
    for name, cell in zip(groups, cells, strict=True):
        if cell:
            found[name].append(Decimal(cell))
    return found


JUDGES = {
    "count": len,
    "distinct": lambda values: len(set(values)),
    "sum": lambda values: sum(values) if values else None,
    "smallest": lambda values: min(values, default=None),
    "largest": lambda values: max(values, default=None),
    "middle": lambda values: statistics.median(values) if values else None,
    "first": lambda values: values[0] if values else None,
    "last": lambda values: values[-1] if values else None,
}


@pytest.mark.parametrize("figure", JUDGES)
@pytest.mark.parametrize("seed", range(4))
def test_a_figure_is_that_of_the_standard_library(figure, seed):
    groups, cells = _random(seed)
    table = table_from_columns("t", {"g": groups, "v": cells})
    made = group(table, "g", {"f": f"{figure}:v"}).table.to_dict()
    expected = _by_group(groups, cells)
    assert made["g"] == list(expected)
    for value, (name, values) in zip(made["f"], expected.items(), strict=True):
        wanted = JUDGES[figure](values)
        got = None if value in (None, "") else Decimal(str(value))
        assert got == wanted, (name, value, wanted)


def _rounded(value, places):
    """To so many places, halves away from zero, without zeros at the end."""
    units = abs(value) * 10**places
    whole = int(units + Fraction(1, 2))
    text = f"{whole:0{places + 1}}"
    text = (f"{text[:-places]}.{text[-places:]}" if places else text).rstrip("0").rstrip(".")
    return Decimal(f"-{text}" if value < 0 and whole else text or "0")


@pytest.mark.parametrize("asked", [None, 0, 1, 7])
@pytest.mark.parametrize("seed", range(4))
def test_means_spreads_and_shares_are_right_to_their_last_place(seed, asked):
    groups, cells = _random(seed)
    table = table_from_columns("t", {"g": groups, "v": cells})
    take = {"mean": "mean:v", "spread": "spread:v", "share": "share:v", "rows": "share"}
    made = group(table, "g", take, places=asked).table.to_dict()
    of_column = max(len(cell.partition(".")[2]) for cell in cells if cell)
    usual = {"mean": of_column + 4, "share": 10, "spread": 12}
    places = usual if asked is None else dict.fromkeys(usual, asked)
    expected = _by_group(groups, cells)
    total = sum(sum(values) for values in expected.values())
    for number, (name, values) in enumerate(expected.items()):
        mean = sum(map(Fraction, values), Fraction()) / len(values)
        assert Decimal(str(made["mean"][number])) == _rounded(mean, places["mean"])
        assert float(made["spread"][number]) == pytest.approx(
            statistics.stdev(map(float, values)), rel=1e-12, abs=0.5 * 10 ** -places["spread"]
        )
        share = Fraction(sum(values)) / Fraction(total)
        assert Decimal(str(made["share"][number])) == _rounded(share, places["share"])
        rows = Fraction(groups.count(name), len(groups))
        assert Decimal(str(made["rows"][number])) == _rounded(rows, places["share"])


@pytest.mark.parametrize("seed", range(3))
def test_ranks_count_the_smaller_values_of_the_group(seed):
    groups, cells = _random(seed)
    table = table_from_columns("t", {"g": groups, "v": cells})
    made = group(table, "g", {"r": "rank:v"}, onto_rows=True).table.to_dict()
    values = _by_group(groups, cells)
    for name, cell, rank in zip(groups, cells, made["r"], strict=True):
        wanted = 1 + sum(one < Decimal(cell) for one in values[name]) if cell else None
        assert (None if rank in (None, "") else int(rank)) == wanted


@pytest.mark.parametrize("seed", range(3))
@pytest.mark.parametrize("rule", ["first", "last", "min", "max", "sum", "longest", "commonest"])
def test_a_rule_keeps_the_cell_that_plain_python_keeps(rule, seed):
    groups, cells = _random(seed)
    table = table_from_columns("t", {"g": groups, "v": cells})
    made = settle(table, "g", rules={"v": rule}).table.to_dict()
    texts: dict[str, list[str]] = {name: [] for name in dict.fromkeys(groups)}
    for name, cell in zip(groups, cells, strict=True):
        if cell:
            texts[name].append(cell)
    for name, value in zip(made["g"], made["v"], strict=True):
        every = texts[name]
        by_value = {cell: Decimal(cell) for cell in every}
        if rule in ("min", "max"):
            wanted = (min if rule == "min" else max)(by_value.values())
            assert Decimal(value) == wanted
        elif rule == "sum":
            assert Decimal(value) == sum(map(Decimal, every))
        elif rule == "commonest":
            times = {number: sum(one == number for one in map(Decimal, every))
                     for number in by_value.values()}  # fmt: skip
            assert times[Decimal(value)] == max(times.values())
        else:
            kept = {"first": every[0], "last": every[-1], "longest": max(every, key=len)}[rule]
            assert value == kept


def test_words_that_mean_the_same_give_the_same_and_others_are_refused():
    table = table_from_columns("t", {"g": ["a", "a", "b"], "v": ["1", "4", "2"]})
    for word, name in (("median", "middle"), ("min", "smallest"), ("max", "largest"),
                       ("avg", "mean"), ("average", "mean"), ("stdev", "spread")):  # fmt: skip
        made = group(table, "g", {"x": f"{word}:v", "y": f"{name}:v"}).table.to_dict()
        assert made["x"] == made["y"]
    with pytest.raises(UsageError, match="unknown figure") as caught:
        group(table, "g", {"x": "medain:v"})
    assert caught.value.option == "take"


@pytest.mark.parametrize(
    ("part", "made"),
    [
        ("month", ["2031-03", "2031-04", "2032-03"]),
        ("quarter", ["2031-Q1", "2031-Q2", "2032-Q1"]),
        ("year", ["2031", "2032"]),
    ],
)
def test_dates_are_grouped_by_their_parts(part, made):
    days = ["2031-03-31", "2031-04-01", "2031-03-01", "2032-03-31"]
    table = table_from_columns("t", {"day": days, "n": ["1", "2", "3", "4"]})
    found = group(table, f"day:{part}", {"s": "sum:n"}).table
    assert [str(one) for one in found.to_dict()[found.column_names[0]]] == made
    assert sum(int(one) for one in found.to_dict()["s"]) == 10


@pytest.mark.parametrize("missing", ["first", "last", "both"])
def test_a_group_whose_cells_are_all_missing_has_no_figure(missing):
    cells = {"a": ["", "NA"] if missing != "last" else ["1", "2"], "b": ["3", "6"],
             "c": ["", ""] if missing != "first" else ["5", "8"]}  # fmt: skip
    table = table_from_columns(
        "t",
        {
            "k": [name for name in cells for _ in range(2)],
            "v": [cell for two in cells.values() for cell in two],
        },
    )
    take = {name: f"{name}:v" for name in ("middle", "smallest", "largest", "mean", "sum")}
    figures = group(table, "k", take).table.to_dict()
    for row, two in enumerate(cells.values()):
        numbers = [float(cell) for cell in two if cell not in ("", "NA")]
        expected = statistics.median(numbers) if numbers else None
        assert (figures["middle"][row] in (None, "")) == (expected is None)
        assert expected is None or float(figures["middle"][row]) == expected
        for name, judge in (("smallest", min), ("largest", max), ("sum", sum)):
            assert (figures[name][row] in (None, "")) == (not numbers)
            assert not numbers or float(figures[name][row]) == judge(numbers)


def test_the_middle_of_doubles_is_half_way_between_the_two_there():
    doubles = pa.array([1.0, 2.5, 4.0, None], pa.float64())
    table = table_from_columns("t", {"k": ["a", "a", "b", "c"], "x": doubles})
    made = group(table, "k", {"mid": "middle:x"}).table.to_dict()["mid"]
    assert [None if one is None else float(one) for one in made] == [1.75, 4.0, None]
