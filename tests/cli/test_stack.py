"""``plait stack`` on files."""

from __future__ import annotations

import subprocess
import sys

import pyarrow.parquet as pq
import pytest

from conftest import rows_of


def test_columns_by_name_labels_numbers_and_lacking_columns(plait, put, tmp_path):
    put(
        in__may_csv="hive,kg,note\n007,12.50,calm\n8,1e3,\n",
        in__june_csv='note,hive\n"two\nlines, ""quoted""",9\n',
    )
    ended = plait(
        "stack", "in", "--label", "month={stem}", "--number", "no", "--out", "o.csv", "--json"
    )
    assert ended.status == 0
    assert (tmp_path / "o.csv").read_text() == (
        "note,hive,kg,month,no\n"
        '"two\nlines, ""quoted""",9,,june,1\n'
        "calm,007,12.50,may,2\n"
        ",8,1e3,may,3\n"
    )
    assert ended.finding("column-lacking")["count"] == 1
    assert ended.json["ledger"][0]["rows_in"] == {"june": 1, "may": 2}


def test_extracts_are_stacked_in_natural_order(plait, put):
    put(in__m10_csv="a\n10\n", in__m2_csv="a\n2\n", in__m1_csv="a\n1\n")
    assert plait("stack", "in/*.csv", "--quiet").out == "a\n1\n2\n10\n"


def test_distinct_lists_what_it_leaves_out(plait, put, tmp_path):
    put(a_csv="x,y\n1,2\n3,\n1,2\n", b_csv="y,x\n2,1\n,3\n5,5\n")
    ended = plait("stack", "a.csv", "b.csv", "--distinct", "--out", "o.csv", "--json")
    assert (tmp_path / "o.csv").read_text() == "x,y\n1,2\n3,\n5,5\n"
    assert rows_of(tmp_path / "o-aside" / "o-repeats.csv") == [
        {
            "reason": "exact repeat of a line 2",
            "source": "a",
            "place": "line 4",
            "x": "1",
            "y": "2",
        },
        {
            "reason": "exact repeat of a line 2",
            "source": "b",
            "place": "line 2",
            "x": "1",
            "y": "2",
        },
        {"reason": "exact repeat of a line 3", "source": "b", "place": "line 3", "x": "3", "y": ""},
    ]
    assert [line["rows"] for line in ended.json["ledger"][0]["lines"]] == [3, 3, -3]


def test_origin_names_the_source(plait, put):
    put(a_csv="x\n1\n")
    assert plait("stack", "a.csv", "--origin", "from", "--quiet").out == "x,from\n1,a\n"


def test_tsv_in_and_out(plait, put, tmp_path):
    put(a_tsv='x\ty\n1\t"a\tb"\n2\tc,d\n')
    assert plait("stack", "a.tsv", "--out", "o.tsv").status == 0
    assert (tmp_path / "o.tsv").read_text() == 'x\ty\n1\t"a\tb"\n2\tc,d\n'


def test_parquet_gets_the_types_that_were_found(plait, put, tmp_path):
    put(
        a_csv="i,d,t,day,when,yes,zip,big,mix\n"
        "1,0.50,x,2031-02-28,2031-02-28 10:00,true,007,12345678901234567890,2031-02-30\n"
        "-20,12,,2031-03-01,2031-03-01 11:30:05,FALSE,12,1,2031-02-28\n",
        b_csv="i\n\n3\n",
    )
    assert plait("stack", "a.csv", "--out", "o.parquet").status == 0
    table = pq.read_table(tmp_path / "o.parquet")
    kinds = {field.name: str(field.type) for field in table.schema}
    assert kinds == {
        "i": "int64",
        "d": "decimal128(4, 2)",
        "t": "string",
        "day": "date32[day]",
        "when": "timestamp[us]",
        "yes": "bool",
        "zip": "string",
        "big": "string",
        "mix": "string",
    }
    assert list(map(str, table.column("d").to_pylist())) == ["0.50", "12.00"]
    assert table.column("t").to_pylist() == ["x", None]
    assert table.column("big").to_pylist() == ["12345678901234567890", "1"]
    assert table.column("mix").to_pylist() == ["2031-02-30", "2031-02-28"]
    assert plait("stack", "b.csv", "--out", "b.parquet").status == 0
    assert pq.read_table(tmp_path / "b.parquet").column("i").to_pylist() == [None, 3]


def test_long_decimals_stay_exact(plait, put, tmp_path):
    put(a_csv="d\n123456789012345678.25\n0.5\n")
    plait("stack", "a.csv", "--out", "o.parquet")
    column = pq.read_table(tmp_path / "o.parquet").column("d")
    assert [str(value) for value in column.to_pylist()] == ["123456789012345678.25", "0.50"]


def test_headers_that_are_padded_empty_or_repeated_get_usable_names(plait, put):
    put(a_csv="kg , ,kg\n1,2,3\n")
    ended = plait("stack", "a.csv", "--out", "o.csv", "--json")
    assert {finding["code"] for finding in ended.json["findings"]} == {
        "header-padded",
        "header-empty",
        "header-repeated",
    }
    assert ended.json["sources"][0]["columns"] == 3


def test_header_variants_are_pointed_out_and_brought_together(plait, put, tmp_path):
    put(a_csv="Moisture,x\n1,2\n", b_csv="Moistre,x\n3,4\n", c_csv="MOISTURE ,x\n5,6\n")
    remedies = [
        finding["remedy"]
        for finding in plait("stack", "a.csv", "b.csv", "c.csv", "--out", "o.csv", "--json").json[
            "findings"
        ]
        if finding["code"] == "header-variant"
    ]
    assert any("--same Moisture=Moistre" in remedy for remedy in remedies)
    ended = plait(
        "stack",
        "a.csv",
        "b.csv",
        "c.csv",
        "--same",
        "Moisture=Moistre",
        "--fold-headers",
        "--quiet",
    )
    assert ended.out == "Moisture,x\n1,2\n3,4\n5,6\n"


def test_the_same_table_from_standard_input(plait):
    ended = plait("stack", "-", "--quiet", feed=b"\xef\xbb\xbfx,y\r\n1,2\r\n")
    assert ended.out == "x,y\n1,2\n"


@pytest.mark.parametrize("ending", ["\n", "\r\n", "\r"])
def test_line_ends(plait, tmp_path, ending):
    (tmp_path / "a.csv").write_bytes(ending.join(["x,y", "1,2", "", "3,4"]).encode())
    assert plait("stack", "a.csv", "--quiet").out == "x,y\n1,2\n3,4\n"


def test_one_column_keeps_its_empty_cells(plait, put, tmp_path):
    put(a_csv='x\n1\n\n""\n2\n')
    plait("stack", "a.csv", "--out", "o.csv")
    assert (tmp_path / "o.csv").read_text() == 'x\n1\n""\n""\n2\n'


def test_a_fold_of_many_blocks_is_byte_for_byte(plait, tmp_path):
    lines = ["id,text"]
    for number in range(200_000):
        text = (
            f'"line {number}\nand, more"'
            if number % 1000 == 0
            else f"plain {number} {'x' * (number % 50)}"
        )
        lines.append(f"{number:07d},{text}")
    (tmp_path / "a.csv").write_text("\n".join(lines) + "\n")
    assert plait("stack", "a.csv", "--out", "o.csv", "--quiet").status == 0
    assert (tmp_path / "o.csv").read_bytes() == (tmp_path / "a.csv").read_bytes()


def test_a_quote_inside_a_cell_is_part_of_it(plait, put):
    put(a_csv='x,y\n5" nail,ok\n"a ""b"" c",2\n')
    assert plait("stack", "a.csv", "--quiet").out == 'x,y\n"5"" nail",ok\n"a ""b"" c",2\n'


def test_by_position_with_its_checks(plait, put, tmp_path):
    put(a_csv="hive,kg\n1,2\n", b_csv="Hive,weight\n2,3\n", c_csv="x\n1\n")
    ended = plait("stack", "a.csv", "b.csv", "--by", "position", "--out", "o.csv", "--json")
    assert rows_of(tmp_path / "o.csv") == [{"hive": "1", "kg": "2"}, {"hive": "2", "kg": "3"}]
    assert ended.finding("header-differs")["examples"][0]["text"] == "'weight' in b"
    refused = plait("stack", "a.csv", "c.csv", "--by", "position", "--out", "p.csv")
    assert refused.status == 2
    assert "c has 1 columns and a 2" in refused.err


def test_types_that_differ_and_headings_that_are_swapped(plait, put):
    def rows(number, swapped):
        cells = [(f"Person {n % 5}", ["calm", "busy", "swarming"][n % 3]) for n in range(20)]
        cells = [(b, a) if swapped else (a, b) for a, b in cells]
        return "warden,mood,kg\n" + "".join(f"{a},{b},{number}\n" for a, b in cells)

    put(m1_csv=rows("2", False), m2_csv=rows("3.5", False), m3_csv=rows("ca. 4", True))
    ended = plait("stack", "m1.csv", "m2.csv", "m3.csv", "--out", "o.csv", "--json")
    message = ended.finding("type-differs")["message"]
    assert message == "kg has different types: integer in m1; decimal in m2; text in m3"
    assert ended.finding("columns-swapped")["where"] == "m3"


def test_more_extracts_than_files_may_be_open(tmp_path):
    (tmp_path / "visits").mkdir()
    for number in range(150):
        (tmp_path / "visits" / f"{number:03}.csv").write_text(f"hive,kg\n{number},2.5\n")
    command = f"ulimit -n 64 && exec {sys.executable} -m plait stack visits --out all.csv"
    ended = subprocess.run(["sh", "-c", command], cwd=tmp_path, capture_output=True, text=True)
    assert ended.returncode == 0, ended.stderr
    hives = [row["hive"] for row in rows_of(tmp_path / "all.csv")]
    assert hives == [str(number) for number in range(150)]
