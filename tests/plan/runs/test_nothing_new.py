"""A run of which nothing would be different is not done again, and any other one is."""

from __future__ import annotations

import json
import os
from datetime import UTC, date, datetime
from pathlib import Path

import pytest

import plait as calls
from makers import Quiet
from plait.io.places.source import Source
from plait.plan.execution import expectations
from plait.plan.run import ExpectationsNotMetError, NothingNew, RunResult, run_plan
from plait.plan.runs import standing_handover
from plait.plan.runs.history import read_history

PLAN = """\
[parameters]
year = 2031
[source.visits]
path = "extracts"
[source.hives]
path = "register/hives.csv"
[[step]]
stack = "visits"
into = "all"
[[step]]
join = ["all", "hives"]
key = "hive"
into = "season"
{expect}
[handover]
result = "season"
"""
LONG_AGO = 1_700_000_000


@pytest.fixture
def season(put, tmp_path, monkeypatch):
    """A plan, and sources that nobody has changed for long."""
    monkeypatch.chdir(tmp_path)
    (tmp_path / "extracts").mkdir()
    (tmp_path / "register").mkdir()
    put(
        **{
            "extracts/2031-03.csv": "hive,kg\n1,12.50\n2,9\n",
            "extracts/2031-04.csv": "hive,kg\n1,8\n3,4\n",
            "register/hives.csv": "hive,breed\n1,Carnica\n2,Buckfast\n",
            "p.toml": PLAN.format(expect=""),
        }
    )
    for path in tmp_path.rglob("*.csv"):
        os.utime(path, (LONG_AGO, LONG_AGO))
    return tmp_path


def files(folder: Path) -> dict[str, tuple[bytes, int]]:
    return {
        path.relative_to(folder).as_posix(): (path.read_bytes(), path.stat().st_mtime_ns)
        for path in folder.rglob("*")
        if path.is_file()
    }


def test_what_stands_is_said_to_stand_and_written_down(plait, season):
    assert plait("run", "p.toml").status == 0
    before = files(season / "handover")
    ended = plait("run", "p.toml", "--json")
    assert ended.status == 0
    assert ended.err.splitlines()[0] == (
        "nothing new: handover/season.csv stands, 4 rows, 3 columns"
    )
    assert "3 sources, plan, parameters, version" in ended.err, "none of them had to be hashed"
    assert ended.json == json.loads((season / "handover" / "ledger.json").read_text())
    assert files(season / "handover") == before
    first, second = read_history(season / "p.toml")
    assert (second.status, second.same_as, second.rows, second.rows_new) == ("done", 1, 4, 0)
    assert (second.handover, second.ledger) == (first.handover, first.ledger)
    assert "= as run 1" in plait("history", "p.toml").out
    assert "what run 1 handed over stands" in plait("history", "p.toml", "--run", "2").out
    plait("run", "p.toml", "--quiet")
    assert read_history(season / "p.toml")[-1].same_as == 1, "the run that made it"


def test_files_that_were_only_touched_are_hashed(plait, season):
    plait("run", "p.toml")
    for path in (season / "register" / "hives.csv", season / "handover" / "season.csv"):
        os.utime(path)
    assert "3 sources (1 file by checksum)" in plait("run", "p.toml").err


def other_cell(path: Path, before: str = "Carnica", after: str = "Cecropi") -> None:
    """Another value that is as long."""
    assert before in path.read_text()
    path.write_text(path.read_text().replace(before, after))


NEW = {
    "a cell": lambda at: other_cell(at / "register" / "hives.csv"),
    "a row": lambda at: (at / "register" / "hives.csv").write_text("hive,breed\n1,Carnica\n"),
    "an extract": lambda at: (at / "extracts" / "2031-05.csv").write_text("hive,kg\n2,1\n"),
    "an extract less": lambda at: (at / "extracts" / "2031-04.csv").unlink(),
    "a file that is not read": lambda at: (at / "extracts" / "notes.docx").write_text("mine"),
    "a file beside": lambda at: (at / "register" / "more.csv").write_text("hive\n9\n"),
    "the plan": lambda at: (at / "p.toml").write_text(PLAN.format(expect="# may change")),
    "the dataset": lambda at: other_cell(at / "handover" / "season.csv"),
    "a list": lambda at: next((at / "handover" / "aside").iterdir()).unlink(),
    "the account": lambda at: other_cell(at / "handover" / "ledger.json", '"rows"', '"rosw"'),
    "the history": lambda at: (at / "p.history.jsonl").unlink(),
    "the folder": lambda at: (at / "handover").rename(at / "elsewhere"),
}


@pytest.mark.parametrize("what", NEW)
def test_whatever_is_new_is_seen(what, plait, season):
    plait("run", "p.toml")
    NEW[what](season)
    ended = plait("run", "p.toml", "--replace")
    assert ended.status == 0 and "nothing new" not in ended.err, ended.err


@pytest.mark.parametrize(
    "words",
    [["--again"], ["--set", "year=2032"], ["--fail-on", "no-rows"], ["--figure", "flow.svg"]],
)
def test_what_somebody_asks_for_is_done(words, plait, season):
    plait("run", "p.toml")
    ended = plait("run", "p.toml", "--replace", *words)
    assert ended.status == 0 and "the same 4 rows" in ended.err, ended.err


def test_another_version_does_it_again(plait, season, monkeypatch):
    plait("run", "p.toml")
    monkeypatch.setattr(standing_handover, "__version__", "later")
    assert "the same 4 rows" in plait("run", "p.toml", "--replace").err


def test_from_python_a_plan_is_always_carried_out(season):
    calls.run("p.toml")
    assert calls.run("p.toml", replace=True).changes.compared.changes.none


def test_a_run_that_was_refused_changes_nothing_in_what_stands(plait, season):
    plait("run", "p.toml")
    before = (season / "register" / "hives.csv").read_bytes()
    (season / "register" / "hives.csv").write_text("")
    assert plait("run", "p.toml", "--replace").status == 3
    (season / "register" / "hives.csv").write_bytes(before)
    assert "made by:     run 1" in plait("run", "p.toml").err


def at(month: int):
    moment = datetime(2031, month, 7, 6, 0, tzinfo=UTC)
    return lambda: moment


def test_what_is_expected_of_this_month_is_looked_at_next_month(season, monkeypatch):
    path = season / "p.toml"

    def in_month(month: int, asked: str):
        class Today(date):
            @classmethod
            def today(cls) -> date:
                return date(2031, month, 7)

        monkeypatch.setattr(expectations, "date", Today)
        path.write_text(PLAN.format(expect=f'[expect]\nseries = {{ visits = "{asked}" }}'))
        return run_plan(path, (), Quiet(), True, again=False, clock=at(month))

    assert isinstance(in_month(5, "2031-03 .. 2031-04"), RunResult)
    assert isinstance(in_month(6, "2031-03 .. 2031-04"), NothingNew)
    assert isinstance(in_month(5, "monthly, to last month"), RunResult)
    assert isinstance(in_month(5, "monthly, to last month"), NothingNew)
    with pytest.raises(ExpectationsNotMetError):
        in_month(6, "monthly, to last month")


def test_a_log_beside_a_database_file_is_not_overlooked(season):
    path = season / "hives.sqlite"
    path.write_bytes(b"")
    source = Source("hives", str(path), part="hives")
    now = datetime.fromtimestamp(path.stat().st_mtime + 60, UTC)
    assert standing_handover.modification_times([source], season, now)
    (season / "hives.sqlite-wal").write_bytes(b"written last")
    assert not standing_handover.modification_times([source], season, now)


@pytest.mark.parametrize(("later", "kept"), [(1.9, False), (2.1, True)])
def test_the_time_of_a_file_that_was_just_changed_proves_nothing(later, kept, season):
    path = season / "register" / "hives.csv"
    now = datetime.fromtimestamp(path.stat().st_mtime + later, UTC)
    (time,) = standing_handover.modification_times([Source("h", str(path))], season, now).values()
    assert bool(time) is kept
