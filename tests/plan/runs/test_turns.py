"""Two runs of one plan at once, and runs that are killed: histories and handovers stay whole."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path

import pytest

from cases import cases
from conftest import rows_of
from killed import calls_of, kill_at, spread
from plait.plan.handover.retention import retained_folders
from plait.plan.runs.history import read_history
from plait.plan.runs.lock import lock_path, run_lock

PLAN = """\
[source.visits]
path = "visits.csv"
[[step]]
mend = "visits"
sort = ["kg"]
[handover]
result = "visits"
key = ["hive"]
keep = 3
"""


@pytest.fixture
def plan(put, tmp_path) -> Path:
    put(visits_csv="hive,kg\n" + "".join(f"{n},{n % 7}\n" for n in range(500)))
    path = tmp_path / "p.toml"
    path.write_text(PLAN)
    return path


def begun(plan: Path, *words: str) -> subprocess.Popen[bytes]:
    return subprocess.Popen(
        [sys.executable, "-m", "plait", "run", plan.name, "--replace", "--again", *words],
        cwd=plan.parent,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
    )


def test_the_second_run_waits_for_its_turn(plan):
    with run_lock(plan, "ines on this machine", wait=True):
        second = begun(plan)
        said = second.stderr.readline()
        assert b"waiting for another run" in said and b"ines on this machine" in said
        assert second.poll() is None
        assert not (plan.parent / "handover").exists()
    second.communicate(timeout=60)
    assert second.returncode == 0


def test_or_it_ends_with_a_clear_message(plan):
    with run_lock(plan, "ines on this machine", wait=True):
        second = begun(plan, "--no-wait")
        _, err = second.communicate(timeout=60)
    assert second.returncode == 4 and b"another run of this plan is in progress: ines" in err
    assert not read_history(plan), "it never began"


def test_runs_at_once_come_one_after_another(plan):
    runs = [begun(plan) for _ in range(3)]
    for one in runs:
        one.communicate(timeout=120)
    assert [one.returncode for one in runs] == [0] * 3
    records = read_history(plan)
    assert [one.run for one in records] == [1, 2, 3]
    assert all(one.good for one in records)
    assert not lock_path(plan).exists()


def test_a_killed_run_shows_as_such_and_the_next_one_works(plan, tmp_path):
    record = '{"run": 1, "status": "running", "started": "2031-05-03T06:00:00+02:00"}\n'
    (tmp_path / "p.history.jsonl").write_text(record)
    assert [one.status for one in read_history(plan)] == ["killed"]
    assert begun(plan).wait(60) == 0
    assert [one.status for one in read_history(plan)] == ["killed", "done"]
    assert '"killed"' in (tmp_path / "p.history.jsonl").read_text()


@pytest.mark.slow
def test_runs_killed_at_any_moment_leave_everything_whole(plan, tmp_path):
    """History, kept handovers and turn are whole after each kill, and the next run works."""
    words = ["run", plan.name, "--replace", "--again"]
    calls = calls_of(words, tmp_path)
    for number, call in enumerate(spread(calls, max(4, cases(50)), 18)):
        rows = "".join(f"{n},{(n + number) % 7}\n" for n in range(500))
        (tmp_path / "visits.csv").write_text("hive,kg\n" + rows)
        kill_at(call, words, tmp_path)
        _everything_is_whole(plan)
    assert begun(plan).wait(60) == 0
    _everything_is_whole(plan)
    assert read_history(plan)[-1].good
    assert not [one.name for one in tmp_path.iterdir() if one.name.startswith(".")]


def _everything_is_whole(plan: Path) -> None:
    records = read_history(plan)
    assert [one.run for one in records] == list(range(1, len(records) + 1))
    assert {one.status for one in records} <= {"done", "killed"}
    for line in (plan.parent / "p.history.jsonl").read_text().splitlines():
        json.loads(line)
    folders = [plan.parent / "handover", *retained_folders(plan.parent / "handover")]
    assert len(folders) <= 5
    for folder in folders:
        said = json.loads((folder / "ledger.json").read_text())
        assert len(rows_of(folder / "visits.csv")) == said["outputs"][0]["rows"] == 500
