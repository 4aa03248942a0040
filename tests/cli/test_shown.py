"""What every command shows a person, word for word: ``tests/cli/shown``, to be read.

After a change that is meant, ``SHOWN=write python -m pytest tests/cli/test_shown.py`` writes
the files anew. Read what has changed in them before it is kept.
"""

from __future__ import annotations

import os
import re
import shlex
from collections import Counter
from collections.abc import Iterator
from pathlib import Path

import pytest

SHOWN = Path(__file__).parent / "shown"

PLAN = """
[source.visits]
path = "visits.csv"
[source.hives]
path = "hives.csv"
[[step]]
settle = "hives"
key = ["yard", "hive"]
otherwise = "first"
into = "register"
[[step]]
join = ["visits", "register"]
key = ["yard", "hive"]
into = "season"
[expect]
rows = ["season >= 1"]
[handover]
result = "season"
"""
NOTICE = (
    '[notice]\nemail = ["ines@example.com"]\non = ["failure"]\nserver = "smtp://mail.example:587"\n'
)
RUNS = (
    '{"run": 1, "status": "done", "started": "2031-05-03T06:00:00+02:00", "seconds": 2.5}\n'
    '{"run": 2, "status": "failed", "started": "2031-06-03T06:00:00+02:00", "seconds": 4.0, '
    '"user": "ines", "machine": "den", '
    '"failed": {"what": "season has no rows", "where": "q.toml line 16", "remedy": "ask why"}}\n'
    '{"run": 3, "status": "running", "started": "2031-07-03T06:00:00+02:00"}\n'
)
# Each scenario has the same files under the same names, so that the commands are the same.
EVERYDAY = [
    "survey visits.csv more.csv hives.csv",
    "survey visits.csv --verbose",
    "survey visits.csv --sample 2",
    "keys visits.csv --key yard,hive",
    "keys visits.csv hives.csv --key yard,hive",
    "keys visits.csv hives.csv --key yard,hive --ignore case,punctuation --verbose",
    "mend visits.csv --rename kg=honey --where 'yard IS NOT NULL' --out mended.csv",
    "mend visits.csv --type kg=integer --out unfit.csv",
    "stack visits.csv more.csv --out stacked.csv",
    "settle hives.csv --key yard,hive --otherwise agree --out agreed.csv",
    "settle hives.csv --key yard,hive --otherwise first --out settled.csv",
    "join visits.csv hives.csv --key yard,hive --out joined.csv",
    "join visits.csv settled.csv --key yard,hive --out season.csv",
    "join visits.csv hives.csv --key yard,hive --kind full --verbose --out full.csv "
    "--cardinality many-to-many",
    "join visits.csv hives.csv --key yard --cardinality many-to-one --out refused.csv",
    "beside visits.csv hives.csv --out beside.csv",
    "group visits.csv --by yard --take n=count --out grouped.csv",
    "widen visits.csv --heads hive --cells kg --key yard --rule first --out wide.csv",
    "lengthen visits.csv --heads what --cells value --key yard,hive --out long.csv",
    "compare visits.csv later.csv --key yard,hive",
    "draft visits.csv hives.csv --out drafted.toml",
    "check p.toml",
    "run p.toml",
    "run p.toml --replace --fail-on key-unmatched",
    "history q.toml",
    "history q.toml --run 2",
    "trace handover --row 1",
    "trace handover --row 99999",
    "schedule p.toml --daily 06:30",
    "notify p.toml",
    "notify q.toml",
    "survey nothing.csv",
]


def ordinary(put) -> None:
    """A dozen rows with a key that is missing, keys that look alike, a repeat and a conflict."""
    put(
        visits_csv="yard,hive,kg,seen\nElm,1,12.5,2031-04-01\nElm,1,3,2031-05-02\nElm,2,,2031-04-01\n"
        "oak,7,8.25,2031-04-03\nOak,7,1,2031-04-04\nAsh,03,2.5,2031-04-05\n,4,1.5,2031-04-05\n"
        "Yew,9,n/a,2031-04-06\n",
        more_csv='yard,hive,"kg ",seen,note\nElm,1,4,2031-06-01,calm\nElm,5,6,2031-06-01,\n',
        later_csv="yard,hive,kg,seen\nElm,1,12.5,2031-04-01\nElm,1,3,2031-05-02\nElm,2,2,2031-04-01\n"
        "Oak,7,1,2031-04-04\nAsh,3,2.5,2031-04-05\nIvy,1,9,2031-04-09\n",
        hives_csv="yard,hive,breed,queen\nElm,1,Carnica,Ada\nElm,1,Buckfast,Ada\nOak,7,Carnica,\n"
        "Ash,3,Ligustica,Cleo\nFir,6,Carnica,Dora\nElm,2,Carnica,Eve\n",
    )


def long_names(put) -> None:
    """Names and cells as long as people give them, in several scripts."""
    yard, hive = "Bienenstandort an der alten Mühle (Würzburg)", "蜂箱番号"
    head = f'yard,hive,kg,"measured weight of the honey supers, in kilograms, with lids",{hive}\n'
    rows = "".join(
        f'"{yard}, {n % 3}",{n:03d}-x,{n}.5,{n}.25,"{"very " * (n % 4 * 8)}busy"\n'
        for n in range(12)
    )
    put(
        visits_csv=head + rows,
        more_csv=head.replace("kilograms", "kilogramms") + "A,1,2,3,x\n",
        later_csv=head + rows.replace("busy", "calm", 2),
        hives_csv="yard,hive,breed of the bees as it is written in the register\n"
        f'"{yard.lower()}, 1",001-x,Carnica\nA,1,Buckfast\nA,1,Ligustica\n',
    )


def many(put) -> None:
    """Thousands of rows, many columns, and more of each kind of trouble than can be listed."""
    names = ",".join(f"c{n}" for n in range(30))
    cells = ",".join(str(n) for n in range(30))
    visits = [f"Y{n % 97},{n % 1500},{n % 13}.5,{cells}\n" for n in range(4000)]
    put(
        visits_csv=f"yard,hive,kg,{names}\n" + "".join(visits),
        more_csv=f"yard,hive,kg,{names}\n" + "".join(visits[:1200]),
        later_csv=f"yard,hive,kg,{names}\n" + "".join(visits[700:]).replace(".5,", ".25,", 300),
        hives_csv="yard,hive,breed\n"
        + "".join(f"Y{n % 97},{n},B{n % 5}\n" for n in range(0, 2000, 3)),
    )


def empty(put) -> None:
    """Headings, and no row."""
    put(
        visits_csv="yard,hive,kg\n",
        more_csv="yard,hive,kg,note\n",
        later_csv="yard,hive,kg\n",
        hives_csv="yard,hive,breed\n",
    )


VERBS = ["mend", "stack", "join", "settle", "group", "widen", "lengthen", "compare"]
CASES = {
    "ordinary-80": (ordinary, 80),
    "ordinary-120": (ordinary, 120),
    "long-names-80": (long_names, 80),
    "long-names-120": (long_names, 120),
    "many-80": (many, 80),
    "empty-80": (empty, 80),
}
# What is another each time, or on each machine.
_CHANGING = (
    (re.compile(r"\x1b\[[0-9;]*m"), ""),
    (re.compile(r"about \d+ s and \d+ MB"), "about 1 s and 200 MB"),
    (re.compile(r"(\w{3} \d{4}-\d\d-\d\d \d\d:\d\d(, )?){3}"), "DAY, DAY, DAY"),
    (re.compile(r"&& \S+plait run"), "&& plait run"),
    (re.compile(r"plait-p-\w+"), "plait-p-SUM"),
    (re.compile(r"with Plait \S+"), "with Plait 1.0"),
)


def shown(plait, words: str, tmp_path: Path) -> str:
    """What a command shows, without what is another each time."""
    ended = plait(*shlex.split(words))
    text = (ended.out + ended.err).replace(str(tmp_path), "FOLDER")
    for changing, plain in _CHANGING:
        text = changing.sub(plain, text)
    lines = "\n".join(line.rstrip() for line in text.rstrip().splitlines())
    return f"{lines}\n[status {ended.status}]\n"


@pytest.fixture
def wide(monkeypatch):
    """Has what is shown be as wide as a terminal of so many columns."""

    def set_width(columns: int) -> None:
        monkeypatch.setenv("FORCE_COLOR", "1")
        monkeypatch.setenv("TERM", "xterm")
        monkeypatch.setenv("COLUMNS", str(columns))
        monkeypatch.setenv("LINES", "50")

    return set_width


@pytest.mark.parametrize("case", CASES)
def test_every_command_shows_what_was_read_and_found_good(plait, put, tmp_path, wide, case):
    files, columns = CASES[case]
    files(put)
    put(nothing_csv="")
    (tmp_path / "p.toml").write_text(PLAN)
    (tmp_path / "q.toml").write_text(PLAN + NOTICE)
    (tmp_path / "q.history.jsonl").write_text(RUNS)
    wide(columns)
    text = "".join(f"$ plait {words}\n{shown(plait, words, tmp_path)}\n" for words in EVERYDAY)
    kept = SHOWN / f"{case}.txt"
    if os.environ.get("SHOWN") == "write":
        kept.write_text(text, "utf-8")
    assert text == kept.read_text("utf-8")


COUNTED = [words for words in EVERYDAY if words.split()[0] in VERBS and "refused" not in words]


@pytest.mark.parametrize("files", [ordinary, many])
def test_each_number_that_is_shown_is_one_of_the_account_or_of_the_files(
    plait, put, tmp_path, files
):
    files(put)
    (tmp_path / "p.toml").write_text(PLAN)
    in_files = {part for path in tmp_path.glob("*.csv") for part in _numbers(path.read_text())}
    for words in COUNTED:
        ended = plait(*shlex.split(words), "--json", "--verbose")
        if not ended.out:  # it is refused, and only said to be
            continue
        account = ended.json
        severities = Counter(one["severity"] for one in account.get("findings", ()))
        known = in_files | _numbers(ended.out) | {str(count) for count in severities.values()}
        # What the account tells of as lists, the words tell of by their lengths.
        known |= {str(len(one)) for one in _lists(account)}
        shown = _numbers(ended.err.replace(",", ""))
        assert shown <= known | {"1"}, (words, shown - known)


def _numbers(text: str) -> set[str]:
    return set(re.findall(r"\d+", text))


def _lists(value: object) -> Iterator[list[object] | dict[str, object]]:
    """All lists and objects within a value of JSON."""
    if isinstance(value, list | dict):
        yield value
        for part in value.values() if isinstance(value, dict) else value:
            yield from _lists(part)
