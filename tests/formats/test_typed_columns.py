"""Columns of every Arrow type through every verb: a result or a clear error, and no other end."""

from __future__ import annotations

import datetime as dt
from decimal import Decimal

import pyarrow as pa
import pytest

import plait

pytestmark = pytest.mark.slow

DAY = dt.datetime(2031, 1, 1, 5)
COLUMNS = {
    "int8": pa.array([1, -2, None], pa.int8()),
    "uint64": pa.array([2**64 - 1, 5, None], pa.uint64()),
    "int64": pa.array([-(2**63), 2**63 - 1, None]),
    "float32": pa.array([0.1, 1e30, None], pa.float32()),
    "float64": pa.array([float("nan"), float("inf"), -0.0]),
    "decimal128": pa.array([Decimal("1.5"), -(Decimal(10) ** 34), None], pa.decimal128(38, 3)),
    "decimal256": pa.array([Decimal(10) ** 60, Decimal(1), None], pa.decimal256(76, 10)),
    "bool": pa.array([True, False, None]),
    "date32": pa.array([DAY.date(), dt.date(1, 1, 1), None]),
    "date64": pa.array([DAY.date(), None, None]).cast(pa.date64()),
    "moment": pa.array([DAY, None, dt.datetime(9999, 12, 31)], pa.timestamp("us")),
    "zone": pa.array([DAY, None, None], pa.timestamp("us", "Europe/Berlin")),
    "nanoseconds": pa.array([1, 2, None], pa.timestamp("ns")),
    "time64": pa.array([dt.time(5, 1), None, dt.time(1)], pa.time64("us")),
    "time32": pa.array([5, None, 7], pa.time32("s")),
    "duration": pa.array([5, None, 7], pa.duration("s")),
    "text": pa.array(["9", "10", "x"]),
    "long text": pa.array(["9", "10", None], pa.large_string()),
    "dictionary": pa.array(["a", "b", "a"]).dictionary_encode(),
    "nothing": pa.nulls(3),
    "bytes": pa.array([b"a", None, b"\xff"]),
    "list": pa.array([[1], None, [2, 3]]),
    "structure": pa.array([{"a": 1}, None, {"a": 3}]),
}
COMPUTED = {
    "z": "v * 2 + 1 / v", "y": "FLOOR(v)", "x": "CAST(v AS INTEGER)", "w": "CAST(v AS DOUBLE)",
    "u": "CAST(v AS DECIMAL(10, 2))", "s": "v || 'x'", "r": "ROUND(v, 1)", "q": "v > 1",
}  # fmt: skip
FIGURES = (
    "sum", "mean", "middle", "spread", "share", "smallest", "largest", "count", "distinct",
    "commonest", "first",
)  # fmt: skip


def _calls(cells):
    table = pa.table({"k": ["x", "x", "y"], "v": cells})
    other = table.rename_columns(["k", "u"])
    yield lambda: plait.survey([table])
    yield lambda: plait.keys([table, table], "v")
    yield lambda: plait.join(table, table, key="v", cardinality="many-to-many")
    yield lambda: plait.join(table, other, key="k", nearest="v=u:either")
    yield lambda: plait.join(table, {"k": ["x", "y"], "v": ["7", "8"]}, key="k", prefer="left")
    yield lambda: plait.stack([table, {"k": ["z"], "v": ["text"]}], distinct=True)
    yield lambda: plait.widen({"a": ["1", "2", "3"], "h": cells, "v": [1, 2, 3]}, "h", "v", key="a")
    yield lambda: plait.lengthen(table, "h", "c", columns="v", without_missing=True)
    yield lambda: plait.group(table, "v", {"n": "count"})
    yield lambda: plait.group(table, "v:month", {"n": "count"})
    yield lambda: plait.group(table, "k", {"r": "rank:v"}, onto_rows=True)
    yield lambda: plait.settle(table, "k", rules={"v": "max"})
    yield lambda: plait.settle(table, "k")
    yield lambda: plait.mend(table, sort=["v desc"])
    yield lambda: plait.mend(table, type={"v": "text"})
    yield lambda: plait.mend(table, type={"v": "decimal"}, unfit="missing")
    yield lambda: plait.mend(table, fill={"v": "0"})
    for figure in FIGURES:
        yield lambda figure=figure: plait.group(table, "k", {"f": f"{figure}:v"})
    for name, text in COMPUTED.items():
        yield lambda name=name, text=text: plait.mend(table, compute={name: text})


@pytest.mark.parametrize("kind", COLUMNS)
@pytest.mark.filterwarnings("error")
def test_every_verb_ends_well(kind):
    done = 0
    for call in _calls(COLUMNS[kind]):
        try:
            made = call()
        except plait.PlaitError as error:
            assert error.what
            continue
        if hasattr(made, "table"):
            made.table.to_dict()
        done += 1
    assert done >= (3 if kind == "structure" else 10)  # of which each field is a column


@pytest.mark.parametrize("kind", COLUMNS)
@pytest.mark.parametrize("ending", ["csv", "parquet", "arrow", "json", "jsonl", "xlsx", "sqlite"])
def test_every_format_takes_it_and_gives_it_back(tmp_path, kind, ending):
    made = plait.mend({"k": ["x", "x", "y"], "v": COLUMNS[kind]}).table
    target = tmp_path / f"t.{ending}"
    plait.write(made, target)
    again = plait.read(target)
    assert again.rows == 3 and again.column_names == made.column_names
    for name in made.column_names:
        before, after = made.whole(name), again.whole(name)
        absent = [cell is None for cell in before.to_pylist()]
        assert [not cell and cell != 0 for cell in after.to_pylist()] == absent or kind == "bool"
