"""Mistakes in a plan that people make by the words of other places: the right word is told."""

from __future__ import annotations

import pytest

PLAN = """
[source.v]
path = "v.csv"
[[step]]
group = "v"
by = "hive"
take = { n = "count" }
into = "season"
[expect]
rows = ["season >= 1"]
[handover]
result = "season"
"""


@pytest.mark.parametrize(
    ("right", "wrong", "remedy"),
    [
        ("path =", "file =", "did you mean path?"),
        ("take =", "figures =", "did you mean take?"),
        ("take =", "aggregate =", "did you mean take?"),
        ("take =", "tkae =", "did you mean take?"),
        ("by =", "group_by =", "did you mean by?"),
        ("into =", "output =", "did you mean into?"),
        ('result = "season"', 'result = "season"\ndirectory = "x"', "did you mean folder?"),
        ('result = "season"', 'result = "season"\ntitle = "x"', "at the top of the plan"),
        ("season >= 1", "season => 1", "write 'season >= 1'"),
        ("season >= 1", "at most 1,000 rows in season", "write 'season <= 1000'"),
        ("season >= 1", "season is v", "write 'season = v'"),
    ],
)
def test_the_right_word_is_told(plait, put, right, wrong, remedy):
    assert right in PLAN
    put(**{"v.csv": "hive\n1\n", "p.toml": PLAN.replace(right, wrong, 1)})
    ended = plait("check", "p.toml")
    assert ended.status == 2 and remedy in " ".join(ended.err.split()), ended.err


def test_options_of_the_command_line_are_told_so_too(plait, put):
    put(**{"v.csv": "hive\n1\n"})
    for wrong, right in (("--filter", "--where"), ("--sep", "--delimiter")):
        assert f"did you mean {right}?" in plait("mend", "v.csv", wrong, "x").err
