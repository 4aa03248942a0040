"""Writing: what is written reads back the same, and is there whole or not at all."""

from __future__ import annotations

import csv
import io
import zipfile

import numpy as np
import pyarrow as pa
import pyarrow.csv
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

import plait
from cases import cases
from plait.core.base.errors import OutputError
from plait.core.table.table import table_from_columns
from plait.io.delimited.read import read_delimited
from plait.io.delimited.write import render_rows, write_delimited
from plait.io.delivery.delivery import Delivery

CELL = st.text(st.characters(exclude_characters="\0", exclude_categories=["Cs"]), max_size=8)


@settings(max_examples=cases(200), deadline=None)
@example([("\\", '\\"')], ",", False)
@example([("", '\\"'), ('a\\"b', "x")], ",", False)
@given(st.lists(st.tuples(CELL, CELL), max_size=20), st.sampled_from([",", "\t"]), st.booleans())
def test_what_is_written_reads_back_the_same(rows, delimiter, one_column):
    columns = {"x": [row[0] for row in rows]}
    if not one_column:
        columns["y, z"] = [row[1] for row in rows]
    file = io.BytesIO()
    write_delimited(table_from_columns("t", columns), file, delimiter)
    text = file.getvalue().decode()
    by_library = list(csv.reader(io.StringIO(text, newline=""), delimiter=delimiter))
    assert by_library == [list(columns), *map(list, zip(*columns.values(), strict=True))]
    again = read_delimited(io.BytesIO(file.getvalue()), "t", "t.csv", delimiter)
    assert again.to_dict() == columns


def test_only_cells_that_must_be_are_quoted():
    file = io.BytesIO()
    write_delimited(
        table_from_columns("t", {"a": ["1", "b c", "d,e", " f"], "b": [None] * 4}), file, ","
    )
    assert file.getvalue() == b'a,b\n1,\nb c,\n"d,e",\n f,\n'


def test_several_files_appear_together_or_not_at_all(tmp_path):
    with pytest.raises(RuntimeError), Delivery() as delivery:
        delivery.write(tmp_path / "a.txt", lambda path: path.write_text("a"))
        delivery.write(tmp_path / "new" / "b.txt", lambda path: path.write_text("b"))
        raise RuntimeError
    assert list(tmp_path.iterdir()) == []
    with Delivery() as delivery:
        delivery.write(tmp_path / "a.txt", lambda path: path.write_text("a"))
        delivery.write(tmp_path / "new" / "b.txt", lambda path: path.write_text("b"))
        assert not (tmp_path / "a.txt").exists()
    assert (tmp_path / "a.txt").read_text() == "a"
    assert (tmp_path / "new" / "b.txt").read_text() == "b"


def test_a_file_that_comes_up_meanwhile_is_not_written_over(tmp_path):
    target = tmp_path / "a.txt"
    with pytest.raises(OutputError, match="already exists"), Delivery() as delivery:
        delivery.check(target)
        delivery.write(target, lambda path: path.write_text("ours"))
        target.write_text("theirs")
    assert [path.read_text() for path in tmp_path.iterdir()] == ["theirs"]


def test_a_source_is_never_a_target_under_any_name(tmp_path):
    source = tmp_path / "a.csv"
    source.write_text("x\n")
    (tmp_path / "hard.csv").hardlink_to(source)
    (tmp_path / "soft.csv").symlink_to(source)
    delivery = Delivery([source], replace=True)
    for name in ("a.csv", "hard.csv", "soft.csv"):
        with pytest.raises(OutputError, match="never overwritten"):
            delivery.check(tmp_path / name)
    assert delivery.check(tmp_path / "other.csv")


@pytest.mark.parametrize("day", [2**31 - 1, -(2**31)])
def test_values_of_more_signs_than_room_was_made_for_are_written_whole(day):
    cells = pa.array(np.full(200_000, day, np.int32)).view(pa.date32())
    rows = pa.RecordBatch.from_arrays([cells, cells], names=["seen", "left"])
    written = bytes(render_rows(rows, ",").data)
    sink = pa.BufferOutputStream()
    pa.csv.write_csv(rows, sink, pa.csv.WriteOptions(include_header=False, quoting_style="none"))
    assert written == sink.getvalue().to_pybytes()


def test_memory_used_again_holds_nothing_of_the_rows_before():
    long, short = (
        pa.RecordBatch.from_pydict({"a": [sign * n], "b": ["1"]})
        for sign, n in (("x", 900), ("y", 2))
    )
    first = render_rows(long, ",")
    first.release()
    assert bytes(render_rows(short, ",").data) == b"yy,1\n"


def test_doubles_of_a_sheet_come_back_as_numbers(tmp_path):
    plait.write(pa.table({"x": pa.array([1.5, -0.25, 1e300])}), tmp_path / "a.xlsx")
    back = plait.read(tmp_path / "a.xlsx")
    assert [float(value) for value in back.to_dict()["x"]] == [1.5, -0.25, 1e300]
    with zipfile.ZipFile(tmp_path / "a.xlsx") as book:
        assert b'<c r="A2"><v>1.5</v>' in book.read("xl/worksheets/sheet1.xml")
