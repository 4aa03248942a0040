"""Every format written at a size of several blocks, read back by a library that is not ours."""

from __future__ import annotations

import csv
import json
import sqlite3

import numpy as np
import pyarrow as pa
import pyarrow.feather
import pyarrow.parquet
import pytest

import plait

ROWS = 150_000

pytestmark = pytest.mark.slow


@pytest.fixture(scope="module")
def table() -> plait.Table:
    """Numbers, text with all that must be quoted, gaps; rows taken from far apart, as joins do."""
    rng = np.random.default_rng(7)
    order = rng.permutation(ROWS)
    texts = np.array(["calm", 'so "busy"', "a, b", "two\nlines", "ü€😀", " 007 ", ""], object)
    made = pa.table(
        {
            "row": pa.array(np.arange(ROWS)),
            "text": pa.array(texts[rng.integers(0, len(texts), ROWS)], pa.string()),
            "kg": pa.array(rng.integers(0, 10**6, ROWS) / 64, mask=rng.random(ROWS) < 0.1),
            "id": pa.array([f"{n:020d}" for n in range(ROWS)]),
        }
    )
    return plait.Table.from_arrow(made, "visits").take(order)


@pytest.fixture(scope="module")
def expected(table) -> list[tuple]:
    return list(zip(*table.to_arrow().to_pydict().values(), strict=True))


def _texts(rows: list[tuple]) -> list[tuple[str, ...]]:
    return [(str(n), text or "", _number(kg), key) for n, text, kg, key in rows]


def _number(value: float | None) -> str:
    return "" if value is None else repr(float(value))


def test_csv_and_tsv(table, expected, tmp_path):
    for ending, delimiter in ((".csv", ","), (".tsv", "\t")):
        plait.write(table, tmp_path / f"t{ending}")
        with (tmp_path / f"t{ending}").open(newline="", encoding="utf-8") as file:
            header, *rows = csv.reader(file, delimiter=delimiter)
        assert header == ["row", "text", "kg", "id"]
        again = [(n, text, "" if kg == "" else repr(float(kg)), key) for n, text, kg, key in rows]
        assert again == _texts(expected)


def test_parquet_and_arrow(table, expected, tmp_path):
    plait.write(table, tmp_path / "t.parquet")
    plait.write(table, tmp_path / "t.arrow")
    for made in (
        pa.parquet.read_table(tmp_path / "t.parquet"),
        pa.ipc.open_file(tmp_path / "t.arrow").read_all(),
    ):
        assert made.schema.field("row").type == pa.int64()
        assert made.schema.field("kg").type == pa.float64()
        assert (
            list(zip(*made.to_pydict().values(), strict=True))
            == [(n, text or None, kg, key) for n, text, kg, key in expected]
            or list(zip(*made.to_pydict().values(), strict=True)) == expected
        )


def test_json_and_json_lines(table, expected, tmp_path):
    plait.write(table, tmp_path / "t.json")
    plait.write(table, tmp_path / "t.jsonl")
    whole = json.loads((tmp_path / "t.json").read_text("utf-8"))
    lines = [json.loads(line) for line in (tmp_path / "t.jsonl").read_text("utf-8").splitlines()]
    assert whole == lines and len(lines) == ROWS
    assert [(one["row"], one["text"] or "", one["kg"], one["id"]) for one in lines] == [
        (n, text or "", kg, key) for n, text, kg, key in expected
    ]


def test_a_database(table, expected, tmp_path):
    plait.write(table, tmp_path / "t.sqlite")
    with sqlite3.connect(tmp_path / "t.sqlite") as base:
        rows = base.execute('SELECT "row", "text", "kg", "id" FROM visits').fetchall()
        assert [(n, text or "", kg, key) for n, text, kg, key in rows] == [
            (n, text or "", kg, key) for n, text, kg, key in expected
        ]
        assert base.execute("SELECT sum(length(id)) FROM visits").fetchone() == (20 * ROWS,)
    base.close()
