"""What is rare in small tables: keys of three tables and more, work in parts, nested records."""

from __future__ import annotations

import json
import random
import tempfile
from collections.abc import Callable
from contextlib import ExitStack
from fractions import Fraction
from itertools import product
from pathlib import Path
from unittest.mock import patch

from judging import joins, verbs
from judging.verbs import by_key
from plait.core.codes import dense_codes, key_codes, partition
from plait.core.job import current, executor, spill_columns
from plait.core.operations.keys import audit_keys, list_duplicate_rows, select_key_set
from plait.core.table import columns
from plait.core.table.table import table_from_columns
from plait.core.text import cells, dictionary
from plait.io.read import read_source
from plait.io.sources import find_sources

#: How few rows or bytes are done at a time, and from how few on work is dealt out.
SMALL = {
    (dense_codes, "_STEP"): (2, 5),
    (dense_codes, "_COUNTED"): (2, 7),
    (dense_codes, "_FEW_ROWS"): (1, 3),
    (dense_codes, "_CLASS"): (1, 4),
    (dense_codes, "_DIRECT_SLOTS"): (1, 8),
    (key_codes, "_MANY"): (1, 4),
    (partition, "_MOST"): (2, 4),
    (current, "_MOST_ROWS"): (16, 24),
    (executor, "_FEW_ROWS"): (0, 0),
    (spill_columns, "_STEP"): (1, 6),
    (columns, "_MANY"): (1, 3),
    (cells, "_BLOCK"): (2, 9),
    (dictionary, "_STEP"): (16, 64),
}


def judge_key_sets(rng: random.Random) -> bool:
    """The keys that exactly some of several tables have, with their rows, or all these rows."""
    names = ["may", "june", "july", "august"][: rng.choice([2, 3, 4])]
    pool = [f"H-{letter}" for letter in "abcdef"][: rng.choice([2, 6])]
    keys = [[rng.choice([*pool, *pool, ""]) for _ in range(rng.choice([1, 4, 12]))] for _ in names]
    told = [
        [f"{name} {row}" for row in range(len(side))]
        for name, side in zip(names, keys, strict=True)
    ]
    tables = [
        table_from_columns(name, {"key": side, "row": rows})
        for name, side, rows in zip(names, keys, told, strict=True)
    ]
    places = [by_key(side) for side in keys]
    chosen = sorted(rng.sample(range(len(names)), rng.randint(1, len(names))))
    words = "+".join(rng.sample([names[at] for at in chosen], len(chosen)))
    if len(names) == 2 and rng.random() < 0.5:
        words = {(0,): "left", (1,): "right", (0, 1): "both"}[tuple(chosen)]
    found = audit_keys([[table] for table in tables], ["key"])
    first = chosen[0]
    wanted = [
        key
        for key in places[first]
        if all((key in side) == (at in chosen) for at, side in enumerate(places))
    ]
    each = select_key_set(found, words).to_dict()
    assert each.pop("key") == wanted, (keys, words)
    assert each == {
        f"rows {names[at]}": [len(places[at][key]) for key in wanted] for at in chosen
    }, (keys, words)
    rows = select_key_set(found, words, all_rows=True).to_dict()["row"]
    assert rows == [f"{names[first]} {row}" for row, key in enumerate(keys[first]) if key in wanted]
    repeated = list_duplicate_rows(audit_keys([[tables[0]]], ["key"])).to_dict()["row"]
    groups = [rows for rows in places[0].values() if len(rows) > 1]
    assert sorted(repeated) == sorted(f"{names[0]} {row}" for rows in groups for row in rows)
    assert all(  # those of one key together, in their order
        any(repeated[at : at + len(rows)] == [f"{names[0]} {row}" for row in rows]
            for at in range(len(repeated)))
        for rows in groups
    )  # fmt: skip
    return True


OF_PARTS: tuple[Callable[[random.Random], bool], ...] = (
    joins.judge_join,
    verbs.judge_settle,
    verbs.judge_group,
    verbs.judge_widen,
    verbs.judge_stack,
    verbs.judge_sort,
    verbs.judge_nearest,
    judge_key_sets,
)


def judge_small_parts(rng: random.Random) -> bool:
    """What other judges judge, when a few rows are already many."""
    with ExitStack() as stack:
        for (module, name), (least, most) in SMALL.items():
            assert hasattr(module, name), name
            stack.enter_context(patch.object(module, name, rng.randint(least, most)))
        return rng.choice(OF_PARTS)(rng)


def _record(rng: random.Random, depth: int) -> dict:
    """An object of a few members, some of them objects or lists."""
    made: dict = {}
    for name in rng.sample(["kg", "yard", "a b", "ä", "n"], rng.randint(1, 3)):
        kind = rng.choice(["number", "text", "truth", "none", "list", "object", "object"])
        if kind == "object" and depth:
            made[name] = _record(rng, depth - 1)
        elif kind == "list":
            every = [1, "x", None, True, {"q": "ü"}]
            made[name] = [rng.choice(every) for _ in range(rng.choice([0, 2]))]
        else:
            choices = {"number": [7, 1.25, -3], "truth": [True, False], "none": [None]}
            made[name] = rng.choice(choices.get(kind, ["Aue", "", "12", 'say "so"']))
    return made


def _flat(record: dict, above: str = "") -> dict[str, object]:
    made: dict[str, object] = {}
    for name, value in record.items():
        if isinstance(value, dict) and value:
            made |= _flat(value, f"{above}{name}.")
        else:
            made[above + name] = value
    return made


def judge_nested(rng: random.Random) -> bool:
    """Records within records: a column for each path, lists as JSON, numbers as they stand."""
    records = [_record(rng, 2) for _ in range(rng.choice([1, 3, 8]))]
    flat = [_flat(record) for record in records]
    names = list(dict.fromkeys(name for record in flat for name in record))
    # Where some records have an object and others nothing there is no column of nothing.
    names = [
        name
        for name in names
        if any(record.get(name) is not None for record in flat)
        or not any(other.startswith(f"{name}.") for other in names)
    ]
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder, rng.choice(["r.jsonl", "r.json"]))
        text = [json.dumps(record, ensure_ascii=rng.random() < 0.5) for record in records]
        path.write_text("\n".join(text) if path.suffix == ".jsonl" else f"[{','.join(text)}]")
        found = read_source(find_sources([str(path)])[0]).to_dict()
    assert list(found) == names, (records, list(found))
    for name, (at, record) in product(names, enumerate(flat)):
        cell, value = found[name][at], record.get(name)
        if value is None or value == "":
            assert cell in (None, ""), (records, name, at, cell)
        elif isinstance(value, list | dict):
            assert json.loads(cell) == value, (records, name, at, cell)
        elif isinstance(value, bool):
            assert cell in (value, str(value).lower()), (records, name, at, cell)
        elif isinstance(value, str):
            assert cell == value, (records, name, at, cell)
        else:
            assert Fraction(str(cell)) == Fraction(str(value)), (records, name, at, cell)
    return True


JUDGES = {
    "key sets": judge_key_sets,
    "small parts": judge_small_parts,
    "nested records": judge_nested,
}
