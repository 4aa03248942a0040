"""Whatever fails or ends a run at whatever call: all outputs are the new ones, or all the old."""

from __future__ import annotations

import hashlib
import json
import random
import shutil
import sqlite3
import subprocess
import sys
import time
from collections.abc import Mapping
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path

import pytest
from faulty import faults

from cases import cases, every_case

pytestmark = pytest.mark.slow

assert faults  # the fixture

VISITS = "yard,hive,frames\nElm,007,8\nElm,012,6\nOak,013,7\nAsh,1,3\n"
HIVES = "yard,hive,breed\nElm,007,Buckfast\nElm,012,Carniolan\nOak,9,Italian\n"
ALL_HIVES = "yard,hive,breed\nElm,007,Buckfast\nElm,012,Carniolan\nOak,013,Italian\nAsh,1,Mixed\n"
SOURCES = {"visits.csv": VISITS, "hives.csv": HIVES, "all.csv": ALL_HIVES}
PLAN = """
[source.visits]
path = "visits.csv"
[source.hives]
path = "{hives}"
[[step]]
join = ["visits", "hives"]
key = ["yard", "hive"]
into = "season"
[handover]
result = "season"
folder = "out"
formats = ["csv", "xlsx"]
"""


ACTIONS = ("fail", "full", "kill", "interrupt")
FEW = 60  # one call in so many, at another place for each action; all of them when asked for


@dataclass(frozen=True)
class Scene:
    """A command, and what had been run before it."""

    words: tuple[str, ...]
    before: tuple[tuple[str, ...], ...] = ()


def _join(hives: str, *more: str, out: str = "season.csv") -> tuple[str, ...]:
    return ("join", "visits.csv", hives, "--key", "yard,hive", "--out", out, *more)


EARLIER = _join("hives.csv", "--report", "season.html")
SCENES = {
    "new": Scene((*EARLIER, "--json")),
    "replaced": Scene(_join("hives.csv", "--kind", "left", "--report", "season.html", "--replace"),
                      (_join("hives.csv", "--report", "season.html", "--kind", "full"),)),
    "proof goes": Scene(_join("all.csv", "--replace"), (EARLIER,)),
    "database": Scene(
        _join("all.csv", "--replace", out="office.db#season"),
        (("stack", "hives.csv", "--out", "office.db#hives"),
         _join("hives.csv", out="office.db#season")),
    ),
    "workbook": Scene(_join("all.csv", "--replace", out="season.xlsx"),
                      (_join("hives.csv", out="season.xlsx"),)),
    "parquet elsewhere": Scene(_join("hives.csv", "--aside", "far/off", out="season.parquet")),
    "plan": Scene(("run", "new.toml", "--replace"), (("run", "old.toml"),)),
    "pairs": Scene(("keys", "visits.csv", "hives.csv", "--key", "hive", "--out", "pairs.csv",
                    "--replace"), (("stack", "hives.csv", "--out", "pairs.csv"),)),
}  # fmt: skip


@pytest.fixture(scope="module")
def template(tmp_path_factory, faults):
    """A folder in which all that was run before a scene has been run."""

    def make(scene: Scene) -> Path:
        folder = tmp_path_factory.mktemp("scene")
        for name, text in SOURCES.items():
            (folder / name).write_text(text)
        for name, hives in (("old.toml", "hives.csv"), ("new.toml", "all.csv")):
            (folder / name).write_text(PLAN.format(hives=hives))
        for words in scene.before:
            assert faults.run(folder, *words).status == 0
        (folder / "old.toml").unlink()  # it is the plan, and is called otherwise now
        return folder

    return make


def _state(folder: Path) -> Mapping[str, object]:
    """What a person finds: each file's bytes, and the rows of a database."""
    return {
        path.relative_to(folder).as_posix(): _content(path)
        for path in sorted(folder.rglob("*"))
        if path.is_file() and path.name not in SOURCES and path.name != "other.csv"
        and path.suffix not in (".toml", ".db-journal") and not path.name.startswith(".")
        and not _is_of_runs(path)
    }  # fmt: skip


def _is_of_runs(path: Path) -> bool:
    """What is another file after each run: the history, earlier handovers, what is new."""
    told = ("ledger.json", "report.html", "report.md", "datapackage.json")
    kept = any(part.startswith("out-") for part in path.parts)
    return kept or path.name in told or path.name.endswith(".history.jsonl")


def _handovers_are_whole(folder: Path) -> None:
    """Every file of every handover is the one that its descriptor says; so is the history."""
    for out in folder.glob("out*"):
        package = json.loads((out / "datapackage.json").read_text())
        for one in package["resources"]:
            found = hashlib.sha256((out / one["path"]).read_bytes()).hexdigest()
            assert one["hash"] == f"sha256:{found}", (out, one["path"])
    for history in folder.glob("*.history.jsonl"):
        assert all(json.loads(line)["run"] for line in history.read_text().splitlines())


def _content(path: Path) -> object:
    if path.suffix != ".db":
        return path.read_bytes()
    with closing(sqlite3.connect(path)) as base:
        return list(base.iterdump())


def _hidden(folder: Path) -> set[str]:
    return {path.name for path in folder.rglob(".*")} | {
        path.name for path in folder.rglob("*-journal")
    }


# Everyday runs try two actions a scene, other ones for the next scene.
EVERY = [
    (name, action)
    for number, name in enumerate(SCENES)
    for action in (ACTIONS if every_case() else ACTIONS[number % 2 :: 2])
]


@pytest.mark.slow
@pytest.mark.parametrize(("name", "action"), EVERY)
def test_all_outputs_are_new_or_all_are_old(faults, template, tmp_path, name, action):
    scene = SCENES[name]
    old_folder, new_folder = template(scene), tmp_path / "whole"
    shutil.copytree(old_folder, new_folder)
    clean = faults.run(new_folder, *scene.words)
    assert clean.status == 0, clean.err
    old, new = _state(old_folder), _state(new_folder)
    assert old != new and clean.count > 4
    calls = range(1, clean.count + 1)
    for at in calls if every_case() else calls[ACTIONS.index(action) :: FEW]:
        folder = tmp_path / str(at)
        shutil.copytree(old_folder, folder)
        told = faults.run(folder, *scene.words, action=action, at=at)
        if action == "kill":
            assert told.status == -9
            assert faults.run(folder, "stack", "visits.csv", "--out", "other.csv").status == 0
            assert _state(folder) in (old, new), at
        else:
            _check_truth(told, _state(folder), old, new, at)
        _handovers_are_whole(folder)
        words = (*scene.words, *(() if "--replace" in scene.words else ("--replace",)))
        again = faults.run(folder, *words)
        assert again.status == 0, (at, again.err)
        assert _state(folder) == new, at
        assert _hidden(folder) == _hidden(new_folder), at
        shutil.rmtree(folder)


@pytest.mark.parametrize("name", SCENES)
def test_runs_that_are_killed_at_any_time_leave_all_new_or_all_old(
    faults, template, tmp_path, name
):
    scene = SCENES[name]
    old_folder, new_folder = template(scene), tmp_path / "whole"
    shutil.copytree(old_folder, new_folder)
    began = time.monotonic()
    assert faults.run(new_folder, *scene.words).status == 0
    took = time.monotonic() - began
    old, new = _state(old_folder), _state(new_folder)
    rng = random.Random(name)
    folder = tmp_path / "killed"
    shutil.copytree(old_folder, folder)
    for _ in range(cases(40)):
        words = (*scene.words, *(() if "--replace" in scene.words else ("--replace",)))
        faults.run(folder, *words, after=rng.uniform(0.2, 1.05) * took)
        assert (
            faults.run(folder, "stack", "visits.csv", "--out", "other.csv", "--replace").status == 0
        )
        assert _state(folder) in (old, new)
        _handovers_are_whole(folder)
    assert faults.run(folder, *words).status == 0
    assert _state(folder) == new and _hidden(folder) - {".other.csv.plait"} == _hidden(new_folder)


_NOTHING = ("no output was written", "nothing was handed over", "nothing was changed")


def _check_truth(told, state, old, new, at):
    """What the person is told is what is the case."""
    assert state in (old, new), (at, told.err)
    if told.status == 0:
        assert state == new, at
    elif any(text in told.err for text in _NOTHING):
        assert state == old, (at, told.err)
    else:
        assert "already been written" in told.err and state == new, (at, told.status, told.err)


@pytest.mark.parametrize("stream", ["out", "err", "in"])
def test_a_closed_stream_costs_no_output(tmp_path, stream):
    (tmp_path / "visits.csv").write_text(VISITS)
    ended = _started(tmp_path, stream, None, "stack", "visits.csv", "--out", "a.csv", "--json")
    assert (tmp_path / "a.csv").read_text() == VISITS
    assert ended.returncode == (4 if stream == "out" else 0)
    if stream == "out":
        assert b"standard output: cannot write the file: Bad file descriptor" in ended.stderr
        assert b"a.csv had already been written, complete" in ended.stderr


@pytest.mark.skipif(not Path("/dev/full").exists(), reason="there is no device that is full")
@pytest.mark.parametrize("stream", ["out", "err"])
def test_a_full_stream_costs_no_output(tmp_path, stream):
    (tmp_path / "visits.csv").write_text(VISITS)
    ended = _started(
        tmp_path, stream, "/dev/full", "stack", "visits.csv", "--out", "a.csv", "--json"
    )
    assert (tmp_path / "a.csv").read_text() == VISITS
    assert ended.returncode == (4 if stream == "out" else 0)
    if stream == "out":
        assert b"standard output: cannot write the file: No space left" in ended.stderr


def test_a_result_for_standard_output_that_is_closed_is_an_error(tmp_path):
    (tmp_path / "visits.csv").write_text(VISITS)
    for words in (("stack", "visits.csv"), ("draft", "visits.csv")):
        ended = _started(tmp_path, "out", None, *words)
        assert ended.returncode == 4, ended.stderr
        assert b"no output was written" in ended.stderr


def _started(folder, stream, device, *words):
    """The program with a stream closed, or leading to a device."""
    number = {"in": 0, "out": 1, "err": 2}[stream]
    sign = "<" if stream == "in" else ">"
    leads = f"{number}{sign}{device or '&-'}"
    command = f'exec "$0" -m plait "$@" {leads}'
    return subprocess.run(
        ["sh", "-c", command, sys.executable, *words], cwd=folder, capture_output=True, timeout=60
    )


@pytest.mark.parametrize("ending", [".csv", ".xlsx", ".sqlite", ".parquet", ".json", ".arrow"])
def test_a_file_that_grows_too_large_for_the_disk_leaves_nothing(tmp_path, ending):
    rows = "".join(f"{number},{number * 7919 % 10007}\n" for number in range(40_000))
    (tmp_path / "visits.csv").write_text("visit,frames\n" + rows)
    limit = "import resource; resource.setrlimit(resource.RLIMIT_FSIZE, (65536, 65536)); "
    ignore = "import signal; signal.signal(signal.SIGXFSZ, signal.SIG_IGN); "
    ended = subprocess.run(
        [sys.executable, "-c", limit + ignore + "import plait.cli.main as m; m.console_entry()",
         "stack", "visits.csv", "--out", f"season{ending}"],
        cwd=tmp_path, capture_output=True, timeout=60,
    )  # fmt: skip
    assert ended.returncode == 4, ended.stderr
    assert b"no output was written" in ended.stderr and b"Traceback" not in ended.stderr
    assert [one.name for one in tmp_path.iterdir()] == ["visits.csv"]
