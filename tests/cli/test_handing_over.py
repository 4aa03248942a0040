"""What a command says of outputs that were there before."""

from __future__ import annotations

import sqlite3
from contextlib import closing

import pytest

VISITS = "yard,hive,kg\nElm,7,8\nElm,12,6\nOak,13,7\n"
HIVES = "yard,hive,breed\nElm,7,Buckfast\nElm,12,Carniolan\nOak,9,Italian\n"
ALL = "yard,hive,breed\nElm,7,Buckfast\nElm,12,Carniolan\nOak,13,Italian\n"


@pytest.fixture
def join(plait, put):
    put(visits_csv=VISITS, hives_csv=HIVES, all_csv=ALL)

    def run(right, *more):
        words = ("visits.csv", right, "--key", "yard,hive", "--out", "season.csv", "--json")
        return plait("join", *words, *more)

    return run


def _names(folder):
    return sorted(one.name for one in folder.iterdir() if one.suffix != ".toml")


def test_lists_and_pages_of_the_earlier_run_go_with_its_result_and_that_is_said(join, tmp_path):
    assert join("hives.csv", "--report", "season.html").status == 0
    assert "season.html" in _names(tmp_path) and "season-aside" in _names(tmp_path)
    ended = join("all.csv", "--replace")
    assert ended.finding("gone-with-result")["count"] == 3
    assert _names(tmp_path) == ["all.csv", "hives.csv", "season.csv", "visits.csv"]


def test_what_somebody_put_into_the_folder_stays_and_is_said(join, tmp_path):
    join("hives.csv")
    (tmp_path / "season-aside" / "notes.txt").write_text("call Tom")
    ended = join("all.csv", "--replace")
    found = ended.finding("left-behind")
    assert found["count"] == 1 and found["examples"][0]["text"] == "notes.txt"
    assert _names(tmp_path / "season-aside") == ["notes.txt"]


def test_without_replace_nothing_of_the_earlier_run_is_touched(join, tmp_path):
    join("hives.csv")
    before = _names(tmp_path), _names(tmp_path / "season-aside")
    assert join("all.csv").status == 4
    assert (_names(tmp_path), _names(tmp_path / "season-aside")) == before


def test_fail_on_hands_over_no_result_but_the_page_of_an_audit(plait, join, tmp_path):
    words = ("keys", "visits.csv", "hives.csv", "--key", "yard,hive", "--out", "pairs.csv")
    ended = plait(*words, "--report", "keys.html", "--fail-on", "key-unmatched")
    assert ended.status == 1 and "only the report was written" in ended.err
    assert "pairs.csv" not in _names(tmp_path) and "keys.html" in _names(tmp_path)


def test_an_interrupt_before_and_after_the_handing_over_says_what_is_true(join, monkeypatch):
    import plait.cli.deliver as deliver

    def interrupt(*_):
        raise KeyboardInterrupt

    with monkeypatch.context() as patched:
        patched.setattr(deliver, "add_table_to_delivery", interrupt)
        ended = join("hives.csv")
        assert ended.status == 130 and "no output was written" in ended.err
    with monkeypatch.context() as patched:
        patched.setattr(deliver, "print_json", interrupt)
        ended = join("hives.csv")
    assert ended.status == 130
    assert "season.csv and 2 more had already been written, complete" in ended.err


def test_a_fault_of_the_program_is_told_as_one_and_its_details_are_kept(
    join, monkeypatch, tmp_path
):
    import plait.cli.deliver as deliver

    def fail(*_):
        raise ZeroDivisionError("seven")

    monkeypatch.setenv("TMPDIR", str(tmp_path))
    monkeypatch.setattr("tempfile.tempdir", None)
    monkeypatch.setattr(deliver, "add_table_to_delivery", fail)
    ended = join("hives.csv")
    assert ended.status == 70
    assert "internal error, a bug in Plait: ZeroDivisionError: seven (in plait join)" in ended.err
    (details,) = tmp_path.glob("plait-fault-*.txt")
    text = details.read_text()
    assert "ZeroDivisionError: seven" in text and "--key yard,hive" in text


def test_a_folder_that_several_results_share_is_no_news(join, plait, tmp_path):
    assert join("hives.csv", "--aside", "lost").status == 0
    words = ("join", "visits.csv", "hives.csv", "--key", "hive", "--kind", "inner", "--json")
    ended = plait(*words, "--out", "other.csv", "--aside", "lost", "--replace")
    codes = {one["code"] for one in ended.json["findings"]}
    assert "left-behind" not in codes and len(_names(tmp_path / "lost")) >= 2
    ended = join("hives.csv", "--aside", ".", "--replace")
    assert "left-behind" not in {one["code"] for one in ended.json["findings"]}


def test_a_database_that_is_a_source_takes_new_tables_and_no_other_changes(plait, put, tmp_path):
    put(**{"weighings.csv": "hive,kg\n1,2.50\n1,3.50\n2,4.00\n"})
    plait("stack", "weighings.csv", "--out", "base.sqlite#weighings")
    with closing(sqlite3.connect(tmp_path / "base.sqlite")) as base:
        before = base.execute("SELECT * FROM weighings").fetchall()
    sums = ("group", "base.sqlite#weighings", "--by", "hive", "--take", "n=count")
    assert plait(*sums, "--out", "base.sqlite#sums").status == 0
    for name in ("weighings", "SUMS"):
        for option in ("--replace", "--append"):
            ended = plait(*sums, "--out", f"base.sqlite#{name}", option)
            assert ended.status == 4 and "takes new tables only" in ended.err, ended.err
    with closing(sqlite3.connect(tmp_path / "base.sqlite")) as base:
        assert base.execute("SELECT * FROM weighings").fetchall() == before
        assert base.execute("SELECT hive, n FROM sums").fetchall() == [(1, 2), (2, 1)]
        names = base.execute("SELECT name FROM sqlite_master ORDER BY 1").fetchall()
    assert names == [("sums",), ("weighings",)]
