"""``plait settle`` and ``plait beside`` on files."""

from __future__ import annotations

import pytest

from conftest import rows_of

HIVES = "hive,breed,queen,kg\n1,Carnica,2029,1.50\n2,Buckfast,2030,2\n1,Mellifera,2031,0.25\n,x,,\n"


@pytest.fixture
def files(put):
    put(hives_csv=HIVES)


def test_conflicts_are_set_aside_and_listed_with_both_places(plait, files, tmp_path):
    ended = plait("settle", "hives.csv", "--key", "hive", "--out", "o.csv", "--json")
    said = ended.json
    assert rows_of(tmp_path / "o.csv") == [
        {"hive": "2", "breed": "Buckfast", "queen": "2030", "kg": "2"}
    ]
    assert said["decisions"][0] == {
        "column": "breed",
        "rule": "agree",
        "differing": 1,
        "decided": 0,
    }
    listed = rows_of(tmp_path / "o-aside" / "hives-conflicts.csv")
    assert listed[0] == {
        "hive": "1",
        "column": "breed",
        "left value": "Carnica",
        "right value": "Mellifera",
        "left source": "hives",
        "left place": "line 2",
        "right source": "hives",
        "right place": "line 4",
    }
    aside = rows_of(tmp_path / "o-aside" / "hives-conflict.csv")
    assert [row["place"] for row in aside] == ["line 2", "line 4"]
    assert aside[0]["reason"] == "rows of its key differ in breed, queen, kg"
    (entry,) = said["ledger"]
    assert sum(line["rows"] for line in entry["lines"]) == 1
    assert ended.finding("settle-conflict")["count"] == 1


def test_rules_decide_each_column(plait, files, tmp_path):
    rules = ["breed=newest-by:queen", "queen=max", "kg=sum"]
    words = [word for rule in rules for word in ("--rule", rule)]
    ended = plait("settle", "hives.csv", "--key", "hive", *words, "--out", "o.csv")
    assert ended.status == 0
    assert rows_of(tmp_path / "o.csv")[0] == {
        "hive": "1",
        "breed": "Mellifera",
        "queen": "2031",
        "kg": "1.75",
    }
    assert "keys that differ" in ended.err


def test_a_row_is_kept_whole_and_several_sources_are_stacked(plait, files, put, tmp_path):
    put(more_csv="hive,breed,queen,kg\n2,Ligustica,2027,\n3,Carnica,2031,7\n")
    words = ("--keep-rule", "newest-by:queen", "--out", "o.csv", "--json")
    said = plait("settle", "hives.csv", "more.csv", "--key", "hive", *words).json
    assert [row["breed"] for row in rows_of(tmp_path / "o.csv")] == [
        "Mellifera",
        "Buckfast",
        "Carnica",
    ]
    assert [entry["operation"] for entry in said["ledger"]] == [
        "stack of 2 sources",
        "settle hives+more on hive",
    ]


def test_mistakes_are_told(plait, files):
    for words, said in (
        (["--key", "hvie"], "did you mean hive?"),
        (["--key", "hive", "--rule", "breed=commonst"], "did you mean commonest?"),
        (["--key", "hive", "--rule", "hive=first"], "part of the key"),
        (["--key", "hive", "--rule", "breed=sum"], "takes numbers"),
        (["--key", "hive", "--keep-rule", "longest"], "unknown rule 'longest'"),
    ):
        ended = plait("settle", "hives.csv", *words)
        assert ended.status == 2
        assert said in ended.err


def test_beside_by_row_order(plait, put, tmp_path):
    put(a_csv="id,kg\n1,2\n2,3\n", b_csv="id,photo\n1,x.png\n2,y.png\n", c_csv="id\n2\n1\n")
    assert plait("beside", "a.csv", "b.csv", "--out", "o.csv").status == 0
    assert rows_of(tmp_path / "o.csv")[1] == {"id": "2", "kg": "3", "photo": "y.png"}
    ended = plait("beside", "a.csv", "c.csv", "--out", "p.csv", "--json")
    assert ended.finding("source-conflict")["count"] == 2
    assert rows_of(tmp_path / "p.csv")[0] == {"id": "1", "kg": "2", "c.id": "2"}
    (entry,) = ended.json["ledger"]
    assert sum(line["rows"] for line in entry["lines"]) == 2


def test_beside_is_refused_for_other_lengths(plait, put, tmp_path):
    put(a_csv="a\n1\n2\n", b_csv="b\n1\n2\n3\n")
    ended = plait("beside", "a.csv", "b.csv", "--out", "o.csv")
    assert ended.status == 1
    assert "a has 2 rows, b 3 rows" in ended.err
    assert "b line 4" in ended.err
    assert not (tmp_path / "o.csv").exists()
