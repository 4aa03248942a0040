"""A plan in plain sentences: every key of every step is told, with the numbers of the run."""

from __future__ import annotations

import json
import re

import pytest

from plait.core.specs.several_tables import OPERATIONS
from plait.plan import explain

PLAN = """
title = "Season 2031"
[source.visits]
path = "visits/*.csv"
label = { Month = "{stem}" }
[source.hives]
path = "hives.csv"
missing = ["n/k"]
[[step]]
stack = "visits"
distinct = true
into = "all"
[[step]]
join = ["all", "hives"]
key = { hive = "no" }
kind = "left"
cardinality = "many-to-one"
ignore = ["case"]
into = "season"
[[step]]
group = "season"
by = ["breed"]
take = { visits = "count", honey = "sum:kg" }
into = "by_breed"
[expect]
unique = { by_breed = ["breed"] }
rows = ["season = all"]
[handover]
results = ["season", "by_breed"]
key = ["hive", "Month"]
"""


@pytest.fixture
def season(put):
    put(
        **{
            "visits/2031-04.csv": "hive,kg\n1,2\n1,2\n2,3\n",
            "visits/2031-05.csv": "hive,kg\n1,4\n9,1\n",
            "hives.csv": "no,breed\n1,Carnica\n2,Buckfast\n",
            "p.toml": PLAN,
        }
    )


def test_each_part_is_told_with_its_numbers_and_what_is_expected(plait, season, tmp_path):
    ended = plait("check", "p.toml", "--explain", "--report", "plan.html")
    assert ended.status == 0, ended.err
    shown = " ".join(ended.out.split())
    for sentence in (
        "Season 2031: 2 sources, 3 steps",
        "Read visits/*.csv: 2 extracts of one shape, 5 rows.",
        "Each row says Month (the name of its file).",
        "Read n/k as missing.",
        "Put the rows of visits below one another.",
        "Leave out rows that repeat an earlier one in every column.",
        "Now: 5 rows in, 1 left out, 4 out",
        "Add to each row of all what hives has of it, matched on hive with no.",
        "A key is on one row of the right side, or the run stops.",
        "When keys are compared, case does not count.",
        "Make one row of season for each breed.",
        "Work out visits, the count of rows and honey, the sum of kg.",
        "Expected: breed unique in by_breed",
        "Write season and by_breed to handover/, as csv,",
        "A row is known from run to run by hive and Month.",
        "Nothing is handed over unless all that is expected holds.",
    ):
        assert sentence in shown, (sentence, shown)
    page = (tmp_path / "plan.html").read_text()
    assert "Leave out rows that repeat an earlier one" in page and "<script src" not in page
    parts = plait("check", "p.toml", "--explain", "--json").json["explained"]
    assert [part["line"] for part in parts if part["title"].startswith("1.")] == [9]
    plait("check", "p.toml", "--report", "plan.md")
    assert "## 2. join → season (line " in (tmp_path / "plan.md").read_text()


def test_what_does_not_hold_is_told_where_it_is_expected(plait, season, put):
    put(**{"p.toml": PLAN.replace('{ by_breed = ["breed"] }', '{ season = ["breed"] }')})
    ended = plait("check", "p.toml", "--explain")
    assert ended.status == 1
    part = ended.out.partition("2. join → season")[2].partition("3. group")[0]
    assert "it is not so" in part


def test_every_option_of_every_step_has_its_sentence():
    for name, operation in OPERATIONS.items():
        told = {*explain._OPTIONS[name]}
        by_the_operation_itself = {
            "join": {"key", "kind"},
            "settle": {"key"},
            "group": {"by"},
            "widen": {"heads", "cells"},
            "lengthen": {"heads", "cells"},
        }.get(name, set())
        assert {option.name for option in operation.options} <= told | by_the_operation_itself, name


def test_no_sentence_shows_a_list_of_python(plait, season):
    out = plait("check", "p.toml", "--explain").out
    assert not re.search(r"\['|\{'|None|True", out)
    json.loads(plait("check", "p.toml", "--explain", "--json").out)
