"""A look at folders as offices keep them: what must be found there, and what must not."""

from __future__ import annotations

import json
import tomllib

import pytest
import xlsxwriter

from cases import every_case
from conftest import rows_of
from messy import MONTHS, ROWS, write_messy

FOLDERS = (".", "visits", "harvest", "register", "queens")
UNREADABLE = {"broken.parquet", "broken.xlsx", "empty.csv", "map.json", "picture.csv"}


@pytest.fixture
def office(tmp_path):
    write_messy(tmp_path)
    return tmp_path


@pytest.mark.slow
def test_a_folder_of_seventy_files_is_understood(office, plait):
    said = plait("survey", *FOLDERS, "--json").json
    shapes = {one["name"]: one for one in said["shapes"]}
    assert len(shapes["visits"]["sources"]) == len(MONTHS)
    assert len(shapes["harvest"]["sources"]) == 10
    assert {"people", "wages", "samples", "register/data", "queens/data"} <= set(shapes)
    unread = {one["where"].split(",")[0] for one in said["findings"] if one["code"] == "unreadable"}
    assert unread == UNREADABLE
    joins = {frozenset((one["left"], one["right"])): one for one in reversed(said["joins"])}

    def join(left, right):
        return joins[frozenset((left, right))]

    assert join("visits", "register/data")["key"] == "yard,hive"
    assert list(join("visits", "register/data")["ignore"]) == ["leading-zeros"]
    assert list(join("register/data", "yards")["ignore"]) == ["case"]
    assert join("register/data", "yards")["key"] == "yard=code"
    assert join("register/data", "queens/data")["key"] == "queen"
    assert join("labels", "register/data")["split"] == "label:- into yard,hive"
    assert join("answers", "people")["key"] == "person"
    for names in joins:
        assert "answers" not in names or names == {"answers", "people"}, names


@pytest.mark.skipif(not every_case(), reason="takes long: with the thorough profile")
def test_the_answer_comes_first_and_all_fits(office, plait):
    lines = plait("survey", *FOLDERS).out.splitlines()
    assert len(lines) <= 120 and max(map(len, lines)) <= 100
    assert lines[0].startswith("61 sources of 13 shapes, ")
    assert lines[0].endswith("; 5 files cannot be read")
    assert lines[2] == "possible joins"
    few = plait("survey", "yards.tsv", "labels.csv", "grades.csv", "prices.csv", "answers.csv")
    assert len(few.out.splitlines()) <= 60
    text = plait("survey", *FOLDERS, "--verbose").out
    assert text.count("\n") > 200 and "visits_2028-01" in text


@pytest.mark.slow
def test_what_is_wrong_in_many_files_is_said_once(office, plait):
    text = " ".join(plait("survey", *FOLDERS).out.split())
    assert "NA counts as missing in 3 columns of visits: " in text
    assert "5 files cannot be read" in text and text.count("[unreadable]") == 1
    assert "--same weight=wieght,Weight" in text
    assert "--footer visits_2029-06=1" in text and "--footer yields=1" in text


def test_a_survey_of_nothing_that_can_be_read_ends_with_the_reason(office, plait):
    ended = plait("survey", "empty.csv", "map.json")
    assert ended.status == 3 and "the file is empty" in ended.err
    ended = plait("survey", "empty.csv", "yards.tsv", "--fail-on", "unreadable")
    assert ended.status == 1
    assert plait("survey", "empty.csv", "yards.tsv").status == 0
    assert plait("survey", "nowhere.csv", "yards.tsv").status == 3


@pytest.mark.slow
def test_the_draft_of_the_folder_runs_and_leaves_nothing_unsaid(office, plait):
    ended = plait("draft", *FOLDERS, "--out", "first.toml")
    assert ended.status == 0, ended.err
    assert "left out:    12 of 18 sources" in ended.err
    text = (office / "first.toml").read_text()
    plan = tomllib.loads(text)
    assert plan["source"]["visits"]["path"] == "visits"
    assert next(step for step in plan["step"] if "stack" in step)["same"] == {
        "weight": ["wieght", "Weight"]
    }
    kinds = [next(iter(step)) for step in plan["step"]]
    assert kinds == sorted(kinds, key=["stack", "mend", "join"].index)
    for name in ("answers", "grades", "people", "wages", "prices", "samples", "harvest"):
        assert f"# Left out: {name} is not used in any step" in text
    for name in UNREADABLE:
        assert f"# - {name}" in text
    assert str(office) not in text
    ended = plait("run", "first.toml", "--json")
    assert ended.status == 0, ended.err
    rows = rows_of(office / "handover" / "combined.csv")
    assert len(rows) == ROWS * len(MONTHS) + 1  # the total of a month is still to be decided
    assert {row["breed"] for row in rows} >= {"Carnica", "Buckfast"}


@pytest.mark.slow
def test_extracts_are_a_glob_that_takes_in_the_next_month(office, plait):
    files = sorted(str(file.relative_to(office)) for file in (office / "visits").iterdir())
    plait("draft", *files, "yards.tsv", "--out", "p.toml")
    plan = tomllib.loads((office / "p.toml").read_text())
    assert plan["source"]["visits"]["path"] == "visits/visits_*.csv"
    (office / "visits" / "visits_2032-01.csv").write_bytes(
        (office / "visits" / "visits_2031-01.csv").read_bytes().replace(b"2031-01", b"2032-01")
    )
    assert plait("run", "p.toml").status == 0
    assert len(rows_of(office / "handover" / "combined.csv")) == ROWS * (len(MONTHS) + 1) + 1


@pytest.mark.slow
def test_expectations_of_a_draft_fail_when_a_key_has_no_partner_any_more(office, plait):
    plait("draft", "visits", "register", "--out", "p.toml")
    register = office / "register" / "data.csv"
    lines = register.read_text().splitlines(keepends=True)
    register.write_text("".join(lines[:-40]))
    ended = plait("run", "p.toml")
    assert ended.status == 1 and "unmatched rows" in ended.err


class TestOneSourceOfSeveral:
    def test_each_option_of_reading_is_for_the_source_it_names(self, plait, put, tmp_path):
        put(
            a_csv="yard,kg\nElm,1\nOak,2\nTotal,3\n",
            b_csv="Report\nyard;kg\nElm;1,5\nOak;n/k\n",
        )
        ended = plait(
            *("stack", "a.csv", "b.csv", "--footer", "a=1", "--header-line", "b=2"),
            *("--delimiter", "b=semicolon", "--missing", "b=n/k"),
        )
        assert ended.status == 0, ended.err
        assert ended.out == 'yard,kg\nElm,1\nOak,2\nElm,"1,5"\nOak,\n'

    def test_a_type_for_one_source(self, plait, put):
        put(a_csv="k,day\n1,3/4/2031\n", b_csv="k,when\n1,2031-04-03\n")
        words = ("join", "a.csv", "b.csv", "--key", "k", "--type", "a=day=date:%d/%m/%Y")
        ended = plait(*words, "--out", "o.parquet", "--json")
        assert ended.status == 0, ended.err
        refused = plait("join", "a.csv", "b.csv", "--key", "k", "--type", "b=day=date:%d/%m/%Y")
        assert refused.status == 2 and "day" in refused.err

    def test_a_name_that_is_none_is_refused_with_the_nearest(self, plait, put):
        put(hives_csv="k\n1\n", visits_csv="k\n1\n")
        ended = plait("stack", "hives.csv", "visits.csv", "--footer", "vists=1")
        assert ended.status == 2 and "did you mean visits" in ended.err

    def test_what_is_said_of_all_holds_for_the_others(self, plait, put):
        put(a_csv="k\n1\n2\nx\ny\n", b_csv="k\n3\n4\nz\n")
        ended = plait("stack", "a.csv", "b.csv", "--footer", "1", "--footer", "a=2")
        assert ended.out == "k\n1\n2\n3\n4\n"

    def test_a_marker_may_hold_the_sign_of_equality(self, plait, put):
        put(a_csv="k,n\n1,x=y\n2,5\n")
        assert plait("mend", "a.csv", "--missing", "x=y").out == "k,n\n1,\n2,5\n"
        ended = plait("group", "a.csv", "--by", "k", "--take", "m=sum:n", "--missing", "x=y")
        assert ended.status == 0, ended.err


def quarters(path, total=True, merged=True):
    with xlsxwriter.Workbook(str(path)) as book:
        sheet = book.add_worksheet("Yields")
        sheet.write_row(1, 0, ["yard", "Q1", "Q2", "Q1", "Q2", "sum"])
        for column, year in ((1, "2030"), (3, "2031")):
            if merged:
                sheet.merge_range(0, column, 0, column + 1, year)
            else:
                sheet.write(0, column, year)
        rows = [["Elm", 1, 2, 3, 4, 10], ["Oak", 2, 3, 4, 5, 14], ["Ash", 3, 4, 5, 6, 18]]
        rows += [["Total", 6, 9, 12, 15, 42]] if total else []
        for number, row in enumerate(rows, 2):
            sheet.write_row(number, 0, row)
        sheet.write(8, 0, "Source: the office, spring 2031")


class TestHeadingsInTwoRows:
    def test_merged_headings_of_a_workbook(self, plait, tmp_path):
        quarters(tmp_path / "y.xlsx")
        said = plait("survey", "y.xlsx", "--json").json
        (shape,) = said["shapes"]
        assert list(shape["columns"]) == ["yard", "2030 Q1", "2030 Q2", "2031 Q1", "2031 Q2", "sum"]
        found = {one["code"]: one for one in said["findings"]}
        assert found["header-rows"]["count"] == 2 and found["footer-lines"]["count"] == 1
        assert found["total-row"]["remedy"].endswith("--footer 1")
        made = plait("mend", "y.xlsx", "--footer", "1").out
        assert made.splitlines()[1:] == ["Elm,1,2,3,4,10", "Oak,2,3,4,5,14", "Ash,3,4,5,6,18"]

    def test_they_can_be_stated_and_refused(self, plait, put):
        put(a_csv=",2030,,,\nyard,Q1,Q2,Q3,Q4\nElm,1,2,3,4\nOak,5,6,7,8\n")
        joined = "yard,2030 Q1,2030 Q2,2030 Q3,2030 Q4"
        assert plait("mend", "a.csv").out.splitlines()[0] == joined
        assert plait("mend", "a.csv", "--header-line", "1-2").out.splitlines()[0] == joined
        assert plait("mend", "a.csv", "--header-line", "2").out.splitlines()[0] == (
            "yard,Q1,Q2,Q3,Q4"
        )
        for wrong in ("0", "2-1", "x", "1-"):
            assert plait("mend", "a.csv", "--header-line", wrong).status == 2

    def test_in_a_plan(self, plait, put, tmp_path):
        put(a_csv=",2030,\nyard,Q1,Q2\nElm,1,2\n")
        (tmp_path / "p.toml").write_text(
            '[source.a]\npath = "a.csv"\nheader_line = "1-2"\n[handover]\nresult = "a"\n'
        )
        assert plait("run", "p.toml").status == 0
        assert rows_of(tmp_path / "handover" / "a.csv") == [
            {"yard": "Elm", "2030 Q1": "1", "2030 Q2": "2"}
        ]

    def test_a_table_with_blank_headings_stays_as_it_is(self, plait, put):
        put(a_csv="yard,kg,,\nElm,1,x,y\nOak,2,z,w\n")
        assert plait("mend", "a.csv").out.splitlines()[0] == "yard,kg,column 3,column 4"


WRITTEN = {
    "exponents": (["1.5", "1e3", "2.25e-2", "7"], "decimal:1e3"),
    "percent": (["12 %", "7.5 %"], "decimal:1,234.5 %"),
    "money": (["€ 1.200,50", "€ 3"], "decimal:€ 1.234,5"),
    "grouped by spaces": (["1 234,5", "12"], "decimal:1 234,5"),
    "month first": (["Jan 1 2000", "Apr 12 2005"], "date:%B %d %Y"),
}


class TestFormsOfValues:
    @pytest.mark.parametrize("name", WRITTEN)
    def test_they_are_read_and_stay_as_they_are(self, plait, tmp_path, name):
        cells, kind = WRITTEN[name]
        (tmp_path / "a.csv").write_text(
            "k;v\n" + "".join(f"{n};{c}\n" for n, c in enumerate(cells))
        )
        (shape,) = plait("survey", "a.csv", "--json").json["shapes"]
        assert shape["columns"]["v"]["kind"] == kind
        assert [
            row.split(",", 1)[1].strip('"') for row in plait("mend", "a.csv").out.splitlines()[1:]
        ] == cells

    @pytest.mark.parametrize(
        ("cells", "said"),
        [
            (["$5", "€5"], None),
            (["1E2", "3E4"], None),
            (["1,234 %"], "form-open"),
            ([*[f"{n}.5" for n in range(30)], "12 %"], "nearly-typed"),
            ([*[f"2031-05-{n:02d}" for n in range(1, 29)], "2031-02-30"], "nearly-typed"),
            (
                [*[f"2031-05-{n:02d}" for n in range(1, 29)], "13.4.2031", "14.4.2031"],
                "forms-mixed",
            ),
        ],
    )
    def test_what_stays_text_says_why(self, plait, tmp_path, cells, said):
        (tmp_path / "a.csv").write_text(
            "k;v\n" + "".join(f"{n};{c}\n" for n, c in enumerate(cells))
        )
        made = plait("survey", "a.csv", "--json").json
        assert made["shapes"][0]["columns"]["v"]["kind"] == "text"
        assert said is None or said in {one["code"] for one in made["findings"]}

    def test_dates_in_two_forms_are_read_as_each_is_written(self, plait, tmp_path):
        days = [*[f"2031-05-{n:02d}" for n in range(1, 29)], "13.4.2031", "14.4.2031"]
        (tmp_path / "a.csv").write_text("day\n" + "".join(f"{day}\n" for day in days))
        found = plait("survey", "a.csv", "--json").finding("forms-mixed")
        assert "28 as 2031-05-01, 2 as 13.4.2031" in found["message"]
        assert "--type day='date:%Y-%m-%d|%d.%m.%Y'" in found["remedy"].replace("'day=", "day='")
        ended = plait("mend", "a.csv", "--type", "day=date:%Y-%m-%d|%d.%m.%Y", "--where",
                      "\"day\" < DATE '2031-05-01'")  # fmt: skip
        assert ended.out == "day\n2031-04-13\n2031-04-14\n"


def test_what_counts_as_missing_is_counted_as_missing(plait, put):
    put(a_csv="k,kg\n1,NA\n2,3\n3,NA\n4,-\n")
    (shape,) = plait("survey", "a.csv", "--json").json["shapes"]
    column = shape["columns"]["kg"]
    assert (column["missing"], column["distinct"], column["smallest"]) == (3, 1, "3")


@pytest.mark.skipif(not every_case(), reason="takes long: with the thorough profile")
def test_five_hundred_columns_are_counted_and_named_by_their_kinds(plait, tmp_path):
    names = [f"q{n}" for n in range(1, 501)]
    rows = [["person", *names]] + [
        [f"P{n}", *[str((n * k) % 5) for k in range(500)]] for n in range(9)
    ]
    (tmp_path / "a.csv").write_text("".join(",".join(row) + "\n" for row in rows))
    text = plait("survey", "a.csv").out
    assert len(text.splitlines()) <= 60 and "… q500" in text and "columns more:" in text


def test_two_sources_of_one_name_have_names_of_their_own(plait, put):
    put(data_csv="k,v\n1,a\n2,b\n", north__data_csv="m,w,x\n5,c,d\n")
    said = plait("survey", "data.csv", "north/data.csv", "--json").json
    assert [one["name"] for one in said["sources"]] == ["data", "north/data"]


def test_two_shapes_in_a_folder_are_two_sources_of_a_plan(plait, put, tmp_path):
    put(
        m__visits_1_csv="hive,kg\nH1,2\nH2,3\n", m__visits_2_csv="hive,kg\nH3,4\nH1,5\n",
        m__costs_1_csv="item,price,shop\na,1,x\n", m__costs_2_csv="item,price,shop\nb,2,x\n",
    )  # fmt: skip
    ended = plait("draft", "m", "--out", "p.toml", "--json")
    said = ended.json
    assert {one["name"] for one in said["sources"]} == {"visits", "costs"}
    assert sum(one["extracts"] for one in said["sources"]) == 4
    paths = {one["name"]: one["path"] for one in said["sources"]}
    assert paths == {"visits": ["m/visits_*.csv"], "costs": ["m/costs_*.csv"]}


def test_records_one_level_down_in_json(plait, tmp_path):
    rows = [{"hive": "H1", "kg": 2}, {"hive": "H2", "kg": 3}]
    (tmp_path / "a.json").write_text(json.dumps({"meta": {"n": 2}, "data": rows, "tags": ["x"]}))
    (tmp_path / "b.json").write_text(json.dumps({"one": rows, "two": [{"k": 1}], "none": []}))
    assert plait("mend", "a.json").out == "hive,kg\nH1,2\nH2,3\n"
    assert plait("mend", "b.json#two").out == "k\n1\n"
    names = [one["name"] for one in plait("survey", "b.json", "--json").json["sources"]]
    assert names == ["one", "two"]


def test_a_key_in_two_spellings_and_a_page_that_is_there_already(plait, put, tmp_path):
    put(a_csv="hive,kg\n" + "".join(f"H-{n:02d},{n}.5\n" for n in range(30)),
        b_csv="hive,breed\n" + "".join(f"h{n:02d},Carnica\n" for n in range(30)))  # fmt: skip
    (join,) = plait("survey", "a.csv", "b.csv", "--json").json["joins"]
    assert set(join["ignore"]) == {"case", "punctuation"} and join["left_matched"] == 30
    (tmp_path / "s.html").write_text("mine")
    ended = plait("survey", "a.csv", "--report", "s.html")
    assert ended.status == 4 and (tmp_path / "s.html").read_text() == "mine"


def test_the_type_of_one_source_goes_before_that_of_all(plait, put):
    put(a_csv="k,day\n1,3/4/2031\n", b_csv="k,day\n2,4/3/2031\n")
    words = ("stack", "a.csv", "b.csv", "--type", "day=date:%d/%m/%Y")
    assert plait(*words, "--type", "b=day=date:%m/%d/%Y").out == (
        "k,day\n1,2031-04-03\n2,2031-04-03\n"
    )
