"""``plait keys``, and the crosswalk it writes, on files."""

from __future__ import annotations

import json

import pytest

from conftest import rows_of

VISITS = "yard,hive,kg\nElm,1,2\nelm,2,3\nElm ,3,4\nNorthfeild,1,5\nOak,9,6\n,4,7\nElm,1,8\n"
HIVES = "yard,hive,breed\nElm,1,Carnica\nElm,2,x\nElm,3,y\nNorthfield,1,z\nElm,1,Buckfast\n"


@pytest.fixture
def files(put):
    put(visits_csv=VISITS, hives_csv=HIVES)


def audited(plait, *words):
    return plait("keys", "visits.csv", "hives.csv", "--key", "yard,hive", *words)


def test_json_has_the_fields_of_the_design(plait, files):
    said = audited(plait, "--json").json
    assert said["command"] == "keys"
    assert said["tables"][1] == {
        "name": "hives",
        "rows": 5,
        "distinct_keys": 4,
        "missing_key_rows": 0,
        "duplicate_keys": 1,
        "duplicate_rows": 2,
        "repeat_keys": 0,
        "conflict_keys": 1,
        "conflict_columns": {"breed": 1},
    }
    (pair,) = said["pairs"]
    assert (pair["left"], pair["right"]) == ("visits", "hives")
    counts = pair["keys_in_both"], pair["keys_only_left"], pair["keys_only_right"]
    assert counts == (1, 4, 3)
    assert pair["cardinality"] == "many-to-many"
    assert said["why"]["best"]["ways"] == ["case", "space"]


def test_the_first_lines_say_how_many_and_what_to_do(plait, files):
    ended = audited(plait)
    first, second, third, *_ = ended.out.splitlines()
    assert second.endswith("case,space, with no key collisions")
    assert first == "not matched: 4 of 5 keys in visits (4 rows), 3 of 4 in hives (3 rows)"
    assert second.startswith("2 keys of visits and 2 keys of hives would match with --ignore case")
    assert third == "1 of the other 2 keys of visits has a close match"
    assert "Northfeild, 1  → Northfield, 1  0.90" in ended.out
    assert ended.err == ""


def test_pairs_are_written_edited_and_given_back(plait, files, tmp_path):
    assert audited(plait, "--out", "pairs.csv").status == 0
    pairs = rows_of(tmp_path / "pairs.csv")
    assert [(row["left yard"], row["right yard"], row["use"]) for row in pairs] == [
        ("elm", "Elm", "yes"),
        ("Elm ", "Elm", "yes"),
        ("Northfeild", "Northfield", "no"),
    ]
    # What is only near is for a person to say.
    text = (tmp_path / "pairs.csv").read_text().replace("0.90,near,no", "0.90,near,yes")
    (tmp_path / "pairs.csv").write_text(text)
    words = ("--pairs", "pairs.csv", "--kind", "inner", "--cardinality", "many-to-many")
    said = plait(
        *("join", "visits.csv", "hives.csv", "--key", "yard,hive", "--out", "o.csv", "--json"),
        *words,
    ).json
    assert said["match"]["left_unmatched"] == 1
    text = (tmp_path / "pairs.csv").read_text().replace("0.90,near,yes", "0.90,near,no")
    (tmp_path / "pairs.csv").write_text(text)
    again = audited(plait, "--pairs", "pairs.csv", "--json").json
    assert again["pairs"][0]["keys_only_left"] == 2


def test_key_sets_are_written_distinct_or_with_all_rows(plait, files, tmp_path):
    audited(plait, "--only", "both", "--out", "both.csv")
    assert rows_of(tmp_path / "both.csv") == [
        {"yard": "Elm", "hive": "1", "rows visits": "2", "rows hives": "2"}
    ]
    audited(plait, "--only", "left", "--all-rows", "--out", "left.csv")
    assert [row["kg"] for row in rows_of(tmp_path / "left.csv")] == ["3", "4", "5", "6"]
    refused = audited(plait, "--only", "lefft", "--out", "no.csv")
    assert refused.status == 2
    assert "did you mean left?" in refused.err
    assert not (tmp_path / "no.csv").exists()


def test_one_source_with_what_would_be_unique(plait, files, tmp_path):
    ended = plait("keys", "hives.csv", "--key", "yard,hive", "--out", "twice.csv")
    assert ended.err.startswith("yard,hive is not unique in hives: 1 key on 2 rows")
    assert "with breed: unique   --key yard,hive,breed" in ended.err
    assert [row["breed"] for row in rows_of(tmp_path / "twice.csv")] == ["Carnica", "Buckfast"]
    whole = plait("keys", "hives.csv", "--key", "breed")
    assert whole.out.startswith("breed is unique in hives: 5 rows")


def test_three_sources_in_a_grid(plait, files, put):
    put(old_csv="yard,hive\nElm,1\nOak,9\n")
    said = plait("keys", "visits.csv", "hives.csv", "old.csv", "--key", "yard,hive", "--json").json
    held = {tuple(one["sources"]): one["keys"] for one in said["holdings"]}
    assert held == {
        ("visits", "hives", "old"): 1,
        ("visits", "old"): 1,
        ("visits",): 3,
        ("hives",): 3,
    }
    assert len(said["pairs"]) == 3
    assert "why" not in said


def test_a_page_and_fail_on(plait, files, tmp_path):
    ended = audited(plait, "--report", "keys.html", "--fail-on", "key-unmatched")
    assert ended.status == 1
    assert "<h2>What a looser comparison would match</h2>" in (tmp_path / "keys.html").read_text()


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (["visits.csv"], "no key given"),
        (["visits.csv", "--key", "yrd"], "did you mean yard?"),
        (["visits.csv", "--key", "yard", "--only", "left"], "--out FILE"),
        (["visits.csv", "hives.csv", "--key", "yard", "--ignore", "cases"], "did you mean case?"),
        (["visits.csv", "hives.csv", "--key", "yard", "--pairs", "none.csv"], "none.csv"),
    ],
)
def test_mistakes_are_told(plait, files, words, said):
    ended = plait("keys", *words)
    assert ended.status in (2, 3)
    assert said in ended.err


def test_what_is_for_reading_goes_to_standard_output_unless_that_is_taken(plait, put):
    put(l_csv="k\na\nb\n", r_csv="k\na\nc\n")
    words = ("keys", "l.csv", "r.csv", "--key", "k")
    told = plait(*words)
    assert told.out and not told.err
    written = plait(*words, "--out", "pairs.csv")
    assert written.err.startswith(told.out.splitlines()[0]) and not written.out
    taken = plait(*words, "--json")
    assert json.loads(taken.out)["command"] == "keys"
    assert taken.err == told.out


def test_markers_that_count_as_keys_are_said(plait, put):
    put(a_csv="k,v\nNA,1\nElm,2\n-,3\n", b_csv="k,w\nNA,1\nElm,2\n")
    said = [one for one in plait("keys", "a.csv", "b.csv", "--key", "k", "--json").json["findings"]
            if one["code"] == "marker-kept"]  # fmt: skip
    assert [(one["where"], one["count"]) for one in said] == [
        ("a, column k", 2),
        ("b, column k", 1),
    ]


def test_of_many_near_keys_the_three_nearest_are_suggested(plait, put, tmp_path):
    near = ["Waldhof Imkerei A", "Waldhof Imkerei B", "Waldhof Imkerei C", "Waldhof Imkerei D"]
    put(l_csv="k\nWaldhof Imkerei\nBach\n", r_csv="k\nBach\n" + "".join(f"{one}\n" for one in near))
    assert plait("keys", "l.csv", "r.csv", "--key", "k", "--out", "p.csv").status == 0
    pairs = rows_of(tmp_path / "p.csv")
    assert len(pairs) == 3


def test_letters_stand_in_the_account_as_they_are(plait, put):
    put(l_csv="k\nWürzburg\n", r_csv="k\n北\n")
    ended = plait("keys", "l.csv", "r.csv", "--key", "k", "--json")
    assert "Würzburg" in ended.out and "北" in ended.out


def test_extracts_are_one_side_and_each_has_its_part(plait, put, tmp_path):
    months = {
        "03": "hive,kg\n1,2\n2,3\n9,1\n",
        "04": "hive,kg\n1,2\n9,3\n,1\n",
        "05": "hive,kg\n2,2\n",
    }
    put(**{f"visits/2031-{month}.csv": text for month, text in months.items()})
    put(**{"hives.csv": "hive\n1\n2\n3\n"})
    audit = plait("keys", "visits", "hives.csv", "--key", "hive", "--json").json
    (pair,) = audit["pairs"]
    assert (pair["left"], pair["keys_in_both"], pair["rows_only_left"]) == ("visits", 2, 2)
    parts = {one["name"]: one for one in audit["extracts"]}
    for month, text in months.items():
        keys = [line.split(",")[0] for line in text.splitlines()[1:]]
        part = parts[f"2031-{month}"]
        assert part["side"] == "visits" and part["rows"] == len(keys)
        assert part["missing_key_rows"] == keys.count("")
        assert part["distinct_keys"] == len(set(keys) - {""})
        assert part["unmatched_rows"] == keys.count("9")
        assert part["unmatched_keys"] == len(set(keys) & {"9"})
    shown = plait("keys", "visits", "hives.csv", "--key", "hive").out
    assert shown.index("2031-03  ") < shown.index("2031-05  ")
    apart = plait("keys", "visits", "hives.csv", "--key", "hive", "--apart", "--json").json
    assert not apart["extracts"] and len(apart["tables"]) == 4


def test_a_key_that_is_misspelt_in_an_extract_is_told_of_the_side(plait, put):
    put(**{"v/1.csv": "hive,kg\n1,2\n", "v/2.csv": "Hive ,kg\n2,3\n", "h.csv": "hive\n1\n2\n"})
    audit = plait("keys", "v", "h.csv", "--key", "hive", "--json")
    assert audit.finding("header-variant")["count"] == 1
    assert audit.json["extracts"][1]["missing_key_rows"] == 1


def test_a_plan_takes_extracts_as_one_side_too(plait, put):
    put(**{"v/1.csv": "hive\n1\n", "v/2.csv": "hive\n9\n", "h.csv": "hive\n1\n"})
    sources = '[source.v]\npath = "v"\n[source.h]\npath = "h.csv"\n'
    text = sources + '[[step]]\nkeys = ["v", "h"]\nkey = "hive"\n'
    for apart, codes in (("", ["key-unmatched"]), ("apart = true\n", [])):
        put(**{"p.toml": text + apart})
        findings = plait("check", "p.toml", "--json").json["findings"]
        assert [f["code"] for f in findings if f["code"] == "key-unmatched"] == codes
