"""The program groups, widens and lengthens files."""

from __future__ import annotations

from conftest import rows_of

VISITS = "yard,hive,seen,kg\nA,1,2031-04-02,0.10\nA,2,2031-04-09,0.20\nB,1,2031-05-02,\n"


def test_group_writes_a_row_a_group_and_accounts_for_all(plait, put, tmp_path):
    put(visits_csv=VISITS)
    ended = plait("group", "visits.csv", "--by", "yard,seen:month", "--take", "n=count", "--take",
                  "honey=sum:kg", "--out", "g.csv", "--json")  # fmt: skip
    assert ended.status == 0
    assert rows_of(tmp_path / "g.csv") == [
        {"yard": "A", "seen month": "2031-04", "n": "2", "honey": "0.30"},
        {"yard": "B", "seen month": "2031-05", "n": "1", "honey": ""},
    ]
    (entry,) = ended.json["ledger"]
    assert [line["rows"] for line in entry["lines"]] == [3, -1]
    assert ended.finding("group-values-missing")["count"] == 1


def test_figures_go_back_onto_rows(plait, put):
    put(visits_csv=VISITS)
    ended = plait("group", "visits.csv", "--by", "yard", "--take", "n=count", "--onto-rows")
    assert [line.rsplit(",", 1)[1] for line in ended.out.splitlines()] == ["n", "2", "2", "1"]


def test_a_mistyped_figure_is_answered_with_the_right_one(plait, put):
    put(visits_csv=VISITS)
    ended = plait("group", "visits.csv", "--by", "yard", "--take", "n=midle:kg")
    assert ended.status == 2 and "did you mean middle?" in ended.err


def test_widen_and_lengthen_turn_a_table_and_back(plait, put, tmp_path):
    put(visits_csv="hive,month,kg\n1,04,3\n1,05,9\n2,05,7\n")
    wide = ("widen", "visits.csv", "--heads", "month", "--cells", "kg", "--out", "w.csv")
    assert plait(*wide).status == 0
    assert (tmp_path / "w.csv").read_text() == "hive,04,05\n1,3,9\n2,,7\n"
    ended = plait("lengthen", "w.csv", "--key", "hive", "--heads", "month", "--cells", "kg",
                  "--without-missing")  # fmt: skip
    assert ended.out == "hive,month,kg\n1,04,3\n1,05,9\n2,05,7\n"
