"""Several results of one plan: each with its files, its lineage, its sheet, and what is new."""

from __future__ import annotations

import csv
import json
from pathlib import Path

import pyarrow.parquet
import pytest
from python_calamine import CalamineWorkbook

VISITS = "yard,hive,kg,seen\nElm,1,2.50,2031-04-05\nElm,2,3.00,2031-04-06\nOak,1,,2031-05-01\n"
STEPS = """
title = "Season"
[source.v]
path = "v.csv"
[[step]]
stack = "v"
into = "season"
[[step]]
group = "season"
by = ["yard"]
take = { visits = "count", honey = "sum:kg" }
into = "by_yard"
[[step]]
mend = "season"
where = "kg IS NULL"
into = "exceptions"
[describe]
yard = "where the hive stands"
"""
RESULTS = """
[handover]
formats = ["csv", "xlsx"]
[handover.results.season]
description = "all visits"
[handover.results.by_yard]
key = ["yard"]
[handover.results.exceptions]
formats = ["xlsx", "parquet"]
"""


@pytest.fixture
def handed(plait, put, tmp_path) -> Path:
    put(**{"v.csv": VISITS, "p.toml": STEPS + RESULTS})
    ended = plait("run", "p.toml")
    assert ended.status == 0, ended.err
    assert "by_yard, 2 rows, 3 columns" in ended.err
    return tmp_path / "handover"


def _sheets(path):
    book = CalamineWorkbook.from_path(str(path))
    return {name: book.get_sheet_by_name(name).to_python() for name in book.sheet_names}


def test_each_result_has_its_files_and_a_sheet_of_one_workbook(handed):
    with (handed / "by_yard.csv").open(newline="") as file:
        assert list(csv.reader(file)) == [["yard", "visits", "honey"], ["Elm", "2", "5.50"],
                                          ["Oak", "1", ""]]  # fmt: skip
    assert pyarrow.parquet.read_table(handed / "exceptions.parquet").num_rows == 1
    assert not (handed / "exceptions.csv").exists() and not (handed / "by_yard.xlsx").exists()
    sheets = _sheets(handed / "season.xlsx")
    assert list(sheets) == ["account", "season", "by_yard", "exceptions", "dictionary", "ledger"]
    assert sheets["by_yard"][1:] == [["Elm", 2.0, 5.5], ["Oak", 1.0, ""]]
    assert [row[:3] for row in sheets["season"][1:3]] == [["Elm", 1.0, 2.5], ["Elm", 2.0, 3.0]]
    assert str(sheets["season"][1][3])[:10] == "2031-04-05"
    account = {(row[0], row[1]): row[2] for row in sheets["account"]}
    assert account["result", "season"] == 3 and account["result", "by_yard"] == 2
    assert account["source", "v"] == 3
    columns = [(row[0], row[1]) for row in sheets["dictionary"][1:]]
    assert columns[:2] == [("season", "yard"), ("season", "hive")]
    assert ("by_yard", "honey") in columns and ("exceptions", "kg") in columns


def test_each_is_described_and_traced(plait, handed):
    package = json.loads((handed / "datapackage.json").read_text())
    fields = {
        one["path"]: [field["name"] for field in one["schema"]["fields"]]
        for one in package["resources"]
        if "schema" in one
    }
    assert fields["by_yard.csv"] == ["yard", "visits", "honey"]
    with (handed / "dictionary.csv").open(newline="") as file:
        rows = list(csv.DictReader(file))
    assert {row["result"] for row in rows} == {"season", "by_yard", "exceptions"}
    for result, lines in (("by_yard", [2, 3]), ("exceptions", [4]), (None, [2])):
        words = ("--result", result) if result else ()
        traced = plait("trace", "handover", *words, "--row", "1", "--json").json
        assert traced["result"] == (result or "season")
        (row,) = traced["rows"]
        assert [line for _, line in _places(row)] == lines
    assert plait("trace", "handover", "--result", "nope", "--row", "1").status == 3


def _places(row):
    """The source and line of each source row, as its cells or the row itself name them."""
    places = {(o["source"], o["line"]) for cell in row["cells"] for o in cell["origins"]}
    return sorted(places)


def test_what_is_new_is_said_of_each(plait, put, handed):
    put(**{"v.csv": VISITS + "Ash,7,1.00,2031-05-02\n"})
    ended = plait("run", "p.toml", "--replace", "--json")
    further = {one["result"]: one for one in ended.json["further"]}
    assert further["by_yard"]["changes"]["rows_new"] == 1
    assert further["exceptions"]["changes"]["rows_new"] == 0
    assert further["by_yard"]["key"] == ["yard"]
    page = (handed / "report.html").read_text()
    assert "The columns of by_yard: 3 rows, 3 columns" in page
    assert "Columns of by\\_yard" in (handed / "report.md").read_text()


def test_a_lineage_that_somebody_put_there_is_not_trusted(plait, handed):
    package = json.loads((handed / "datapackage.json").read_text())
    (handed / "lineage-by_yard.parquet").write_bytes((handed / "lineage.parquet").read_bytes())
    assert plait("trace", "handover", "--result", "by_yard", "--row", "1").status == 3
    sums = {one["path"]: one for one in package["resources"]}
    sums["lineage-by_yard.parquet"]["hash"] = sums["lineage.parquet"]["hash"]
    (handed / "datapackage.json").write_text(json.dumps(package))
    from plait.plan.handover.read import open_handover

    assert open_handover(handed, "exceptions").ours
    assert not open_handover(handed, "by_yard").ours


def test_names_are_enough_and_a_workbook_alone_is_read_back(plait, put, tmp_path):
    handover = '[handover]\nresults = ["by_yard", "season"]\nformats = "xlsx"\n'
    put(**{"v.csv": VISITS, "p.toml": STEPS + handover})
    assert plait("run", "p.toml").status == 0
    assert (tmp_path / "handover" / "by_yard.xlsx").is_file()
    again = plait("run", "p.toml", "--replace", "--again")
    assert "the same 2 rows" in again.err and "the same 3 rows" in again.err, again.err
    traced = plait("trace", "handover", "--result", "season", "--row", "3", "--json").json
    assert traced["rows"][0]["cells"][0]["value"] == "Oak"


@pytest.mark.parametrize(
    ("handover", "says"),
    [
        ('results = ["seson"]', "did you mean season"),
        ("formats = 'csv'", "needs result"),
        ('results = ["season"]\nresult = "by_yrd"', "did you mean by_yard"),
        ('results = { season = { format = "csv" } }', "did you mean formats"),
    ],
)
def test_what_cannot_be_handed_over_is_told(plait, put, handover, says):
    put(**{"v.csv": VISITS, "p.toml": f"{STEPS}[handover]\n{handover}\n"})
    ended = plait("check", "p.toml")
    assert ended.status == 2 and says in " ".join(ended.err.split()), ended.err


def test_check_says_what_no_sheet_takes(plait, put, monkeypatch):
    import plait.io.workbook.write as workbook

    put(**{"v.csv": VISITS, "p.toml": STEPS + RESULTS})
    monkeypatch.setattr(workbook, "MOST_ROWS", 3)
    ended = plait("check", "p.toml")
    assert ended.status == 4 and "season has 3 rows" in ended.err, ended.err


def test_check_says_which_name_no_sheet_can_have(plait, put):
    long = "exceptions_of_the_whole_season"
    put(**{"v.csv": VISITS, "p.toml": (STEPS + RESULTS).replace("exceptions", long)})
    ended = plait("check", "p.toml")
    assert ended.status == 4 and f"no sheet can be called '{long}'" in ended.err, ended.err
