"""``plait compare``: what an analyst is told of two files, or two handovers."""

from __future__ import annotations

import json
from decimal import Decimal

import pyarrow as pa
import pyarrow.parquet
import pytest

import plait as calls
from conftest import rows_of
from plait.report.account import schema_of

MAY = (
    "yard,hive,kg,breed\nKES,1,12.50,Carnica\nKES,2,9,Buckfast\nKES,3,,Buckfast\n"
    "CUL,007,4,Carnica\nCUL,8,4,Carnica\nCUL,8,5,Carnica\n"
)
JUNE = (
    "yard,hive,kg,race,mites\nKES,1,12.5,Carnica,3\nKES,2,10.25,Buckfast,\nKES,3,7,Buckfast,1\n"
    "CUL,9,4,Carnica,2\nCUL,8,4,Carnica,\nCUL,8,6,Ligustica,\n"
)


@pytest.fixture
def months(put):
    put(may_csv=MAY, june_csv=JUNE)


def said(plait, *words):
    ended = plait("compare", *words, "--json")
    assert ended.status == 0, ended.err
    return ended.json["changes"]


def test_rows_cells_and_columns_are_told(plait, months):
    found = said(plait, "may.csv", "june.csv", "--key", "yard,hive")
    assert (found["rows_new"], found["rows_gone"]) == (2, 2)
    assert (found["rows_changed"], found["rows_equal"]) == (2, 2)
    assert found["columns"] == {"kg": 2}
    assert found["columns_new"] == ["mites"] and found["columns_gone"] == []
    assert found["columns_renamed"] == {"race": "breed"}
    cells = found["cells"]["kg"]
    assert (cells["from_missing"], cells["to_missing"], cells["written_otherwise"]) == (1, 0, 1)
    assert cells["sum"] == cells["smallest"] == cells["largest"] == "1.25"
    assert found["keys_repeated"] == 1, "hive 8 is on two rows: its rows are not guessed at"


def test_the_account_is_what_its_schema_says(plait, months):
    import jsonschema

    ended = plait("compare", "may.csv", "june.csv", "--key", "yard,hive", "--json").json
    jsonschema.validate(ended, schema_of("compare"))
    with pytest.raises(jsonschema.ValidationError):
        jsonschema.validate({**ended, "more": 1}, schema_of("compare"))


def test_the_ledger_adds_up_from_old_rows_to_new(plait, months):
    (entry,) = plait("compare", "may.csv", "june.csv", "--key", "yard,hive", "--json").json[
        "ledger"
    ]
    assert [line["rows"] for line in entry["lines"]] == [6, 2, -2]
    assert entry["rows_out"] == 6


def test_the_list_names_both_values_and_both_places(plait, months, tmp_path):
    assert (
        plait("compare", "may.csv", "june.csv", "--key", "yard,hive", "--out", "c.csv").status == 0
    )
    lines = rows_of(tmp_path / "c.csv")
    (one,) = [line for line in lines if line["old value"] == "9"]
    assert one["change"] == "cell changed" and one["new value"] == "10.25"
    assert (one["old source"], one["old place"]) == ("may", "line 3")
    assert (one["new source"], one["new place"]) == ("june", "line 3")
    gone = [line["hive"] for line in lines if line["change"] == "row gone"]
    assert set(gone) == {"007", "8"}, "007 stays 007"


def test_without_a_key_the_best_candidate_is_said_aloud(plait, put):
    rows = "".join(f"{n},{n % 7}\n" for n in range(40))
    put(a_csv="hive,kg\n" + rows, b_csv="hive,kg\n" + rows.replace("3,3\n", "3,9\n", 1))
    ended = plait("compare", "a.csv", "b.csv")
    assert "1 changed" in ended.err + ended.out and "rows are identified by hive" in ended.out


def test_without_any_key_rows_are_compared_as_wholes(plait, put):
    put(a_csv="yard,kg\nA,1\nA,1\nB,2\n", b_csv="yard,kg\nA,1\nB,2\nB,2\n")
    found = said(plait, "a.csv", "b.csv")
    assert found["key"] == [] and (found["rows_new"], found["rows_gone"]) == (1, 1)
    assert found["rows_equal"] == 2 and found["rows_changed"] == 0


def test_numbers_near_enough_have_not_changed(plait, put):
    put(a_csv="k,kg\n1,2.00\n2,3\n", b_csv="k,kg\n1,2.01\n2,3.02\n")
    assert said(plait, "a.csv", "b.csv", "--key", "k")["columns"] == {"kg": 2}
    found = said(plait, "a.csv", "b.csv", "--key", "k", "--within", "kg=0.01")
    assert found["columns"] == {"kg": 1} and found["cells"]["kg"]["within"] == 1


def test_a_distance_is_refused_where_either_side_is_no_number(plait, put):
    """Or it would be passed over without a word."""
    put(a_csv="k,kg\n1,2.00\n2,tbc\n", b_csv="k,kg\n1,2.01\n2,3\n")
    for files in (("a.csv", "b.csv"), ("b.csv", "a.csv")):
        ended = plait("compare", *files, "--key", "k", "--within", "kg=0.01")
        assert ended.status == 2 and "kg is text" in ended.err and "a" in ended.err


def test_a_number_column_with_a_text_in_it_is_compared_as_text(plait, put):
    """12.5 and 12.50 are other texts once a cell of the column says tbc."""
    put(a_csv="k,kg\n1,12.50\n2,tbc\n", b_csv="k,kg\n1,12.5\n2,tbc\n")
    assert said(plait, "a.csv", "b.csv", "--key", "k")["columns"] == {"kg": 1}


def test_keys_may_be_compared_loosely_and_their_cells_are_told(plait, put):
    put(a_csv="yard,kg\nKes,1\n", b_csv="yard,kg\nKES ,1\n")
    assert said(plait, "a.csv", "b.csv", "--key", "yard")["rows_new"] == 1
    found = said(plait, "a.csv", "b.csv", "--key", "yard", "--ignore", "case,space")
    assert found["rows_new"] == 0 and found["columns"] == {"yard": 1}


def test_a_key_may_have_changed_its_name(plait, put):
    put(a_csv="Hive,kg\n1,2\n", b_csv="hive no,kg\n1,3\n")
    found = said(plait, "a.csv", "b.csv", "--key", "Hive=hive no")
    assert found["columns"] == {"kg": 1} and found["columns_gone"] == []
    ended = plait("compare", "a.csv", "b.csv", "--key", "Hive")
    assert ended.status == 2 and "hive no" in ended.err


def test_a_column_that_has_the_old_name_of_a_key_is_not_lost(plait, put):
    put(a_csv="hive,kg\n1,2\n2,5\n", b_csv="no,hive,kg\n1,blue,3\n2,red,5\n")
    found = said(plait, "a.csv", "b.csv", "--key", "hive=no")
    assert found["columns"] == {"kg": 1} and found["columns_new"] == ["hive"]


def test_a_distance_for_a_column_that_is_not_compared_is_refused(plait, put):
    put(a_csv="k,kg\n1,2\n", b_csv="k,kg,n\n1,2,3\n")
    for name in ("k", "n"):
        ended = plait("compare", "a.csv", "b.csv", "--key", "k", "--within", f"{name}=1")
        assert ended.status == 2 and "is not among the compared columns" in ended.err


def test_only_the_columns_asked_for_are_looked_at(plait, put, tmp_path):
    put(a_csv="k,kg,a,b\n1,2,x,y\n3,4,x,y\n", b_csv="k,kg,a,c\n1,3,z,y\n5,6,x,y\n")
    words = ("a.csv", "b.csv", "--key", "k", "--columns", "kg", "--out", "c.csv")
    found = said(plait, *words)
    assert found["columns"] == {"kg": 1}
    assert found["columns_new"] == found["columns_gone"] == []
    assert {line["column"] for line in rows_of(tmp_path / "c.csv")} == {"kg"}


def test_typed_files_are_compared_by_value(plait, put, tmp_path):
    """12.50 in a text file, a decimal and a double are one number."""
    put(a_csv="k,kg,n\n1,12.50,7\n2,0.1,8\n")
    columns = {"k": [1, 2], "kg": pa.array([Decimal("12.5"), Decimal("0.1")]), "n": [7.0, 8.5]}
    pyarrow.parquet.write_table(pa.table(columns), tmp_path / "b.parquet")
    found = said(plait, "a.csv", "b.parquet", "--key", "k")
    assert found["columns"] == {"n": 1}
    assert found["cells"]["n"]["sum"] == "0.5"


def test_missing_and_a_marker_are_the_same_nothing(plait, put):
    put(a_csv="k,kg\n1,\n2,5\n3,7\n", b_csv="k,kg\n1,NA\n2,-\n3,7\n")
    found = said(plait, "a.csv", "b.csv", "--key", "k")["cells"]["kg"]
    assert (found["changed"], found["to_missing"]) == (1, 1)


@pytest.mark.parametrize(
    "name", ["", "=1+1", 'a"b', "yard\n", "new value", "change", "<b>", "Σ" * 60]
)
def test_odd_headings_and_cells_are_told(plait, put, name):
    cell = name.replace('"', '""')
    put(a_csv=f'k,"{cell}"\n1,"{cell}"\n', b_csv=f'k,"{cell}"\n1,other\n')
    ended = plait("compare", "a.csv", "b.csv", "--key", "k", "--out", "c.csv", "--report", "p.html")
    assert ended.status == 0, ended.err


def test_tables_without_rows_are_compared(plait, put):
    put(a_csv="k,kg\n", b_csv="k,kg\n1,2\n", c_csv="k\n")
    assert said(plait, "a.csv", "b.csv", "--key", "k")["rows_new"] == 1
    assert said(plait, "a.csv", "a.csv")["rows_equal"] == 0
    assert said(plait, "a.csv", "c.csv", "--key", "k")["columns_gone"] == ["kg"]


def test_it_ends_with_one_when_rows_must_not_go(plait, months, tmp_path):
    ended = plait(
        "compare", "may.csv", "june.csv", "--key", "yard,hive", "--out", "c.csv",
        "--fail-on", "rows-gone",
    )  # fmt: skip
    assert ended.status == 1 and not (tmp_path / "c.csv").exists()


def test_two_columns_that_became_one_another_are_renamed_by_what_is_in_them(plait, put):
    rows = "".join(f"{n},{n * 3},{n * 5}\n" for n in range(20))
    put(a_csv="k,a,b\n" + rows, b_csv="k,x,y\n" + rows)
    assert said(plait, "a.csv", "b.csv", "--key", "k")["columns_renamed"] == {"x": "a", "y": "b"}


def test_the_page_has_everything_and_nothing_of_others(plait, months, tmp_path):
    plait("compare", "may.csv", "june.csv", "--key", "yard,hive", "--report", "page.html")
    page = (tmp_path / "page.html").read_text()
    assert "2 rows new" in page and "10.25" in page and "http" not in page.replace("http-equiv", "")


def test_it_is_a_step_of_a_plan_and_a_call(plait, months, tmp_path):
    (tmp_path / "p.toml").write_text(
        '[source.old]\npath = "may.csv"\n[source.new]\npath = "june.csv"\n[[step]]\n'
        'compare = ["old", "new"]\nkey = ["yard", "hive"]\ninto = "changes"\n'
        '[handover]\nresult = "changes"\n'
    )
    assert plait("run", "p.toml").status == 0
    lines = rows_of(tmp_path / "handover" / "changes.csv")
    account = json.loads((tmp_path / "handover" / "ledger.json").read_text())
    assert account["ledger"][-1]["rows_out"] == len(lines)
    assert {line["old source"] for line in lines} == {"", "old"}
    found = calls.compare("may.csv", "june.csv", "yard,hive")
    assert found.listed().rows == len(lines)
    assert found.changes.rows_changed == 2


def test_a_step_takes_a_key_that_changed_its_name(plait, put, tmp_path):
    put(a_csv="Hive,kg\n1,2\n", b_csv="hive no,kg\n1,3\n")
    (tmp_path / "p.toml").write_text(
        '[source.a]\npath = "a.csv"\n[source.b]\npath = "b.csv"\n[[step]]\n'
        'compare = ["a", "b"]\nkey = { Hive = "hive no" }\ninto = "changes"\n'
        '[handover]\nresult = "changes"\n'
    )
    assert plait("run", "p.toml").status == 0
    (line,) = rows_of(tmp_path / "handover" / "changes.csv")
    assert (line["hive no"], line["old value"], line["new value"]) == ("1", "2", "3")


def test_a_step_needs_a_name_for_its_result(plait, months, tmp_path):
    (tmp_path / "p.toml").write_text(
        '[source.old]\npath = "may.csv"\n[source.new]\npath = "june.csv"\n[[step]]\n'
        'compare = ["old", "new"]\n[handover]\nresult = "old"\n'
    )
    ended = plait("check", "p.toml")
    assert ended.status == 2 and "needs into" in ended.err


def test_a_key_of_two_names_makes_no_column_new(plait, put):
    put(o_csv="a,b,v\n1,1,x\n2,2,y\n", n_csv="a,b,v\n1,1,x\n3,3,z\n")
    ended = plait("compare", "o.csv", "n.csv", "--key", "a=b", "--json")
    changes = ended.json["changes"]
    assert changes["columns_new"] == changes["columns_gone"] == []
    assert "a = b" in ended.finding("not-compared")["message"]


@pytest.mark.parametrize("number", [5, 6])
def test_columns_that_do_not_fit_the_line_are_its_examples(plait, put, number):
    names = ",".join(f"extra {one}" for one in range(number))
    put(old_csv="k\n1\n", new_csv=f"k,{names}\n1{',x' * number}\n")
    finding = plait("compare", "old.csv", "new.csv", "--key", "k", "--json").finding("columns-new")
    assert finding["message"].startswith(f"{number} columns only in the new: extra 0, extra 1")
    shown = [one["text"] for one in finding["examples"]]
    assert shown == ([f"extra {one}" for one in range(5)] if number > 5 else [])


def test_numbers_that_no_one_type_holds_are_compared_one_by_one(plait, put):
    """Neither file has more than 76 digits in a column; both together would need 101."""
    large, small = f"1{'0' * 59}.5", f"0.{'0' * 39}1"
    put(
        old_csv=f"k,n\n1,5.0\n2,{large}\n3,7.5\n",
        new_csv=f"k,n\n1,5.00\n2,{small}\n3,7.{'0' * 39}1\n",
    )
    found = said(plait, "old.csv", "new.csv", "--key", "k")
    assert (found["rows_changed"], found["rows_equal"]) == (2, 1)
    near = said(plait, "old.csv", "new.csv", "--key", "k", "--within", "n=1")
    assert (near["rows_changed"], near["rows_equal"]) == (1, 2)
