"""Lineage set against what happens: each source cell is changed in turn, and the results read."""

from __future__ import annotations

import random
from collections.abc import Callable

from plait.core.base.errors import UsageError
from plait.core.lineage.paths import lineage_path, lineage_paths, term_row_mask
from plait.core.operations.beside import beside
from plait.core.operations.group import group
from plait.core.operations.join import join
from plait.core.operations.mend import mend
from plait.core.operations.reshape import lengthen, widen
from plait.core.operations.settle import settle
from plait.core.operations.stack import stack
from plait.core.table.table import Table, table_from_columns

Cell = tuple[str, int, str]
Sources = dict[str, dict[str, list[str]]]
VALUES = ("x", "y")


def traced(table: Table, name: str, row: int) -> set[Cell]:
    """The source cells that the lineage of a result's cell leads to."""
    every, found = lineage_paths(table), set()
    for leaf in table.provenance(name):
        if not term_row_mask(table, leaf)[row]:
            continue
        thread = lineage_path(table.fragments[leaf.fragment], every)
        _, origins, rows = thread.rows(row, row + 1)
        for origin, at in zip(origins.tolist(), rows.tolist(), strict=True):
            source = thread.origins[origin].name
            found |= {
                (source, at, column) for owner, column in leaf.source_columns if owner == source
            }
    return found


def random_sources(rng: random.Random) -> Sources:
    """Three small tables with a key and two columns of numbers, some of them missing."""
    made = {}
    for name in ("a", "b", "c"):
        rows = rng.choice([1, 3, 5]) if name != "c" else 3
        keys = [rng.choice("pqr") for _ in range(rows)] if name != "c" else list("pqr")
        columns = {"k": keys}
        own = 5007 if name == "c" else 7  # or a cell could come from either of two
        for number, value in enumerate(VALUES):
            columns[value] = [
                rng.choice(["", "NA"]) if rng.random() < 0.25 else str(own + 100 * at + 10 * number)
                for at in range(rows)
            ]
            columns[value][0] = columns[value][0].replace("NA", "") or "3"
        made[name] = columns
    return made


def steps(rng: random.Random) -> list[Callable[[Table, dict[str, Table]], Table]]:
    """A few steps, the same ones however often they are carried out."""
    rule = rng.choice(["first", "last", "sum"])
    prefer, kind = rng.choice(["left", "right"]), rng.choice(["left", "full", "inner"])
    figure = rng.choice(["sum:x", "first:y", "mean:x"])
    known = [
        lambda t, s: join(t, s["c"], "k", kind, cardinality="many-to-many", prefer=prefer).table,
        lambda t, s: join(t, s["c"], "k", kind, cardinality="many-to-many").table,
        lambda t, s: mend(t, compute={"z": "x + 1"}, trim=True).table,
        lambda t, s: mend(t, fill={"y": "down"}).table,
        lambda t, s: mend(t, sort=["k"], type={"x": "decimal"}).table,
        lambda t, s: group(t, "k", {"f": figure}, onto_rows=True).table,
        lambda t, s: lengthen(t, "h", "v", columns=["x", "y"]).table,
        lambda t, s: settle(t, "k", otherwise=rule).table,
        lambda t, s: stack([t, s["b"]]).table,
        lambda t, s: stack([t, _with_own_history(s, prefer)]).table,
        lambda t, s: beside([t, t.with_name("again")]).table,
    ]
    ends = [
        lambda t, s: group(t, "k", {"f": figure, "n": "count"}).table,
        lambda t, s: widen(t, "h", "v", "k", rule="sum").table if t.has_column("h") else t,
        lambda t, s: t,
    ]
    chosen = rng.sample(known, rng.choice([1, 2, 3, 4]))
    return [*chosen, rng.choice(ends)]


def _with_own_history(sources: dict[str, Table], prefer: str) -> Table:
    """A table whose cells come from two sources, so that it is unlike what it is stacked with."""
    key = {"cardinality": "many-to-many", "prefer": prefer}
    return join(sources["b"], sources["c"], "k", "left", **key).table


def carried_out(sources: Sources, done: list) -> Table | None:
    """The result; ``None`` where a step does not suit what came before."""
    tables = {name: table_from_columns(name, columns) for name, columns in sources.items()}
    table = stack([tables["a"], tables["b"]], distinct=False).table
    for step in done:
        if not all(table.has_column(name) for name in VALUES) and step is not done[-1]:
            return None
        if table.rows > 60 or (step is done[-1] and not {"x", "y"} <= set(table.column_names)):
            return table
        if table.has_column("z") or table.has_column("f"):
            table = mend(table, drop=[name for name in ("z", "f") if table.has_column(name)]).table
        table = step(table, tables)
    return table


def judge_lineage(rng: random.Random) -> bool:
    """Whether the cells that change with a source cell are those that are traced to it."""
    sources, done = random_sources(rng), steps(rng)
    try:
        result = carried_out(sources, done)
    except UsageError:  # a column of nothing but markers has no sum
        return False
    if result is None or not result.rows:
        return False
    before = result.to_dict()
    leads = {
        (name, row): traced(result, name, row)
        for name in result.column_names
        for row in range(result.rows)
    }
    cells = [
        (source, at, column)
        for source, columns in sources.items()
        for column in VALUES
        for at, cell in enumerate(columns[column])
        if cell not in ("", "NA")
    ]
    for cell in rng.sample(cells, min(6, len(cells))):
        _judge_one(sources, done, before, leads, cell)
    return True


def _judge_one(sources: Sources, done: list, before: dict, leads: dict, cell: Cell) -> None:
    source, at, column = cell
    changed = {name: {key: list(v) for key, v in one.items()} for name, one in sources.items()}
    changed[source][column][at] = "55555"
    after = carried_out(changed, done).to_dict()
    if after.keys() != before.keys():
        return  # two columns that were equal are so no more, and both are kept
    for (name, row), origins in leads.items():
        value = before[name][row]
        if value in (None, "", "NA"):
            continue
        moved = after[name][row] != value
        assert moved == (cell in origins), (name, row, cell, origins, sources, value)


JUDGES = {"lineage": judge_lineage}
