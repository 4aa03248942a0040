"""Sources of a plan: found from its folder, read once, typed and labelled as it says."""

from __future__ import annotations

import json

import pytest

from conftest import rows_of
from makers import workbook
from plait.plan.execution import resolve_sources


@pytest.fixture
def run(plait, tmp_path):
    """Runs a plan whose only source is ``a``; the dataset's rows, and how it ended."""

    def do(source: str, *more: str):
        (tmp_path / "p.toml").write_text(
            f'[source.a]\n{source}\n{"".join(more)}[handover]\nresult = "a"\n'
        )
        ended = plait("run", "p.toml", "--replace", "--again", "--json")
        file = tmp_path / "handover" / "a.csv"
        return (rows_of(file) if ended.status == 0 else []), ended

    return do


STACK = '[[step]]\nstack = "a"\n'


def test_every_way_to_say_how_text_is_written(run, put):
    put(a_csv="Notes\n'k';'v'\n'ä';'1'\n'b';'n/k'\n'total';'9'\n".encode("cp1252"))
    rows, ended = run(
        'path = "a.csv"\nencoding = "windows-1252"\ndelimiter = "semicolon"\nquote = "\'"\n'
        'header_line = 2\nfooter = 1\nmissing = ["n/k"]\n'
    )
    assert ended.status == 0, ended.err
    assert rows == [{"k": "ä", "v": "1"}, {"k": "b", "v": ""}]
    (read, *_) = ended.json["ledger"]
    assert read["operation"] == "read a" and read["lines"][-1]["rows"] == -1


def test_labels_of_files_folders_and_sheets(run, put, tmp_path):
    put(x__may_csv="k\n1\n", y__may_csv="k\n2\n")
    rows, ended = run('path = ["x", "y"]\nlabel = { in = "{folder}/{stem}" }\n', STACK)
    assert ended.status == 0, ended.err
    assert rows == [{"k": "1", "in": "x/may"}, {"k": "2", "in": "y/may"}]
    assert [one["name"] for one in ended.json["sources"]] == ["x/may", "y/may"]
    workbook(tmp_path / "b.xlsx", {"One": [["k"], [1]], "Two": [["k"], [2]]})
    rows, _ = run('path = "b.xlsx"\nlabel = { sheet = "{sheet}" }\n', STACK)
    assert rows == [{"k": "1", "sheet": "One"}, {"k": "2", "sheet": "Two"}]


@pytest.mark.parametrize(
    ("unfit", "kept"), [("missing", ["1.5", ""]), ("set-aside", ["1.5"]), ("error", None)]
)
def test_cells_that_do_not_fit_their_type(run, put, tmp_path, unfit, kept):
    put(a_csv='v\n"1,5"\nx\n')
    rows, ended = run(f'path = "a.csv"\ntype = {{ v = "decimal:1.234,5" }}\nunfit = "{unfit}"\n')
    if kept is None:
        assert ended.status == 3 and "p.toml line 3" in ended.err
        assert 'unfit = "set-aside"' in ended.err and not (tmp_path / "handover").exists()
        return
    assert [row["v"] for row in rows] == kept
    if unfit == "set-aside":
        (row,) = rows_of(tmp_path / "handover" / "aside" / "a-unfit.csv")
        assert (row["source"], row["place"], row["v"]) == ("a", "line 3", "x")


def test_ragged_rows_are_an_error_or_set_aside(run, put, tmp_path):
    put(a_csv="k,v\n1,2\n3\n4,5\n")
    _, ended = run('path = "a.csv"')
    assert ended.status == 3 and "line 3" in ended.err
    rows, ended = run('path = "a.csv"\nragged = "set-aside"')
    assert [row["k"] for row in rows] == ["1", "4"]
    (listed,) = rows_of(tmp_path / "handover" / "aside" / "a-ragged.csv")
    assert listed["record"] == "3" and listed["place"] == "line 3"


@pytest.mark.parametrize(
    ("source", "says"),
    [
        ('path = "no.csv"', "file not found"),
        ("path = []", "no path is given"),
        ('path = ""', "no path is given"),
        ('path = "*.txt2"', "no file matches"),
        ('path = "a.csv"\nencoding = "klingon"', "unknown encoding"),
        ('path = "a.csv"\nquote = "ab"', "one character"),
        ('path = "a.csv"\ntype = { nope = "date" }', "no column 'nope'"),
        ('path = "a.csv"\nlabel = { k = "x" }', "already"),
        ('path = "a.csv"\nlabel = { m = "{month}" }', "no field {month}"),
    ],
)
def test_what_is_wrong_with_a_source_is_told_with_its_line(run, put, source, says):
    put(a_csv="k,v\n1,2\n")
    _, ended = run(source)
    assert ended.status in (2, 3)
    assert says in ended.err and "p.toml line" in ended.err


def test_all_sources_that_are_not_there_are_told_at_once(plait, tmp_path):
    (tmp_path / "p.toml").write_text(
        '[source.a]\npath = "a.csv"\n[source.b]\npath = "b.csv"\n[handover]\nresult = "a"\n'
    )
    ended = plait("check", "p.toml")
    assert ended.status == 3
    assert "p.toml line 2: a.csv" in ended.err and "p.toml line 4: b.csv" in ended.err


def test_one_table_is_wanted_where_a_source_has_several(run, put):
    put(x__may_csv="k\n1\n", x__june_csv="k\n2\n")
    _, ended = run('path = "x"', '[[step]]\nsettle = "a"\nkey = "k"\n')
    assert ended.status == 0, ended.err
    _, ended = run('path = "x"', '[[step]]\nmend = "a"\ntrim = true\n')
    assert ended.status == 2 and "stack them first: stack = ['a']" in ended.err
    assert "p.toml line 3" in ended.err


def test_a_crosswalk_is_a_source_like_the_others(plait, put, tmp_path):
    put(
        a_csv="k,v\nHeron II,1\nCoot,2\n",
        b_csv="k,w\nHeron 2,x\nCoot,y\n",
        c_csv="left k,right k\nHeron II,Heron 2\n",
    )
    (tmp_path / "p.toml").write_text(
        "".join(f'[source.{name}]\npath = "{name}.csv"\n' for name in "abc")
        + '[[step]]\njoin = ["a", "b"]\nkey = "k"\npairs = "c"\ninto = "d"\n'
        + '[expect]\nunmatched = { d = 0 }\nfail_on = "warning"\n[handover]\nresult = "d"\n'
    )
    ended = plait("run", "p.toml", "--json")
    assert ended.status == 0, ended.err
    assert ended.json["match"]["left_matched"] == 2
    assert not [one for one in ended.json["findings"] if one["code"] == "not-used"]
    ledger = json.loads((tmp_path / "handover" / "ledger.json").read_text())
    assert [one["name"] for one in ledger["sources"]] == ["a", "b", "c"]


@pytest.mark.parametrize(
    ("step", "refused"),
    [
        ('mend = "a"\nwhere = "k = 1"', False),
        ('stack = ["a"]\ndistinct = true', False),
        ('stack = ["a"]', True),
    ],
)
def test_a_stack_that_is_surely_too_large_is_refused_before_any_work(
    plait, put, tmp_path, monkeypatch, step, refused
):
    monkeypatch.setattr(resolve_sources, "MOST_ROWS", 5)
    put(a_csv="k\n1\n1\n2\n2\n")
    (tmp_path / "p.toml").write_text(
        f'[source.a]\npath = "a.csv"\n[[step]]\n{step}\ninto = "b"\n'
        '[[step]]\nstack = ["b", "b"]\ninto = "c"\n[handover]\nresult = "c"\n'
    )
    ended = plait("check", "p.toml")
    assert ("this stack would have 8 rows or more" in ended.err) == refused, ended.err
