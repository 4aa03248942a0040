"""Every cell of a handover is traced to where it is in a file."""

from __future__ import annotations

import csv
import gzip
import hashlib
import json
import random

import pyarrow.parquet as pq
import pytest

from makers import workbook
from plait.io import lineage_file

VISITS = 'Yard,Hive,Note\nA,1,"two\nlines"\nB,2,plain\n\nA,2,"a ""b"", c"\n'
HIVES = "Yard;Hive;Breed\nA;1;Carnica\nB;2;Büffel\n"


@pytest.fixture
def run(plait, tmp_path):
    """Runs a plan and traces rows of its handover."""

    def do(plan: str, *words: str) -> list[dict]:
        (tmp_path / "p.toml").write_text(plan)
        ended = plait("run", "p.toml", "--replace", "--again")
        assert ended.status == 0, ended.err
        return trace(*words)

    def trace(*words: str) -> list[dict]:
        ended = plait("trace", "handover", *words, "--json")
        assert ended.status == 0, ended.err
        trace.said = ended.json
        return ended.json["rows"]

    do.again, do.trace = trace, trace
    return do


def _cells(row: dict) -> dict[str, list[tuple]]:
    return {
        cell["column"]: [
            (one["path"], one["row"], one["line"], one["column"], one["text"])
            for one in cell["origins"]
        ]
        for cell in row["cells"]
    }


JOIN = """
[source.visits]
path = "visits.csv"
[source.hives]
path = "hives.csv"
encoding = "windows-1252"
[[step]]
join = ["visits", "hives"]
key = ["Yard", "Hive"]
into = "season"
[handover]
result = "season"
"""


def test_a_cell_is_traced_to_file_row_line_and_column(run, put):
    put(visits_csv=VISITS, hives_csv=HIVES.encode("cp1252"))
    one, two, three = run(JOIN, "--row", "1", "--row", "2", "--row", "3")
    assert _cells(one)["Note"] == [("visits.csv", 1, 2, "Note", "two\nlines")]
    assert _cells(two)["Breed"] == [("hives.csv", 2, 3, "Breed", "Büffel")]
    assert _cells(three)["Note"] == [("visits.csv", 3, 6, "Note", 'a "b", c')]
    assert _cells(three)["Breed"] == []
    assert three["places"] == [["visits", 3]]


def test_rows_are_found_by_a_condition(run, put, plait):
    put(visits_csv=VISITS, hives_csv=HIVES.encode("cp1252"))
    (row,) = run(JOIN, "--where", "Breed = 'Büffel'", "--columns", "Breed")
    assert row["row"] == 2 and [cell["column"] for cell in row["cells"]] == ["Breed"]
    ended = plait("trace", "handover", "--row", "9")
    assert ended.status == 2 and "choose a row from 1 to 3" in ended.err
    ended = plait("trace", "visits.csv", "--row", "1")
    assert ended.status == 3 and "not a handover folder" in ended.err


def test_a_source_that_changed_or_went_is_named(run, put, plait, tmp_path):
    put(visits_csv=VISITS, hives_csv=HIVES.encode("cp1252"))
    run(JOIN, "--row", "1")
    put(visits_csv=VISITS.replace("plain", "other"))
    (tmp_path / "hives.csv").unlink()
    (row,) = run.again("--row", "2")
    assert _cells(row)["Note"] == [("visits.csv", 2, 4, "Note", "other")]
    assert _cells(row)["Breed"] == [("hives.csv", 2, None, "Breed", None)]
    changed = run.trace.said["changed"]
    assert ["has changed" in one or "no longer exists" in one for one in changed] == [True, True]
    shown = plait("trace", "handover", "--row", "2").out
    assert "'other'" in shown and "hives.csv no longer exists" in shown


def test_sheets_packed_files_and_json_lines_are_looked_up_again(run, tmp_path):
    workbook(tmp_path / "book.xlsx", {"One": [["k", "v"], ["a", 1.5], ["b", 2]]})
    (tmp_path / "more.csv.gz").write_bytes(gzip.compress(b"k,w\nb,x\na,y\n"))
    (tmp_path / "last.jsonl").write_text('{"k": "b", "z": true}\n{"k": "a", "z": false}\n')
    (row,) = run(
        """
[source.book]
path = "book.xlsx#One"
[source.more]
path = "more.csv.gz"
[source.last]
path = "last.jsonl"
[[step]]
join = ["book", "more", "last"]
key = "k"
into = "all"
[handover]
result = "all"
""",
        "--row", "2",
    )  # fmt: skip
    cells = _cells(row)
    assert cells["v"] == [("book.xlsx#One", 2, None, "v", "2")]
    (cell,) = (cell for cell in row["cells"] if cell["column"] == "v")
    assert cell["origins"][0]["sheet_row"] == 5
    assert cells["w"] == [("more.csv.gz", 1, 2, "w", "x")]
    assert cells["z"] == [("last.jsonl", 1, 1, "z", "true")]


def test_renamed_computed_and_retyped_columns_name_their_sources_and_steps(run, put):
    put(may_csv="k,kg,Day\na,1.5,3\n", june_csv="k,KG,Day\nb,2.5,4\n")
    (row,) = run(
        """
[source.months]
path = ["may.csv", "june.csv"]
label = { month = "{stem}" }
[[step]]
stack = "months"
same = { kg = "KG" }
[[step]]
mend = "months"
compute = { both = "kg * CAST(Day AS INTEGER)" }
rename = { kg = "weight" }
[handover]
result = "months"
""".replace("kg *", "weight *"),
        "--row", "2",
    )  # fmt: skip
    cells = _cells(row)
    assert cells["weight"] == [("june.csv", 1, 2, "KG", "2.5")]
    assert sorted(one[3] for one in cells["both"]) == ["Day", "KG"]
    assert cells["month"] == []
    steps = {cell["column"]: cell["steps"] for cell in row["cells"]}
    assert steps["both"] == [["stack months", False], ["mend months", True]]
    assert steps["weight"] == [["stack months", False], ["mend months", False]]


def test_all_rows_that_were_settled_or_grouped_are_kept(run, put):
    put(a_csv="k,v,w\n1,3,\n2,4,x\n1,3,y\n1,,\n")
    settled = """
[source.a]
path = "a.csv"
[[step]]
settle = "a"
key = "k"
[handover]
result = "a"
"""
    (row,) = run(settled, "--row", "1")
    assert row["places"] == [["a", 1], ["a", 3], ["a", 4]]
    assert _cells(row)["w"] == [("a.csv", 3, 4, "w", "y")]
    grouped = settled.replace("settle", "group").replace('key = "k"', 'by="k"\ntake={t="sum:v"}')
    (row,) = run(grouped, "--where", "k = 1")
    assert row["places"] == [["a", 1], ["a", 3], ["a", 4]]
    assert [one[4] for one in _cells(row)["t"]] == ["3", "3"], "an empty cell is in no sum"


def test_a_sum_is_traced_to_the_cells_it_was_made_of_and_no_others(run, put):
    put(t_csv="boat,class,taken\nTeal,car,5\nTeal,foot,1\nCoot,foot,7\nTeal,foot,2\nTeal,car,6\n")
    (row,) = run(
        """
[source.t]
path = "t.csv"
[[step]]
widen = "t"
key = "boat"
heads = "class"
cells = "taken"
rule = "sum"
[handover]
result = "t"
""",
        "--where", "boat = 'Teal'",
    )  # fmt: skip
    cells = {cell["column"]: cell for cell in row["cells"]}
    assert cells["foot"]["value"] == "3"
    assert [one[1] for one in _cells(row)["foot"]] == [2, 4]
    assert [one[1] for one in _cells(row)["car"]] == [1, 5]
    assert cells["foot"]["steps"] == [["widen t", True]]
    assert sorted(at for _, at in row["places"]) == [1, 2, 4, 5]


@pytest.mark.slow
@pytest.mark.parametrize("seed", range(4))
def test_every_cell_of_a_random_season_stands_where_its_trace_says(run, tmp_path, seed):
    rng = random.Random(seed)
    signs = ["a", "b,", 'c"', "d\ne", "", "é"]
    for month in ("may", "june"):
        with (tmp_path / f"{month}.csv").open("w", newline="", encoding="utf-8") as file:
            rows = [[rng.choice("ABC"), rng.choice("12"), rng.choice(signs)] for _ in range(12)]
            csv.writer(file).writerows([["Yard", "Hive", "Note"], *rows])
    hives = [[yard, hive, rng.choice(signs)] for yard in "AB" for hive in "12"]
    rng.shuffle(hives)
    with (tmp_path / "hives.csv").open("w", newline="", encoding="utf-8") as file:
        csv.writer(file, delimiter="|").writerows([["Yard", "Hive", "Breed"], *hives])
    words = [word for row in range(1, 25) for word in ("--row", str(row))]
    rows = run(
        JOIN.replace('"visits.csv"', '["may.csv", "june.csv"]')
        .replace('encoding = "windows-1252"', "")
        .replace("[[step]]", '[[step]]\nstack = "visits"\n[[step]]'),
        *words,
    )
    texts = {name: (tmp_path / name).read_text() for name in ("may.csv", "june.csv", "hives.csv")}
    seen = 0
    for row in rows:
        for cell in row["cells"]:
            for one in cell["origins"]:
                assert one["text"] == (cell["value"] or "")
                lines = texts[one["path"]].split("\n")
                delimiter = "|" if one["path"] == "hives.csv" else ","
                rest = "\n".join(lines[one["line"] - 1 :])
                found = next(csv.reader(rest.splitlines(keepends=True), delimiter=delimiter))
                assert one["text"] in found
                seen += 1
    assert seen >= 24 * 3
    assert json.dumps(rows)


def test_a_cell_is_traced_to_the_cells_it_was_made_of_through_every_step(run, put):
    put(
        l_csv="k,kg,x,y\na,5,1,2\nb,NA,3,\nb,7,5,6\n",
        r_csv="k,kg\na,50\nb,70\n",
    )
    rows = run(
        """
[source.l]
path = "l.csv"
[source.r]
path = "r.csv"
[[step]]
join = ["l", "r"]
key = "k"
prefer = "left"
into = "both"
[[step]]
group = "both"
by = "k"
take = { total = "sum:kg" }
onto_rows = true
[[step]]
lengthen = "both"
heads = "h"
cells = "c"
columns = ["x", "y"]
into = "long"
[handover]
result = "long"
""",
        *[word for row in range(1, 7) for word in ("--row", str(row))],
    )
    cells = [
        {name: [one[0][:1] + one[3] + str(one[1]) for one in found] for name, found in row.items()}
        for row in map(_cells, rows)
    ]
    assert [one["c"] for one in cells] == [["lx1"], ["ly1"], ["lx2"], ["ly2"], ["lx3"], ["ly3"]]
    assert [one["kg"] for one in cells] == [["lkg1"]] * 2 + [["rkg2"]] * 2 + [["lkg3"]] * 2
    assert [sorted(one["total"]) for one in cells] == [["lkg1"]] * 2 + [["lkg3", "rkg2"]] * 4
    assert [row["places"] for row in rows[::2]] == [
        [["l", 1], ["r", 1]], [["l", 2], ["r", 2]], [["l", 3], ["r", 2]]
    ]  # fmt: skip


def _signed(out, name, content):
    """A file of a handover changed by somebody who put its checksum right too."""
    (out / name).write_bytes(content)
    package = json.loads((out / "datapackage.json").read_text())
    for one in package["resources"]:
        if one["path"] == name:
            one["hash"] = f"sha256:{hashlib.sha256(content).hexdigest()}"
    (out / "datapackage.json").write_text(json.dumps(package))


ONE_STEP = (
    '[source.a]\npath = "a.csv"\n[[step]]\nmend = "a"\ntrim = true\ninto = "r"\n'
    '[handover]\nresult = "r"\nfolder = "out"\n'
)
TAMPERED = [
    lambda said: said["sources"][0].update(path=7),
    lambda said: said["sources"][0].update(start="x"),
    lambda said: said["sources"][0]["read"].update(given={"dialect": {"nope": 1}}),
    lambda said: said.update(rows=["nope"]),
    lambda said: said.update(result="../../x"),
    lambda said: said["columns"].popitem(),
    lambda said: said.clear(),
]


def test_a_dataset_that_was_changed_since_is_not_traced(plait, put, tmp_path):
    put(a_csv="k,v\n1,x\n2,y\n")
    (tmp_path / "p.toml").write_text(ONE_STEP)
    assert plait("run", "p.toml").status == 0
    (tmp_path / "out" / "r.csv").write_text("k,v\n1,x\n2,z\n")
    ended = plait("trace", "out", "--row", "2")
    assert ended.status == 3 and "r.csv is another file" in ended.err


@pytest.mark.parametrize("tamper", TAMPERED)
def test_a_lineage_that_states_nonsense_is_refused(plait, put, tmp_path, tamper):
    put(a_csv="k,v\n1,x\n2,y\n")
    (tmp_path / "p.toml").write_text(ONE_STEP)
    assert plait("run", "p.toml").status == 0
    out = tmp_path / "out"
    table = pq.read_table(out / "lineage.parquet")
    said = json.loads(table.schema.metadata[b"plait"])
    tamper(said)
    changed = table.replace_schema_metadata({b"plait": json.dumps(said).encode()})
    pq.write_table(changed, tmp_path / "changed.parquet")
    unsigned = plait("trace", "out", "--row", "1")
    assert unsigned.status == 0
    (out / "lineage.parquet").write_bytes((tmp_path / "changed.parquet").read_bytes())
    assert plait("trace", "out", "--row", "1").status == 3
    _signed(out, "lineage.parquet", (tmp_path / "changed.parquet").read_bytes())
    ended = plait("trace", "out", "--row", "1")
    assert ended.status == 3, ended.err


def test_rows_of_groups_keep_all_their_lines_beside_rows_that_have_one(plait, put, tmp_path):
    put(visits_csv="yard,kg\nA,1\nA,2\nB,3\n", more_csv="yard,total\nC,9\n")
    (tmp_path / "p.toml").write_text(
        '[source.visits]\npath = "visits.csv"\n[source.more]\npath = "more.csv"\n'
        '[[step]]\ngroup = "visits"\nby = ["yard"]\ntake = { total = "sum:kg" }\ninto = "sums"\n'
        '[[step]]\nstack = ["sums", "more"]\ninto = "all"\n[handover]\nresult = "all"\n'
    )
    assert plait("run", "p.toml").status == 0
    traced = plait("trace", "handover", *["--row", "1", "--row", "2", "--row", "3"], "--json").json
    assert [row["places"] for row in traced["rows"]] == [
        [["visits", 1], ["visits", 2]], [["visits", 3]], [["more", 1]],
    ]  # fmt: skip
    assert traced["rows"][0]["within"] == ["line 2", "line 3"]


def test_a_step_is_named_for_the_cells_that_it_made(plait, put):
    put(
        **{
            "a.csv": "hive,breed\n1,Carnica\n2,Buckf.\n3,\n",
            "p.toml": '[source.a]\npath = "a.csv"\n[[step]]\nmend = "a"\n'
            'replace_value = "breed:Buckf.=Buckfast"\nfill = { breed = "unknown" }\ninto = "b"\n'
            '[handover]\nresult = "b"\n',
        }
    )
    assert plait("run", "p.toml").status == 0
    traced = plait("trace", "handover", "--where", "hive > 0", "--json").json
    changed = [
        [step for step, made in cell["steps"] if made]
        for row in traced["rows"]
        for cell in row["cells"]
        if cell["column"] == "breed"
    ]
    assert changed == [[], ["mend a → b"], ["mend a → b"]]


def test_rows_that_share_a_group_keep_its_list_once(plait, put, tmp_path, monkeypatch):
    """Each visit has the figures of its yard beside it: 3,000 rows, each made of 3,000."""
    rows = 3000
    put(v_csv="yard,kg\n" + "".join(f"Oak,{n}\n" for n in range(rows)))
    (tmp_path / "p.toml").write_text(
        '[source.v]\npath = "v.csv"\n'
        '[[step]]\ngroup = "v"\nby = "yard"\ntake = { n = "count" }\ninto = "yards"\n'
        '[[step]]\njoin = ["v", "yards"]\nkey = "yard"\ninto = "season"\n'
        '[handover]\nresult = "season"\n'
    )
    made = []
    numbers = lineage_file._numbers

    def counted(*asked):
        found = numbers(*asked)
        made.append(len(found[0]))
        return found

    monkeypatch.setattr(lineage_file, "_numbers", counted)
    assert plait("run", "p.toml").status == 0
    assert sum(made) == 3 * rows, "and not 9,000,000"
    for row in (1, rows):
        (traced,) = plait("trace", "handover", "--row", str(row), "--json").json["rows"]
        (count,) = (cell for cell in traced["cells"] if cell["column"] == "n")
        assert count["value"] == str(rows)
