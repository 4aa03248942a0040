"""Plans run as the program runs them: checked, handed over whole or not at all, the same twice."""

from __future__ import annotations

import csv
import hashlib
import json
import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import jsonschema
import pytest

import plait
from cases import every_case
from conftest import rows_of

MAY = "Yard,Hive,kg\nA,1,0.10\nA,2,0.20\nB,1,\n"
JUNE = "Yard,Hive,kg\nA,1,3\na,2,4\nC,9,5\nB,1,\n"
HIVES = "Yard,Hive,Breed\nA,1,Carnica\nA,2,Buckfast\nB,1,Carnica\nD,4,Carnica\n"
PLAN = """\
title = "Season"

[source.visits]
path = "visits/*.csv"
label = { Month = "{stem}" }

[source.hives]
path = "hives.csv"

[describe]
kg = "weight, in kg"

[[step]]
stack = "visits"

[[step]]
join = ["visits", "hives"]
key = ["Yard", "Hive"]
ignore = ["case"]
cardinality = "many-to-one"
into = "season"

[expect]
rows = "season = 7"
unmatched = { season = 1 }
sum = { kg = ["visits", "season"] }

[handover]
result = "season"
formats = ["csv", "parquet"]
"""
DATA = Path(__file__).parent.parent / "data"


@pytest.fixture
def season(tmp_path, put):
    """The sources, and a plan for them that may be changed: (old, new) pairs."""

    def write(*changes: tuple[str, str]) -> None:
        put(visits__may_csv=MAY, visits__june_csv=JUNE, hives_csv=HIVES)
        text = PLAN
        for old, new in changes:
            assert old in text
            text = text.replace(old, new)
        (tmp_path / "season.toml").write_text(text)

    return write


def _files(folder: Path) -> dict[str, bytes]:
    return {
        str(file.relative_to(folder)): file.read_bytes()
        for file in sorted(folder.rglob("*"))
        if file.is_file()
    }


def test_a_run_hands_over_everything_and_accounts_for_it(plait, season, tmp_path):
    season()
    ended = plait("run", "season.toml", "--json")
    assert ended.status == 0, ended.err
    folder = tmp_path / "handover"
    assert set(_files(folder)) == {
        "aside/2-hives-unmatched.csv",
        "aside/2-visits-unmatched.csv",
        "datapackage.json",
        "dictionary.csv",
        "ledger.json",
        "lineage.parquet",
        "plan.toml",
        "report.html",
        "report.md",
        "season.csv",
        "season.parquet",
    }
    rows = rows_of(folder / "season.csv")
    breeds = ["Carnica", "Buckfast", "", "Carnica", "Carnica", "Buckfast", "Carnica"]
    assert [row["Breed"] for row in rows] == breeds
    assert [row["kg"] for row in rows] == ["3", "4", "5", "", "0.10", "0.20", ""]
    said = ended.json
    assert said["match"]["left_unmatched"] == 1
    for entry in said["ledger"]:
        assert sum(line["rows"] for line in entry["lines"]) == entry["rows_out"]
    assert all(one["holds"] for one in said["expected"]) and len(said["expected"]) == 3
    assert json.loads((folder / "ledger.json").read_text())["plan"]["title"] == "Season"
    dictionary = {row["column"]: row for row in rows_of(folder / "dictionary.csv")}
    assert dictionary["kg"]["description"] == "weight, in kg"
    assert dictionary["kg"]["came from"] == "kg in june, may"
    assert (dictionary["kg"]["missing"], dictionary["kg"]["largest"]) == ("2", "5")


def test_the_descriptor_is_valid_and_its_sums_are_those_of_the_files(plait, season, tmp_path):
    season()
    assert plait("run", "season.toml").status == 0
    folder = tmp_path / "handover"
    package = json.loads((folder / "datapackage.json").read_text())
    jsonschema.Draft4Validator(json.loads((DATA / "data-package.json").read_text())).validate(
        package
    )
    resources = {one["path"]: one for one in package["resources"]}
    assert set(resources) == set(_files(folder)) - {"datapackage.json"}
    for path, resource in resources.items():
        content = (folder / path).read_bytes()
        assert resource["bytes"] == len(content)
        assert resource["hash"] == f"sha256:{hashlib.sha256(content).hexdigest()}"
    tabular = json.loads((DATA / "tabular-data-resource.json").read_text())
    jsonschema.Draft4Validator(tabular).validate(resources["season.csv"])
    fields = {one["name"]: one["type"] for one in resources["season.csv"]["schema"]["fields"]}
    assert fields["kg"] == "number" and fields["Hive"] == "integer"
    sources = {
        one["path"]: one for one in json.loads((folder / "ledger.json").read_text())["sources"]
    }
    digest = hashlib.sha256((tmp_path / "hives.csv").read_bytes()).hexdigest()
    assert sources["hives.csv"]["sha256"] == digest
    assert digest in (folder / "plan.toml").read_text()


@pytest.mark.slow
def test_the_same_plan_and_sources_give_the_same_bytes(plait, season, tmp_path):
    every = '["csv", "parquet", "xlsx", "jsonl", "arrow", "sqlite"]'
    season(('["csv", "parquet"]', f"{every}\nkeep = 0"))  # what is new is not the same
    assert plait("run", "season.toml").status == 0
    first, second = _files(tmp_path / "handover"), int(time.time())
    while int(time.time()) == second:  # what holds the time holds another one then
        time.sleep(0.01)
    assert plait("run", "season.toml", "--replace").status == 0
    assert _files(tmp_path / "handover") == first
    assert [one.name for one in tmp_path.iterdir() if one.name.startswith(".")] == []


def test_a_format_that_there_is_not_is_told_before_any_step_is_done(plait, season):
    season(("season = 7", "season >= 1000"), ('"parquet"]', '"parchment"]'))
    ended = plait("run", "season.toml")
    assert ended.status == 2 and "parchment" in ended.err and "expectation" not in ended.err


def test_nothing_is_handed_over_when_an_expectation_fails(plait, season, tmp_path):
    season(("season = 7", "season >= 1000"), ("season = 1 }", "season = 0 }"))
    ended = plait("run", "season.toml", "--json")
    assert ended.status == 1
    assert not (tmp_path / "handover").exists()
    failing = [one for one in ended.json["expected"] if not one["holds"]]
    assert [one["what"] for one in failing] == [
        "rows: season >= 1000",
        "at most 0 unmatched rows in season",
    ]
    assert failing[1]["examples"][0]["text"] == "Yard C, Hive 9"
    assert "nothing was handed over" in ended.err and "FAILS" in ended.err
    assert plait("check", "season.toml").status == 1


EXPECTED = [
    ('unique = { hives = ["Yard", "Hive"] }', True),
    ('unique = { season = ["Yard"] }', False),
    ('unmatched = { season = "20 %" }', True),
    ('unmatched = { season = "1 %" }', False),
    ('columns = { hives = ["Yard", "Hive", "Breed"] }', True),
    ('columns = { hives = ["Hive", "Yard", "Breed"] }', False),
    ('type = { season = { kg = "decimal", Hive = "integer" } }', True),
    ('type = { season = { Yard = "integer" } }', False),
    ('values = { season = { Breed = ["Carnica", "Buckfast"] } }', True),
    ('values = { season = { Breed = ["Carnica"] } }', False),
    ('sum = { Hive = ["visits", "hives"] }', False),
    ('fail_on = "error"', True),
    ('fail_on = ["key-unmatched"]', False),
    ('rows = ["season > 6", "season != 8", "season < visits"]', False),
    ('rows = "hives = 4"', True),  # of a source that no step has made anything of
    ('rows = "hives = 5"', False),
]


@pytest.mark.parametrize(("expectation", "holds"), EXPECTED)
def test_each_kind_of_expectation_is_judged(season, tmp_path, expectation, holds):
    season((PLAN[PLAN.index("rows =") : PLAN.index("[handover]")], f"{expectation}\n"))
    if holds:
        assert all(one.holds for one in plait.run(tmp_path / "season.toml").expected)
        return
    with pytest.raises(plait.ExpectationError, match="not met"):
        plait.run(tmp_path / "season.toml")
    assert not (tmp_path / "handover").exists()


def test_a_multiplying_join_shows_in_the_sum(plait, season, tmp_path):
    season(
        ('cardinality = "many-to-one"', 'cardinality = "many-to-many"'),
        ("season = 7", "season > 0"),
    )
    with (tmp_path / "hives.csv").open("a") as file:
        file.write("A,1,Ligustica\n")
    ended = plait("run", "season.toml")
    assert ended.status == 1
    assert "the sum of kg is the same in visits, season; 12.30 in visits, 15.40 in season" in (
        " ".join(ended.err.split())
    )


def test_check_says_what_would_happen_and_writes_nothing(plait, season, tmp_path):
    season()
    before = _files(tmp_path)
    ended = plait("check", "season.toml", "--json")
    assert ended.status == 0 and _files(tmp_path) == before
    stack, join = ended.json["steps"]
    assert (stack["rows"], join["rows"]) == (7, 7)
    assert {one["name"]: one["kind"] for one in join["columns"]}["kg"] == "decimal"
    assert ended.json["memory"] > 0 and ended.json["seconds"] > 0
    assert {"command", "version", "sources", "ledger", "findings", "outputs"} <= set(ended.json)
    assert [one["rows"] for one in ended.json["sources"]] == [4, 3, 4]


def test_unknown_columns_of_all_steps_are_told_before_any_work(plait, season):
    season(
        ('key = ["Yard", "Hive"]', 'key = ["Yrad", "Hive"]'),
        ("[expect]", '[[step]]\nmend = "visits"\ninto = "more"\ndrop = "Bred"\n\n[expect]'),
    )
    ended = plait("run", "season.toml")
    assert ended.status == 2
    assert "season.toml line 18: no column 'Yrad' in visits" in ended.err
    assert "season.toml line 26: no column 'Bred' in visits" in ended.err
    assert ended.err.count("did you mean") == 1 and "did you mean Yard?" in ended.err


def test_an_earlier_handover_is_replaced_only_by_asking_and_other_folders_never(
    plait, season, tmp_path
):
    season()
    assert plait("run", "season.toml").status == 0
    ended = plait("run", "season.toml", "--again")
    assert ended.status == 4 and "--replace" in ended.err
    assert plait("run", "season.toml", "--replace", "--again").status == 0
    (tmp_path / "season.toml").write_text(PLAN + 'folder = "visits"\n')
    ended = plait("run", "season.toml", "--replace")
    assert ended.status == 4 and "is in this folder" in ended.err
    (tmp_path / "mine").mkdir()
    (tmp_path / "mine" / "letter.txt").write_text("dear")
    (tmp_path / "season.toml").write_text(PLAN + 'folder = "mine"\n')
    ended = plait("run", "season.toml", "--replace")
    assert ended.status == 4 and "is not a handover" in ended.err
    assert (tmp_path / "mine" / "letter.txt").read_text() == "dear"


# Runs the program, and ends it as the system would at the n-th change that it makes to files.
_KILLED_AT = """
import os, signal, sys
at, left = int(sys.argv.pop(1)), {"changes": 0}
CHANGES = ("os.rename", "os.remove", "os.rmdir", "os.mkdir", "os.link")

def watch(event, given):
    writes = event == "open" and given[2] and given[2] & (os.O_WRONLY | os.O_RDWR | os.O_CREAT)
    if event in CHANGES or (writes and os.getcwd() in os.path.abspath(str(given[0]))):
        left["changes"] += 1
        if left["changes"] == at:
            os.kill(os.getpid(), signal.SIGKILL)

sys.addaudithook(watch)
from plait.cli.main import run_command_line
status = run_command_line(sys.argv[1:])
print(left["changes"])
sys.exit(status)
"""


@pytest.mark.slow
def test_a_killed_run_leaves_the_old_handover_or_the_new_one(season, tmp_path):
    season()
    plan = PLAN.replace("season = 7", "season >= 7").replace("[handover]", "[handover]\nkeep = 0")
    (tmp_path / "season.toml").write_text(plan)
    july = tmp_path / "visits" / "july.csv"

    def run(at: int, july_there: bool) -> subprocess.CompletedProcess[str]:
        july.write_text(MAY) if july_there else july.unlink(missing_ok=True)
        words = [sys.executable, "-c", _KILLED_AT, str(at), "run", "season.toml"]
        return subprocess.run(
            [*words, "--quiet", "--replace", "--again"], cwd=tmp_path,
            capture_output=True, text=True, timeout=60, check=False,
        )  # fmt: skip

    assert run(0, july_there=True).returncode == 0
    longer = _files(tmp_path / "handover")
    whole = run(0, july_there=False)
    shorter, changes = _files(tmp_path / "handover"), int(whole.stdout.split()[-1])
    assert longer != shorter and changes > 10
    seen = []
    places = [1, changes // 2, changes - 2, changes]
    for number, at in enumerate(places if every_case() else places[1::2]):
        assert run(at, july_there=number % 2 == 0).returncode == -signal.SIGKILL
        assert _files(tmp_path / "handover") in (longer, shorter)
        seen.append(_files(tmp_path / "handover") == longer)
    assert run(0, july_there=True).returncode == 0
    assert _files(tmp_path / "handover") == longer
    assert [one.name for one in tmp_path.iterdir() if one.name.startswith(".")] == []


def test_a_plan_runs_from_any_folder_and_paths_are_its_own(plait, season, tmp_path):
    season()
    inner = tmp_path / "elsewhere"
    inner.mkdir()
    ended = subprocess.run(
        [sys.executable, "-m", "plait", "run", "../season.toml", "--quiet"],
        cwd=inner, env={**os.environ}, timeout=60,
    )  # fmt: skip
    assert ended.returncode == 0
    said = json.loads((tmp_path / "handover" / "ledger.json").read_text())
    assert [one["path"] for one in said["sources"]] == [
        "visits/june.csv", "visits/may.csv", "hives.csv"
    ]  # fmt: skip
    assert str(tmp_path) not in (tmp_path / "handover" / "ledger.json").read_text()


def test_every_verb_is_a_step(plait, put, tmp_path):
    put(
        a_csv="k,m,v\n1,x,2\n1,y,3\n2,x,4\n2,x,4\n",
        b_csv="k,w\n1,p\n2,q\n",
        one_csv="z\n8\n9\n",
        plan_toml="",
    )
    (tmp_path / "plan.toml").write_text(
        """
[source]
a = { path = "a.csv" }
b = { path = "b.csv" }
one = { path = "one.csv" }
[[step]]
keys = ["a", "b"]
key = "k"
[[step]]
stack = ["a"]
distinct = true
number = "n"
[[step]]
mend = "a"
compute = { "v2" = "v * 2" }
drop = ["n"]
[[step]]
widen = "a"
heads = "m"
cells = "v"
key = "k"
into = "wide"
[[step]]
lengthen = "wide"
key = "k"
heads = "m"
cells = "v"
without_missing = true
into = "long"
[[step]]
group = "long"
by = "k"
take = { total = "sum:v" }
into = "sums"
[[step]]
settle = "b"
key = "k"
[[step]]
join = ["sums", "b"]
key = "k"
into = "out"
[[step]]
beside = ["out", "one"]
[expect]
fail_on = "warning"
[handover]
result = "out"
"""
    )
    ended = plait("run", "plan.toml")
    assert ended.status == 0, ended.err
    assert (tmp_path / "handover" / "out.csv").read_text() == "k,total,w,z\n1,5,p,8\n2,4,q,9\n"


def test_values_from_data_do_not_reach_the_page_as_markup(plait, put, tmp_path):
    put(a_csv="k,<b>x</b>\n1,<script>alert(1)</script>\n1,&amp;\n")
    (tmp_path / "p.toml").write_text(
        'title = "<i>t</i>"\n[source.a]\npath = "a.csv"\n[handover]\nresult = "a"\n'
    )
    assert plait("run", "p.toml").status == 0
    page = (tmp_path / "handover" / "report.html").read_text()
    assert "<script>alert" not in page and "&lt;script&gt;alert(1)" in page
    assert "<b>x" not in page and "<i>t" not in page
    # Data for the script, and the script.
    assert page.count("<script") == 2 and "://" not in page
    with (tmp_path / "handover" / "dictionary.csv").open(newline="") as file:
        assert [row["column"] for row in csv.DictReader(file)] == ["k", "<b>x</b>"]


def test_a_table_joined_to_itself_sets_both_sides_aside_in_files_of_their_own(plait, put, tmp_path):
    put(a_csv="k,v\n1,x\n,y\n")
    (tmp_path / "p.toml").write_text(
        '[source.a]\npath = "a.csv"\n[[step]]\njoin = ["a", "a"]\nkey = "k"\nkind = "inner"\n'
        'into = "b"\n[handover]\nresult = "b"\n'
    )
    ended = plait("run", "p.toml")
    assert ended.status == 0, ended.err
    assert len(list((tmp_path / "handover" / "aside").iterdir())) == 2


def test_figures_of_columns_that_a_step_has_typed(plait, put, tmp_path):
    put(a_csv="k,v\n1,2.5\n1,NA\n1,x\n1,3\n")
    (tmp_path / "p.toml").write_text(
        '[source.a]\npath = "a.csv"\ntype = { v = "decimal" }\nunfit = "missing"\n[[step]]\n'
        'group = "a"\nby = "k"\ntake = { sum = "sum:v", middle = "middle:v", share = "share:v" }\n'
        '[handover]\nresult = "a"\n'
    )
    assert plait("run", "p.toml").status == 0
    (row,) = rows_of(tmp_path / "handover" / "a.csv")
    assert (float(row["sum"]), float(row["middle"]), float(row["share"])) == (5.5, 2.75, 1.0)
