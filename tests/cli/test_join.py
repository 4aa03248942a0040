"""``plait join`` on files."""

from __future__ import annotations

import json

import pytest

from conftest import rows_of

VISITS = "yard,hive,kg\nA,1,12.50\nA,2,9\nB,007,1e3\n,3,4\nb,1,5\nA,1,12.50\nA,1,7\n"
HIVES = 'yard,hive,breed\nA,1,Buckfast\nB,1,Carnica\nC,7,"Lig, ""x"""\nC,7,other\n,9,none\n'


@pytest.fixture
def files(put):
    put(visits_csv=VISITS, hives_csv=HIVES)


def joined(plait, *words):
    return plait("join", "visits.csv", "hives.csv", "--key", "yard,hive", *words)


def test_the_match_block_has_the_fields_of_the_design_and_their_values(plait, files):
    match = joined(plait, "--out", "o.csv", "--json").json["match"]
    assert match == {
        "left_rows": 7,
        "right_rows": 5,
        "left_matched": 3,
        "left_unmatched": 3,
        "right_matched": 1,
        "right_unmatched": 3,
        "left_missing_key": 1,
        "right_missing_key": 1,
        "left_duplicate_keys": 1,
        "right_duplicate_keys": 1,
        "cardinality": "many-to-one",
        "output_rows": 7,
    }


def test_json_has_sources_ledger_findings_and_outputs(plait, files, tmp_path):
    said = joined(plait, "--out", "o.csv", "--json").json
    assert set(said) == {"command", "version", "sources", "ledger", "findings", "outputs", "match"}
    assert said["sources"][0] == {"name": "visits", "path": "visits.csv", "rows": 7, "columns": 3}
    assert {output["path"] for output in said["outputs"]} == {
        "o.csv",
        "o-aside/visits-unmatched.csv",
        "o-aside/hives-unmatched.csv",
    }
    import hashlib

    for output in said["outputs"]:
        content = (tmp_path / output["path"]).read_bytes()
        assert output["sha256"] == hashlib.sha256(content).hexdigest()
        assert output["bytes"] == len(content)
        assert output["rows"] == len(rows_of(tmp_path / output["path"]))


@pytest.mark.parametrize("kind", ["left", "inner", "right", "full"])
def test_every_kind_accounts_for_every_row(plait, files, tmp_path, kind):
    said = joined(plait, "--kind", kind, "--out", "o.csv", "--json").json
    (entry,) = said["ledger"]
    written = rows_of(tmp_path / "o.csv")
    assert sum(line["rows"] for line in entry["lines"]) == entry["rows_out"] == len(written)
    assert [line["rows"] for line in entry["lines"][:2]] == [7, 5]
    kept_out = -sum(line["rows"] for line in entry["lines"] if "set aside" in line["reason"])
    keeps = {"left": [0], "right": [1], "full": [0, 1], "inner": []}[kind]
    listed = [
        rows_of(tmp_path / "o-aside" / f"{name}-unmatched.csv") for name in ("visits", "hives")
    ]
    assert kept_out == sum(len(rows) for side, rows in enumerate(listed) if side not in keeps)


def test_set_aside_rows_have_reason_source_row_and_their_cells(plait, files, tmp_path):
    joined(plait, "--kind", "inner", "--out", "o.csv", "--aside", "left-out")
    assert rows_of(tmp_path / "left-out" / "visits-unmatched.csv")[1:3] == [
        {
            "reason": "no match in hives",
            "source": "visits",
            "place": "line 4",
            "yard": "B",
            "hive": "007",
            "kg": "1e3",
        },
        {
            "reason": "key is missing",
            "source": "visits",
            "place": "line 5",
            "yard": "",
            "hive": "3",
            "kg": "4",
        },
    ]


def test_duplicate_keys_are_split_into_repeats_and_conflicts(plait, put):
    put(l_csv="k,v\n1,a\n1,a\n2,b\n2,c\n3,d\n", r_csv="k,w\n1,x\n2,y\n")
    ended = plait("join", "l.csv", "r.csv", "--key", "k", "--out", "o.csv", "--json")
    codes = {finding["code"] for finding in ended.json["findings"]}
    assert not codes & {"key-repeat", "key-conflict"}, "so it should be in a many-to-one join"
    assert ended.json["match"]["left_duplicate_keys"] == 2
    ended = plait("join", "r.csv", "l.csv", "--key", "k", "--out", "p.csv", "--json")
    assert ended.finding("key-repeat")["count"] == 1
    conflict = ended.finding("key-conflict")
    assert conflict["count"] == 1
    assert conflict["examples"][0] == {
        "text": "k 2: v b / c",
        "places": [
            {"source": "l", "row": 3, "line": 4},
            {"source": "l", "row": 4, "line": 5},
        ],
    }


def test_an_unasked_many_to_many_join_is_refused_with_its_size(plait, put, tmp_path):
    put(l_csv="k,v\n1,a\n1,b\n", r_csv="k,w\n1,x\n1,y\n1,z\n")
    ended = plait("join", "l.csv", "r.csv", "--out", "o.csv", "--json")
    assert ended.status == 1
    assert "rows would become 6" in ended.err
    assert ended.json["match"]["output_rows"] == 6
    assert sorted(path.name for path in tmp_path.iterdir()) == ["l.csv", "r.csv"]
    asked = plait("join", "l.csv", "r.csv", "--cardinality", "many-to-many", "--out", "o.csv")
    assert asked.status == 0
    assert [row["w"] for row in rows_of(tmp_path / "o.csv")] == ["x", "y", "z"] * 2


def test_a_declared_cardinality_that_does_not_hold_names_the_keys(plait, put):
    put(l_csv="k,v\n1,a\n", r_csv="k,w\n1,x\n1,y\n9,z\n9,z\n")
    ended = plait(
        "join", "l.csv", "r.csv", "--cardinality", "one-to-one", "--out", "o.csv", "--json"
    )
    assert ended.status == 1
    finding = ended.finding("cardinality")
    assert finding["count"] == 1
    assert finding["examples"][0]["text"] == "k 1 on 2 rows"


def test_a_repeated_key_that_matches_nothing_multiplies_nothing(plait, put):
    put(l_csv="k,v\n1,a\n1,b\n", r_csv="k,w\n1,x\n9,y\n9,z\n")
    ended = plait("join", "l.csv", "r.csv", "--out", "o.csv", "--json")
    assert ended.json["match"]["cardinality"] == "many-to-one"
    assert ended.json["match"]["right_duplicate_keys"] == 1


def test_key_names_that_differ_and_origin(plait, put):
    put(l_csv="land,v\nNO,1\nSE,2\n", r_csv="Code,w\nNO,x\nDK,y\n")
    ended = plait(
        "join",
        "l.csv",
        "r.csv",
        "--key",
        "land=Code",
        "--kind",
        "full",
        "--origin",
        "from",
        "--quiet",
    )
    assert ended.out == "land,v,w,from\nNO,1,x,l+r\nSE,2,,l\nDK,,y,r\n"


def test_further_tables_join_on_to_the_result_with_keys_of_their_own(plait, put):
    put(a_csv="k,v\n1,x\n2,y\n", b_csv="k,m\n1,p\n2,q\n", c_csv="m,z\nq,9\n")
    ended = plait(
        "join", "a.csv", "b.csv", "c.csv", "--key", "k", "--key", "m", "--origin", "o", "--quiet"
    )
    assert ended.out == "k,v,m,z,o\n1,x,p,,a+b\n2,y,q,9,a+b+c\n"
    said = plait("join", "a.csv", "b.csv", "c.csv", "--out", "o.csv", "--json").json
    assert len(said["ledger"]) == len(said["matches"]) == 2


def test_without_a_key_the_shared_columns_are_used_and_named_aloud(plait, files):
    ended = plait("join", "visits.csv", "hives.csv", "--out", "o.csv", "--json")
    assert ended.finding("key-inferred")["remedy"] == "--key yard,hive"


def test_numbers_are_equal_as_numbers_and_text_as_text(plait, put):
    put(l_csv="k,v\n7,a\n8.50,b\n", r_csv="k,w\n7.0,x\n8.5,y\n")
    assert plait("join", "l.csv", "r.csv", "--key", "k", "--quiet").out == (
        "k,v,r.k,w\n7,a,7.0,x\n8.50,b,8.5,y\n"
    )
    put(l_csv="k,v\n007,a\n", r_csv="k,w\n7,x\n")
    ended = plait("join", "l.csv", "r.csv", "--key", "k", "--out", "o.csv", "--json")
    assert ended.json["match"]["left_matched"] == 0
    assert "--ignore leading-zeros" in ended.finding("key-kind")["remedy"]


def test_the_remedy_for_unmatched_keys_works_as_it_is_written(plait, put):
    put(l_csv="k,v\nab-1,a\nAB 2,b\nZZ,c\n", r_csv="k,w\nAB1,x\nAB2,y\n")
    ended = plait("join", "l.csv", "r.csv", "--key", "k", "--out", "o.csv", "--json")
    unmatched = next(
        f
        for f in ended.json["findings"]
        if f["code"] == "key-unmatched" and f["severity"] == "warning"
    )
    assert "2 of 3 rows would match with --ignore case,punctuation,space" in unmatched["remedy"]
    again = plait(
        "join",
        "l.csv",
        "r.csv",
        "--key",
        "k",
        "--ignore",
        "case,punctuation,space",
        "--out",
        "p.csv",
        "--json",
    )
    assert again.json["match"]["left_matched"] == 2
    assert again.finding("key-respelt")["count"] == 2


def test_columns_on_both_sides(plait, put):
    put(
        l_csv="k,same,other\n1,a,x\n2,b,y\n3,c,\n",
        r_csv="k,same,other\n1,a,x\n2,b,Y\n3,c,z\n4,d,w\n",
    )
    ended = plait(
        "join", "l.csv", "r.csv", "--key", "k", "--kind", "full", "--out", "o.csv", "--json"
    )
    assert ended.finding("source-conflict")["count"] == 1
    assert plait("join", "l.csv", "r.csv", "--key", "k", "--kind", "full", "--quiet").out == (
        "k,same,other,r.other\n1,a,x,x\n2,b,y,Y\n3,c,,z\n4,d,,w\n"
    )


def test_fail_on_hands_nothing_over(plait, files, tmp_path):
    ended = joined(plait, "--out", "o.csv", "--fail-on", "key-missing")
    assert ended.status == 1
    assert "key-missing" in ended.err
    assert not (tmp_path / "o.csv").exists()
    assert not (tmp_path / "o-aside").exists()
    assert joined(plait, "--out", "o.csv", "--fail-on", "error,source-conflict").status == 0


def test_a_table_joined_with_itself(plait, put):
    put(a_csv="k,v\n1,a\n2,b\n")
    ended = plait("join", "a.csv", "a.csv", "--key", "k", "--out", "o.csv", "--json")
    assert ended.json["ledger"][0]["rows_in"] == {"a": 2, "a (2)": 2}


def test_sources_with_no_rows(plait, put):
    put(a_csv="k,v\n", b_csv="k,w\n1,x\n")
    assert plait("join", "a.csv", "b.csv", "--quiet").out == "k,v,w\n"
    assert plait("join", "b.csv", "a.csv", "--kind", "full", "--quiet").out == "k,w,v\n1,x,\n"


def test_the_report_is_one_page_with_values_escaped(plait, put, tmp_path):
    put(a_csv="k,v\n<script>alert(1)</script>,a\n", b_csv="k,w\n1,x\n")
    assert plait("join", "a.csv", "b.csv", "--out", "o.csv", "--report", "r.html").status == 0
    page = (tmp_path / "r.html").read_text()
    assert page.count('<span class="fell') >= 4, "the ledger is drawn"
    assert "<script>alert" not in page
    assert "&lt;script&gt;" in page
    assert "://" not in page


def test_json_goes_to_standard_output_alone(plait, files):
    ended = joined(plait, "--out", "o.csv", "--json")
    assert json.loads(ended.out)["command"] == "join"
    assert "not matched" in ended.err


def test_a_marker_for_missing_in_a_column_of_numbers_matches_nothing(plait, put):
    put(a_csv="hive,kg\n1,2\nNA,3\n", b_csv="hive,breed\n1,x\nNA,y\n")
    words = ("--key", "hive", "--out", "o.csv", "--json")
    match = plait("join", "a.csv", "b.csv", *words).json["match"]
    assert (match["left_matched"], match["left_missing_key"], match["right_missing_key"]) == (
        1,
        1,
        1,
    )
    put(c_csv="yard,kg\nN,2\nNA,3\n", d_csv="yard,breed\nN,x\nNA,y\n")
    words = ("--key", "yard", "--out", "p.csv", "--json")
    match = plait("join", "c.csv", "d.csv", *words).json["match"]
    assert match["left_matched"] == 2  # NA may be Namibia


def test_a_marker_beside_truths_is_a_key_like_any_other(plait, put):
    put(a_csv="ok,kg\ntrue,2\n-,3\n", b_csv="ok,breed\ntrue,x\n-,y\n")
    match = plait("join", "a.csv", "b.csv", "--key", "ok", "--out", "o.csv", "--json").json["match"]
    assert (match["left_matched"], match["left_missing_key"]) == (2, 0)


def test_a_quoted_name_is_understood_by_type(plait, put, tmp_path):
    put(a_csv='"a=b",kg\n3/4/2031,2\n')
    words = ("--type", '"a=b"=date:%d/%m/%Y', "--out", "o.csv")
    assert plait("mend", "a.csv", *words).status == 0
    assert (tmp_path / "o.csv").read_text() == "a=b,kg\n2031-04-03,2\n"


@pytest.fixture
def registers(put):
    put(
        new_csv="hive,breed,year\n1,Carnica,2031\n2,,2030\n3,Buckfast,2029\n",
        old_csv="hive,breed,year,tag\n1,Mellifera,2031,a\n2,Ligustica,,b\n3,Buckfast,2027,c\n",
    )


def test_conflicts_between_sources_are_listed_with_both_places(plait, registers, tmp_path):
    plait("join", "new.csv", "old.csv", "--key", "hive", "--out", "o.csv")
    listed = rows_of(tmp_path / "o-aside" / "new+old-conflicts.csv")
    assert [tuple(row.values()) for row in listed] == [
        ("1", "breed", "Carnica", "Mellifera", "new", "line 2", "old", "line 2"),
        ("3", "year", "2029", "2027", "new", "line 4", "old", "line 4"),
    ]


@pytest.mark.parametrize(
    ("prefer", "breeds", "years"),
    [
        ("left", ["Carnica", "Ligustica", "Buckfast"], ["2031", "2030", "2029"]),
        ("right", ["Mellifera", "Ligustica", "Buckfast"], ["2031", "2030", "2027"]),
    ],
)
def test_one_side_is_preferred_and_the_other_fills_its_gaps(
    plait, registers, tmp_path, prefer, breeds, years
):
    words = ("--key", "hive", "--prefer", prefer, "--out", "o.csv", "--json")
    ended = plait("join", "new.csv", "old.csv", *words)
    rows = rows_of(tmp_path / "o.csv")
    assert list(rows[0]) == ["hive", "breed", "year", "tag"]
    assert [row["breed"] for row in rows] == breeds
    assert [row["year"] for row in rows] == years
    codes = [one["code"] for one in ended.json["findings"]]
    assert codes.count("source-conflict") == 2
    assert codes.count("cells-filled") == 1


def test_taking_renaming_and_a_limit(plait, registers, tmp_path):
    words = ("--key", "hive", "--take", "tag", "--rename", "tag=label", "--out", "o.csv")
    assert plait("join", "new.csv", "old.csv", *words).status == 0
    assert list(rows_of(tmp_path / "o.csv")[0]) == ["hive", "breed", "year", "label"]
    cross = ("--kind", "cross", "--out", "c.csv")
    limited = plait("join", "new.csv", "old.csv", *cross, "--max-rows", "8")
    assert limited.status == 1
    assert "would give 9 rows from 3 and 3" in limited.err
    assert plait("join", "new.csv", "old.csv", *cross).status == 0
    assert len(rows_of(tmp_path / "c.csv")) == 9


def test_the_rows_of_offending_keys_are_listed_when_a_folder_is_named(plait, files, tmp_path):
    words = ("--cardinality", "one-to-one", "--out", "o.csv", "--aside", "bad")
    ended = joined(plait, *words)
    assert ended.status == 1
    listed = rows_of(tmp_path / "bad" / "visits-multiplying.csv")
    assert [row["place"] for row in listed] == ["line 2", "line 7", "line 8"]
    assert not (tmp_path / "o.csv").exists()


def test_a_shared_column_that_spoils_the_key_is_pointed_out(plait, put):
    rows = range(30)
    put(
        visits_csv="hive,note,kg\n" + "".join(f"{n},calm,{n}\n" for n in rows),
        hives_csv="hive,note\n" + "".join(f"{n},bought {n}\n" for n in rows),
    )
    ended = plait("join", "visits.csv", "hives.csv", "--out", "o.csv", "--json")
    found = ended.finding("key-trap")
    assert found["count"] == 30
    assert found["remedy"] == "--key hive"
    assert (
        "0.0% of the rows of visits match on hive,note; 100.0% would match on hive (one-to-one)"
        in found["message"]
    )


def test_a_part_that_matches_more_is_no_trap_where_the_whole_key_is_only_spelt_otherwise(
    plait, put
):
    rows = [(yard, number) for yard in ("Elm Court", "Nordfeld") for number in range(1, 30)]
    put(
        visits_csv="yard,hive\n" + "".join(f"{yard},{number:03}\n" for yard, number in rows),
        hives_csv="yard,hive\n" + "".join(f"{yard},{number}\n" for yard, number in rows),
    )
    ended = plait(
        "join", "visits.csv", "hives.csv", "--key", "yard,hive", "--out", "o.csv", "--json"
    )
    codes = [finding["code"] for finding in ended.json["findings"]]
    assert "key-unmatched" in codes and "key-trap" not in codes
    # Where nothing looser would match, the part that does is pointed out, with what to look at.
    put(hives_csv="yard,hive\n" + "".join(f"{yard},X{number * 7}\n" for yard, number in rows))
    ended = plait(
        "join", "visits.csv", "hives.csv", "--key", "yard,hive", "--out", "p.csv", "--json"
    )
    assert ended.finding("key-trap")["remedy"] == (
        "check which rows match: plait keys visits.csv hives.csv --key yard,hive"
    )


def test_keys_that_stand_in_another_column_are_pointed_out(plait, put):
    people = [f"Person {n}" for n in range(20)]
    put(
        visits_csv="warden,kg\n" + "".join(f"{one},1\n" for one in people),
        staff_csv="warden,name\n" + "".join(f"W{n},{one}\n" for n, one in enumerate(people)),
    )
    ended = plait("join", "visits.csv", "staff.csv", "--out", "o.csv", "--json")
    assert ended.finding("key-elsewhere")["remedy"] == "--key warden=name"


def test_semi_and_anti_share_the_left_rows(plait, files, tmp_path):
    for kind, kgs in (
        ("semi", ["12.50", "12.50", "7"]),
        ("anti", ["9", "1e3", "4", "5"]),
    ):
        ended = joined(plait, "--kind", kind, "--out", f"{kind}.csv", "--json")
        rows = rows_of(tmp_path / f"{kind}.csv")
        assert list(rows[0]) == ["yard", "hive", "kg"]
        assert [row["kg"] for row in rows] == kgs
        (entry,) = ended.json["ledger"]
        assert sum(line["rows"] for line in entry["lines"]) == len(kgs)


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (["--kind", "cross", "--key", "hive"], "cannot be combined with --key"),
        (["--key", "hive", "--within", "7d"], "--nearest COLUMN:before"),
        (["--key", "hive", "--prefer", "lft"], "did you mean left?"),
        (["--key", "hive", "--take", "tga"], "did you mean tag?"),
        (["--key", "hive", "--rename", "tga=x"], "did you mean tag?"),
        (["--key", "hive", "--missing-keys", "no"], "apart or match"),
    ],
)
def test_mistakes_in_the_further_options_are_told(plait, registers, words, said):
    ended = plait("join", "new.csv", "old.csv", *words)
    assert ended.status == 2
    assert said in ended.err


def test_a_marker_of_a_left_row_without_a_partner_stays(plait, put):
    put(l_csv="k,n\n1,NA\n2,5\n3,-\n", r_csv="k,n\n2,NA\n9,7\n")
    ended = plait("join", "l.csv", "r.csv", "--key", "k", "--prefer", "right")
    assert ended.out.split() == ["k,n", "1,NA", "2,5", "3,-"]
