"""A draft runs as it stands, and says what it was not sure of."""

from __future__ import annotations

import json
import tomllib

import pytest
import xlsxwriter

from conftest import flat, rows_of
from plait.demo.data import write_demo_data


@pytest.mark.slow
def test_the_draft_of_the_demo_runs_and_its_joins_are_the_right_ones(plait, tmp_path):
    write_demo_data(tmp_path / "d")
    sources = ("inspections", "register", "weighins.xlsx", "laboratory.jsonl", "wardens.csv")
    ended = plait("draft", *(f"d/{one}" for one in sources), "--out", "d/first.toml")
    assert ended.status == 0, ended.err
    plan = tomllib.loads((tmp_path / "d" / "first.toml").read_text())
    joins = [step for step in plan["step"] if "join" in step]
    assert [(one["join"], one["key"]) for one in joins] == [
        (["inspections", "register"], ["Yard", "Hive"]),
        (["combined", "wardens"], {"Warden": "Full name"}),
    ]
    assert joins[0]["ignore"] == ["case", "space"]
    assert all(one["cardinality"] == "many-to-one" for one in joins)
    ended = plait("run", "d/first.toml", "--json")
    assert ended.status == 0, ended.err
    assert not [one for one in ended.json["findings"] if one["code"] == "not-used"]
    assert len(rows_of(tmp_path / "d" / "first-handover" / "combined.csv")) == 1103
    first = json.loads((tmp_path / "d" / "first-handover" / "ledger.json").read_text())["matches"][
        0
    ]
    assert first["left_unmatched"] + first["left_missing_key"] == 16


def test_header_variants_repeats_and_open_types_are_in_the_draft(plait, put, tmp_path):
    put(
        m__may_csv="Hive,Moisture,Seen,kg,By\n1,17,3/4/2031,4,Ines\n1,17,3/4/2031,4,Ines\n",
        m__june_csv="Hive,Moistre,Seen,kg,By\n2,18,5/6/2031,5,Tom\n",
    )
    ended = plait("draft", "m", "--out", "p.toml")
    assert ended.status == 0
    text = (tmp_path / "p.toml").read_text()
    plan = tomllib.loads(text)
    (stack,) = plan["step"]
    assert stack in (
        {"stack": "m", "same": {"Moisture": "Moistre"}},
        {"stack": "m", "same": {"Moistre": "Moisture"}},
    )
    assert "identical rows may mean different things" in " ".join(text.replace("#", "").split())
    assert "# Seen: date:%d/%m/%Y or date:%m/%d/%Y?" in text
    assert plait("run", "p.toml").status == 0
    assert len(rows_of(tmp_path / "handover" / "m.csv")) == 3


def test_a_join_that_would_multiply_is_left_to_a_person(plait, put, tmp_path):
    visits = "".join(f"h{n % 99},{n / 7:.3f}\n" for n in range(600))
    hives = "".join(f"h{n % 99},b{n}\n" for n in range(102))
    put(visits_csv="Hive,kg\n" + visits, hives_csv="Hive,Breed\n" + hives)
    ended = plait("draft", "visits.csv", "hives.csv")
    plan = tomllib.loads(ended.out)
    assert not plan.get("step") and plan["handover"]["result"] == "visits"
    said = plait("draft", "visits.csv", "hives.csv", "--out", "p.toml", "--json").json
    assert said["result"] == "visits" and "not many-to-one" in said["to_decide"][0]
    assert plait("draft", "visits.csv", "--json").status == 2
    assert "not many-to-one" in ended.out and '# path = "hives.csv"' in ended.out


def test_a_source_that_cannot_be_read_is_left_out_and_named_unless_it_is_the_only_one(
    plait, put, tmp_path
):
    put(visits_csv="Hive,kg\n1,2.5\n")
    (tmp_path / "broken.parquet").write_text("none")
    ended = plait("draft", "visits.csv", "broken.parquet", "--out", "p.toml")
    assert ended.status == 0
    assert "1 of 2 sources, with the reasons in the plan: broken.parquet" in flat(ended.err)
    alone = plait("draft", "broken.parquet", "--out", "q.toml")
    assert alone.status == 3 and "broken.parquet: cannot read the file as parquet" in alone.err


def test_markers_are_offered_as_a_list_that_can_be_pasted(plait, put):
    put(a_csv="k,note\n1,NA\n2,-\n3,calm\n4,calm\n")
    assert '# note has NA, -: do they mean missing? missing = ["NA", "-"]' in (
        plait("draft", "a.csv").out
    )


def test_odd_names_are_quoted_and_paths_are_those_of_the_plan(plait, put, tmp_path):
    put(**{"a__x y_csv": 'K "1",v\n1,2\n', "a__zz_csv": "other,w\n5,6\n"})
    (tmp_path / "p").mkdir()
    assert plait("draft", "a/x y.csv", "a/zz.csv", "--out", "p/plan.toml").status == 0
    assert plait("run", "p/plan.toml").status == 0
    plan = tomllib.loads((tmp_path / "p" / "plan.toml").read_text())
    assert next(iter(plan["source"].values()))["path"].startswith("../a/")


def test_what_a_source_is_warned_of_stands_beside_it_as_the_plan_has_it(plait, put, tmp_path):
    rows = "ELM,1,12\nELM,2,13\nASH,1,9\n"
    put(
        total_csv="yard,hive,kg\n" + rows + "Total,,34\n",
        m__may_csv="yard,hive,seen\nELM,1,a\nELM,2,b\nASH,1,c\nTotal,,\n",
        m__june_csv="yard,hive,seen\nELM,1,d\nELM,2,e\nASH,1,f\n",
    )
    text = " ".join(plait("draft", "total.csv", "m").out.replace("\n# ", " ").split())
    said = "the last row looks like a total; "
    assert f"total.csv: {said}to set it aside: footer = 1" in text
    assert f"m/may.csv: {said}as a source of its own: to set it aside: footer = 1" in text
    plan = '[source.total]\npath = "total.csv"\nfooter = 1\n[handover]\nresult = "total"\n'
    (tmp_path / "p.toml").write_text(plan)
    assert plait("run", "p.toml").status == 0
    assert len(rows_of(tmp_path / "handover" / "total.csv")) == 3


def test_a_header_that_is_a_line_further_down_is_named(plait, put, tmp_path):
    put(a_csv="Report,May 2031,\nyard,hive,kg\nELM,1,12\nELM,2,13\n")
    book = xlsxwriter.Workbook(str(tmp_path / "a.xlsx"))
    sheet = book.add_worksheet("May")
    for number, row in enumerate(
        (["Report", "May 2031", None], ["yard", "hive", "kg"], ["A", 1, 2])
    ):
        sheet.write_row(number + 2, 0, row)
    book.close()
    for source, line in (("a.csv", "2"), ("a.xlsx", "4")):
        remedy = plait("stack", source, "--json", "--out", "o.csv", "--replace").finding(
            "header-empty"
        )["remedy"]
        assert remedy == f"if the next line is the header: --header-line {line}"
        ended = plait("stack", source, "--header-line", line, "--out", "o.csv", "--replace")
        assert ended.status == 0
        assert list(rows_of(tmp_path / "o.csv")[0]) == ["yard", "hive", "kg"]


def test_one_variant_that_clashes_does_not_lose_the_others(plait, put, tmp_path):
    """Moisture and Moistre stand in one file together; Weight kg and Weigth kg never do."""
    put(
        m__a_csv="Hive,Yard,Day,Note,Moisture,Moistre,Weight kg\n1,A,1,n,17,x,4\n2,A,2,m,18,y,5\n",
        m__b_csv="Hive,Yard,Day,Note,Moisture,Weight kg\n3,A,3,n,17,6\n4,A,4,m,19,7\n",
        m__c_csv="Hive,Yard,Day,Note,Moistre,Weigth kg\n5,B,5,n,z,8\n6,B,6,m,w,9\n",
    )
    assert plait("draft", "m", "--out", "p.toml").status == 0
    (step,) = tomllib.loads((tmp_path / "p.toml").read_text())["step"]
    assert step["same"] == {"Weight kg": "Weigth kg"}


def test_equal_rows_of_one_extract_are_not_left_out(plait, put, tmp_path):
    """Two equal till lines are two sales."""
    put(t__may_csv="day,item,kg\n1,honey,2\n1,honey,2\n", t__june_csv="day,item,kg\n2,wax,1\n")
    assert plait("draft", "t", "--out", "p.toml").status == 0
    text = (tmp_path / "p.toml").read_text()
    assert "\ndistinct = true" not in text
    assert plait("run", "p.toml").status == 0
    assert len((tmp_path / "handover" / "t.csv").read_text().splitlines()) == 4


def test_rows_that_two_extracts_share_are_left_out(plait, put, tmp_path):
    put(t__may_csv="day,kg\n1,2\n2,3\n", t__june_csv="day,kg\n2,3\n3,4\n")
    assert plait("draft", "t", "--out", "p.toml").status == 0
    assert "\ndistinct = true  # 1 rows" in (tmp_path / "p.toml").read_text()


def test_next_months_file_is_taken_also_beside_a_workbook(plait, put, tmp_path):
    import xlsxwriter

    put(t__m1_csv="day,kg\n1,2\n", t__m2_csv="day,kg\n2,3\n", t__other_csv="a,b,c\nx,y,z\n")
    with xlsxwriter.Workbook(str(tmp_path / "t" / "m3.xlsx")) as book:
        sheet = book.add_worksheet("Sheet1")
        for row, cells in enumerate([["day", "kg"], [3, 4]]):
            sheet.write_row(row, 0, cells)
    assert plait("draft", "t", "--out", "p.toml").status == 0
    assert '"t/m*' in (tmp_path / "p.toml").read_text()
    assert plait("run", "p.toml").status == 0


def test_a_file_that_no_source_takes_is_told(plait, put, tmp_path):
    put(t__m1_csv="day,kg\n1,2\n", t__m2_csv="day,kg\n2,3\n", t__late_csv="day,kg\n3,4\n")
    (tmp_path / "p.toml").write_text(
        '[source.t]\npath = "t/m*.csv"\n[[step]]\nstack = "t"\n[handover]\nresult = "t"\n'
    )
    for command in ("check", "run"):
        found = plait(command, "p.toml", "--json").finding("not-read")
        assert found["count"] == 1 and "late.csv" in found["message"], command


def test_a_file_with_a_sign_of_equality_in_its_name_is_drafted(plait, tmp_path):
    (tmp_path / "month=05.csv").write_text("day,kg\n1,2\n")
    ended = plait("draft", "./month=05.csv", "--out", "p.toml")
    assert ended.status == 0 and '"month=05.csv"' in (tmp_path / "p.toml").read_text()


def test_two_plans_in_a_folder_have_handovers_of_their_own(plait, put, tmp_path):
    put(**{"visits.csv": "hive,kg\n1,2\n", "sales.csv": "till,sum\n1,2\n"})
    for name in ("visits", "sales"):
        assert plait("draft", f"{name}.csv", "--out", f"{name}.toml").status == 0
        assert plait("run", f"{name}.toml").status == 0
    assert (tmp_path / "handover" / "visits.csv").is_file()
    assert (tmp_path / "sales-handover" / "sales.csv").is_file()


def test_no_plan_takes_the_place_of_the_handover_of_another(plait, put, tmp_path):
    text = (
        '[source.v]\npath = "v.csv"\n[[step]]\nstack = "v"\ninto = "w"\n[handover]\nresult = "w"\n'
    )
    put(**{"v.csv": "hive\n1\n", "one.toml": text, "two.toml": text})
    assert plait("run", "one.toml").status == 0
    before = (tmp_path / "handover" / "ledger.json").read_bytes()
    for _ in range(2):  # without a folder of its own it has one by its name, and stays with it
        assert plait("run", "two.toml", "--replace", "--again").status == 0
        assert (tmp_path / "two-handover" / "w.csv").is_file()
    put(**{"three.toml": text + 'folder = "handover"\n'})
    refused = plait("run", "three.toml", "--replace", "--again")
    assert refused.status == 4 and 'folder = "three-handover"' in refused.err, refused.err
    assert (tmp_path / "handover" / "ledger.json").read_bytes() == before
    (tmp_path / "one.toml").rename(tmp_path / "three.toml")  # the same plan under another name
    assert plait("run", "three.toml", "--replace", "--again").status == 0
    assert (tmp_path / "handover" / "ledger.json").read_bytes() != before


def test_groups_are_named_by_what_their_names_share_and_single_tables_by_their_own(plait, put):
    put(
        **{
            "export/customers.csv": "id,name\n1,A\n",
            "export/orders_2030.csv": "id,customer,sum\n1,1,5\n",
            "export/orders_2031.csv": "id,customer,sum\n2,1,6\n",
            "months/2031-05.csv": "hive,kg\n1,2\n",
            "months/2031-06.csv": "hive,kg\n1,2\n",
        }
    )
    found = plait("survey", "export", "months", "--json").json
    assert sorted(one["name"] for one in found["shapes"]) == ["customers", "months", "orders"]
