"""What a plan expects of the extracts that it reads."""

from __future__ import annotations


def test_a_plan_expects_a_whole_series(plait, put):
    months = {f"v/2031-{m:02}.csv": f"hive,kg\n{m},1\n{m},2\n" for m in (1, 2, 4)}
    source = '[source.v]\npath = "v"\n[[step]]\nstack = "v"\ninto = "all"\n'
    plan = source + '[expect]\nseries = { v = "%s" }\n'
    for asked, status, says in (
        ("2031-01 .. 2031-02", 1, "beyond 2031-04"),
        ("2031-01 .. 2031-05", 1, "missing 2031-03, 2031-05"),
        ("monthly, to lst month", 2, "no series"),
    ):
        put(**{**months, "p.toml": plan % asked})
        ended = plait("check", "p.toml")
        assert ended.status == status and says in " ".join((ended.out + ended.err).split())
    put(**{**months, "v/2031-03.csv": "hive,kg\n3,1\n", "p.toml": plan % "2031-01 .. 2031-04"})
    assert plait("check", "p.toml").status == 0
