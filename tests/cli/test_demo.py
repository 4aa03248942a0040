"""``plait demo``, help and completion."""

from __future__ import annotations

import re
import subprocess
import sys

import pytest

from conftest import rows_of
from plait.cli.main import COMMANDS
from plait.demo.data import write_demo_data


@pytest.mark.slow
def test_the_demo_ends_with_one_dataset_and_an_account_of_every_row(plait, tmp_path):
    folder = tmp_path / "plait-demo"
    folder.mkdir()
    (folder / "mine.txt").write_text("mine")
    assert plait("demo").status == 4, "it writes over nothing unasked"
    ended = plait("demo", "--replace")
    assert ended.status == 0
    assert (folder / "mine.txt").read_text() == "mine"
    season = rows_of(folder / "handover" / "season.csv")
    unmatched = rows_of(folder / "handover" / "aside" / "8-visits-unmatched.csv")
    assert f"one dataset: plait-demo/handover/season.csv, {len(season):,} rows" in ended.err
    assert (
        f"matched:     {len(season) - len(unmatched):,} visits, 14 of them only because"
        in ended.err
    )
    assert sum(row["Breed"] == "" for row in season) == len(unmatched)
    assert "<svg" in (folder / "handover" / "report.html").read_text()
    assert (folder / "handover" / "report.html").stat().st_size < 3_000_000
    assert "register/north.csv line 43" in ended.err and "Breed of north" in ended.err
    assert ended.out == ""
    assert "what is new: 134 more visits, 3 gone, 1 changed" in ended.err


@pytest.mark.parametrize("folder", ["plait-demo", "elsewhere"])
def test_the_demo_is_not_written_over_what_is_in_its_folder(plait, tmp_path, folder):
    (tmp_path / folder).mkdir()
    (tmp_path / folder / "mine.txt").write_text("mine")
    ended = plait("demo", *([folder] if folder == "elsewhere" else []))
    assert ended.status == 4 and folder in ended.err
    assert [path.name for path in (tmp_path / folder).iterdir()] == ["mine.txt"]


@pytest.mark.slow
def test_the_plan_of_the_demo_fails_first_and_is_mended(plait, tmp_path):
    write_demo_data(tmp_path)
    ended = plait("run", "season.toml")
    assert ended.status == 1 and "30 rows of 1,103" in ended.err
    assert 'would match with ignore = ["case", "space"]' in " ".join(ended.err.split())
    plan = tmp_path / "season.toml"
    plan.write_text(plan.read_text().replace("# ignore =", "ignore ="))
    assert plait("run", "season.toml", "--quiet").status == 0


def test_the_demo_data_hold_what_they_promise(tmp_path):
    write_demo_data(tmp_path)
    visits = {path.stem: rows_of(path) for path in sorted((tmp_path / "inspections").glob("*.csv"))}
    register = [row for path in (tmp_path / "register").iterdir() for row in rows_of(path)]
    every = [row for rows in visits.values() for row in rows]
    assert len(visits) == 8
    assert "Varroa" not in visits["2031-06"][0]
    assert list(visits["2031-08"][0]) != list(visits["2031-03"][0])
    assert any(row["Yard"] != row["Yard"].strip().upper() for row in every)
    assert any(row["Hive"] == "" for row in every)
    assert any("\n" in row["Note"] for row in every)
    assert any("," in row["Note"] for row in every)
    keys = [(row["Yard"], row["Hive"]) for row in register]
    twice = {key for key in keys if keys.count(key) > 1}
    assert any(
        len({tuple(r.values()) for r in register if (r["Yard"], r["Hive"]) == key}) > 1
        for key in twice
    )
    assert any(
        len({tuple(r.values()) for r in register if (r["Yard"], r["Hive"]) == key}) == 1
        for key in twice
    )
    known, seen = set(keys), {(row["Yard"], row["Hive"]) for row in every}
    assert known - seen
    assert seen - known
    assert all(row["Hive"].startswith("0") for row in register if row["Hive"] < "900")


def test_the_demo_data_are_the_same_every_time(tmp_path):
    for name in ("one", "two"):
        write_demo_data(tmp_path / name)
    for path in (tmp_path / "one").rglob("*.csv"):
        other = tmp_path / "two" / path.relative_to(tmp_path / "one")
        assert path.read_bytes() == other.read_bytes()


@pytest.mark.parametrize("command", COMMANDS)
def test_help_has_an_example(plait, command):
    ended = plait(command, "--help")
    assert ended.status == 0
    assert re.search(rf"examples?:\n  plait {command}", ended.out)


def test_the_examples_of_the_help_work(plait, tmp_path):
    write_demo_data(tmp_path)
    stack = plait("stack", "inspections/*.csv", "--label", "month={stem}", "--out", "visits.csv")
    assert stack.status == 0


def test_completion_offers_commands_options_and_columns(put, tmp_path):
    put(a_csv="yard,hive\nA,1\n")

    def offered(line: str) -> list[str]:
        ended = subprocess.run(
            [
                sys.executable,
                "-c",
                "import sys, os; os.dup2(1, 8); from plait.cli.main import "
                "run_command_line; run_command_line([])",
            ],
            cwd=tmp_path,
            capture_output=True,
            text=True,
            env={
                "_ARGCOMPLETE": "1",
                "COMP_LINE": line,
                "COMP_POINT": str(len(line)),
                "_ARGCOMPLETE_SUPPRESS_SPACE": "1",
                "_ARGCOMPLETE_IFS": "\n",
                "_ARGCOMPLETE_STDOUT_FILENAME": str(tmp_path / "said"),
                "PATH": "",
            },
        )
        assert "Traceback" not in ended.stderr, ended.stderr
        return (tmp_path / "said").read_text().split("\n")

    assert set(offered("plait ")) >= set(COMMANDS)
    assert "--distinct" in offered("plait stack --d")
    assert set(offered("plait join a.csv --key ")) == {"yard", "hive"}
    assert offered("plait join a.csv --key yard,h") == ["yard,hive"]
