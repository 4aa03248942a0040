"""Partners by evidence through the program: audited, written, joined with, traced, settled."""

from __future__ import annotations

import csv
import json

import pytest

from conftest import rows_of
from registers import registers, registers_as_csv

BY = ["--key", "n", "--evidence", "name,born,town,phone"]


@pytest.fixture
def people(tmp_path):
    """Two registers in the folder, and who is who."""
    for name, content in registers_as_csv(5, 200).items():
        (tmp_path / name).write_bytes(content)
    return registers(5, 200)[2]


def _used(rows):
    return {row["left n"]: row["right n"] for row in rows if row["use"] == "yes"}


def test_accepted_pairs_are_written_joined_with_and_told_by_what_they_matched(
    plait, people, tmp_path
):
    ended = plait("keys", "people.csv", "payers.csv", *BY, "--accept", "99%", "--out", "pairs.csv")
    assert ended.status == 0, ended.err
    rows = rows_of(tmp_path / "pairs.csv")
    used = _used(rows)
    assert len(used) > 85 and sum(people.get(a) == b for a, b in used.items()) / len(used) > 0.98
    assert f"{len(used):,} of them reach 99% and are used" in ended.err
    assert all((float(row["probability"]) >= 0.99) == (row["use"] == "yes") for row in rows)

    ended = plait("join", "people.csv", "payers.csv", "--key", "n", "--pairs", "pairs.csv",
                  "--take", "phone", "--out", "j.csv", "--json")  # fmt: skip
    told = json.loads(ended.out)
    assert told["match"]["matched_by"] == {
        "equal": 0,
        "looser": 0,
        "pairs": 0,
        "evidence": len(used),
    }
    assert told["ledger"][0]["operation"].endswith(f": matched {len(used)} by evidence")
    joined = {row["n"]: row["payers.n"] for row in rows_of(tmp_path / "j.csv") if row["payers.n"]}
    assert joined == used


@pytest.mark.slow
def test_without_a_threshold_no_pair_is_used(plait, people, tmp_path):
    ended = plait("keys", "people.csv", "payers.csv", *BY, "--out", "pairs.csv")
    assert ended.status == 0 and "none is used" in ended.err
    assert _used(rows_of(tmp_path / "pairs.csv")) == {}


@pytest.mark.slow
def test_rows_that_match_by_themselves_by_looser_keys_and_by_evidence_are_told_apart(
    plait, put, people, tmp_path
):
    left, right = rows_of(tmp_path / "people.csv"), rows_of(tmp_path / "payers.csv")
    extra = [("Equal", "Equal"), ("Case", "CASE")]
    for rows, side, name in ((left, 0, "people.csv"), (right, 1, "payers.csv")):
        rows += [
            {**rows[0], "n": pair[side], "name": pair[side], "born": "1900-01-01"} for pair in extra
        ]
        with (tmp_path / name).open("w", newline="") as file:
            writer = csv.DictWriter(file, rows[0])
            writer.writeheader()
            writer.writerows(rows)
    assert plait("keys", "people.csv", "payers.csv", *BY, "--ignore", "case", "--accept", "99%",
                 "--out", "pairs.csv").status == 0  # fmt: skip
    with (tmp_path / "pairs.csv").open("a") as file:  # a pair that somebody knows
        mine = next(n for n in (row["n"] for row in left) if n not in people and n.startswith("L"))
        theirs = next(n for n in (row["n"] for row in right)
                      if n not in people.values() and n.startswith("R"))  # fmt: skip
        file.write(f"{mine},{theirs},,,,,,yes,accepted\n")
    ended = plait("join", "people.csv", "payers.csv", "--key", "n", "--ignore", "case",
                  "--pairs", "pairs.csv", "--json", "--out", "j.csv")  # fmt: skip
    by = json.loads(ended.out)["match"]["matched_by"]
    assert (by["equal"], by["looser"], by["pairs"]) == (1, 1, 1) and by["evidence"] > 85


def test_a_plan_looks_for_pairs_and_trace_says_by_what_evidence_a_row_matched(
    plait, people, tmp_path
):
    (tmp_path / "p.toml").write_text("""
[source.people]
path = "people.csv"
[source.payers]
path = "payers.csv"
[[step]]
join = ["people", "payers"]
key = "n"
take = ["phone"]
pairs = { evidence = ["name", "born", "town", "phone"], accept = "99%" }
into = "season"
[handover]
result = "season"
""")
    checked = plait("check", "p.toml", "--explain")
    assert "name, born, town and phone show to mean the same" in " ".join(checked.out.split())
    ended = plait("run", "p.toml", "--json")
    assert ended.status == 0, ended.err
    (found,) = [
        one for one in json.loads(ended.out)["findings"] if one["code"] == "matched-by-evidence"
    ]
    by = json.loads(ended.out)["match"]["matched_by"]
    assert found["count"] == by["evidence"] > 85
    mine = next(
        row["n"] for row in rows_of(tmp_path / "handover" / "season.csv") if row["payers.n"]
    )
    traced = plait("trace", "handover", "--where", f"n = '{mine}'")
    assert "by evidence" in traced.out and "to 1 for" in traced.out.replace("\n", " ")
    lost = next(
        row["n"] for row in rows_of(tmp_path / "handover" / "season.csv") if not row["payers.n"]
    )
    assert "by evidence" not in plait("trace", "handover", "--where", f"n = '{lost}'").out


def test_a_plan_says_which_column_of_its_evidence_is_not_there(plait, people, tmp_path):
    (tmp_path / "p.toml").write_text("""
[source.people]
path = "people.csv"
[source.payers]
path = "payers.csv"
[[step]]
join = ["people", "payers"]
key = "n"
pairs = { evidence = ["nmae"], accept = "99%", settled = "nobody" }
""")
    ended = plait("check", "p.toml")
    assert ended.status == 2 and "nobody" in ended.err
    (tmp_path / "p.toml").write_text(
        (tmp_path / "p.toml").read_text().replace(', settled = "nobody"', "")
    )
    ended = plait("check", "p.toml")
    assert ended.status == 2 and "nmae" in ended.err and "name" in ended.err


@pytest.mark.slow
def test_what_was_settled_by_hand_changes_what_is_used(plait, people, tmp_path):
    line = [
        "keys",
        "people.csv",
        "payers.csv",
        *BY,
        "--accept",
        "99%",
        "--out",
        "pairs.csv",
        "--replace",
    ]
    plait(*line)
    before = _used(rows_of(tmp_path / "pairs.csv"))
    (rejected,) = rows_of(tmp_path / "settled.csv")
    assert before[rejected["left n"]] == rejected["right n"]
    assert plait(*line, "--settled", "settled.csv").status == 0
    after = _used(rows_of(tmp_path / "pairs.csv"))
    assert rejected["left n"] not in after
    assert {k: v for k, v in before.items() if k != rejected["left n"]}.items() <= after.items()


@pytest.mark.slow
def test_one_table_gives_groups_and_settle_brings_each_to_one_row(plait, people, tmp_path):
    both = (tmp_path / "people.csv").read_text() + (tmp_path / "payers.csv").read_text().split(
        "\n", 1
    )[1]
    (tmp_path / "all.csv").write_text(both)
    ended = plait("keys", "all.csv", *BY, "--accept", "99%", "--out", "pairs.csv")
    assert ended.status == 0 and "mean the same as another" in ended.err
    used = _used(rows_of(tmp_path / "pairs.csv"))
    ended = plait("settle", "all.csv", "--key", "n", "--pairs", "pairs.csv", "--keep-rule", "first",
                  "--out", "s.csv")  # fmt: skip
    assert ended.status == 0, ended.err
    assert len(rows_of(tmp_path / "s.csv")) == 400 - len(used) and len(used) > 80


def test_evidence_without_a_key_is_refused(plait, people, tmp_path):
    (tmp_path / "p.toml").write_text("""
[source.people]
path = "people.csv"
[source.payers]
path = "payers.csv"
[[step]]
join = ["people", "payers"]
kind = "cross"
pairs = { evidence = "born", accept = "99%" }
""")
    ended = plait("check", "p.toml")
    assert ended.status == 2 and "has no key" in ended.err


def test_words_do_not_count_and_come_from_a_file(plait, put, tmp_path):
    put(
        a_csv='who\nDr. Ada Hill\n"Lee, Bo"\nHill Ltd.\n',
        b_csv="who,x\nAda Hill,1\nBo Lee,2\nHill,3\n",
    )
    (tmp_path / "words.txt").write_text("dr\n\nLtd.\n")
    for words in ("Dr.,Ltd", "@words.txt"):
        ended = plait("join", "a.csv", "b.csv", "--key", "who", "--ignore", "word-order",
                      "--ignore-words", words, "--take", "x")  # fmt: skip
        assert [line.rsplit(",", 1)[-1] for line in ended.out.split("\n")[1:4]] == ["1", "2", "3"]
    ended = plait("keys", "a.csv", "b.csv", "--key", "who", "--ignore-words", "@nothing.txt")
    assert ended.status == 2 and "cannot read nothing.txt" in ended.err
    ended = plait("keys", "a.csv", "b.csv", "--key", "who", "--ignore-words", "dr,ltd")
    assert "1 key of a and 1 key of b would match with --ignore word-order" in ended.out


def test_words_that_help_are_found_and_none_that_would_run_keys_together(plait, put):
    put(
        a_csv="who\nDr. Ada Hill\nDr. Cy Orr\nBo Lee Ltd\nTim Dorn Ltd\nOak Road\n"
        "Elm Road\nElm Lane\n",
        b_csv="who,x\nAda Hill,1\nBo Lee,2\nCy Orr,3\nTim Dorn,4\nOak Road,5\nElm,6\n",
    )
    ended = plait("keys", "a.csv", "b.csv", "--key", "who", "--json")
    words = ended.json["why"]["words"]
    assert sorted(words["words"]) == ["Dr", "Ltd"] and (words["rows"], words["collisions"]) == (
        4,
        0,
    )
    ended = plait("join", "a.csv", "b.csv", "--key", "who", "--json", "--out", "j.csv")
    (remedy,) = [one["remedy"] for one in ended.json["findings"]
                 if one["code"] == "key-unmatched" and one["severity"] == "warning"]  # fmt: skip
    assert remedy.startswith("4 of 6 rows would match with --ignore-words ")
    asked = remedy.split(";")[0].split()[-2:]
    ended = plait(
        "join", "a.csv", "b.csv", "--key", "who", *asked, "--json", "--out", "j.csv", "--replace"
    )
    assert ended.json["match"]["left_matched"] == 5
