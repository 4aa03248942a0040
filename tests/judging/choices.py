"""Options that verbs take, judged by plain Python: crosswalks, tolerances, labels, rare types."""

from __future__ import annotations

import datetime as dt
import random
import tempfile
from decimal import Decimal
from pathlib import Path

import pyarrow as pa
import pyarrow.feather
import pyarrow.parquet

import plait
from judging.joins import row_pairs
from plait.core.operations.compare import compare
from plait.core.operations.join import join
from plait.core.operations.stack import stack
from plait.core.table.table import table_from_columns

_OURS, _THEIRS = ("a", "b", "c", "d"), ("p", "q", "r", "s", "a")
_KINDS = ("left", "inner", "full", "semi", "anti")


def judge_crosswalk(rng: random.Random) -> bool:
    """A join across pairs of keys of one to three columns: a dictionary says which rows meet."""
    parts = rng.choice([1, 1, 2, 3])
    names = ["k", "m", "n"][:parts]

    def keys(pool: tuple[str, ...], rows: int) -> list[tuple[str | None, ...]]:
        few = pool[: rng.choice([1, 2, len(pool)])]
        return [
            tuple(None if rng.random() < 0.05 else rng.choice(few) for _ in names)
            for _ in range(rows)
        ]

    left, right, pairs = (keys(pool, rng.choice([1, 4, 12])) for pool in (_OURS, _THEIRS, _OURS))
    targets = keys(_THEIRS, len(pairs))
    leads: dict[tuple[str | None, ...], tuple[str | None, ...]] = {}
    uses = []
    for ours, theirs in zip(pairs, targets, strict=True):
        whole = None not in ours and None not in theirs
        uses.append("yes" if not whole or leads.get(ours, theirs) == theirs else "no")
        if whole and uses[-1] == "yes":
            leads[ours] = theirs
    crosswalk: dict[str, list[str | None]] = {}
    named = rng.random() < 0.5  # else the first columns are ours, the next theirs
    for side, rows in (("left ", pairs), ("right ", targets)):
        for at, name in enumerate(names):
            crosswalk[side + name if named else f"{side[:1]}{at}"] = [row[at] for row in rows]
    crosswalk["note"] = [rng.choice(_OURS) for _ in pairs]
    if named and rng.random() < 0.5:
        crosswalk = dict(rng.sample(list(crosswalk.items()), len(crosswalk)))
        order = [name for name in crosswalk if name != "note"]
        sides = {side: [f"{side} {name}" for name in names] for side in ("left", "right")}
        if any([n for n in order if n.startswith(side)] != own for side, own in sides.items()):
            crosswalk = {name: crosswalk[name] for own in sides.values() for name in own}
    crosswalk["use"] = uses
    kind = rng.choice(_KINDS)
    tables = [
        table_from_columns(name, {n: [row[at] for row in rows] for at, n in enumerate(names)})
        for name, rows in (("l", left), ("r", right))
    ]
    made = join(
        *tables, key=names, kind=kind, cardinality=None if kind in ("semi", "anti") else
        "many-to-many", pairs=table_from_columns("pairs", crosswalk),
    )  # fmt: skip
    meant = [None if None in row else leads.get(row, row) for row in left]
    there = [None if None in row else row for row in right]
    met = [
        (at, to)
        for at, key in enumerate(meant)
        for to, other in enumerate(there)
        if key is not None and key == other
    ]
    alone = set(range(len(left))) - {at for at, _ in met}
    wanted: list[tuple[int | None, int | None]] = {
        "inner": lambda: met,
        "left": lambda: [*met, *((at, None) for at in alone)],
        "full": lambda: [
            *met,
            *((at, None) for at in alone),
            *((None, to) for to in set(range(len(right))) - {to for _, to in met}),
        ],
        "semi": lambda: [(at, None) for at in {at for at, _ in met}],
        "anti": lambda: [(at, None) for at in alone],
    }[kind]()
    assert row_pairs(made.table) == sorted(wanted, key=str), (kind, left, right, crosswalk)
    return True


def judge_tolerance(rng: random.Random) -> bool:
    """How many cells are changed by more than is allowed, by decimals."""
    rows = rng.choice([1, 5, 30])
    pool = [str(Decimal(rng.randrange(-50, 50)) / 4) for _ in range(6)]
    old, new = (
        {
            "k": [str(n) for n in range(rows)],
            "kg": [rng.choice(pool) if rng.random() < 0.9 else "" for _ in range(rows)],
            "no": [str(rng.randrange(5)) for _ in range(rows)],
        }
        for _ in range(2)
    )
    within = {"kg": rng.choice(["0", "0.25", "1.5", "7"])} if rng.random() < 0.8 else {}
    if rng.random() < 0.3:
        within["no"] = rng.choice(["1", "2"])
    columns = rng.choice([[], ["kg"], ["no"], ["kg", "no"]])
    found = compare(
        [table_from_columns("old", old), table_from_columns("new", new)],
        "k", columns, within={n: d for n, d in within.items() if not columns or n in columns},
    )  # fmt: skip
    changed = {
        (row, name)
        for name in columns or ["kg", "no"]
        for row, (one, other) in enumerate(zip(old[name], new[name], strict=True))
        if (not one) != (not other)
        or (one and abs(Decimal(one) - Decimal(other)) > Decimal(within.get(name, "0")))
    }
    listed = found.listed().to_dict()
    at = {
        (int(place.removeprefix("row ")) - 1, column)
        for place, column in zip(listed["old place"], listed["column"], strict=True)
    }
    assert at == changed, (old, new, within, columns, at ^ changed)
    assert found.changes.rows_changed == len({row for row, _ in changed})
    assert sum(found.changes.columns.values()) == len(changed)
    return True


def judge_labels(rng: random.Random) -> bool:
    """Stacked by name or by position, with labels, numbers and the source of each row."""
    count = rng.choice([1, 2, 4])
    by = rng.choice(["name", "position"])
    names = [rng.sample(["x", "y", "z"], 3) if by == "name" else list("xyz") for _ in range(count)]
    sizes = [rng.choice([1, 2, 9]) for _ in range(count)]
    cells = [
        {name: [f"{rng.randrange(30)}" for _ in range(size)] for name in own}
        for own, size in zip(names, sizes, strict=True)
    ]
    if by == "position":
        cells = [{f"{name}{at}" if at else name: c for name, c in one.items()}
                 for at, one in enumerate(cells)]  # fmt: skip
    tables = [table_from_columns(f"t{at}", one, f"in/of {at}.csv") for at, one in enumerate(cells)]
    distinct = rng.random() < 0.3
    made = stack(
        tables, label={"month": "{stem}", "path": "{folder}/{file}"}, distinct=distinct,
        number="no", by=by, origin="from",
    ).table.to_dict()  # fmt: skip
    rows, seen = [], set()
    for at, one in enumerate(cells):
        order = list(one) if by == "position" else list(cells[0])
        for row in zip(*(one[name] for name in order), strict=True):
            if not distinct or row not in seen:
                rows.append((*row, f"of {at}", f"in/of {at}.csv", len(rows) + 1, f"t{at}"))
            seen.add(row)
    columns = [*cells[0], "month", "path", "no", "from"]
    assert list(made) == columns, (list(made), columns)
    assert list(zip(*made.values(), strict=True)) == rows, (cells, by, distinct, made)
    return True


def _stretch(unit: str, value: int) -> dt.timedelta:
    return dt.timedelta(
        **{{"s": "seconds", "ms": "milliseconds", "us": "microseconds"}[unit]: value}
    )


def judge_rare_types(rng: random.Random) -> bool:
    """Durations, times of day, days by the millisecond and zones: read, kept and written again."""
    rows = rng.choice([1, 4, 20])

    def cells(made: object) -> list:
        return [None if rng.random() < 0.2 else made() for _ in range(rows)]  # type: ignore[operator]

    unit = rng.choice(["s", "ms", "us"])
    whole = cells(lambda: rng.randrange(-(10**6), 10**6))
    nanoseconds = cells(lambda: rng.randrange(-(10**6), 10**6) * 1000)
    clock = cells(lambda: dt.time(rng.randrange(24), rng.randrange(60), rng.randrange(60)))
    day = cells(lambda: dt.date(1970, 1, 1) + dt.timedelta(rng.randrange(-30000, 60000)))
    instant = cells(lambda: dt.datetime(2031, 1, 1) + dt.timedelta(minutes=rng.randrange(500000)))
    table = pa.table(
        {
            "lasted": pa.array(whole, pa.duration(unit)),
            "fine": pa.array(nanoseconds, pa.duration("ns")),
            "clock": pa.array(
                clock, rng.choice([pa.time32("s"), pa.time32("ms"), pa.time64("us")])
            ),
            "nano": pa.array(clock, pa.time64("ns")),
            "day": pa.array(day, pa.date64()),
            "instant": pa.array(instant, pa.timestamp(rng.choice(["s", "ms", "us", "ns"]))),
        }
    )
    wanted = {
        "lasted": [None if v is None else _stretch(unit, v) for v in whole],
        "fine": [None if v is None else _stretch("us", v // 1000) for v in nanoseconds],
        "clock": clock, "nano": clock, "day": day, "instant": instant,
    }  # fmt: skip
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder, "t.arrow")
        pa.feather.write_feather(table, path, compression="uncompressed")
        read = plait.read(path)
        assert read.to_dict() == wanted, (table, read.to_dict())
        for ending in ("parquet", "arrow"):
            out = Path(folder, f"out.{ending}")
            plait.write(read, out)
            again = pa.parquet.read_table(out) if ending == "parquet" else (
                pa.feather.read_table(out, memory_map=False)
            )  # fmt: skip
            got = {name: again.column(name).to_pylist() for name in again.column_names}
            assert got == wanted, (ending, got, wanted)
        order = plait.mend(read, sort="lasted desc").table.to_dict()["lasted"]
        there = [v for v in wanted["lasted"] if v is not None]
        assert [v for v in order if v is not None] == sorted(there, reverse=True)
    return True


_SPELLINGS = {
    "case": lambda rng, text: rng.choice([text, text.upper(), text.title()]),
    "space": lambda rng, text: rng.choice([text, f" {text}", text.replace(" ", "  "), f"{text} "]),
    "punctuation": lambda rng, text: rng.choice([text, text.replace(" ", "- "), f"{text}."]),
    "accents": lambda rng, text: rng.choice([text, text.replace("u", "ü").replace("e", "é")]),
    "leading-zeros": lambda rng, text: "0" * rng.randrange(3) + text,
}
_NAMES = ("elm court", "nordfeld", "ober ried", "under hill", "7", "12", "40")


def judge_ignored(rng: random.Random) -> bool:
    """Keys that are spelt otherwise in what is ignored, and only they, are the same."""
    ignore = rng.sample(list(_SPELLINGS), rng.choice([1, 2, 3]))
    form = rng.choice(["names", "numbers", "days"])
    pool: list[object] = {
        "names": lambda: list(_NAMES),
        "numbers": lambda: [Decimal(rng.randrange(1, 99999)) / 4 for _ in range(6)],
        "days": lambda: [dt.date(2031, 1, 13) + dt.timedelta(n * 41) for n in range(6)],
    }[form]()
    if form != "names":
        ignore = ["number-form" if form == "numbers" else "date-form"]

    def spelt(value: object, side: int) -> str:
        if form == "numbers":
            point = f"{value:,.2f}"
            return point.translate(str.maketrans(",.", ".,")) if side else f"{value:f}"
        if form == "days":
            return f"{value:%d.%m.%Y}" if side else f"{value:%Y-%m-%d}"
        text = str(value)
        for way in ignore:
            text = _SPELLINGS[way](rng, text) if way != "leading-zeros" or text.isdigit() else text
        return text

    meant = [[rng.choice(pool) for _ in range(rng.choice([1, 5, 20]))] for _ in range(2)]
    if form != "names":  # enough that the form of each column is proved
        meant = [[*pool, *values] for values in meant]
    cells = [[spelt(value, side) for value in values] for side, values in enumerate(meant)]
    tables = [table_from_columns(n, {"k": c}) for n, c in zip("lr", cells, strict=True)]
    made = join(*tables, key="k", kind="inner", ignore=ignore, cardinality="many-to-many")
    wanted = [
        (at, to)
        for at, one in enumerate(meant[0])
        for to, other in enumerate(meant[1])
        if one == other
    ]
    assert row_pairs(made.table) == sorted(wanted, key=str), (ignore, cells)
    return True


JUDGES = {
    "ignored": judge_ignored,
    "crosswalks": judge_crosswalk,
    "tolerances": judge_tolerance,
    "labels": judge_labels,
    "rare types": judge_rare_types,
}
