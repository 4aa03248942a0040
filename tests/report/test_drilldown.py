"""The rows that a finding and a line of the ledger open are those that they count."""

from __future__ import annotations

import re

import plait

FILES = {
    "a.csv": "k,v\n1,a\n2,b\n3,c\n,d\n2,b\nhello,\n",
    "b.csv": "k,v,w\n1,a,1\n2,x,2\n4,d,3\n,q,4\n",
}
PLAN = """\
[source.a]
path = "a.csv"
[source.b]
path = "b.csv"
[[step]]
stack = "a"
distinct = true
into = "once"
[[step]]
join = ["once", "b"]
key = "k"
kind = "inner"
into = "all"
[[step]]
settle = "a"
key = "v"
into = "settled"
[handover]
result = "all"
"""
_NUMBER = re.compile(r'<span data-behind="\d+"[^>]*>([^<]*)(?:<a href="([^"]*)")?')


def _opened(section: str) -> tuple[int, str]:
    """The number that opens rows within a part of the page, and the file of these rows."""
    match = _NUMBER.search(section)
    assert match, section
    return int(re.sub(r"\D", "", match[1])), match[2] or ""


def test_findings_open_the_list_of_their_own_table_and_kind(tmp_path):
    for name, text in FILES.items():
        (tmp_path / name).write_text(text)
    (tmp_path / "p.toml").write_text(PLAN)
    plait.run(tmp_path / "p.toml")
    page = (tmp_path / "handover" / "report.html").read_text()
    sections = re.findall(r'<section class="finding.*?</section>', page, re.DOTALL)
    opened = {}
    for finding in sections:
        code, source = re.search(r'data-code="([^"]*)".*?data-source="([^"]*)"', finding).groups()
        if "data-behind" in finding:
            opened[code, source] = _opened(finding)
    assert opened == {
        ("row-repeat", "once"): (1, "aside/1-once-repeats.csv"),
        ("key-unmatched", "once"): (2, "aside/2-once-unmatched.csv"),
        ("key-missing", "once"): (1, "aside/2-once-unmatched.csv"),
        ("source-conflict", "b"): (1, "aside/2-once%2Bb-conflicts.csv"),
        ("key-unmatched", "b"): (1, "aside/2-b-unmatched.csv"),
        ("key-missing", "b"): (1, "aside/2-b-unmatched.csv"),
        ("key-missing", "a"): (1, "aside/3-a-no-key.csv"),
    }
