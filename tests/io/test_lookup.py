"""Single rows looked up again, with the lines they are on."""

from __future__ import annotations

import csv
import io
import sqlite3
from contextlib import closing

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from cases import cases
from makers import PACKERS, every_format
from plait.io.read import find_reader, read_source
from plait.io.sources import find_one_source

CELL = st.text(st.sampled_from('ab",; \n\r1é'), max_size=6)


def _look(path, rows):
    source = find_one_source(str(path))
    return find_reader(source).rows_at(source, rows, ())


@pytest.mark.parametrize(
    ("text", "lines"),
    [
        ("a,b\n1,x\n2,y\n", {0: 2, 1: 3}),
        ("a,b\r\n1,x\r\n2,y\r\n", {0: 2, 1: 3}),
        ("a,b\n\n1,x\n\n\n2,y\n", {0: 3, 1: 6}),
        ('a,b\n"1\n1",x\n2,y\n', {0: 2, 1: 4}),
        ("Title of it\n\na,b\n1,x\n2,y\n", {0: 4, 1: 5}),
        ("a;b\n1;x\n2;y", {0: 2, 1: 3}),
        ("a,b\n'1',x\n2,y\n", {0: 2, 1: 3}),
    ],
)
def test_lines_are_those_an_editor_shows(tmp_path, text, lines):
    (tmp_path / "t.csv").write_bytes(text.encode())
    found = _look(tmp_path / "t.csv", [0, 1])
    assert {row: one.line for row, one in found.items()} == lines
    assert found[1].cells == {"a": "2", "b": "y"}


@settings(suppress_health_check=[HealthCheck.function_scoped_fixture], max_examples=cases(60))
@given(st.lists(st.tuples(CELL, CELL), min_size=1, max_size=20))
def test_cells_are_those_that_reading_gives_and_stand_on_their_line(tmp_path, rows):
    rows = [row for row in rows if any(row)] or [("a", "b")]
    made = io.StringIO(newline="")
    writer = csv.writer(made, lineterminator="\n", quoting=csv.QUOTE_ALL)
    writer.writerows([("x", "y"), *rows])
    path = tmp_path / "t.csv"
    path.write_text(made.getvalue(), encoding="utf-8", newline="")
    table = read_source(find_one_source(str(path)))
    found = _look(path, range(table.rows))
    assert len(found) == table.rows == len(rows)
    every = table.to_dict()
    for row, one in found.items():
        assert one.cells == {name: every[name][row] or "" for name in ("x", "y")}


def test_rows_of_every_format_are_found(tmp_path):
    lines = {"jsonl": 2, "xlsx": 5}
    for path in every_format(tmp_path).values():
        found = _look(path, [1])
        assert found[1].cells["hive"] == "4" and found[1].cells["id"] == "08"
        assert found[1].line == lines.get(path.suffix[1:]) and found[1].cells["kg"] == ""


@pytest.mark.parametrize("ending", PACKERS)
def test_packed_files_are_unpacked(tmp_path, ending):
    (tmp_path / f"t.csv.{ending}").write_bytes(PACKERS[ending](b"a,b\n1,x\n2,y\n"))
    found = _look(tmp_path / f"t.csv.{ending}", [1])
    assert (found[1].line, found[1].cells["b"]) == (3, "y")


def test_rows_that_are_not_there_any_more_are_left_out(tmp_path):
    (tmp_path / "t.csv").write_text("a\n1\n")
    assert list(_look(tmp_path / "t.csv", [0, 7])) == [0]
    with closing(sqlite3.connect(tmp_path / "t.db")) as base, base:
        base.execute("CREATE TABLE t (a INTEGER)")
        base.execute("INSERT INTO t VALUES (5)")
    assert list(_look(tmp_path / "t.db", [0, 7])) == [0]


def test_far_rows_of_a_file_of_many_blocks_are_found(tmp_path, monkeypatch):
    monkeypatch.setattr("plait.io.delimited.blocks.BLOCK_BYTES", 1 << 12)
    rows = [f'{n},"n\n{n}"' for n in range(5000)]
    (tmp_path / "t.csv").write_text("a,b\n" + "\n".join(rows) + "\n")
    found = _look(tmp_path / "t.csv", [0, 2500, 4999])
    assert [one.line for one in found.values()] == [2, 5002, 10000]
    assert [one.cells["b"] for one in found.values()] == ["n\n0", "n\n2500", "n\n4999"]
