"""Jobs that do not fit in memory: the same files and words, and errors that say what to do."""

from __future__ import annotations

import os
import random
import subprocess
import sys
from functools import partial
from pathlib import Path

import pytest

from cases import cases
from killed import calls_of, kill_at, run_until, spread
from plait.core.job import memory
from plait.core.job.memory import MemoryBudget
from plait.io import job

HEAD = "yard,hive,day,kg,note\n"


def visits(rows, seed=1):
    draw = random.Random(seed)
    return HEAD + "".join(
        f"{draw.choice(['Aue', 'aue', 'Moor', 'Y1', ''])},{draw.randint(1, 40)},"
        f"2031-04-{draw.randint(1, 30):02d},{draw.choice(['9', '12.50', '', '-'])},"
        f"{draw.choice(['calm', 'a longer note, quoted', ''])!r}\n".replace("'", '"')
        for _ in range(rows)
    )


HIVES = "yard,hive,breed\n" + "".join(
    f"{yard},{hive},{'Carnica' if hive % 3 else ''}\n"
    for yard in ("Aue", "Moor", "Linde")
    for hive in range(1, 50)
)
COMMANDS = {
    "join": "join visits.csv hives.csv --key yard,hive --kind full --json",
    "loose": "join visits.csv hives.csv --key yard,hive --ignore case --json",
    "settle": "settle visits.csv --key yard,hive --otherwise last --rule kg=agree --json",
    "group": "group visits.csv --by yard --take s=sum:kg --take d=distinct:day --missing - --json",
    "stack": "stack visits.csv more.csv --distinct --label from={stem} --json",
    "sort": "mend visits.csv --sort kg,day --json",
    "compute": "mend visits.csv --missing - --compute more=kg*2 --where hive>3 --json",
    "widen": "widen visits.csv --heads day --cells kg --key yard,hive --rule first --json",
    "lengthen": "lengthen visits.csv --heads what --cells cell --key yard,hive --json",
}


@pytest.fixture
def scratch(tmp_path, monkeypatch):
    """Little memory in truth: what is large for it is small for anybody else."""
    folder = tmp_path / "scratch"
    folder.mkdir()
    monkeypatch.setattr(memory, "LEAST", 1)
    monkeypatch.setattr(job, "MemoryBudget", partial(MemoryBudget, large=4096))
    return folder


@pytest.mark.slow
@pytest.mark.parametrize("ending", ["csv", "parquet"])
@pytest.mark.parametrize("name", COMMANDS)
def test_a_command_hands_over_the_same_from_scratch_files(name, ending, plait, put, scratch):
    put(visits_csv=visits(3000), more_csv=visits(500, 2), hives_csv=HIVES)
    words = COMMANDS[name].split()
    usual = plait(*words, "--out", f"result.{ending}", "--aside", "aside")
    folder = scratch.parent
    files = {path: path.read_bytes() for path in (folder / "aside").glob("*")}
    expected = (folder / f"result.{ending}").read_bytes()
    little = ("--memory", "100KB", "--scratch", scratch)
    again = plait(*words, "--out", f"result.{ending}", "--aside", "aside", "--replace", *little)
    assert again == usual
    assert (folder / f"result.{ending}").read_bytes() == expected
    assert {path: path.read_bytes() for path in (folder / "aside").glob("*")} == files
    assert not list(scratch.iterdir())


@pytest.mark.parametrize("words", ["survey visits.csv hives.csv", "keys visits.csv hives.csv"])
def test_what_is_told_is_the_same_too(words, plait, put, scratch):
    put(visits_csv=visits(3000), hives_csv=HIVES)
    more = ("--key", "yard,hive") if words.startswith("keys") else ()
    usual = plait(*words.split(), *more, "--json")
    assert plait(*words.split(), *more, "--json", "--memory", "100KB") == usual


PLAN = """
[work]
memory = "{memory}"
scratch = "scratch"

[source.visits]
path = "visits.csv"
missing = ["-"]

[source.hives]
path = "hives.csv"

[[step]]
join = ["visits", "hives"]
key = ["yard", "hive"]
into = "season"

[handover]
result = "season"
folder = "{folder}"
formats = ["csv", "parquet"]
"""


@pytest.mark.slow
def test_a_plan_keeps_to_the_memory_it_asks_for(plait, put, scratch):
    put(visits_csv=visits(3000), hives_csv=HIVES)
    folder = scratch.parent
    (folder / "season.toml").write_text(PLAN.format(memory="100KB", folder="out"))
    made = []
    for more in (("--memory", "4GB"), ()):
        assert plait("check", "season.toml", "--quiet", *more).status == 0
        assert plait("run", "season.toml", "--replace", "--again", *more).status == 0
        every = (
            path for path in (folder / "out").rglob("*") if path.suffix in (".csv", ".parquet")
        )
        made.append({path.name: path.read_bytes() for path in every})
    assert made[0] == made[1]
    assert not list(scratch.iterdir())


def test_a_plan_that_asks_for_nonsense_is_told_its_line(plait, put):
    put(visits_csv=visits(3), hives_csv=HIVES, season__toml="", scratch__a="")
    Path("season.toml").write_text(PLAN.format(memory="plenty", folder="out"))
    ended = plait("run", "season.toml")
    assert ended.status == 2
    assert "3" in ended.err
    assert "'plenty' is not a memory size" in ended.err


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("--memory", "lots"), "is not a memory size"),
        (("--memory", "1MB"), "too little to work with"),
        (("--scratch", "nowhere"), "the folder for scratch files does not exist"),
    ],
)
def test_a_room_that_cannot_be_had_is_refused(words, said, plait, put):
    put(visits_csv=visits(3))
    ended = plait("mend", "visits.csv", "--out", "out.csv", *words)
    assert ended.status == 2
    assert said in ended.err
    assert not Path("out.csv").exists()


@pytest.mark.skipif(os.geteuid() != 0, reason="mounting needs to be root")
def test_a_full_scratch_disk_ends_with_an_error_and_nothing_half_written(plait, put, scratch):
    mounted = subprocess.run(["mount", "-t", "tmpfs", "-o", "size=96k", "none", scratch])
    if mounted.returncode:
        pytest.skip("nothing can be mounted here")
    try:
        put(visits_csv=visits(2000), hives_csv=HIVES)
        ended = plait(
            *[
                "join",
                "visits.csv",
                "hives.csv",
                "--key",
                "yard,hive",
                "--out",
                "out.csv",
                "--memory",
                "260KB",
            ],
            *("--scratch", scratch),
        )
        assert ended.status == 4
        assert "scratch" in ended.err
        assert "--memory" in ended.err
        assert not Path("out.csv").exists()
        assert not list(scratch.iterdir())
    finally:
        subprocess.run(["umount", "-l", scratch], check=True)


@pytest.mark.slow
def test_a_killed_run_leaves_nothing_that_the_next_does_not_take_away(put, tmp_path, monkeypatch):
    """Killed at any moment: the result is there whole or not at all, and scratch is swept."""
    put(visits_csv=visits(20_000), hives_csv=HIVES)
    scratch = tmp_path / "scratch"
    scratch.mkdir()
    small = (
        "from functools import partial\n"
        "from plait.core.job import memory\n"
        "from plait.core.job.memory import MemoryBudget\n"
        "from plait.io import job\n"
        "memory.LEAST, job.MemoryBudget = 1, partial(MemoryBudget, large=65536)\n"
    )
    words = ["join", "visits.csv", "hives.csv", "--key", "yard,hive", "--out", "out.csv"]
    words += ["--quiet", "--replace", "--memory", "1MB", "--scratch", str(scratch)]
    calls, out = calls_of(words, tmp_path, small), tmp_path / "out.csv"
    expected = out.read_bytes()
    for call in spread(calls, max(cases(50), 6), 7):
        out.unlink(missing_ok=True)
        kill_at(call, words, tmp_path, small)
        assert not out.exists() or out.read_bytes() == expected
    assert run_until(0, words, tmp_path, small).returncode == 0
    assert not list(scratch.iterdir())
    assert out.read_bytes() == expected


def in_a_pipe(tmp_path, words, lines):
    """The first lines that a command writes into a pipe, and how it ended once they were read."""
    with subprocess.Popen(
        [sys.executable, "-m", "plait", *words], cwd=tmp_path, stdout=-1, stderr=-1
    ) as started:
        got = [started.stdout.readline().decode() for _ in range(lines)]
        started.stdout.close()
        err = started.stderr.read().decode()
    return got, started.returncode, err


def test_the_first_rows_go_into_a_pipe_at_once(put, tmp_path):
    put(visits_csv=visits(3) + "Aue,1,2031-04-05,9,calm\n" * 1_600_000)
    got, status, err = in_a_pipe(tmp_path, ["mend", "visits.csv", "--rename", "kg=weight"], 2)
    assert got[0] == "yard,hive,day,weight,note\n"
    assert (status, err) == (141, "")


@pytest.mark.slow
def test_all_that_goes_into_a_pipe_is_what_a_file_would_have(put, tmp_path, plait):
    text = "Aue,1,2031-04-05,9,calm\n" * 1_500_000
    put(visits_csv=visits(1500) + text, more_csv=HIVES)
    for words in ("mend visits.csv --drop kg --trim", "stack visits.csv more.csv --number n"):
        line = [sys.executable, "-m", "plait", *words.split(), "--quiet"]
        piped = subprocess.run(line, cwd=tmp_path, capture_output=True, check=True).stdout
        assert plait(*words.split(), "--out", "out.csv", "--replace", "--quiet").status == 0
        assert piped == Path("out.csv").read_bytes()


def test_columns_that_come_late_are_in_the_header_of_a_pipe(plait, tmp_path, monkeypatch):
    """A record far down may bring a column: only the whole file tells its columns."""
    from plait.cli import first_rows

    monkeypatch.setattr(first_rows, "_LEAST_BYTES", 1)
    monkeypatch.setattr(first_rows, "_into_a_pipe", lambda: True)
    (tmp_path / "long.jsonl").write_text('{"hive": 1}\n' * 3000 + '{"hive": 2, "kg": 9}\n')
    piped = plait("mend", "long.jsonl", "--quiet").out
    assert piped.startswith("hive,kg\n1,\n")
    assert piped.endswith("2,9\n")


def test_rows_are_shown_as_they_stand_and_nothing_else(plait, put):
    put(visits_csv="yard,hive\nAue,007\n,2\nMoor,3\n")
    ended = plait("survey", "visits.csv", "--rows", "2")
    assert ended.out.split() == ["yard", "hive", "1", "Aue", "007", "2", "(missing)", "2"]
    assert ended.err == ""
    shown = plait("survey", "visits.csv", "--rows", "9", "--json").json
    assert shown == {"visits": {"yard": ["Aue", "", "Moor"], "hive": ["007", "2", "3"]}}


@pytest.mark.parametrize("ending", ["parquet", "arrow", "jsonl", "tsv", "csv", "xlsx", "sqlite"])
def test_the_first_rows_of_any_format_are_shown(ending, plait, put):
    put(visits_csv=visits(500))
    assert plait("mend", "visits.csv", "--out", f"made.{ending}").status == 0
    shown = plait("survey", f"made.{ending}", "--rows", "3", "--json").json["made"]
    usual = plait("survey", "visits.csv", "--rows", "3", "--json").json["visits"]
    assert {name: len(cells) for name, cells in shown.items()} == dict.fromkeys(usual, 3)
    assert [str(hive) for hive in shown["hive"]] == usual["hive"]


def test_a_sample_says_so_of_every_figure(plait, put):
    put(visits_csv=visits(500))
    found = plait("survey", "visits.csv", "--sample", "100")
    assert found.out.startswith("sample of the first 100 rows")
    assert "a sample of 100 rows" in found.out
    lines = found.out.splitlines()
    title = next(n for n, line in enumerate(lines) if "a sample of 100 rows" in line)
    heads, rest = lines[title + 1 : title + 3]
    assert heads.split() == ["type", "missing", "distinct"]
    assert rest.split() == ["column", "so", "far", "so", "far", "so", "far"]
    told = plait("survey", "visits.csv", "--sample", "100", "--json")
    assert told.json["sample_rows"] == 100
    assert told.finding("sample-only")["count"] == 100
    whole = plait("survey", "visits.csv", "--sample", "500", "--json")
    assert whole.json["sample_rows"] == 0
    assert whole.json["findings"] == plait("survey", "visits.csv", "--json").json["findings"]
