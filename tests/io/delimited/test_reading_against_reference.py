"""Reading delimited text against the standard library's reader, in blocks of every size."""

from __future__ import annotations

import csv
import io
from dataclasses import replace

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from cases import cases
from plait.core.base.errors import SourceError
from plait.core.table.arrow_columns import clean_headings
from plait.io.delimited import blocks
from plait.io.delimited import read as delimited
from plait.io.delimited.blocks import count_line_ends, split_into_blocks
from plait.io.delimited.read import read_delimited
from plait.io.places.source import Dialect

CELL = st.one_of(
    st.sampled_from(["", "a", "007", "12.50", "1e3", " padded ", 'quo"te', "two\nlines", "a,b"]),
    st.text(st.characters(exclude_characters="\0\r", exclude_categories=["Cs"]), max_size=12),
)

PLAIN = Dialect("utf-8", ",", '"', "", 1)


@pytest.fixture
def small_blocks(monkeypatch):
    """Makes every file many blocks long."""

    def of(size: int) -> None:
        monkeypatch.setattr(blocks, "BLOCK_BYTES", size)
        monkeypatch.setattr(delimited, "BLOCK_BYTES", max(size, 64))

    return of


def written(rows, quoting, delimiter, ending):
    file = io.StringIO()
    csv.writer(file, quoting=quoting, delimiter=delimiter, lineterminator=ending).writerows(rows)
    return file.getvalue().encode()


@settings(max_examples=cases(250), deadline=None)
@given(
    st.lists(st.tuples(CELL, CELL, CELL), max_size=30),
    st.sampled_from([csv.QUOTE_MINIMAL, csv.QUOTE_ALL]),
    st.sampled_from([",", "\t"]),
    st.sampled_from(["\n", "\r\n"]),
    st.sampled_from([16, 40, 100, 1 << 20]),
)
def test_every_cell_is_read_as_it_stands(rows, quoting, delimiter, ending, size):
    data = written([("x", "y", "z"), *rows], quoting, delimiter, ending)
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(blocks, "BLOCK_BYTES", size)
        patch.setattr(delimited, "BLOCK_BYTES", max(size, 64))
        table = read_delimited(
            io.BytesIO(data), "t", "t.csv", delimiter, replace(PLAIN, delimiter=delimiter)
        )
    assert list(zip(*table.to_dict().values(), strict=True)) == rows


@settings(max_examples=cases(250), deadline=None)
@given(
    st.lists(st.lists(CELL, min_size=1, max_size=4), max_size=20),
    st.sampled_from([16, 64, 1 << 20]),
)
def test_a_ragged_row_is_named_by_its_line(rows, size):
    data = written([("x", "y"), *rows, ("last", "row")], csv.QUOTE_ALL, ",", "\n")
    line, bad = 2, None
    for row in rows:
        if bad is None and len(row) != 2:
            bad = line
        line += 1 + sum(cell.count("\n") for cell in row)
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(blocks, "BLOCK_BYTES", size)
        patch.setattr(delimited, "BLOCK_BYTES", max(size, 64))
        if bad is None:
            assert read_delimited(io.BytesIO(data), "t", "t.csv", ",", PLAIN).rows == len(rows) + 1
            return
        with pytest.raises(SourceError) as error:
            read_delimited(io.BytesIO(data), "t", "t.csv", ",", PLAIN)
    assert error.value.where == f"t.csv, line {bad}"


@settings(max_examples=cases(400), deadline=None)
@given(st.data())
def test_mutated_files_end_in_a_result_or_a_clear_error(data):
    base = bytearray(b'x,y\n1,"a ""b"" c"\n2,"two\nlines"\n3,plain\n4,5" nail\n')
    for _ in range(data.draw(st.integers(1, 4))):
        place = data.draw(st.integers(0, len(base) - 1))
        base[place : place + data.draw(st.integers(0, 2))] = data.draw(
            st.sampled_from([b'"', b",", b"\n", b"\r", b"\0", b"\xff", b"", b'""', b"\xc3\xa9"])
        )
    try:
        table = read_delimited(io.BytesIO(bytes(base)), "t", "t.csv", ",", PLAIN)
    except SourceError as error:
        assert error.where.startswith("t.csv")
        assert error.status == 3
        return
    expected = [row for row in csv.reader(io.StringIO(base.decode("utf-8-sig"), newline="")) if row]
    width = len(expected[0])
    if width > 1:  # only lines of one cell at the end, notes, may stand aside
        whole = [row for row in expected[1:] if len(row) == width]
        assert all(row in whole or len(row) == 1 for row in expected[1:])
        assert table.rows + sum(one.rows for one in table.set_aside) == len(expected) - 1
        assert [list(row) for row in zip(*table.to_dict().values(), strict=True)] == whole


@settings(max_examples=cases(200), deadline=None)
@given(st.lists(st.sampled_from(["a", "b\n", '"q\nr"', '"""', "\r\n", ","]), max_size=60))
def test_blocks_are_the_file_cut_in_pieces(pieces):
    data = "".join(pieces).encode()
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(blocks, "BLOCK_BYTES", 16)
        try:
            cut = list(split_into_blocks(io.BytesIO(data), b"", ",", "t.csv", lambda _: None))
        except SourceError:
            return
    assert b"".join(bytes(block.data) for block in cut) == data
    assert [block.lines for block in cut] == [
        count_line_ends(b"".join(bytes(one.data) for one in cut[:number]))
        for number in range(len(cut))
    ]
    assert all(block.quoted == (b'"' in bytes(block.data)) for block in cut)


def test_a_record_without_end_is_refused_before_it_fills_the_memory(monkeypatch):
    monkeypatch.setattr(blocks, "BLOCK_BYTES", 1 << 10)
    data = b'x,y\n1,2\n1,"' + b"z" * (3 << 20)
    with pytest.raises(SourceError, match="a record of more than 1 MiB") as error:
        list(
            split_into_blocks(io.BytesIO(data), b"", ",", "t.csv", lambda _: None, longest=1 << 20)
        )
    assert error.value.where == "t.csv, line 3"


def test_progress_counts_every_byte(small_blocks):
    small_blocks(64)
    data = b"x,y\n" + b"1,2\n" * 500
    told = []
    read_delimited(io.BytesIO(data), "t", "t.csv", ",", on_progress=told.append)
    assert sum(told) == len(data)


@given(st.lists(st.sampled_from(["a", " a", "", "  ", "column 2", "a (2)"]), min_size=1))
def test_usable_names_are_distinct_and_never_empty(names):
    usable, findings = clean_headings(names, "t.csv")
    assert len(usable) == len(names) == len(set(usable))
    assert all(name.strip() == name and name for name in usable)
    assert bool(findings) == (list(names) != usable)
