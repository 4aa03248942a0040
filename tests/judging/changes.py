"""``compare`` against SQLite: what came, went and changed; and its list, applied."""

from __future__ import annotations

import random
import sqlite3
from collections import Counter
from contextlib import closing
from fractions import Fraction

from judging.values import as_number
from plait.core.operations.compare import Comparison, compare
from plait.core.table.table import table_from_columns

_KEYS = ("A", "B", "b", "Ä", "", "7", "07", "12")
_NUMBERS = ("7", "7.0", "-3", "12.50", "12.5", "0", "", "1e3", "1000", "0.1")
_TEXTS = ("x", "X", "x ", "", "tbc", "7", "=1+1", "Ünal")


def _columns(rng: random.Random, names: list[str], rows: int) -> dict[str, list[str]]:
    made = {}
    for name in names:
        pool = {"k": _KEYS, "h": ("1", "2", "3", "")}.get(name, rng.choice((_NUMBERS, _TEXTS)))
        made[name] = [rng.choice(pool) for _ in range(rows)]
    return made


def random_pair(rng: random.Random) -> tuple[dict[str, list[str]], dict[str, list[str]]]:
    """An old table and what became of it: rows gone, new and out of order, cells changed."""
    names = ["k", "h", *rng.sample(["kg", "breed", "note", "seen"], rng.randint(0, 4))]
    old = _columns(rng, names, rng.randint(0, 12))
    rows = list(zip(*old.values(), strict=True))
    kept = [list(row) for row in rows if rng.random() < 0.8]
    more = _columns(rng, names, rng.randint(0, 4))
    kept += map(list, zip(*more.values(), strict=True))
    for row in kept:
        if len(names) > 2 and rng.random() < 0.4:
            row[rng.randrange(2, len(names))] = rng.choice((*_NUMBERS, *_TEXTS))
    rng.shuffle(kept)
    new = {name: [row[at] for row in kept] for at, name in enumerate(names)}
    if len(names) > 3 and rng.random() < 0.2:
        del new[names[-1]]
    if rng.random() < 0.2:
        new["more"] = [rng.choice(_TEXTS) for _ in kept]
    return old, new


Value = Fraction | str | None


def meant(old: list[str], new: list[str]) -> tuple[list[Value], list[Value]]:
    """Two columns as values: numbers where every cell of both is one."""
    there = [cell for cell in (*old, *new) if cell]
    sides = [[cell for cell in side if cell] for side in (old, new)]
    numbers = all(as_number(cell) is not None for cell in there)
    # One that begins with zeros is a text, and so are all of its column.
    numbers = numbers and not any(cell.startswith("0") and cell[1:2].isdigit() for cell in there)

    def value(cell: str) -> Value:
        return (as_number(cell) if numbers and any(sides) else cell) if cell else None

    return [value(cell) for cell in old], [value(cell) for cell in new]


def judged(
    old: dict[str, list[Value]], new: dict[str, list[Value]], key: list[str]
) -> Counter[str]:
    """What SQLite says: rows new, gone, equal and changed, by key or as wholes."""
    with closing(sqlite3.connect(":memory:")) as base:
        shared = [name for name in new if name in old]
        for which, columns in (("old", old), ("new", new)):
            base.execute(f"CREATE TABLE {which} ({', '.join(shared)})")
            rows = list(zip(*(columns[name] for name in shared), strict=True))
            marks = ", ".join("?" * len(shared))
            cells = [[None if c is None else str(c) for c in row] for row in rows]
            base.executemany(f"INSERT INTO {which} VALUES ({marks})", cells)
        every = ", ".join(shared)
        on = " AND ".join(f"o.{name} IS n.{name}" for name in key or shared)
        counts = "SELECT {0}, count(*) AS c FROM {1} GROUP BY {0}"
        by = ", ".join(key or shared)
        # Keys that are once on each side, and all others with what is equal as a whole.
        single = base.execute(
            f"SELECT count(*), coalesce(sum({' AND '.join(f'o.{n} IS n.{n}' for n in shared)}), 0) "
            f"FROM old o JOIN new n ON {on} WHERE "
            f"(SELECT c FROM ({counts.format(by, 'old')}) o WHERE {on}) = 1 AND "
            f"(SELECT c FROM ({counts.format(by, 'new')}) n WHERE {on}) = 1"
        ).fetchone()
        whole = " AND ".join(f"o.{name} IS n.{name}" for name in shared)
        (several,) = base.execute(
            f"SELECT coalesce(sum(min(o.c, n.c)), 0) FROM ({counts.format(every, 'old')}) o "
            f"JOIN ({counts.format(every, 'new')}) n ON {whole} WHERE NOT ("
            f"(SELECT p.c FROM ({counts.format(by, 'old')}) p WHERE {on.replace('n.', 'p.')}) = 1 "
            f"AND (SELECT p.c FROM ({counts.format(by, 'new')}) p "
            f"WHERE {on.replace('n.', 'p.')}) = 1)"
        ).fetchone()
        sizes = [
            base.execute(f"SELECT count(*) FROM {one}").fetchone()[0] for one in ("old", "new")
        ]
    pairs, equal = single[0] + several, single[1] + several
    return Counter(new=sizes[1] - pairs, gone=sizes[0] - pairs, equal=equal, changed=pairs - equal)


def applied(found: Comparison, old: dict[str, list[str]], names: list[str]) -> Counter[tuple]:
    """The rows that the list of changes makes of the old ones."""
    rows = {n: {name: cells[n] for name, cells in old.items()} for n in range(len(found.old))}
    listed = found.listed().to_dict()
    lines = [dict(zip(listed, line, strict=True)) for line in zip(*listed.values(), strict=True)]
    made: dict[str, dict[str, str]] = {}
    gone = set()
    for line in lines:
        if line["change"] == "column renamed":
            for row in rows.values():
                row[line["new value"]] = row.pop(line["old value"])
    for line in lines:
        what, column, value = line["change"], line["column"], line["new value"]
        if what == "row gone":
            gone.add(_row(line["old place"]))
        elif what == "row new":
            row = made.setdefault(line["new place"], {n: line[n] for n in found.changes.key})
            if column:
                row[column] = value
        elif what in ("cell changed", "column new") and line["old place"]:
            rows[_row(line["old place"])][column] = value
    every = [row for at, row in rows.items() if at not in gone] + list(made.values())
    return Counter(tuple(row.get(name) or "" for name in names) for row in every)


def _row(place: str) -> int:
    """The number, from 0, of a row that is named ``row 3``."""
    return int(place.removeprefix("row ")) - 1


def judge_compare(rng: random.Random) -> bool:
    """One pair of tables."""
    old, new = random_pair(rng)
    key = rng.choice((["k", "h"], ["k", "h"], ["k"], []))
    tables = [table_from_columns(name, one) for name, one in (("old", old), ("new", new))]
    if not key:  # no column may be the key by chance
        old, new = ({n: [*c, *c] for n, c in one.items()} for one in (old, new))
        tables = [table_from_columns(name, one) for name, one in (("old", old), ("new", new))]
    found, back = (compare(pair, key or None) for pair in (tables, tables[::-1]))
    _mirrored(found, back)
    renamed = found.changes.columns_renamed
    then = {renamed.get(name, name): cells for name, cells in new.items()}
    shared = [name for name in then if name in old]
    values = {name: meant(old[name], then[name]) for name in shared}
    expected = judged(
        {n: two[0] for n, two in values.items()}, {n: two[1] for n, two in values.items()}, key
    )
    said = found.changes
    counts = {
        "new": said.rows_new,
        "gone": said.rows_gone,
        "equal": said.rows_equal,
        "changed": said.rows_changed,
    }
    if not renamed:
        assert counts == dict(expected) | dict.fromkeys(counts.keys() - expected.keys(), 0), (
            old, new, key, counts, expected,
        )  # fmt: skip
    names = list(new)
    got = applied(found, old, names)
    wanted = Counter(zip(*(new[name] for name in names), strict=True))
    assert _by_value(got, names, old, new) == _by_value(wanted, names, old, new), (old, new, key)
    return True


def _mirrored(found: Comparison, back: Comparison) -> None:
    one, other = found.changes, back.changes
    assert (one.rows_new, one.rows_gone) == (other.rows_gone, other.rows_new)
    assert (one.rows_equal, one.rows_changed) == (other.rows_equal, other.rows_changed)
    assert one.columns_new == other.columns_gone
    assert one.columns_gone == other.columns_new
    assert one.columns_renamed == {old: new for new, old in other.columns_renamed.items()}
    assert sum(one.columns.values()) == sum(other.columns.values())
    assert found.listed().rows == back.listed().rows
    for here, there in zip(found.columns, back.columns, strict=True):
        assert (here.from_missing, here.to_missing) == (there.to_missing, there.from_missing)
        assert (here.by.sum or 0) == -(there.by.sum or 0)
        assert (here.by.smallest or 0) == -(there.by.largest or 0)


def _by_value(rows: Counter[tuple], names: list[str], old: dict, new: dict) -> Counter[tuple]:
    """The rows with numbers in one spelling, where a column of both tables holds numbers only."""
    found: Counter[tuple] = Counter()
    for row, times in rows.items():
        cells = []
        for name, cell in zip(names, row, strict=True):
            both = meant(old.get(name, []), new[name])
            numbers = any(isinstance(one, Fraction) for side in both for one in side)
            cells.append(as_number(cell) if numbers and cell else cell)
        found[tuple(cells)] += times
    return found


JUDGES = {"compare": judge_compare}
