"""A crosswalk is used as it was meant: nothing by being near, nothing unread or in silence."""

from __future__ import annotations

import csv
import io

import pytest


def offered(plait, key="k"):
    """The pairs that ``keys`` writes: left, right, whether it would use them."""
    ended = plait("keys", "left.csv", "right.csv", "--key", key, "--out", "pairs.csv", "--replace")
    assert ended.status == 0, ended.err
    from pathlib import Path

    rows = csv.reader(io.StringIO(Path("pairs.csv").read_text()))
    return [(row[0], row[1], row[-1]) for row in rows][1:]


def test_near_is_not_equal(plait, put):
    put(
        left_csv="k,v\nMarta Schmidt,1\nMaria Schmidt,2\nada okonkwo,3\nTom Ash,4\n",
        right_csv="k,w\nMaria Schmidt,1\nAda Okonkwo,2\nTom Asch,5\n",
    )
    assert offered(plait) == [
        ("ada okonkwo", "Ada Okonkwo", "yes"),
        ("Tom Ash", "Tom Asch", "no"),
    ]


@pytest.mark.parametrize(
    ("left", "right"),
    [
        ("2025-01-10", "2025-10-10"),
        ("1234567890", "1234568790"),
        ("AB-123407", "AB-123470"),
        ("12.50", "12.05"),
    ],
)
def test_numbers_dates_and_codes_are_never_meant_for_their_neighbours(plait, put, left, right):
    put(left_csv=f"k,v\n{left},1\n", right_csv=f"k,w\n{right},1\n")
    assert offered(plait) == []


def test_two_that_differ_in_case_only_are_left_to_a_person(plait, put):
    put(left_csv="k,v\nELM,1\n", right_csv="k,w\nelm,1\nElm,2\n")
    assert {use for _, _, use in offered(plait)} == {"no"}


def test_pairs_of_keys_that_are_not_there_are_a_finding(plait, put):
    put(
        left_csv="k,v\na,1\nb,2\n",
        right_csv="k,w\nA,1\nB,2\n",
        p_csv="x,y,use\na,A, yes\nb,Bee,YES\nzz,B,yes\nb,B,no\n",
    )
    words = ("join", "left.csv", "right.csv", "--key", "k", "--pairs", "p.csv", "--out", "o.csv")
    ended = plait(*words, "--json")
    found = ended.finding("pairs-unused")
    assert found["count"] == 2 and ended.json["match"]["left_matched"] == 1
    assert [one["text"] for one in found["examples"]] == ["b", "zz"]


def test_pairs_of_one_table_are_followed_to_their_end(plait, put):
    put(t_csv="k,v\na,1\nb,1\nc,1\nd,9\n", p_csv="x,y\na,b\nb,c\n")
    words = ("settle", "t.csv", "--key", "k", "--pairs", "p.csv", "--rule", "v=sum")
    assert plait(*words).out.split() == ["k,v", "a,3", "d,9"]


@pytest.mark.parametrize(("pairs", "says"), [("a,b\nb,a\n", "leads back"), ("a,b\n", "")])
def test_a_circle_of_pairs_is_refused(plait, put, pairs, says):
    put(t_csv="k,v\na,1\nb,1\n", p_csv=f"x,y\n{pairs}")
    ended = plait("settle", "t.csv", "--key", "k", "--pairs", "p.csv", "--otherwise", "first")
    assert (ended.status == 2 and says in ended.err) if says else ended.status == 0


def test_whether_to_use_a_pair_is_said_plainly(plait, put):
    put(t_csv="k,v\na,1\nb,1\n", p_csv="x,y,use\na,b,maybe\n")
    ended = plait("settle", "t.csv", "--key", "k", "--pairs", "p.csv", "--otherwise", "first")
    assert ended.status == 2 and "'maybe'" in ended.err and "line 2" in ended.err
