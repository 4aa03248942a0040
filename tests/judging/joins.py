"""Joins set against SQLite, which knows nothing of Plait: random tables, every kind."""

from __future__ import annotations

import random
import re
import sqlite3

from plait.core.base.errors import ExpectationError
from plait.core.operations.join import join
from plait.core.table.table import table_from_columns

SIDES = {"inner": "JOIN", "left": "LEFT JOIN", "right": "RIGHT JOIN", "full": "FULL JOIN"}
KINDS = (*SIDES, "semi", "anti", "cross")
CARDINALITIES = (None, "one-to-one", "many-to-one", "one-to-many", "many-to-many")
TEXTS = ["a", "b", "B", "7", "x7", "007", "é", "e\u0301", "日本", "a long key of many bytes", " a"]
NUMBERS = ["7", "7.0", "8", "-1", "0.50", "0.5", "12345678901234567"]
WHOLE = ["1", "2", "3", "-4"]
MARKERS = ["NA", "-"]
NUMBER = re.compile(r"^(0|-?[1-9][0-9]{0,17}|-?(0|[1-9][0-9]{0,17})\.[0-9]+)$")


def random_tables(rng: random.Random) -> tuple[dict, dict, list[str]]:
    """Two tables with one to three key columns of some sort each, and those columns."""
    keys = ["k", "m", "n"][: rng.choice([1, 1, 2, 3])]
    sorts = {key: rng.choice([TEXTS, NUMBERS, WHOLE, NUMBERS + MARKERS]) for key in keys}
    missing = rng.choice([0.0, 0.1, 0.6])
    few = rng.choice([2, 5, 99])

    def column(name: str, rows: int) -> list[str | None]:
        if name not in sorts:
            return [f"{name}{rng.randrange(1000)}" for _ in range(rows)]
        cells = sorts[name][:few]
        return [
            rng.choice([None, ""]) if rng.random() < missing else rng.choice(cells)
            for _ in range(rows)
        ]

    sizes = [rng.choice([0, 1, 5, 25]) for _ in range(2)]
    left = {name: column(name, sizes[0]) for name in (*keys, "p")}
    right = {name: column(name, sizes[1]) for name in (*keys, "q")}
    return left, right, keys


def typed(cells: list, other: list) -> list:
    """Key cells as SQLite is to compare them: numbers where both columns hold numbers only."""

    def numeric(column: list) -> bool:
        present = [cell for cell in column if cell and cell not in MARKERS]
        return bool(present) and all(map(NUMBER.match, present))

    own = [None if not cell or (numeric(cells) and cell in MARKERS) else cell for cell in cells]
    if not (numeric(cells) and numeric(other)):
        return own
    return [None if cell is None else plain(cell) for cell in own]


def plain(cell: str) -> str:
    """A number in one spelling, by the digits: SQLite's own floats would round long ones."""
    whole, _, part = cell.partition(".")
    part = part.rstrip("0")
    return f"{whole}.{part}" if part else ("0" if whole in ("0", "-0") else whole)


def judged(left: dict, right: dict, keys: list[str], kind: str) -> tuple[list, str]:
    """The pairs of row numbers, sorted, and the cardinality, as SQLite has them."""
    base = sqlite3.connect(":memory:")
    for name, table, other in (("l", left, right), ("r", right, left)):
        columns = [typed(table[key], other[key]) for key in keys]
        base.execute(f"CREATE TABLE {name} (row INTEGER, {', '.join(f'{k} TEXT' for k in keys)})")
        rows = zip(range(len(table[keys[0]])), *columns, strict=True)
        base.executemany(f"INSERT INTO {name} VALUES ({', '.join('?' * (len(keys) + 1))})", rows)
    on = " AND ".join(f"l.{key} = r.{key}" for key in keys)
    if kind in SIDES:
        sql = f"SELECT l.row, r.row FROM l {SIDES[kind]} r ON {on}"
    elif kind == "cross":
        sql = "SELECT l.row, r.row FROM l CROSS JOIN r"
    else:
        no = "NOT " if kind == "anti" else ""
        sql = f"SELECT l.row, NULL FROM l WHERE {no}EXISTS (SELECT 1 FROM r WHERE {on})"
    pairs = sorted(base.execute(sql).fetchall(), key=str)
    sides = []
    for one, other in (("l", "r"), ("r", "l")):
        some = ", ".join(f"{one}.{key}" for key in keys)
        many = base.execute(
            f"SELECT 1 FROM {one} WHERE EXISTS (SELECT 1 FROM {other} WHERE {on}) "
            f"GROUP BY {some} HAVING count(*) > 1"
        ).fetchone()
        sides.append("many" if many else "one")
    return pairs, "-to-".join(sides)


def allowed(kind: str, cardinality: str | None, found: str) -> bool:
    """Whether such a join may be made."""
    if kind == "cross":
        return True
    if cardinality is None:
        return kind in ("semi", "anti") or found != "many-to-many"
    pairs = zip(cardinality.split("-to-"), found.split("-to-"), strict=True)
    return all(said == "many" or is_ == "one" for said, is_ in pairs)


def row_pairs(table) -> list[tuple]:  # type: ignore[no-untyped-def]
    """Which source rows each result row shows, sorted."""
    found = []
    for row in range(table.rows):
        places = {place.source: place.row - 1 for place in table.source_rows(row)}
        found.append((places.get("l"), places.get("r")))
    return sorted(found, key=str)


def one_case(rng: random.Random) -> str:
    """Make a random join and compare it, row for row; what kind it was."""
    left, right, keys = random_tables(rng)
    kind, cardinality = rng.choice(KINDS), rng.choice(CARDINALITIES)
    expected, found = judged(left, right, keys, kind)
    tables = table_from_columns("l", left), table_from_columns("r", right)
    options = {"kind": kind, "cardinality": cardinality, "key": None if kind == "cross" else keys}
    case = f"{kind} {cardinality} on {keys}: {left} {right}"
    try:
        joined = join(*tables, **options)
    except ExpectationError:
        assert not allowed(kind, cardinality, found), f"refused: {case}"
        return "refused"
    assert allowed(kind, cardinality, found), f"not refused: {case}"
    assert row_pairs(joined.table) == expected, case
    match, (entry,) = joined.match, joined.entries
    assert match.output_rows == len(expected) == sum(line.rows for line in entry.lines), case
    if kind != "cross":
        assert match.cardinality == found, case
        left_rows = match.left_matched + match.left_unmatched + match.left_missing_key
        assert left_rows == match.left_rows, case
    return kind


def judge_join(rng: random.Random) -> bool:
    """One join, or its refusal."""
    return bool(one_case(rng))


JUDGES = {"joins": judge_join}
