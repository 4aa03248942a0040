"""What every command shows a person, word for word: ``tests/cli/shown``, to be read.

After a change that is meant, ``SHOWN=write python -m pytest tests/cli/test_shown.py`` writes
the files anew. Read what has changed in them before it is kept.
"""

from __future__ import annotations

import re
import shlex
from collections import Counter
from collections.abc import Iterator
from pathlib import Path

import pytest

from kept import check_kept
from plait.cli.main import COMMANDS
from scenes import PLAN, empty, long_names, many, ordinary

SHOWN = Path(__file__).parent / "shown"

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


OPERATIONS = ["mend", "stack", "join", "settle", "group", "widen", "lengthen", "compare"]
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
    check_kept(SHOWN / f"{case}.txt", text)


COUNTED = [words for words in EVERYDAY if words.split()[0] in OPERATIONS and "refused" not in words]


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


@pytest.mark.parametrize("command", ["", *COMMANDS])
def test_the_help_of_each_command_was_read_and_found_good(plait, monkeypatch, command):
    """With it what each option takes: a word, a number, one of some, or nothing."""
    monkeypatch.setenv("COLUMNS", "80")
    ended = plait(*command.split(), "--help")
    assert ended.status == 0
    check_kept(SHOWN / "help" / f"{command or 'plait'}.txt", ended.out)
