"""``join`` against a judge that knows nothing of it: SQLite, given the same tables."""

from __future__ import annotations

import random
import sqlite3

import pytest

from plait.core.join import join
from plait.core.table import from_columns

CELLS = ["a", "b", "B", "7", "8", "x7", "007", "é", "a long key of many bytes", "another long one"]
SIDES = {"inner": "JOIN", "left": "LEFT JOIN", "right": "RIGHT JOIN", "full": "FULL JOIN"}


def random_table(rng, columns, rows):
    def cell(name):
        if name.startswith("k"):
            return None if rng.random() < 0.1 else rng.choice(CELLS)
        return f"{name}{rng.randrange(1000)}"

    return {name: [cell(name) for _ in range(rows)] for name in columns}


def judged(left, right, keys, kind):
    """The pairs of row numbers, sorted, as SQLite joins them."""
    base = sqlite3.connect(":memory:")
    for name, table in (("l", left), ("r", right)):
        columns = ", ".join(f'"{column}" TEXT' for column in table)
        base.execute(f"CREATE TABLE {name} (row INTEGER, {columns})")
        rows = zip(range(len(next(iter(table.values())))), *table.values(), strict=True)
        marks = ", ".join("?" * (len(table) + 1))
        base.executemany(f"INSERT INTO {name} VALUES ({marks})", rows)
    on = " AND ".join(f'l."{key}" = r."{key}"' for key in keys)
    return sorted(
        base.execute(f"SELECT l.row, r.row FROM l {SIDES[kind]} r ON {on}").fetchall(), key=str
    )


@pytest.mark.parametrize("kind", SIDES)
@pytest.mark.parametrize("keys", [["k"], ["k", "k2"], ["k", "k2", "k3"]])
def test_row_for_row(kind, keys):
    rng = random.Random(f"{kind} {keys}")
    for _ in range(60):
        left = random_table(rng, [*keys, "p"], rng.randrange(30))
        right = random_table(rng, [*keys, "q"], rng.randrange(30))
        joined = join(
            from_columns("l", left),
            from_columns("r", right),
            key=keys,
            kind=kind,
            cardinality="many-to-many",
        )
        found = []
        for row in range(joined.table.rows):
            places = {place.source: place.row - 1 for place in joined.table.places(row)}
            found.append((places.get("l"), places.get("r")))
        assert sorted(found, key=str) == judged(left, right, keys, kind)
