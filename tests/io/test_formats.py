"""Every format is read with what it holds, and written so that it reads back the same."""

from __future__ import annotations

import csv
import datetime as dt
import gzip
import io
import json
import shutil
import sqlite3
import zipfile
from contextlib import closing
from decimal import Decimal
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.parquet
import pytest
import python_calamine
from hypothesis import given, settings
from hypothesis import strategies as st

import plait.io.workbook.outline as outline_module
from cases import cases
from makers import HIVES, PACKERS, arrow_table, every_format, open_sheet, rows_of_hives, workbook
from plait.core.base.errors import OutputError, SourceError, UsageError
from plait.core.table.table import table_from_columns
from plait.core.types.column_type import TEXT
from plait.io.delimited.text_format import TextFormat
from plait.io.places.source import Dialect, ReadOptions
from plait.io.read import peek_rows, read_source
from plait.io.sources import find_one_source, find_sources
from plait.io.write import check_format_capacity, write_table

DATA = Path(__file__).parent.parent / "data"


def read(word, given=None):
    return read_source(find_one_source(str(word), given))


def codes(table):
    return [finding.code for finding in table.findings]


def test_first_rows_are_peeked_at_only_where_nothing_else_need_be_read(tmp_path):
    paths = every_format(tmp_path)
    paths["csv"] = tmp_path / "hives.csv"
    paths["csv"].write_text("hive,kg\n" + "7,12.5\n" * 3)
    for ending in ("csv", "parquet", "arrow"):
        source = find_one_source(str(paths[ending]))
        rows = read_source(source).rows
        some, every = peek_rows(source, 1), peek_rows(source, rows)
        assert (some.rows, codes(some)[-1:]) == (1, ["sample-only"]), ending
        assert every.rows == rows and "sample-only" not in codes(every), ending
    for ending in ("xlsx", "json", "jsonl", "db"):
        assert peek_rows(find_one_source(str(paths[ending])), 1) is None, ending
    footed = find_one_source(str(paths["csv"]), ReadOptions(footer=1))
    assert peek_rows(footed, 1) is None
    paths["parquet"].write_bytes(b"none")
    assert peek_rows(find_one_source(str(paths["parquet"])), 1) is None


def test_every_byte_of_a_file_is_told_of_once_as_it_is_read(tmp_path):
    every_format(tmp_path)
    (tmp_path / "hives.csv").write_text("hive,kg\n" + "7,12.5\n" * 4000)
    with gzip.open(tmp_path / "packed.csv.gz", "wb") as packed:
        packed.write((tmp_path / "hives.csv").read_bytes())
    for path in sorted(tmp_path.iterdir()):
        told: list[int] = []
        read_source(find_one_source(str(path)), told.append)
        assert sum(told) == path.stat().st_size, path.name


@pytest.mark.parametrize("ending", ["parquet", "arrow", "jsonl", "json", "xlsx", "db"])
def test_each_format_keeps_its_values(tmp_path, ending):
    table = read(every_format(tmp_path)[ending])
    cells = table.to_dict()
    assert cells["id"] == ["007", "08"]
    as_text = {
        name: [None if v is None else str(v) for v in values] for name, values in cells.items()
    }
    assert as_text["hive"] == ["3", "4"]
    assert as_text["kg"] == ["1.5", None]
    assert as_text["seen"] == ["2031-04-05", "2031-04-06"]
    assert as_text["calm"][0].lower() in ("true", "1")


@pytest.mark.parametrize("ending", ["parquet", "arrow", "json", "jsonl", "xlsx", "sqlite", "csv"])
def test_text_stays_text_and_numbers_numbers_through_every_format(tmp_path, ending):
    table = table_from_columns(
        "t", {"id": ["1", "2"], "kg": ["12.50", "9"], "day": ["2031-04-05", ""]}
    )
    declared = tuple(
        one if one.name != "id" else type(one)(one.name, one.cell_refs, TEXT)
        for one in table.columns
    )
    table = type(table)(table.name, declared, table.fragments, table.rows)
    target = tmp_path / f"t.{ending}"
    write_table(table, target, f".{ending}")
    again = read(target)
    assert again.to_dict()["id"] == ["1", "2"]
    assert [float(v) for v in again.to_dict()["kg"]] == [12.5, 9.0]
    assert [str(v or "") for v in again.to_dict()["day"]] == ["2031-04-05", ""]
    if ending not in ("csv",):
        assert again.column("id").declared_type == TEXT


def test_sheets_by_name_by_pattern_and_all(tmp_path):
    rows = rows_of_hives()
    path = tmp_path / "book.xlsx"
    workbook(path, {"Q1": rows, "Q2": rows, "Notes": rows, "Old": rows, "Blank": []}, ("Old",))
    assert [one.part for one in find_sources([str(path)])] == ["Q1", "Q2", "Notes"]
    assert [one.name for one in find_sources([f"{path}#Q*"])] == ["Q1", "Q2"]
    assert [one.name for one in find_sources([f"x={path}#Q*"])] == ["x/Q1", "x/Q2"]
    assert read(f"{path}#Old").rows == 2
    assert codes(read(f"{path}#Q1")) == ["sheet-hidden"]
    with pytest.raises(SourceError, match="no sheet 'Q3'"):
        find_sources([f"{path}#Q3"])
    with pytest.raises(SourceError, match="hidden: Old"):
        find_sources([f"{path}#zzzz"])
    with pytest.raises(UsageError, match=r"holds 3 tables.*#Q1"):
        find_one_source(str(path))


def test_a_sheet_with_titles_errors_and_mixed_cells(tmp_path):
    path = tmp_path / "book.xlsx"
    rows = [["Hives 2031"], [], ["hive", "kg", "size"], ["A", 1, "=1/0"], ["B", "n/k", 2]]
    workbook(path, {"Hives": rows})
    table = read(path)
    assert table.to_dict() == {"hive": ["A", "B"], "kg": ["1", "n/k"], "size": [None, 2]}
    assert sorted(codes(table)) == ["cell-error", "mixed-cells", "title-lines"]
    (error,) = [one for one in table.findings if one.code == "cell-error"]
    assert error.examples[0].text == "D6: #DIV/0!"
    (mixed,) = [one for one in table.findings if one.code == "mixed-cells"]
    assert "number, text" in mixed.message and [one.text for one in mixed.examples] == ["n/k"]
    assert read(path, ReadOptions(Dialect(header_line=6))).column_names == ("A", "1", "column 3")


def test_other_workbooks(tmp_path):
    old = read(DATA / "hives.xls").to_dict()
    assert old == {
        "hive": [3, 4],
        "kg": [1.5, 2.0],
        "seen": [dt.date(2031, 4, 5), dt.date(2031, 4, 6)],
        "id": ["007", "08"],
    }
    open_sheet(tmp_path / "hives.ods")
    assert read(tmp_path / "hives.ods").to_dict() == {"hive": ["A", "B"], "kg": ["1.5", ""]}


def test_nested_records_are_flattened(tmp_path):
    path = tmp_path / "a.jsonl"
    path.write_text(
        '{"n": 12.50, "at": {"yard": "A", "row": {"no": 1e2}}, "tags": [1, "x"]}\n\n'
        '{"n": 99999999999999999999, "extra": true}\n'
    )
    table = read(path)
    assert table.to_dict() == {
        "n": ["12.50", "99999999999999999999"],
        "at.yard": ["A", None],
        "at.row.no": [Decimal(100), None],
        "tags": ['[1,"x"]', None],
        "extra": [None, "true"],
    }
    assert table.chunks("at.row.no").to_pylist() == ["1e2", None]


@pytest.mark.parametrize(
    ("name", "content", "says"),
    [
        ("a.json", "{}", "expected an array of records"),
        ("a.json", "[1, 2]", "expected a record in braces"),
        ("a.json", '[{"a": 1, "a": 2}]', "'a' occurs twice"),
        ("a.json", "[" * 100_000, "nested deeper than 100|no JSON"),
        ("a.jsonl", '{"a": 1}\nnot json\n', "not valid JSON"),
        ("a.jsonl", '{"a": 1}\n"\xff', "line 2"),
        ("a.parquet", "PAR1 not really PAR1", "cannot read the file as parquet"),
        ("a.arrow", "ARROW1", "cannot read the file as arrow"),
        ("a.db", "not a database, but long enough to be looked at as one", "cannot read"),
        ("a.xlsx", "not a workbook", "text with the ending of a workbook"),
        ("a.ods", "PK\x03\x04broken", "cannot read"),
        ("a.xls", "\xd0\xcf\x11\xe0", "cannot read the workbook"),
        ("a.csv.gz", "not packed", "cannot unpack"),
        ("a.csv.xz", "not packed", "cannot unpack"),
        ("a.csv.zst", "not packed", "cannot unpack|cannot read"),
        ("a.zip", "not packed", "cannot unpack"),
        ("a.csv.csv.foo", "a,b\n", "'.foo' is not a supported file format"),
    ],
)
def test_broken_files_end_in_a_clear_error(tmp_path, name, content, says):
    (tmp_path / name).write_bytes(content.encode("latin-1"))
    with pytest.raises(SourceError, match=says) as error:
        read(tmp_path / name)
    assert str(tmp_path / name) in error.value.where


@pytest.mark.parametrize("packer", PACKERS)
def test_compressed_files(tmp_path, packer):
    path = tmp_path / f"hives.csv.{packer}"
    path.write_bytes(PACKERS[packer](b"hive,kg\n007,12.50\n"))
    loud = tmp_path / f"LOUD.CSV.{packer.upper()}"
    loud.write_bytes(path.read_bytes())
    for table, name in ((read(path), "hives"), (read(loud), "LOUD")):
        assert (table.name, table.to_dict()) == (name, {"hive": ["007"], "kg": ["12.50"]})
    parquet = tmp_path / f"p.parquet.{packer}"
    parquet.write_bytes(PACKERS[packer](every_format(tmp_path)["parquet"].read_bytes()))
    assert read(parquet).to_dict() == arrow_table().to_pydict()


def test_archives(tmp_path):
    path = tmp_path / "all.zip"
    with zipfile.ZipFile(path, "w") as archive:
        archive.writestr("2/june.csv", "hive\n2\n")
        archive.writestr("../../may.csv", "hive\n1\n")
        archive.writestr("__MACOSX/x.csv", "hive\n")
        archive.writestr("read me.md", "x")
        archive.write(every_format(tmp_path)["xlsx"], "book.xlsx")
    found = find_sources([str(path)])
    assert sorted(one.name for one in found) == ["book", "june", "may"]
    assert read(f"{path}#2/june.csv").to_dict() == {"hive": ["2"]}
    assert read(f"{path}#book.xlsx#Hives").to_dict()["id"] == HIVES["id"]
    assert not (tmp_path.parent.parent / "may.csv").exists()


@pytest.mark.slow
def test_a_bomb_is_refused(tmp_path):
    packed = tmp_path / "bomb.csv.gz"
    packed.write_bytes(PACKERS["gz"](b"a,b\n" + b"1,2\n" * (75 << 20)))
    with pytest.raises(SourceError, match="unpacks to more than"):
        read(packed)


def test_databases_are_read_only_and_list_their_tables(tmp_path):
    path = every_format(tmp_path)["db"]
    with sqlite3.connect(path) as base:
        base.execute("CREATE TABLE mixed (a)")
        base.executemany("INSERT INTO mixed VALUES (?)", [(1,), ("x",), (None,), (2.5,), (b"\1",)])
    before = path.read_bytes()
    assert [one.part for one in find_sources([str(path)])] == ["hives", "mixed"]
    assert read(f"{path}#mixed").to_dict() == {"a": ["1", "x", None, "2.5", "01"]}
    assert path.read_bytes() == before


DIALECTS = st.tuples(
    st.sampled_from([",", ";", "\t", "|"]),
    st.sampled_from(["utf-8", "utf-8-sig", "utf-16", "cp1252"]),
    st.sampled_from(["\n", "\r\n", "\r"]),
    st.sampled_from([csv.QUOTE_MINIMAL, csv.QUOTE_ALL]),
)
WORD = st.text("abcäöüßéÅ 'x1", min_size=1, max_size=8).map(str.strip).filter(bool)


@settings(max_examples=cases(150), deadline=None)
@given(DIALECTS, st.lists(st.tuples(WORD, st.integers(0, 999), WORD), min_size=2, max_size=12))
def test_the_dialect_of_a_plain_file_is_found(tmp_path_factory, dialect, rows):
    delimiter, encoding, ending, quoting = dialect
    text = io.StringIO()
    writer = csv.writer(text, delimiter=delimiter, lineterminator=ending, quoting=quoting)
    writer.writerows([("name", "count", "größe"), *rows])
    path = tmp_path_factory.mktemp("d") / "a.csv"
    path.write_bytes(text.getvalue().encode(encoding))
    table = read(path)
    assert table.column_names == ("name", "count", "größe")
    assert list(zip(*table.to_dict().values(), strict=True)) == [(a, str(b), c) for a, b, c in rows]


def test_what_is_given_decides(tmp_path):
    path = tmp_path / "a.csv"
    path.write_bytes("x;y\n'1;2';gr\xfc\xdf\nsum;3\n".encode("latin-1"))
    dialect = Dialect("latin-1", ";", "'", "", 1)
    table = read(path, ReadOptions(dialect, "error", 1))
    assert table.to_dict() == {"x": ["1;2"], "y": ["grüß"]}
    assert table.set_aside[0].listed().to_dict()["place"] == ["line 3"]


def test_escaped_quotes_and_a_letter_far_down(tmp_path):
    path = tmp_path / "a.csv"
    path.write_bytes(b'a,b\n"say \\"hi\\", now",1\n"x",2\n')
    assert read(path).to_dict() == {"a": ['say "hi", now', "x"], "b": ["1", "2"]}
    path.write_bytes(b"a,b\n" + b"plain,1\n" * 900_000 + "grün,2\n".encode("cp1252"))
    table = read(path)
    assert table.rows == 900_001
    assert table.take(np.array([900_000])).to_dict() == {"a": ["grün"], "b": ["2"]}


def test_ragged_rows_keep_their_numbers(tmp_path):
    path = tmp_path / "a.csv"
    rows = [f"{n},x" for n in range(200_000)]
    rows[7], rows[150_000] = "7", "150000,x,y"
    path.write_text("n,t\n" + "\n".join(rows) + "\nEnd of report\n")
    table = read(path, ReadOptions(ragged="set-aside"))
    ragged, notes = table.set_aside
    assert ragged.listed().to_dict()["place"] == ["line 9", "line 150002"]
    assert notes.listed().to_dict()["record"] == ["End of report"]
    assert table.rows == 199_998
    place = table.source_rows(table.rows - 1)[0]
    assert (place.row, str(place)) == (200_000, "a line 200,001")


def test_a_sheet_too_small_is_told_before_anything_is_written(tmp_path):
    table = table_from_columns("t", {"a": pa.array(["x"]).take(pa.array([0] * 1_048_576))})
    with pytest.raises(OutputError, match="1,048,576 rows"):
        check_format_capacity(table, {}, tmp_path / "t.xlsx")


def test_a_long_text_is_not_cut(tmp_path):
    table = table_from_columns("t", {"a": ["x" * 40_000]})
    with pytest.raises(OutputError, match="row 1, column a"):
        write_table(table, tmp_path / "t.xlsx", ".xlsx")


def test_json_is_json_whatever_the_cells_hold(tmp_path):
    cells = ['quo"te', "back\\slash", "two\nlines", "tab\tbell\a", "ü", "", None, "</script>"]
    target = tmp_path / "t.json"
    write_table(table_from_columns("t", {'n"ame': cells}), target, ".json")
    assert [record['n"ame'] for record in json.loads(target.read_text())] == [
        value or None for value in cells
    ]


def test_formulas_are_found_and_guarded(tmp_path):
    table = table_from_columns(
        "t", {"a": ["=1+1", "-5", "@x", "+1", "-x"], "b": ["", "-", "7", "=", "a"]}
    )
    plain, safe = tmp_path / "p.csv", tmp_path / "s.csv"
    (finding,) = write_table(table, plain, ".csv")
    assert (finding.code, finding.count) == ("formula-cells", 3)
    write_table(table, safe, ".csv", text_format=TextFormat(guard_formulas=True))
    assert safe.read_text().splitlines()[1:] == ["'=1+1,", "-5,-", "'@x,7", "+1,=", "'-x,a"]
    shutil.rmtree(tmp_path)


def test_a_short_messy_file_is_seen_for_what_it_is(tmp_path):
    path = tmp_path / "a.csv"
    path.write_text("Report\n\nkind;amount\nhoney;1.234,50\nwax;7,00\nwax\ntotal;8,5\n")
    with pytest.raises(SourceError, match="1 cells, but the header has 2") as error:
        read(path)
    assert error.value.where.endswith("line 6")
    table = read(path, ReadOptions(ragged="set-aside", footer=1))
    assert table.to_dict() == {"kind": ["honey", "wax"], "amount": ["1.234,50", "7,00"]}
    assert [one.rows for one in table.set_aside] == [1, 1]


@pytest.mark.parametrize("ending", ["parquet", "arrow"])
def test_names_and_cells_that_are_no_text_are_told(tmp_path, ending):
    """Such files come of broken disks and of programs that do not look."""
    bytes_ = pa.array([b"zz\xe0z", b"b"]).cast(pa.binary())
    cells = pa.StringArray.from_buffers(2, *bytes_.buffers()[1:])
    whole, wrong = tmp_path / f"a.{ending}", tmp_path / f"b.{ending}"
    for path, table in ((whole, {"zzzz": ["a"]}), (wrong, {"a": cells})):
        made = pa.table(table)
        if ending == "parquet":
            pa.parquet.write_table(made, path, store_schema=False)
        else:
            with pa.ipc.new_file(str(path), made.schema) as writer:
                writer.write_table(made)
    whole.write_bytes(whole.read_bytes().replace(b"zzzz", b"zz\xe0z"))
    for path in (whole, wrong):
        with pytest.raises(SourceError, match=f"cannot read the file as {ending}"):
            read(path)


def test_a_small_workbook_that_claims_to_be_huge_is_refused_soon(tmp_path, monkeypatch):
    limits = []
    real = outline_module.subprocess.run

    def run(words, **options):
        limits.append([int(word) for word in words[-2:]])
        return real(words, **options)

    monkeypatch.setattr(outline_module.subprocess, "run", run)
    (tmp_path / "a.xls").write_bytes(b"\xd0\xcf\x11\xe0" + b"\0" * 2000)
    with pytest.raises(SourceError, match="cannot read"):
        read(tmp_path / "a.xls")
    ((memory, seconds),) = limits
    assert memory < 2 << 30 and seconds < 10


def test_decimals_that_a_float_would_not_give_back_stand_as_they_are(tmp_path, plait, put):
    put(a_csv="k,v\n1,0.10\n2,12345678901234567.50\n3,NA\n4,2e3\n")
    assert plait("mend", "a.csv", "--out", "o.sqlite").status == 0
    with closing(sqlite3.connect(tmp_path / "o.sqlite")) as base:
        assert [row[0] for row in base.execute("SELECT v FROM o")] == [
            *("0.10", "12345678901234567.50", None, "2e3")
        ]
    assert plait("mend", "a.csv", "--out", "o.xlsx").status == 0
    sheet = python_calamine.CalamineWorkbook.from_path(str(tmp_path / "o.xlsx"))
    rows = sheet.get_sheet_by_index(0).to_python()
    assert [row[1] for row in rows[1:]] == [0.1, "12345678901234567.50", "", 2000.0]


@pytest.mark.parametrize(
    ("rows", "told"),
    [
        ("a,1\ntotal,1\n", False),
        ("a,1\nb,2\ntotal,3\n", True),
        ("a,1\nb,2\nSumme,3\n", True),
        ("a,1\nb,2\ntotally,3\n", False),
        ("a,1\nb,2\nc,3\n", False),
    ],
)
def test_a_total_is_told_below_two_rows_or_more(tmp_path, rows, told):
    (tmp_path / "t.csv").write_text("k,v\n" + rows)
    assert ("total-row" in codes(read(tmp_path / "t.csv"))) == told


@pytest.mark.parametrize("rows", [1, 3, 5, 7])
def test_the_first_rows_of_a_file_of_columns_are_the_first_rows(plait, tmp_path, rows):
    table = pa.table({"n": pa.array(range(7))})
    pa.parquet.write_table(table, tmp_path / "n.parquet", row_group_size=2)
    shown = plait("survey", "n.parquet", "--rows", str(rows)).out
    assert [line.split()[-1] for line in shown.splitlines()[-rows:]] == [
        str(n) for n in range(rows)
    ]
