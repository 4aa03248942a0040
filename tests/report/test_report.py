"""The report, its Markdown and the descriptor say what the files hold, and nothing runs in them."""

from __future__ import annotations

import json
import re
from html.parser import HTMLParser

import pytest

from conftest import rows_of
from plait.core.operations.survey import survey
from plait.core.table.table import table_from_columns
from plait.report.html.survey_data import _places

PLAN = """
title = "Season | 2031"
[source.visits]
path = "visits/*.csv"
[source.hives]
path = "hives.csv"
type = { Since = "date:%d.%m.%Y" }
[describe]
kg = "weight <b>in kg</b>"
[[step]]
stack = "visits"
[[step]]
join = ["visits", "hives"]
key = "Hive"
into = "season"
[handover]
result = "season"
formats = "FORMAT"
"""


class Page(HTMLParser):
    """What a screen reader needs: headings, tables with headers, labels of drawings."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.headings: list[str] = []
        self.open: list[str] = []
        self.tables: list[int] = []
        self.unlabelled = 0
        self.links: list[str] = []
        self.ids: set[str] = set()
        self.feed(text)

    def handle_starttag(self, tag, attrs):
        given = dict(attrs)
        if tag in ("h1", "h2"):
            self.headings.append("")
            self.open.append(tag)
        if tag == "table":
            self.tables.append(0)
        if tag == "th" and given.get("scope") in ("col", "row"):
            self.tables[-1] += 1
        if given.get("role") == "img" and not given.get("aria-label"):
            self.unlabelled += 1
        if tag == "a":
            self.links.append(given["href"])
        if "id" in given:
            self.ids.add(given["id"])

    def handle_endtag(self, tag):
        if self.open and tag == self.open[-1]:
            self.open.pop()

    def handle_data(self, data):
        if self.open:
            self.headings[-1] += data


@pytest.fixture
def handed(plait, put, tmp_path):
    """A handover in a format, and its folder."""

    def do(ending: str = "csv", **files: str):
        put(
            **{
                "visits__may_csv": "Hive,kg,Note\n1,2.5,a|b\n2,,*c*\n",
                "visits__june_csv": "Hive,kg,Note\n1,3,x\n9,NA,<i>\n",
                "hives_csv": "Hive,Breed,Since\n1,Carnica,3.4.2031\n2,,5.6.2031\n",
                **files,
            }
        )
        (tmp_path / "p.toml").write_text(PLAN.replace("FORMAT", ending))
        ended = plait("run", "p.toml", "--replace", "--again")
        assert ended.status == 0, ended.err
        return tmp_path / "handover"

    return do


def test_the_page_can_be_read_aloud_and_its_links_lead_somewhere(handed):
    folder = handed()
    page = Page((folder / "report.html").read_text())
    assert page.headings[0].startswith("Season | 2031: one dataset, 4 rows")
    assert page.headings[1:3] == ["Overview of the plan", "Ledger by step"]
    assert all(page.tables) and len(page.tables) >= 8
    assert page.unlabelled == 0
    places = {link[1:] for link in page.links if link.startswith("#")}
    assert places and places <= page.ids
    files = {link for link in page.links if not link.startswith("#")}
    assert files and all((folder / file).is_file() for file in files)


def test_the_page_has_the_grid_of_keys_and_what_is_missing_by_source(handed):
    text = (handed() / "report.html").read_text()
    grid = text.split('id="grid"')[1].split("</table>")[0]
    cells = re.findall(r'<th scope="row">(\w+)</th><td class="count">(\d+)</td><td.*?>(\d+) ', grid)
    assert cells == [("june", "2", "1"), ("may", "2", "2")]
    missing = text.split("<summary>Missing values by source")[1].split("</table>")[0]
    row = re.search(r'<th scope="row">kg</th>(.*?)</tr>', missing)[1]
    assert re.findall(r">([^<]+)</td>", row) == ["50%", "50%"]


def test_markdown_keeps_signs_from_data_as_they_are(handed):
    text = (handed() / "report.md").read_text()
    assert text.startswith("# Season \\| 2031\n")
    assert "weight \\<b\\>in kg\\</b\\>" in text
    for line in text.splitlines():
        if line.startswith("| ") and "\\|" not in line:
            assert line.endswith("|")


@pytest.mark.parametrize("ending", ["csv", "tsv", "parquet", "jsonl", "xlsx", "sqlite", "arrow"])
def test_the_descriptor_names_every_file_of_every_format(handed, ending):
    folder = handed(ending)
    package = json.loads((folder / "datapackage.json").read_text())
    (dataset,) = [one for one in package["resources"] if one["path"] == f"season.{ending}"]
    assert dataset["bytes"] == (folder / f"season.{ending}").stat().st_size
    assert ("schema" in dataset) == (ending in ("csv", "tsv"))
    names = [one["name"] for one in package["resources"]]
    assert len(set(names)) == len(names)
    assert all(re.fullmatch(r"[a-z0-9._/-]+", name) for name in names)


def test_fields_have_the_types_and_forms_of_their_columns(handed):
    folder = handed()
    package = json.loads((folder / "datapackage.json").read_text())
    fields = {one["name"]: one for one in package["resources"][0]["schema"]["fields"]}
    assert fields["Hive"]["type"] == "integer"
    assert fields["Since"]["type"] == "date"
    # NA is in it, which a reader that knows of no markers would not take for a number.
    assert fields["kg"]["type"] == "string"
    assert fields["kg"]["description"] == "weight <b>in kg</b>"


def test_the_dictionary_counts_what_the_dataset_holds(handed):
    folder = handed()
    dictionary = {row["column"]: row for row in rows_of(folder / "dictionary.csv")}
    dataset = rows_of(folder / "season.csv")
    assert list(dictionary) == list(dataset[0])
    for name, row in dictionary.items():
        cells = [one[name] for one in dataset if one[name] not in ("", "NA")]
        assert int(row["missing"]) == len(dataset) - len(cells)
        assert int(row["distinct"]) == len(set(cells))
    assert (dictionary["kg"]["smallest"], dictionary["kg"]["largest"]) == ("2.5", "3")


def test_the_ledger_as_data_and_in_the_page_agree(handed):
    folder = handed()
    said = json.loads((folder / "ledger.json").read_text())
    page = (folder / "report.html").read_text()
    for entry in said["ledger"]:
        assert entry["operation"] in page
        for line in entry["lines"]:
            assert f"{line['rows']:,}".replace("-", "−") in page
    assert {one["path"] for one in said["outputs"]} <= {
        str(file.relative_to(folder)) for file in folder.rglob("*")
    }


def test_numbers_written_in_groups_are_described_as_they_are_written(plait, put, tmp_path):
    put(a_csv='n,d,e\n"1,234,567","1.234,50",1\n"2,000","3,25",2\n')
    (tmp_path / "p.toml").write_text('[source.a]\npath = "a.csv"\n[handover]\nresult = "a"\n')
    assert plait("run", "p.toml").status == 0
    package = json.loads((tmp_path / "handover" / "datapackage.json").read_text())
    (resource,) = [one for one in package["resources"] if one["path"] == "a.csv"]
    fields = {one["name"]: one for one in resource["schema"]["fields"]}
    assert fields["n"] == {"name": "n", "type": "integer", "groupChar": ","}
    assert fields["d"] == {"name": "d", "type": "number", "decimalChar": ",", "groupChar": "."}
    assert fields["e"] == {"name": "e", "type": "integer"}


def test_rows_of_several_sources_are_numbered_within_their_own():
    found = survey([table_from_columns("june", {"k": ["1", "2"]}, "x/june.csv"),
                    table_from_columns("may", {"k": ["3", "4", "5"]}, "x/may.csv")])  # fmt: skip
    (one,) = found.families
    source, number = _places(one, None)
    assert (source.tolist(), number.tolist()) == ([0, 0, 1, 1, 1], [1, 2, 1, 2, 3])
