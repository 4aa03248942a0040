"""Counts and remedies that messages tell are those of a recount, and remedies can be pasted."""

from __future__ import annotations

import random
import re
import shlex
from pathlib import Path

import pytest

from conftest import flat, rows_of
from plait.report.html import pages

PLAN = """
[source.visits]
path = "visits.csv"
[source.hives]
path = "hives.csv"
[[step]]
join = ["visits", "hives"]
key = "hive"
kind = "left"
into = "season"
[expect]
{expect}
[handover]
result = "season"
"""


@pytest.mark.parametrize(
    ("expect", "options", "message"),
    [
        ('rows = ["season >= 9"]', (), "1 expectation prevented it"),
        ('rows = ["season >= 9", "visits >= 9", "hives >= 1"]', (), "2 expectations prevented it"),
        ('rows = "season >= 1"', ("--fail-on", "key-unmatched"), "2 findings prevented it"),
        ('rows = "season >= 1"', ("--fail-on", "warning"), "1 finding prevented it"),
    ],
)
def test_a_refusal_counts_what_is_in_the_way(plait, put, tmp_path, expect, options, message):
    put(visits_csv="hive,kg\nA1,2\nB3,4\n", hives_csv="hive,queen\nA1,Ada\nC2,Bea\n")
    (tmp_path / "p.toml").write_text(PLAN.format(expect=expect))
    ended = plait("run", "p.toml", *options)
    assert ended.status == 1 and f"nothing was handed over: {message}" in flat(ended.err)
    assert not (tmp_path / "handover").exists()


@pytest.mark.parametrize("more", [(), ("--ignore", "case")])
def test_the_join_that_the_page_of_keys_offers_can_be_pasted(
    plait, put, tmp_path, monkeypatch, more
):
    put(v__a_csv="hive no,kg\nElm 1,2\nOak2,4\n", h__b_csv="hive no,queen\nElm1,Ada\nOak2,Bea\n")
    words = ("v/a.csv", "h/b.csv", "--key", "hive no", *more)
    offered = []
    told = pages.pack_unmatched_keys
    monkeypatch.setattr(
        pages, "pack_unmatched_keys", lambda *a: offered.append(a[2].join) or told(*a)
    )
    ended = plait("keys", *words, "--report", "keys.html", "--out", "pairs.csv")
    assert ended.status == 0
    assert ("--ignore case" in offered[0]) == bool(more)
    joined = plait(*shlex.split(offered[0])[1:], "--replace")
    assert joined.status == 0, joined.err
    assert [row["queen"] for row in rows_of(tmp_path / "joined.csv")] == ["Ada", "Bea"]


def test_a_survey_of_many_shapes_names_or_counts_every_column(plait, tmp_path):
    rng = random.Random(7)
    widths = {}
    for number in range(45):
        widths[f"s{number}"] = width = rng.choice([2, 4, 9])
        names = [f"x{number}_{column}" for column in range(width)]
        cells = [str(rng.randint(0, 99)) for _ in names]
        (tmp_path / f"s{number}.csv").write_text(f"{','.join(names)}\n{','.join(cells)}\n")
    ended = plait("survey", *[f"{name}.csv" for name in widths])
    assert ended.status == 0
    text = ended.out
    headed = re.findall(r"^(s\d+)  1 row, (\d+) columns", text, re.MULTILINE)
    assert all(widths[name] == int(width) for name, width in headed)
    (more,) = re.findall(r"and (\d+) layouts? more", text)
    assert len(headed) + int(more) == len(widths) and len(text.splitlines()) < 200
    whole = plait("survey", *[f"{name}.csv" for name in widths], "--verbose").out
    for number, width in enumerate(widths.values()):
        assert len(set(re.findall(rf"\bx{number}_\d+\b", whole))) == width


def test_columns_that_are_not_shown_are_counted(plait, tmp_path):
    for width in (40, 41, 90):
        names = [f"m{number}" for number in range(width)]
        row = ",".join(str(number) for number in range(width))
        (tmp_path / "w.csv").write_text(f"{','.join(names)}\n{row}\n")
        text = plait("survey", "w.csv").out
        shown = {line.split()[0] for line in text.splitlines() if line.strip().startswith("m")}
        shown &= set(names)
        (more,) = re.findall(r"and ([\d,]+) columns? more", text) or ["0"]
        assert len(shown) + int(more) == width, text


@pytest.mark.parametrize(
    ("words", "message"),
    [
        (("--type", "kg"), "write --type NAME=VALUE"),
        (("--type", "kg=decimal", "--type", "kg=text"), "kg twice"),
        (("--rename", "kg=a", "--rename", "kg=b"), "kg twice"),
    ],
)
def test_what_is_wrong_with_named_values_is_said(plait, put, words, message):
    put(visits_csv="hive,kg\n1,2\n")
    ended = plait("mend", "visits.csv", *words)
    assert ended.status == 2 and message in flat(ended.err)


def test_what_may_be_ignored_is_told_and_the_order_of_words_does_not_count(plait, put, tmp_path):
    put(l_csv="k,v\nÉlm-1,a\n", r_csv="k,w\nelm1,x\n")
    ended = plait("join", "l.csv", "r.csv", "--key", "k", "--ignore", "punctation")
    assert ended.status == 2 and "nothing called 'punctation' can be ignored" in flat(ended.err)
    assert "did you mean punctuation?" in flat(ended.err)
    for ways in ("case,accents,punctuation", "punctuation,case,accents"):
        joined = plait("join", "l.csv", "r.csv", "--key", "k", "--ignore", ways)
        assert (joined.status == 0 and "elm1,x" in joined.out) or ",x" in joined.out


def test_a_join_that_is_refused_names_where_its_rows_are_listed(plait, put, tmp_path):
    put(l_csv="k,v\n1,a\n1,b\n2,c\n", r_csv="k,w\n1,x\n1,y\n")
    ended = plait("join", "l.csv", "r.csv", "--key", "k", "--out", "o.csv", "--aside", "bad")
    assert ended.status in (1, 2) and not Path(tmp_path, "o.csv").exists()
    listed = sorted(path.name for path in Path(tmp_path, "bad").glob("*.csv"))
    assert listed, "the rows that multiply are listed"
    for name in listed:
        assert name in ended.err and rows_of(tmp_path / "bad" / name)


def test_a_key_that_holds_a_better_one_is_not_told_beside_it(plait, tmp_path):
    """Each column that is a key by itself is told; no longer one that holds it."""
    rng = random.Random(3)
    rows = [f"{n},C{n * 7},{rng.choice('ABC')},{n % 12},{rng.randint(0, 99)}" for n in range(120)]
    (tmp_path / "v.csv").write_text("no,code,yard,month,kg\n" + "\n".join(rows) + "\n")
    told = re.findall(r"^ +key: ([^;]*?), unique", plait("survey", "v.csv").out, re.MULTILINE)
    keys = [set(words.split(",")) for words in told]
    assert {"no"} in keys and {"code"} in keys
    assert not any(one < other for one in keys for other in keys)
