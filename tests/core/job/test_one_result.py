"""Every verb gives one result: in memory, from scratch files, and shared out to others."""

from __future__ import annotations

import random
from contextlib import contextmanager

import numpy as np
import pytest

from cases import every_case
from company import in_company
from plait.core.base.errors import PlaitError
from plait.core.job.current import within_job
from plait.core.job.memory import MemoryBudget
from plait.core.lineage.paths import source_rows_of_row
from plait.core.operations.beside import beside
from plait.core.operations.compare import compare
from plait.core.operations.group import group
from plait.core.operations.join import join
from plait.core.operations.keys import audit_keys
from plait.core.operations.mend import mend
from plait.core.operations.reshape import lengthen, widen
from plait.core.operations.settle import settle, settle_tables
from plait.core.operations.stack import stack
from plait.core.operations.survey import survey
from plait.core.table.table import table_from_columns

pytestmark = pytest.mark.slow

KEY = "yard,hive"


@contextmanager
def in_scratch(folder):
    """Next to no memory: columns, row numbers and look-ups all go to files, in many classes."""
    room = MemoryBudget(4096, lambda: folder, large=256)
    with within_job(memory=room):
        room.reserve(1 << 20)
        yield room


def visits(seed, rows, name="visits"):
    """Visits with keys that repeat, miss, differ in case, and with cells of every sort."""
    draw = random.Random(seed)
    one = {
        "yard": lambda: draw.choice(["Aue", "aue", "Moor", "Linde ", "", "Y1", "a yard far away"]),
        "hive": lambda: draw.choice(["1", "2", "02", "3", "", "14"]),
        "kg": lambda: draw.choice(["12.50", "9", "", "-", "100000000000000000.25", "-3"]),
        "seen": lambda: draw.choice(["2031-04-05", "2031-05-06", "", "2030-12-31"]),
        "note": lambda: draw.choice(["", "calm", "=1+1", "ein längeres Wort", "calm"]),
    }
    return table_from_columns(
        name, {head: [make() for _ in range(rows)] for head, make in one.items()}
    )


def hives(seed, rows):
    draw = random.Random(seed)
    return table_from_columns(
        "hives",
        {
            "yard": [draw.choice(["Aue", "Moor", "Linde", "Y1", ""]) for _ in range(rows)],
            "hive": [draw.choice(["1", "2", "3", "14", "15"]) for _ in range(rows)],
            "breed": [draw.choice(["Carnica", "Buckfast", ""]) for _ in range(rows)],
            "seen": [draw.choice(["2031-04-04", "2031-05-06"]) for _ in range(rows)],
        },
    )


def joined(**options):
    return lambda left, right: join(left, right, KEY, cardinality="many-to-many", **options)


JOINS = {
    **{kind: joined(kind=kind) for kind in ("inner", "left", "right", "full", "semi", "anti")},
    "cross": lambda left, right: join(left, right, kind="cross"),
    "ignore": joined(ignore=["case", "space", "leading-zeros"], kind="full"),
    "prefer": joined(prefer="right"),
    "missing-match": joined(missing_match=True, kind="full"),
    "shared": lambda left, right: join(left, right, cardinality="many-to-many"),
    "take": joined(take=["breed"]),
    "nearest": lambda left, right: join(
        left, right, KEY, nearest="seen=seen:before", within="40d", cardinality="many-to-many"
    ),
    "refused": lambda left, right: join(left, right, KEY),
    "pairs": joined(pairs=table_from_columns("pairs", {
        "visits.yard": ["aue"], "visits.hive": ["02"], "hives.yard": ["Aue"], "hives.hive": ["2"],
        "use": ["yes"],
    })),
}  # fmt: skip
RULES = ("agree", "first", "last", "min", "max", "longest", "commonest", "newest-by:seen")
FIGURES = ("sum", "mean", "middle", "spread", "share", "smallest", "largest", "distinct", "count")
OPERATIONS = {
    **{f"join {name}": call for name, call in JOINS.items()},
    **{
        f"settle {rule}": lambda left, right, rule=rule: settle(
            left, KEY, rules={"kg": rule, "note": rule}, otherwise="first"
        )
        for rule in (*RULES, "sum", "mean")
    },
    "settle whole": lambda left, right: settle(left, KEY, keep_rule="fullest"),
    "settle several": lambda left, right: settle_tables([left, right], KEY, otherwise="last"),
    **{
        f"group {figure}": lambda left, right, figure=figure: group(
            left, KEY, {"made": f"{figure}:kg", "rows": "count"}
        )
        for figure in FIGURES
    },
    "group all": lambda left, right: group(left, "", {"made": "middle:kg", "all": "sum:kg"}),
    "group months": lambda left, right: group(left, "seen:month", {"made": "mean:kg"}),
    "group onto rows": lambda left, right: group(
        left, KEY, {"made": "rank:kg", "s": "sum:kg"}, onto_rows=True
    ),
    "widen": lambda left, right: widen(left, "seen", ["kg", "note"], KEY, rule="longest"),
    "widen agree": lambda left, right: widen(left, "seen", ["kg"], KEY),
    "lengthen": lambda left, right: lengthen(left, "what", "cell", key=KEY),
    "stack": lambda left, right: stack([left, right, left], label={"from": "{stem}"}, number="n"),
    "stack distinct": lambda left, right: stack([left, right, left], distinct=True),
    "beside": lambda left, right: beside([left.take(np.arange(right.rows)), right]),
    "keys": lambda left, right: audit_keys([left, right], KEY),
    "mend sort": lambda left, right: mend(left, sort=["kg desc", "seen"]),
    "mend": lambda left, right: mend(
        left, trim=True, split=["seen:- into y,m,d"], fill={"note": "down", "kg": "0"},
        replace_value=["yard:aue=Aue"], missing=["-"], type={"kg": "decimal"},
        compute={"twice": "kg * 2", "third": "kg / 3"}, where="hive IS NOT NULL",
    ),
    "survey": lambda left, right: survey([left, right]),
    "compare": lambda left, right: compare([left, right], KEY).result(),
}  # fmt: skip


def told(call, left, right):
    """Everything that a verb says and makes, as plain values."""
    try:
        made = call(left, right)
    except PlaitError as error:
        found = (
            getattr(error, "findings", ()),
            [_listed(one) for one in getattr(error, "aside", ())],
        )
        return type(error).__name__, str(error), found
    if not hasattr(made, "table"):
        shapes = [(one.family, dict(one.profiles), one.keys, one.sample) for one in made.families]
        return shapes, made.relations, made.findings
    table = made.table
    return (
        table.to_dict(),
        {name: str(table.column_type(name)) for name in table.column_names},
        [source_rows_of_row(table, row) for row in range(0, table.rows, 7)],
        made.entries,
        made.findings,
        made.matches,
        made.decisions,
        [_listed(one) for one in made.aside],
    )


def _listed(one):
    return one.name, one.listed().to_dict()


@pytest.mark.parametrize("way", [in_scratch, in_company])
@pytest.mark.parametrize("verb", OPERATIONS)
@pytest.mark.parametrize("seed", range(3) if every_case() else [0])
def test_a_verb_gives_the_same_in_memory_from_scratch_files_and_shared_out(
    verb, seed, way, tmp_path
):
    rows = (400, 90, 30)[seed] if verb != "join cross" else 90
    left, right = visits(seed, rows), hives(seed, rows // 4)
    expected = told(OPERATIONS[verb], left, right)
    with way(tmp_path) as within:
        found = told(OPERATIONS[verb], visits(seed, rows), hives(seed, rows // 4))
        assert found == expected
    if (
        way is in_company
        and rows > 128
        and verb.startswith(("join", "settle", "compare", "survey"))
    ):
        assert within.calls or verb == "join cross"
    assert not list(tmp_path.iterdir())  # the files have no names, and go with what is in them
