"""The verbs set against dictionaries and lists: settle, group, widen, lengthen, stack, sort, …"""

from __future__ import annotations

import random
from collections import Counter
from fractions import Fraction

from judging.values import MARKERS, as_number, meaning, random_cells
from plait.core.base.errors import UsageError
from plait.core.operations.beside import beside
from plait.core.operations.group import group
from plait.core.operations.join import join
from plait.core.operations.keys import audit_keys
from plait.core.operations.mend import mend
from plait.core.operations.reshape import lengthen, widen
from plait.core.operations.settle import settle
from plait.core.operations.stack import stack
from plait.core.table.table import table_from_columns

RULES = ("agree", "first", "last", "min", "max", "longest", "commonest", "newest-by:d")


def same(found: list, expected: list) -> bool:
    """Whether two columns have the same cells; an empty one is a missing one."""
    return [cell or None for cell in found] == [cell or None for cell in expected]


def by_key(column: list) -> dict:
    """Row numbers of each key, in order; rows without a key are in none."""
    found: dict = {}
    for row, key in enumerate(column):
        if key:
            found.setdefault(key, []).append(row)
    return found


def chosen(rows: list[int], cells: list, values: list, rule: str, days: list) -> int | None:
    """The row whose cell a rule takes; ``ValueError`` for a conflict, ``None`` without any."""
    there = [row for row in rows if values[row] is not None]
    if not there:
        return None
    if rule == "agree" and len({values[row] for row in there}) > 1:
        raise ValueError
    if rule == "last":
        return there[-1]
    if rule in ("min", "max"):
        best = (min if rule == "min" else max)(values[row] for row in there)
        return next(row for row in there if values[row] == best)
    if rule == "longest":
        return max(there, key=lambda row: len(cells[row]))
    if rule == "commonest":
        times = Counter(values[row] for row in there)
        return max(there, key=lambda row: times[values[row]])
    if rule == "newest-by:d":
        dated = [row for row in there if days[row] is not None]
        return max(dated, key=lambda row: days[row]) if dated else there[0]
    return there[0]


def judge_settle(rng: random.Random) -> bool:
    """One row for each key, each cell by the rule of its column."""
    rows = rng.choice([1, 3, 8])
    sort = rng.choice(["number", "date", "text"])
    columns = {
        "k": random_cells(rng, rows, "key"),
        "v": random_cells(rng, rows, sort),
        "d": random_cells(rng, rows, "date"),
    }
    rule = rng.choice(RULES)
    settled = settle(table_from_columns("t", columns), "k", {"v": rule}, otherwise="first")
    values, days = meaning(columns["v"]), meaning(columns["d"])
    wanted: dict[str, list] = {"k": [], "v": []}
    aside = 0
    for key, mine in by_key(columns["k"]).items():
        try:
            row = chosen(mine, columns["v"], values, rule, days)
        except ValueError:
            aside += len(mine)
            continue
        wanted["k"].append(key)
        wanted["v"].append(columns["v"][mine[0] if row is None else row])
    made = settled.table.to_dict()
    assert made["k"] == wanted["k"], (columns, rule)
    assert same(made["v"], wanted["v"]), (columns, rule, made, wanted)
    lost = sum(one.rows for one in settled.aside if one.name == "t-conflict")
    assert lost == aside, (columns, rule)
    return True


def judge_group(rng: random.Random) -> bool:
    """Counts, distinct values and chosen cells of groups, rows without a value a group too."""
    rows = rng.choice([1, 4, 9])
    sort = rng.choice(["number", "date", "text"])
    columns = {
        "g": random_cells(rng, rows, rng.choice(["key", "number"])),
        "v": random_cells(rng, rows, sort),
    }
    figures = ("count", "distinct", "first", "last", "commonest", "min", "max")
    take = {"n": "count", **{name: f"{name}:v" for name in figures}}
    onto = rng.random() < 0.3
    take |= {"rank": "rank:v"} if onto else {}
    made = group(table_from_columns("t", columns), "g", take, onto).table.to_dict()
    heads, values, cells = meaning(columns["g"]), meaning(columns["v"]), columns["v"]
    groups: dict = {}
    for row, head in enumerate(heads):
        groups.setdefault(head, []).append(row)
    for place, (head, mine) in enumerate(groups.items()):
        there = [row for row in mine if values[row] is not None]
        for at in mine if onto else [place]:
            assert made["n"][at] == len(mine), columns
            assert made["count"][at] == len(there), columns
            assert made["distinct"][at] == len({values[row] for row in there}), (columns, head)
            for name in figures[2:]:
                row = chosen(mine, cells, values, name, [])
                expected = cells[mine[0] if row is None else row] or None
                found = made[name][at] or None
                assert found == expected or (row is None and found in (None, *MARKERS)), (
                    name,
                    columns,
                )
    if onto:
        _judge_ranks(made["rank"], groups, values)
    return True


def _judge_ranks(found: list, groups: dict, values: list) -> None:
    for mine in groups.values():
        there = [values[row] for row in mine if values[row] is not None]
        for row in mine:
            less = [one for one in there if values[row] is not None and one < values[row]]
            assert found[row] == (None if values[row] is None else len(less) + 1)


def judge_widen(rng: random.Random) -> bool:
    """No cell is lost: each is in the row of its key and the column of its head."""
    rows = rng.choice([1, 4, 9])
    sort = rng.choice(["text", "number", "key"])
    columns = {
        "k": random_cells(rng, rows, "key"),
        "h": random_cells(rng, rows, sort),
        "v": [f"c{row}" for row in range(rows)],
    }
    made = widen(table_from_columns("t", columns), "h", "v", "k", rule="first").table.to_dict()
    heads = meaning(columns["h"])
    wanted: dict = {}
    names: dict = {}
    for row in range(rows):
        if columns["k"][row] and heads[row] is not None:
            names.setdefault(heads[row], columns["h"][row])
            wanted.setdefault(columns["k"][row], {}).setdefault(heads[row], columns["v"][row])
    used = {name if name != "k" else "k (2)": head for head, name in names.items()}
    assert list(made) == ["k", *used], (columns, list(made))
    assert made["k"] == list(wanted), columns
    for name, head in used.items():
        assert made[name] == [wanted[key].get(head) for key in wanted], (columns, name)
    return True


def judge_lengthen(rng: random.Random) -> bool:
    """A row for each cell; without those that are missing in their column, if so asked."""
    rows = rng.choice([0, 1, 4])
    columns = {"k": random_cells(rng, rows, "key")}
    columns |= {name: random_cells(rng, rows, "number") for name in ("x", "y")}
    without = rng.random() < 0.5
    table = table_from_columns("t", columns)
    made = lengthen(table, "h", "c", ["x", "y"], without_missing=without).table.to_dict()
    wanted = [
        (columns["k"][row], name, columns[name][row]) for row in range(rows) for name in ("x", "y")
    ]
    if without:
        values = meaning([cell for _, _, cell in wanted])
        wanted = [one for one, value in zip(wanted, values, strict=True) if value is not None]
    for place, name in enumerate(("k", "h", "c")):
        assert same(made[name], [one[place] for one in wanted]), (columns, without)
    return True


def judge_stack(rng: random.Random) -> bool:
    """Rows under rows, by name; exact repeats once, where that is asked."""
    tables = []
    for name in ("a", "b", "c")[: rng.choice([1, 2, 3])]:
        rows, order = rng.choice([0, 1, 3]), rng.sample(["k", "v", "w"], rng.choice([1, 2, 3]))
        sorts = {"k": "key", "v": "number", "w": "text"}
        tables.append((name, {one: random_cells(rng, rows, sorts[one]) for one in order}))
    distinct = rng.random() < 0.4
    made = stack([table_from_columns(*one) for one in tables], distinct=distinct).table.to_dict()
    names = list(dict.fromkeys(name for _, columns in tables for name in columns))
    rows = []
    for _, columns in tables:
        for row in range(len(next(iter(columns.values())))):
            rows.append(tuple(columns.get(name, [None] * 9)[row] or None for name in names))
    if distinct:  # by value; a marker for missing is no other marker, and no empty cell
        columns = list(zip(*rows, strict=True))
        values = [
            [c if v is None else v for v, c in zip(meaning(list(one)), one, strict=True)]
            for one in columns
        ]
        first: dict = {}
        for row, key in zip(rows, zip(*values, strict=True), strict=True):
            first.setdefault(key, row)
        rows = list(first.values())
    assert list(made) == names
    for place, name in enumerate(names):
        assert same(made[name], [row[place] for row in rows]), (tables, distinct)
    return True


def judge_sort(rng: random.Random) -> bool:
    """Rows in the order of values, missing last, ties as they stand."""
    rows = rng.choice([1, 4, 9])
    columns = {
        "a": random_cells(rng, rows, rng.choice(["number", "date", "text"])),
        "b": random_cells(rng, rows, rng.choice(["number", "date"])),
        "n": [str(row) for row in range(rows)],
    }
    falling = [rng.random() < 0.5 for _ in "ab"]
    spec = [f"{name} desc" if down else name for name, down in zip("ab", falling, strict=True)]
    made = mend(table_from_columns("t", columns), sort=spec).table.to_dict()["n"]
    order = list(range(rows))
    for name, down in reversed(list(zip("ab", falling, strict=True))):
        values = meaning(columns[name])
        there = sorted((r for r in order if values[r] is not None), key=lambda r: values[r])
        if down:  # the greatest first, and ties still as they stood
            there = sorted(
                (r for r in order if values[r] is not None), key=lambda r: values[r], reverse=True
            )
        order = [*there, *(r for r in order if values[r] is None)]
    assert made == [str(row) for row in order], (columns, spec)
    return True


def judge_order(rng: random.Random) -> bool:
    """Whatever is in a column: it is refused, or its numbers and days are in order."""
    pool = [
        "9",
        "10",
        "7.5",
        "-2",
        "007",
        "+5",
        "tbc",
        "x",
        "2031-04-05",
        "2031-10-01",
        "5.4.2031",
        "14.3.2031",
        "10/5/2023",
        "9/5/2023",
        "1e3",
        "12 kg",
        "true",
        "1,234",
        "A7",
        "12",
    ]
    cells = [rng.choice(pool) for _ in range(rng.choice([2, 3, 5]))]
    try:
        made = mend(table_from_columns("t", {"v": cells}), sort="v").table.to_dict()["v"]
    except UsageError as error:
        assert {"type"} <= {setting.option for setting in error.remedy.settings}, error
        return False
    numbers = [as_number(cell) for cell in made if as_number(cell) is not None]
    assert numbers == sorted(numbers), cells
    for sign, parts in ((".", (2, 1, 0)), ("/", (2, 1, 0)), ("/", (2, 0, 1)), ("-", (0, 1, 2))):
        days = [cell.split(sign) for cell in made if cell.count(sign) == 2 and cell[0].isdigit()]
        moments = [tuple(int(day[part]) for part in parts) for day in days]
        assert moments == sorted(moments), (cells, made)
    return True


def judge_beside_and_keys(rng: random.Random) -> bool:
    """Columns beside columns; and what an audit counts."""
    rows = rng.choice([1, 4, 8])
    left = {"k": random_cells(rng, rows, "key"), "v": random_cells(rng, rows, "text")}
    right = {"k": random_cells(rng, rows, "key"), "w": random_cells(rng, rows, "number")}
    made = beside([table_from_columns("l", left), table_from_columns("r", right)]).table.to_dict()
    assert same(made["k"], left["k"]) and same(made["w"], right["w"])
    if not same(left["k"], right["k"]):
        assert same(made["r.k"], right["k"])
    found = audit_keys([table_from_columns("l", left), table_from_columns("r", right)], "k")
    sides = [by_key(one["k"]) for one in (left, right)]
    for table, mine, rows_of in zip(found.tables, sides, (left, right), strict=True):
        assert table.distinct_keys == len(mine)
        assert table.missing_key_rows == sum(not cell for cell in rows_of["k"])
        assert table.duplicate_keys == sum(len(rows) > 1 for rows in mine.values())
    (pair,) = found.pairs
    assert pair.keys_in_both == len(sides[0].keys() & sides[1].keys())
    assert pair.keys_only_left == len(sides[0].keys() - sides[1].keys())
    return True


def judge_prefer(rng: random.Random) -> bool:
    """Each cell from the side that is preferred, or where that has no value from the other."""
    rows = rng.choice([1, 3, 6])
    left = {"k": [rng.choice("pqr") for _ in range(rows)], "v": random_cells(rng, rows, "number")}
    right = {"k": list("pq"), "v": random_cells(rng, 2, "number")}
    side = rng.choice(["left", "right"])
    made = join(table_from_columns("l", left), table_from_columns("r", right), "k", prefer=side)
    mine, theirs = meaning(left["v"]), meaning(right["v"])
    for row, key in enumerate(left["k"]):
        at = "pq".find(key)
        pair = [(mine[row], left["v"][row])]
        pair += [(theirs[at], right["v"][at])] if at >= 0 else []
        order = pair if side == "left" or len(pair) == 1 else pair[::-1]
        wanted = next((cell for value, cell in order if value is not None), None)
        found = made.table.to_dict()["v"][row]
        if wanted is None:
            assert not found or found in MARKERS, (left, right, side)
        else:  # where all cells agree as they are written, the left ones stay
            assert found == wanted or (found and Fraction(found) == Fraction(wanted)), (
                left,
                right,
                side,
            )
    return True


def judge_nearest(rng: random.Random) -> bool:
    """The nearest row by exact numbers, and within a distance that is exact too."""
    rows = rng.choice([1, 3, 6])
    left, right = random_cells(rng, rows, "number"), random_cells(rng, 4, "number")
    way, within = rng.choice(["before", "after", "either"]), rng.choice([None, "0.1", "0.25", "3"])
    made = join(
        table_from_columns("l", {"g": ["x"] * rows, "v": left}),
        table_from_columns("r", {"g": ["x"] * 4, "u": right, "n": ["0", "1", "2", "3"]}),
        "g",
        nearest=f"v=u:{way}",
        within=within,
    ).table.to_dict()
    for row, value in enumerate(meaning(left)):
        best = None
        for at, other in enumerate(meaning(right)):
            if value is None or other is None:
                continue
            gap = other - value
            fits = {"before": gap <= 0, "after": gap >= 0, "either": True}[way]
            if fits and (within is None or abs(gap) <= Fraction(within)):
                rank = (abs(gap), gap > 0, at)
                best = min(best, rank) if best else rank
        assert made["n"][row] == (None if best is None else str(best[2])), (
            left,
            right,
            way,
            within,
        )
    return True


JUDGES = {
    "settle": judge_settle,
    "group": judge_group,
    "widen": judge_widen,
    "lengthen": judge_lengthen,
    "stack": judge_stack,
    "sort": judge_sort,
    "orders refused or right": judge_order,
    "beside and keys": judge_beside_and_keys,
    "prefer": judge_prefer,
    "nearest": judge_nearest,
}
