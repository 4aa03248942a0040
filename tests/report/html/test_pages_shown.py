"""What every page and account says, element by element: ``tests/report/html/shown``, to be read.

After a change that is meant, ``SHOWN=write python -m pytest tests/report/html/test_pages_shown.py``
writes the files anew. Read what has changed in them before it is kept.
"""

from __future__ import annotations

import json
import re
import shlex
from html.parser import HTMLParser
from pathlib import Path

import pytest

from kept import check_kept
from scenes import empty, long_names, many, ordinary

SHOWN = Path(__file__).parent / "shown"
SCENES = {"ordinary": ordinary, "long-names": long_names, "many": many, "empty": empty}
# A plan that has everything a report can tell of.
WHOLE = """title = "The season"
[source.visits]
path = "visits.csv"
[source.more]
path = "more.csv"
[source.hives]
path = "hives.csv"
[[step]]
stack = ["visits", "more"]
label = { file = "{stem}" }
into = "all"
[[step]]
settle = "hives"
key = ["yard", "hive"]
otherwise = "first"
into = "register"
[[step]]
join = ["all", "register"]
key = ["yard", "hive"]
into = "season"
[expect]
rows = ["season >= 0", "season = all"]
unique = { register = ["yard", "hive"] }
unmatched = { season = "100 %" }
[expect.change]
columns = 2
rows = "100 %"
new = "100 %"
gone = "100 %"
changed = "100 %"
findings = 20
[handover]
result = "season"
key = ["yard", "hive"]
"""
PAGES = {
    "survey": "survey visits.csv more.csv hives.csv --report page.html",
    "keys-of-one": "keys visits.csv --key yard,hive --report page.html",
    "keys": "keys visits.csv hives.csv --key yard,hive --report page.html",
    "keys-of-three": "keys visits.csv hives.csv later.csv --key yard,hive --report page.html",
    "compare": "compare visits.csv later.csv --key yard,hive --report page.html",
    "join": "join visits.csv hives.csv --key yard,hive --cardinality many-to-many --kind full "
    "--out o.csv --report page.html",
    "settle": "settle hives.csv --key yard,hive --otherwise agree --out o.csv --report page.html",
}
_CHANGING = (
    (re.compile(r"\d{4}-\d\d-\d\d[T ]\d\d:\d\d(:\d\d)?([+-]\d\d:\d\d)?"), "MOMENT"),
    (re.compile(r"sha256-[^']+"), "sha256-SUM"),
    (re.compile(r"\b[0-9a-f]{64}\b"), "SUM"),
    (re.compile(r"Plait \d+(\.\d+)*"), "Plait 1.0"),
    (re.compile(r'"version": "[^"]+"'), '"version": "1.0"'),
)


class Elements(HTMLParser):
    """A page as lines: its elements with their attributes, and its texts."""

    def __init__(self) -> None:
        super().__init__()
        self.lines: list[str] = []
        self._within = ""

    def handle_starttag(self, tag: str, attributes: list[tuple[str, str | None]]) -> None:
        data = tag == "script" and ("type", "application/json") in attributes
        self._within = "json" if data else tag if tag in ("script", "style") else ""
        told = " ".join(f"{name}={value}" for name, value in attributes)
        self.lines.append(f"<{tag} {told}>" if told else f"<{tag}>")

    def handle_endtag(self, tag: str) -> None:
        self._within = ""

    def handle_data(self, text: str) -> None:
        if self._within == "json":
            self.lines += json.dumps(json.loads(text), indent=1, ensure_ascii=False).splitlines()
        elif not self._within and text.strip():
            self.lines.append(" ".join(text.split()))


def elements(page: Path) -> str:
    """What a page says, without what is another each time."""
    parser = Elements()
    parser.feed(page.read_text("utf-8"))
    return plain("\n".join(parser.lines))


def plain(text: str) -> str:
    """Text without what is another each time."""
    for changing, same in _CHANGING:
        text = changing.sub(same, text)
    return f"{text.rstrip()}\n"


@pytest.mark.parametrize("page", PAGES)
def test_every_page_says_what_was_read_and_found_good(plait, put, tmp_path, page):
    text = ""
    for scene, files in SCENES.items():
        if scene == "many" and page in ("survey", "keys", "keys-of-three"):
            continue  # as long as it has keys and columns
        files(put)
        ended = plait(*shlex.split(PAGES[page]), "--quiet", "--replace")
        assert ended.status == 0, ended.err
        text += f"===== {scene}\n{elements(tmp_path / 'page.html')}"
    check_kept(SHOWN / f"{page}.txt", text)


@pytest.mark.parametrize("scene", SCENES)
def test_every_handover_says_what_was_read_and_found_good(plait, put, tmp_path, scene):
    """The second of two runs, after which some rows are others."""
    files = SCENES[scene]
    files(put)
    (tmp_path / "p.toml").write_text(WHOLE)
    assert plait("run", "p.toml", "--quiet").status == 0
    later = (tmp_path / "later.csv").read_text()
    (tmp_path / "visits.csv").write_text(later)
    ended = plait("run", "p.toml", "--quiet", "--replace", "--again")
    assert ended.status == 0, ended.err
    handover = tmp_path / "handover"
    text = elements(handover / "report.html") if scene != "many" else ""
    accounts = ("ledger.json", "datapackage.json", "dictionary.csv")
    for name in ("report.md", *(accounts if scene == "ordinary" else ())):
        text += f"===== {name}\n{plain((handover / name).read_text('utf-8'))}"
    check_kept(SHOWN / f"handover-{scene}.txt", text)


def test_a_handover_of_extracts_says_what_was_read_and_found_good(plait, put, tmp_path):
    ordinary(put)
    (tmp_path / "extracts").mkdir()
    for month in range(1, 8):
        text = f"yard,hive,kg\nElm,{month},2.5\nOak,7,{month}\n"
        (tmp_path / "extracts" / f"2031-0{month}.csv").write_text(text)
    plan = WHOLE.replace('path = "visits.csv"', 'path = "extracts/*.csv"')
    (tmp_path / "p.toml").write_text(plan)
    assert plait("run", "p.toml", "--quiet").status == 0
    check_kept(SHOWN / "handover-extracts.txt", elements(tmp_path / "handover" / "report.html"))
