"""What a database may decide of a condition: judged by SQLite, row by row."""

from __future__ import annotations

import datetime as dt
import random
import sqlite3
from contextlib import closing

import pyarrow as pa
import pytest

from cases import cases
from plait.core.expressions.expression import evaluate_condition, parse_expression
from plait.core.expressions.parser import parse_syntax
from plait.core.table.table import table_from_columns
from plait.io.database.query import predicate_to_sql, pushable_predicate
from plait.io.database.relation import Relation, RelationColumn

FIELDS = (
    RelationColumn("n", "integer", "integer", "n", "n"),
    RelationColumn("kg", "numeric", "numeric", "kg", "kg"),
    RelationColumn("s", "text", "text", "s", "s", exact_text=True),
    RelationColumn("folded", "text", "text", "folded", "folded"),
    RelationColumn("day", "date", "date", "day", "day"),
    RelationColumn("calm", "boolean", "boolean", "calm", "calm"),
    RelationColumn("seen", "time", "time", "seen", "seen"),
)
RELATION = Relation("visits", "visits", FIELDS)
KINDS = (pa.int64(), pa.float64(), *[pa.string()] * 2, pa.date32(), pa.bool_(), pa.string())
COMPARED = [
    ("n", ["3", "-2", "0", "n"]),
    ("kg", ["1.5", "- 0.25", "n"]),
    ("s", ["'a'", "'O''Hara'", "'A'"]),
    ("day", ["DATE '2031-04-05'", "CAST('2031-05-01' AS DATE)", "day"]),
    ("calm", ["TRUE", "FALSE", "calm"]),
]


def _condition(rng: random.Random, depth: int) -> str:
    """A condition at random, part of which a database may decide."""
    if depth and rng.random() < 0.6:
        one, other = _condition(rng, depth - 1), _condition(rng, depth - 1)
        return rng.choice([f"({one} AND {other})", f"({one} OR {other})", f"NOT ({one})"])
    column, values = rng.choice(COMPARED)
    some = [rng.choice(values) for _ in range(3)]
    sign = rng.choice(["=", "<>", "<", "<=", ">", ">="])
    return rng.choice([
        f"{column} {sign} {some[0]}",
        f"{column} = {some[0]}",
        f"{column} IN ({', '.join(some)})",
        f"{column} BETWEEN {some[0]} AND {some[1]}",
        f"{column} IS NULL",
        f"{column} IS NOT NULL",
        "calm",
        "LENGTH(s) > 1",
        "folded = 'a'",
    ])  # fmt: skip


def _rows(rng: random.Random) -> list[tuple[object, ...]]:
    days = [dt.date(2031, 4, 5), dt.date(2031, 5, 1), dt.date(2030, 1, 1), None]
    return [
        (rng.choice([3, -2, 0, 7, None]), rng.choice([1.5, -0.25, 3.0, None]),
         rng.choice(["a", "A", "O'Hara", "", None]), rng.choice(["a", "A", None]),
         rng.choice(days), rng.choice([True, False, None]), None)
        for _ in range(40)
    ]  # fmt: skip


def _held_there(rows: list[tuple[object, ...]], text: str) -> list[bool]:
    with closing(sqlite3.connect(":memory:")) as base:
        base.execute("CREATE TABLE visits (n, kg, s, folded, day, calm, seen)")
        told = [[one.isoformat() if isinstance(one, dt.date) else one for one in r] for r in rows]
        base.executemany("INSERT INTO visits VALUES (?, ?, ?, ?, ?, ?, ?)", told)
        found = base.execute(f"SELECT ({text.replace('DATE ', '')}) IS TRUE FROM visits")
        return [bool(value) for (value,) in found]


@pytest.mark.parametrize("seed", range(cases(2000)))
def test_a_database_leaves_out_no_row_on_which_the_condition_holds(seed):
    rng = random.Random(seed)
    text, rows = _condition(rng, 3), _rows(rng)
    columns = {
        one.name: pa.array([row[at] for row in rows], kind)
        for at, (one, kind) in enumerate(zip(FIELDS, KINDS, strict=True))
    }
    table = table_from_columns("visits", columns)
    here = [bool(held) for held in evaluate_condition(parse_expression(text), table).to_pylist()]
    part = pushable_predicate(parse_syntax(text), RELATION)
    if part is None:
        return
    there = _held_there(rows, predicate_to_sql(part, RELATION, lambda name: f'"{name}"'))
    assert not [row for row, mine, theirs in zip(rows, here, there, strict=True)
                if mine and not theirs]  # fmt: skip
    if part == parse_syntax(text):
        assert here == there


@pytest.mark.parametrize(
    ("text", "there"),
    [
        ("n > 3 AND LENGTH(s) > 1", "(n > 3)"),
        ("LENGTH(s) > 1", None),
        ("s = 'O''Hara'", "(s = 'O''Hara')"),
        ("s <> 'a'", None),
        ("NOT s = 'a'", None),
        ("s = ''", None),
        ("s IN ('a', 'b')", "(s IN ('a', 'b'))"),
        ("folded = 'a'", None),
        ("s IS NULL", None),
        ("n IS NULL", "(n IS NULL)"),
        ("day >= DATE '2031-04-05'", "(day >= DATE '2031-04-05')"),
        ("day >= DATE '2031-04-31'", None),
        ("n = 1e2", None),
        ("n BETWEEN - 1 AND 1.5", "(n BETWEEN (- 1) AND 1.5)"),
        ("calm OR NOT calm", "(calm OR (NOT calm))"),
        ("calm = TRUE", "(calm = TRUE)"),
        ("n = s", None),
        ("seen = seen", None),
    ],
)
def test_what_is_asked_of_a_database(text, there):
    try:
        part = pushable_predicate(parse_syntax(text), RELATION)
    except ValueError:
        part = None
    found = None if part is None else predicate_to_sql(part, RELATION, lambda name: name)
    assert found == there
