"""``plait mend`` and the options of reading, on files."""

from __future__ import annotations

import json

import pytest

from conftest import rows_of
from plait.demo.data import write_demo_data

VISITS = """Hive no.;kg;seen;at;note
 1;12,50;3.4.2031;A-7/2;calm
2;n/k;14.4.2031;B-8;busy
3;7,25;;C-9/1/x;
"""


@pytest.fixture
def visits(tmp_path):
    (tmp_path / "visits.csv").write_text(VISITS)


def test_a_table_is_put_right_in_one_go(plait, visits, tmp_path):
    ended = plait(
        *("mend", "visits.csv", "--rename", "Hive no.=Hive", "--trim", "--missing", "n/k"),
        *("--split", "at:-/ into yard,shelf,box", "--type", "kg=decimal:1.234,5"),
        *("--type", "seen=date", "--compute", "half=kg / 2", "--where", "kg > 8 OR kg IS NULL"),
        *("--fill", "note=none", "--sort", "Hive desc", "--drop", "at", "--order", "yard,Hive"),
        *("--out", "m.csv", "--json"),
    )
    assert ended.status == 0
    assert (tmp_path / "m.csv").read_text() == (
        "yard,Hive,kg,seen,shelf,box,note,half\n"
        "B,2,,2031-04-14,8,,busy,\n"
        "A,1,12.50,2031-04-03,7,2,calm,6.25\n"
    )
    (entry,) = ended.json["ledger"]
    assert [line["rows"] for line in entry["lines"]] == [3, -1]
    assert rows_of(tmp_path / "m-aside" / "visits-left-out.csv")[0]["place"] == "line 4"
    assert ended.finding("parts-few")["count"] == 1
    assert ended.finding("parts-many")["examples"][0]["text"] == "'C-9/1/x'"
    assert ended.finding("cells-trimmed")["count"] == 1


def test_cells_that_do_not_fit_a_type(plait, visits, tmp_path):
    words = ("mend", "visits.csv", "--type", "kg=decimal:1.234,5")
    refused = plait(*words)
    assert refused.status == 3
    assert "visits line 3, column kg" in refused.err
    apart = plait(*words, "--unfit", "set-aside", "--out", "a.csv")
    assert apart.status == 0
    assert rows_of(tmp_path / "a-aside" / "visits-unfit.csv")[0]["kg"] == "n/k"
    missing = plait(*words, "--unfit", "missing", "--out", "b.csv", "--json")
    assert [row["kg"] for row in rows_of(tmp_path / "b.csv")] == ["12.50", "", "7.25"]
    assert missing.finding("cell-unfit")["examples"][0]["places"][0]["line"] == 3


def test_an_unasked_cell_does_not_change(plait, tmp_path):
    cells = "id,kg,far,at\n007,12.50,1e3, x \n08,1.0,99999999999999999999,\n"
    (tmp_path / "a.csv").write_text(cells)
    assert plait("mend", "a.csv", "--compute", "double=kg * 2", "--out", "b.csv").status == 0
    lines = (tmp_path / "b.csv").read_text().splitlines()
    assert [line.rpartition(",")[0] for line in lines] == cells.splitlines()
    assert [line.rpartition(",")[2] for line in lines] == ["double", "25.00", "2.00"]


@pytest.mark.parametrize(
    ("words", "says", "status"),
    [
        (("--rename", "Hive=x"), "no column 'Hive' in visits", 2),
        (("--rename", "kg"), "has no =", 2),
        (("--rename", "kg=note"), "two columns would be called 'note'", 2),
        (("--header", "a,b"), "2 names for 5 columns", 2),
        (("--where", "kgs > 1"), "did you mean kg?", 2),
        (("--where", "note + 1 > 0"), "expected a number, found text", 2),
        (("--compute", "x=CAST(note AS DATE)"), "visits line 2: 'calm' is not of type date", 3),
        (("--type", "kg=decimel"), "did you mean decimal?", 2),
        (("--type", "kk=text"), "no column 'kk'", 2),
        (("--split", "at into a,b"), "is not COLUMN:DELIMITERS into NAMES", 2),
        (("--split", "at:- into kg,b"), "there is a column 'kg' already", 2),
        (("--replace-value", "kg=1"), "is not COLUMN:OLD=NEW", 2),
        (("--drop", "Hive no.,kg,seen,at,note"), "the result would have no columns", 2),
        (("--delimiter", "ab"), "is not a valid delimiter", 2),
        (("--encoding", "utf-99"), "unknown encoding 'utf-99'", 2),
        (("--ragged", "maybe"), "--ragged must be error or set-aside", 2),
        (("--header-line", "99"), "no header found", 3),
    ],
)
def test_what_cannot_be_done_is_told(plait, visits, words, says, status):
    ended = plait("mend", "visits.csv", *words)
    assert says in ended.err
    assert ended.status == status


def test_values_replaced_and_filled_down(plait, tmp_path):
    (tmp_path / "a.csv").write_text("yard,kg\nA,-\n,2\nB,-\n,3\n")
    words = ("--replace-value", "kg:-=0", "--fill", "yard=down", "--sort", "kg desc,yard")
    assert plait("mend", "a.csv", *words).out == "yard,kg\nB,3\nA,2\nA,0\nB,0\n"


def test_reading_options_set_aside_what_does_not_belong(plait, tmp_path):
    (tmp_path / "a.csv").write_text("Report\n\nyard,kg\nA,1\nB\nC,3\ntotal,4\n")
    ended = plait(
        *("stack", "a.csv", "--ragged", "set-aside", "--footer", "1", "--out", "b.csv", "--json")
    )
    assert (tmp_path / "b.csv").read_text() == "yard,kg\nA,1\nC,3\n"
    read, stacked = ended.json["ledger"]
    assert read["rows_in"] == {"a": 4}
    assert [line["rows"] for line in read["lines"]] == [4, -1, -1]
    assert stacked["rows_out"] == 2
    assert rows_of(tmp_path / "b-aside" / "a-ragged.csv")[0]["record"] == "B"
    assert rows_of(tmp_path / "b-aside" / "a-footer.csv")[0]["place"] == "line 7"


def test_types_and_markers_when_stacking(plait, tmp_path):
    (tmp_path / "may.csv").write_text("day,kg\n3/4/2031,n/k\n")
    (tmp_path / "june.csv").write_text("day,kg\n13/4/2031,7\n")
    ended = plait(
        *("stack", "may.csv", "june.csv", "--type", "day=date:%d/%m/%Y", "--missing", "n/k"),
        *("--out", "all.jsonl", "--json"),
    )
    assert ended.status == 0
    lines = (tmp_path / "all.jsonl").read_text().splitlines()
    assert [json.loads(line) for line in lines] == [
        {"day": "2031-04-03", "kg": None},
        {"day": "2031-04-13", "kg": 7},
    ]
    assert plait("stack", "may.csv", "--type", "dya=date").status == 2


def test_a_workbook_out_has_data_set_aside_and_ledger(plait, put, tmp_path):
    put(a_csv="hive,kg\n1,2\n1,2\n", b_csv="hive,breed\n1,=x\n")
    assert plait("stack", "a.csv", "--distinct", "--out", "s.xlsx").status == 0
    sheets = {
        one["name"]: one["rows"] for one in plait("survey", "s.xlsx", "--json").json["sources"]
    }
    assert sheets == {"s": 1, "s-repeats": 1, "ledger": 3}
    found = plait("stack", "b.csv", "--out", "t.csv", "--fail-on", "formula-cells")
    assert found.status == 1
    assert not (tmp_path / "t.csv").exists()


@pytest.mark.slow
def test_survey_tells_and_writes_a_page(plait, tmp_path):
    write_demo_data(tmp_path / "plait-demo")
    words = ("inspections", "register", "weighins.xlsx", "laboratory.jsonl", "wardens.csv")
    paths = [f"plait-demo/{word}" for word in words]
    ended = plait("survey", *paths, "--json", "--report", "survey.html")
    joins = {(one["left"], one["right"]): one["key"] for one in ended.json["joins"]}
    assert joins["inspections", "register"] == "Yard,Hive"
    assert joins["register", "wardens"] == "Warden=Full name"
    assert ended.finding("header-variant")["remedy"].startswith("--same 'Moisture %=Moistre %'")
    assert len(ended.json["profiles"]) == 15
    page = (tmp_path / "survey.html").read_text()
    assert "Possible joins" in page
    assert "://" not in page
    assert "15 sources of 5 layouts" in ended.err
    assert max(map(len, plait("survey", *paths).out.splitlines())) <= 100
    assert plait("survey", *paths, "--fail-on", "header-variant", "--quiet").status == 1


def test_names_from_data_are_escaped(plait, tmp_path):
    (tmp_path / "a.csv").write_text("<script>x</script>,b\n<b>1</b>,2\n\x1b[2J,3\n")
    ended = plait("survey", "a.csv", "--report", "s.html")
    assert "\x1b[2J" not in ended.err
    page = (tmp_path / "s.html").read_text()
    assert "<script>x" not in page
    assert "<b>1" not in page


def test_a_column_that_is_a_date_but_for_one_cell(plait, put, tmp_path):
    days = "".join(f"{n},{n}.4.2031\n" for n in range(1, 29))
    put(visits_csv=f"id,Seen\n{days}29,soon\n")
    said = plait("survey", "visits.csv", "--json")
    found = said.finding("nearly-typed")
    assert found["count"] == 1
    assert found["remedy"].endswith(": --type Seen=date:%d.%m.%Y --unfit set-aside")
    ended = plait(
        *("mend", "visits.csv", "--type", "Seen=date", "--unfit", "set-aside"),
        *("--out", "o.csv", "--json"),
    )
    assert [row["Seen"] for row in rows_of(tmp_path / "o.csv")][:2] == ["2031-04-01", "2031-04-02"]
    aside = rows_of(tmp_path / "o-aside" / "visits-unfit.csv")
    assert [row["Seen"] for row in aside] == ["soon"]
    assert ended.finding("cell-unfit")["count"] == 1


def test_identifiers_with_leading_zeros_are_not_nearly_numbers(plait, put):
    put(a_csv="id,v\n" + "".join(f"{n:03d},x\n" for n in range(40)) + "A1,x\n")
    codes = [one["code"] for one in plait("survey", "a.csv", "--json").json["findings"]]
    assert "nearly-typed" not in codes


def test_dates_that_contradict_each_other_are_not_guessed(plait, put):
    put(a_csv="d\n" + "13/4/2031\n" * 5 + "4/13/2031\n" * 5 + "5/6/2031\n" * 5)
    ended = plait("mend", "a.csv", "--type", "d=date", "--unfit", "missing")
    assert ended.status == 2
    assert "fit 2 formats" in ended.err


def test_typed_files_say_which_markers_became_missing(plait, put):
    put(a_csv="kg,note\n1.5,NA\n-,x\n2,y\n")
    for ending in ("parquet", "jsonl", "sqlite", "xlsx", "arrow"):
        ended = plait("mend", "a.csv", "--out", f"o.{ending}", "--json")
        found = ended.finding("marker-found")
        assert (found["count"], found["where"]) == (1, "column kg"), ending


def test_what_parquet_says_is_text_is_text_in_a_key(plait, put, tmp_path):
    import pyarrow as pa
    import pyarrow.parquet as pq

    pq.write_table(pa.table({"k": pa.array(["7", "8"])}), tmp_path / "left.parquet")
    put(right_csv="k,v\n7,x\n8.0,y\n")
    ended = plait("join", "left.parquet", "right.csv", "--key", "k", "--out", "o.csv", "--json")
    assert ended.json["match"]["left_matched"] == 1
    assert "k is text in left, k is decimal in right" in ended.finding("key-kind")["message"]


def test_true_and_false_with_a_marker_stay_text_everywhere(plait, put):
    put(a_csv="flag\ntrue\nfalse\n-\n")
    said = plait("survey", "a.csv", "--json").json
    assert said["profiles"][0]["columns"]["flag"]["kind"] == "text"
    plait("mend", "a.csv", "--out", "o.jsonl")
    keys = plait("keys", "a.csv", "--key", "flag", "--json").json
    assert keys["tables"][0]["missing_key_rows"] == 0
