"""What is too large ends in an error that names the limit, and work is bounded by the input."""

from __future__ import annotations

import json
import re
import sqlite3
import sys
import zipfile
from contextlib import closing
from dataclasses import fields
from pathlib import Path

import pyarrow as pa
import pytest

import plait
from plait.core.base import names
from plait.core.base.errors import OutputError, SourceError, UsageError
from plait.core.base.limits import LIMITS, LimitExceededError, Limits, parse_limits
from plait.core.base.names import unused_name
from plait.core.base.wording import Setting
from plait.core.table.arrow_columns import clean_headings
from plait.core.text import json_text
from plait.core.unmatched import approximate
from plait.io.cells.head_and_foot import read_header
from plait.io.places import archives
from plait.io.sources import find_sources, make_read_options
from plait.io.workbook import write as workbooks

ROOT = Path(__file__).parents[2]


def _zip(path, **members):
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, content in members.items():
            archive.writestr(name.replace("_", "."), content)


def _database(path, *statements):
    with closing(sqlite3.connect(path)) as base:
        for statement in statements:
            base.execute(statement)
        base.commit()


MANY = {
    "record": ("a.csv", lambda path: path.write_text('x,y\n1,"' + "z" * (9 << 20) + '"\n'), 9999),
    "columns": ("a.csv", lambda path: path.write_text("a,b,c,d\n1,2,3,4\n"), 3),
    "members": ("a.zip", lambda path: _zip(path, a_csv="x\n1\n", b_csv="x\n1\n"), 1),
    "depth": ("a.json", lambda path: path.write_text('[{"a": [[[1]]]}]'), 2),
    "unpacked": ("a.csv.gz", None, 1000),
    "cells": ("a.xlsx", None, 10),
    "view_rows": ("a.db#v", lambda path: _database(
        path, "CREATE TABLE t (x)", "INSERT INTO t VALUES (1), (2), (3)",
        "CREATE VIEW v AS SELECT a.x FROM t a, t b"), 8),
    "view_seconds": ("a.db#v", lambda path: _database(
        path, "CREATE TABLE t (x)",
        "CREATE VIEW v AS WITH RECURSIVE n(x) AS (SELECT 1 UNION ALL SELECT x + 1 FROM n) "
        "SELECT max(x) FROM n"), 1),
}  # fmt: skip


def _made(tmp_path, name, make):
    path = tmp_path / name.partition("#")[0]
    if make is not None:
        make(path)
    elif name.endswith(".gz"):
        import gzip

        path.write_bytes(gzip.compress(b"x\n" + b"1\n" * 300_000))
    else:
        plait.write(plait.stack([{"x": ["1"] * 9, "y": ["2"] * 9}]).table, path)
    return tmp_path / name


def test_every_limit_is_tried_here_and_told_in_the_documents():
    every = {one.name for one in fields(Limits)}
    assert set(MANY) == every
    text = (ROOT / "docs" / "limits.md").read_text()
    told = set(re.findall(r"^\| `([a-z-]+)` \|", text, re.MULTILINE))
    assert told == {name.replace("_", "-") for name in every}


@pytest.mark.parametrize("limit", MANY)
def test_what_is_over_a_limit_ends_with_its_name(tmp_path, limit):
    name, make, low = MANY[limit]
    path = _made(tmp_path, name, make)
    flag = limit.replace("_", "-")
    with pytest.raises(LimitExceededError, match=f"limit: {flag}") as error:
        plait.read(path, limit={flag: str(low)})
    assert error.value.status == 3 and Setting("limit", "N", flag) in error.value.remedy.settings


@pytest.mark.parametrize("limit", [one for one in MANY if one not in ("view_seconds", "members")])
def test_within_the_usual_limits_it_is_read(tmp_path, limit):
    name, make, _ = MANY[limit]
    assert len(plait.read(_made(tmp_path, name, make)))


SIZES = {  # how large the file of each limit is: so much is taken, and no more
    "columns": 4,
    "cells": 20,
    "depth": 3,  # of what is in a record
    "view_rows": 9,
}


@pytest.mark.parametrize("limit", SIZES)
def test_what_is_as_large_as_the_limit_is_read_and_one_more_is_not(tmp_path, limit):
    name, make, _ = MANY[limit]
    path, flag = _made(tmp_path, name, make), limit.replace("_", "-")
    assert len(plait.read(path, limit={flag: SIZES[limit]}))
    with pytest.raises(LimitExceededError):
        plait.read(path, limit={flag: SIZES[limit] - 1})


def test_an_archive_has_as_many_files_as_is_allowed(tmp_path):
    _zip(tmp_path / "a.zip", a_csv="x\n1\n", b_csv="x\n1\n")
    with pytest.raises(UsageError, match="holds 2 tables"):
        plait.read(tmp_path / "a.zip", limit={"members": 2})
    with pytest.raises(LimitExceededError):
        plait.read(tmp_path / "a.zip", limit={"members": 1})


def test_limits_are_written_with_units():
    assert parse_limits({"unpacked": "2 GiB", "view-seconds": 5}) == Limits(
        unpacked=2 << 30, view_seconds=5
    )
    for wrong in ({"cell": "1"}, {"depth": "251"}, {"cells": "-1"}, {"cells": "1e5"}):
        with pytest.raises(UsageError):
            parse_limits(wrong)


def _calls(function, *given):
    """How many Python calls and lines it takes: the same each time, on any machine."""
    count = [0]

    def trace(frame, event, argument):
        count[0] += 1
        return trace

    before = sys.gettrace()
    sys.settrace(trace)
    try:
        function(*given)
    except (SourceError, ValueError):
        pass
    finally:
        sys.settrace(before)
    return count[0]


def _grows_no_faster_than(times, make, function):
    small, large = (_calls(function, make(size)) for size in (200, 1600))
    assert large < times * 8 * small, (small, large)


@pytest.mark.parametrize(
    ("make", "function"),
    [
        (lambda size: ["kg"] * size, lambda found: clean_headings(found, "may.csv")),
        (lambda size: ["kg", "kg (2)"] * size, lambda found: clean_headings(found, "may.csv")),
        (
            lambda size: json.dumps([{f"n{at}": at for at in range(size)}]),
            lambda text: json_text.parse_json(text),
        ),
        (
            lambda size: "{" + ", ".join(['"a": 1'] * size) + "}",
            lambda text: json_text.parse_json(text),
        ),
        (
            lambda size: size * 1000,
            lambda line: read_header(b"a,b\n1,2\n", ",", "a", line),
        ),
    ],
)
def test_work_grows_as_the_input_does(make, function):
    _grows_no_faster_than(1.5, make, function)


def test_names_that_are_alike_are_numbered_without_beginning_anew():
    taken, tried = set(), {}

    class Counting(set):
        asked = 0

        def __contains__(self, name):
            Counting.asked += 1
            return super().__contains__(name)

    taken = Counting()
    for _ in range(3000):
        taken.add(unused_name("kg", taken, tried))
    assert len(taken) == 3000 and Counting.asked < 10_000
    assert names.unused_name("kg", taken) == "kg (3001)"


def test_an_archive_is_looked_through_once_however_many_files_it_has(tmp_path, monkeypatch):
    path = tmp_path / "many.zip"
    _zip(path, **{f"f{at:04}_csv": f"x,y\n{at},1\n" for at in range(300)})
    opened = []
    real = zipfile.ZipFile
    monkeypatch.setattr(
        archives.zipfile, "ZipFile", lambda *given: opened.append(given) or real(*given)
    )
    found = find_sources([str(path)])
    assert [plait.io.read.read_source(one).to_dict()["x"] for one in found] == [
        [str(at)] for at in range(300)
    ]
    assert len(opened) <= 1


def test_the_bound_of_an_archive_is_on_all_its_files_together(tmp_path):
    path = tmp_path / "zeros.zip"
    _zip(path, **{f"f{at}_csv": b"x\n" + b"0" * (6 << 20) for at in range(5)})
    options = make_read_options(limit={"unpacked": "25MB"})
    with pytest.raises(LimitExceededError, match="the file unpacks to 30 MiB"):
        find_sources([str(path)], options)
    assert len(find_sources([f"{path}#f1.csv"], options)) == 1
    assert LIMITS.unpacked == 256 << 20


def test_of_very_long_keys_no_more_than_the_ends_are_compared(monkeypatch):
    compared = []
    real = approximate._scores

    def counted(texts, others, *pairs):
        compared.append(max(len(one) for one in (*texts.to_pylist(), *others.to_pylist())))
        return real(texts, others, *pairs)

    monkeypatch.setattr(approximate, "_scores", counted)
    middle = "z" * 100_000
    found = approximate.find_near_texts(
        pa.array([f"Elm Road {middle}"]), pa.array([f"Elm Raod {middle}"])
    )
    assert found.text.tolist() == [0] and found.score[0] < 1
    assert max(compared) < 1000


@pytest.mark.parametrize(("rows", "columns", "fits"), [(3, 2, True), (4, 2, False), (3, 3, False)])
def test_a_sheet_holds_so_many_rows_below_its_head_and_so_many_columns(
    tmp_path, monkeypatch, rows, columns, fits
):
    monkeypatch.setattr(workbooks, "MOST_ROWS", 4)
    monkeypatch.setattr(workbooks, "MOST_COLUMNS", 2)
    table = {f"c{number}": ["1"] * rows for number in range(columns)}
    if fits:
        plait.write(table, tmp_path / "a.xlsx")
        assert plait.read(tmp_path / "a.xlsx").rows == rows
    else:
        with pytest.raises(OutputError, match="a sheet holds 3 and 2"):
            plait.write(table, tmp_path / "a.xlsx")


@pytest.mark.parametrize(
    ("word", "says"),
    [("unpackd", "did you mean unpacked"), ("zzzz", "there are record, columns, ")],
)
def test_a_limit_that_there_is_not_is_told_with_those_there_are(word, says):
    with pytest.raises(UsageError) as refused:
        parse_limits({word: "1"})
    assert says in str(refused.value.remedy)
