"""Every option of every command: a wrong value is refused, and none is taken unheeded."""

from __future__ import annotations

import argparse
import io
import sqlite3
from contextlib import closing

import pytest
import xlsxwriter

from plait.cli.main import COMMANDS, CommandLineParser, load_command
from registers import registers_as_csv

LINES: dict[str, list[str]] = {
    "survey": ["a.csv"],
    "keys": ["a.csv", "b.csv", "--key", "k"],
    "compare": ["a.csv", "b.csv", "--key", "k"],
    "mend": ["a.csv"],
    "stack": ["a.csv", "b.csv"],
    "join": ["a.csv", "b.csv", "--key", "k"],
    "settle": ["a.csv", "--key", "k"],
    "beside": ["a.csv", "b.csv"],
    "group": ["a.csv", "--by", "k"],
    "widen": ["long.csv", "--key", "k", "--heads", "h", "--cells", "v"],
    "lengthen": ["a.csv", "--heads", "h", "--cells", "c", "--key", "k"],
    "draft": ["a.csv"],
    "check": ["p.toml"],
    "run": ["p.toml"],
    "history": ["p.toml"],
    "schedule": ["p.toml", "--daily", "06:00"],
    "notify": ["p.toml"],
    "trace": ["handover", "--row", "1"],
    "demo": [],
    "help": [],
}
FILES = {
    "a_csv": "k,V,w\n1,5,x\n2,6,y\n2,6,y\n",
    "b_csv": "k,V,w\n1,5,x\n3,7,z\n4,8,z\n",
    "long_csv": "k,h,v\na,x,1\na,y,2\nb,x,3\n",
    "p_toml": (
        '[parameters]\nkind = "left"\n[source.a]\npath = "a.csv"\n[source.b]\npath = "b.csv"\n'
        '[[step]]\njoin = ["a", "b"]\nkey = "k"\nkind = "${kind}"\ninto = "c"\n'
        '[[step]]\ngroup = "c"\nby = "k"\ninto = "d"\n'
        '[handover]\nresult = "c"\nresults = ["c", "d"]\n'
    ),
}
# For each option words that are none of its values. One with (command, option) goes first.
WRONG: dict[object, list[str]] = {
    "--encoding": ["klingon"],
    "--delimiter": ["", "ab"],
    "--quote": ["ab"],
    "--escape": ["ab"],
    "--header-line": ["0", "x", "99"],
    "--footer": ["x", "-1", "99"],
    "--ragged": ["perhaps"],
    "--merged": ["perhaps"],
    "--query": ["DROP TABLE t", "", "SELECT 1"],
    "--timeout": ["x", "0", "-1"],
    "--limit": ["fields=3", "columns=x", "columns=0", "depth=9999", "columns"],
    "--type": ["V=integre", "nope=integer", "V"],
    "--unfit": ["perhaps"],
    "--out": ["o.nope", "no-folder/o.csv", "a.csv"],
    ("draft", "--out"): ["no-folder/p.toml", "a.csv"],
    "--report": ["page.txt", "no-folder/page.html"],
    "--figure": ["figure.gif", "figure", "no-folder/figure.png"],
    "--fail-on": ["key-unmatchd", "nope"],
    "--aside-limit": ["x", "-1"],
    "--key": ["nope", ""],
    ("keys", "--key"): ["nope", ""],
    "--ignore": ["csae"],
    "--ignore-words": ["@no-such.txt"],
    "--evidence": ["nope", "k", "V,V"],
    "--accept": ["99%"],  # without --evidence
    "--settled": ["no-such.csv", "a.csv"],
    "--pairs": ["no-such.csv"],
    "--missing-keys": ["nonsense"],
    "--kind": ["lefty"],
    "--cardinality": ["one-to-few"],
    "--take": ["nope"],
    ("group", "--take"): ["n=nope:V", "n=sum:nope", "n", "k=count", "n=sum:w"],
    "--rename": ["nope=x", "V", "V=k"],
    "--prefer": ["both"],
    "--nearest": ["V", "V:sideways", "nope:before"],
    "--within": ["far", "5"],
    ("compare", "--within"): ["V", "V=far", "nope=1", "w=1", "V=-1"],
    "--log": ["no-folder/run.log"],
    "--run": ["x", "0", "7"],
    "--last": ["x", "-1"],
    "--sources": ["nope"],
    "--daily": ["6", "24:00", "06:60", "x:y", ""],
    "--weekly": ["mon"],
    "--monthly": ["1"],
    "--every": ["* * * *", "61 * * * *", "* * * * xyz", "0 0 31 2 *", "5-1 * * * *"],
    "--with": ["at"],
    "--max-rows": ["x", "-1"],
    "--origin": ["V"],
    "--label": ["m={nope}", "V=x", "m"],
    "--number": ["V"],
    "--same": ["x=nope", "V"],
    ("stack", "--by"): ["colour"],
    "--by": ["nope", "V:month"],
    "--rule": ["V=frist", "nope=first", "V", "k=first", "V=newest-by:nope"],
    ("widen", "--rule"): ["frist", "newest-by:nope"],
    "--otherwise": ["frist"],
    "--keep-rule": ["frist", "sum"],
    "--heads": ["nope"],
    ("lengthen", "--heads"): ["k"],
    "--cells": ["nope"],
    ("lengthen", "--cells"): ["k"],
    "--columns": ["nope"],
    ("compare", "--columns"): ["nope", ""],
    ("trace", "--columns"): ["nope"],
    "--header": ["only-one", "a,a,b"],
    "--trim": ["nope"],
    "--split": ["V", "nope:- into a,b", "w:- into V,b", "w: into a"],
    "--replace-value": ["V", "nope:a=b"],
    "--fill": ["nope=1", "V"],
    "--compute": ["x=V +", "x=nope + 1", "x", "x=UPPR(w)"],
    "--where": ["V >", "nope > 1", "V", "V > 'x'"],
    "--sort": ["nope", "V down"],
    "--drop": ["nope", "k,V,w"],
    "--keep": ["nope"],
    "--order": ["nope"],
    "--only": ["nope", "both"],
    "--set": ["nope=1", "kind"],
    "--row": ["0", "99", "x"],
    "--most": ["x", "-1"],
    "--result": ["nope"],
    "--places": ["x", "-1", "1.5"],
    "--write": ["decimals=comma", "places=x", "delimiter=ab", "x"],
    "--memory": ["lots", "1MB", "-2GB"],
    "--cache": ["lots", "1MB", "-2GB"],
    "--scratch": ["no-folder"],
    "--workers": ["0", "many", "-1", "100000"],
    "--cluster": ["nonsense", "tcp://:", "http://127.0.0.1:1"],
    "--rows": ["x", "-1"],
    "--sample": ["x", "-1"],
}
FREE = {"--missing", "--aside"}  # any text will do
ONE_BASE = "sqlite+pysqlite:///one.db"


def _options() -> list[tuple[str, argparse.Action]]:
    found = []
    for name in COMMANDS:
        parser = CommandLineParser(prog=name)
        load_command(name).add_arguments(parser)
        found += [(name, one) for one in parser._actions if one.option_strings]
    return found


OPTIONS = [
    (command, one.option_strings[-1], one.nargs == 0)
    for command, one in _options()
    if "--help" not in one.option_strings
]


@pytest.fixture
def folder(plait, put, tmp_path):
    put(**{name: text for name, text in FILES.items() if name != "p_toml"})
    put(**{f"parts/{number}.csv": FILES["a_csv"] for number in (1, 2)})
    (tmp_path / "p.toml").write_text(FILES["p_toml"])
    return plait


@pytest.mark.parametrize(
    ("command", "option"), [(c, o) for c, o, flag in OPTIONS if not flag and o not in FREE]
)
def test_a_wrong_value_is_refused(folder, command, option, tmp_path):
    if command == "trace":
        assert folder("run", "p.toml", "--quiet").status == 0
    words = list(LINES[command])
    if option in words:
        at = words.index(option)
        words[at : at + 2] = []
    for wrong in WRONG.get((command, option), WRONG.get(option, [])):
        beside = ["--out", "left.csv"] if option in ("--aside", "--aside-limit") else []
        if (command, option) == ("join", "--within"):
            beside = ["--nearest", "V:before"] if wrong != "5" else []
        if (command, option) == ("lengthen", "--columns"):
            words = [word for word in words if word not in ("--key", "k")]
        before = {path: path.stat().st_mtime_ns for path in tmp_path.iterdir()}
        ended = folder(command, *words, *beside, f"{option}={wrong}")
        assert ended.status in (2, 3, 4), (option, wrong, ended.status, ended.out, ended.err)
        assert ended.err.startswith("plait: ") and ended.out == ""
        assert {path: path.stat().st_mtime_ns for path in tmp_path.iterdir()} == before


@pytest.mark.parametrize("command", COMMANDS)
def test_an_option_is_known_to_these_tests_or_takes_no_value(command):
    for name, option, flag in OPTIONS:
        if name == command and not flag:
            assert option in WRONG or (name, option) in WRONG or option in FREE, option


@pytest.mark.parametrize(("command", "option"), [(c, o) for c, o, flag in OPTIONS if flag])
def test_a_flag_takes_no_value(folder, command, option):
    ended = folder(command, *LINES[command], f"{option}=yes")
    assert ended.status == 2 and option in ended.err


def _base() -> bytes:
    """A SQLite file with a table like ``a.csv``."""
    with closing(sqlite3.connect(":memory:")) as base:
        base.execute("CREATE TABLE t (k INTEGER, V INTEGER, w TEXT)")
        base.execute("INSERT INTO t VALUES (1, 5, 'x')")
        return base.serialize()


ODD = {
    "latin.csv": b"k\n\xe9\n",
    "semi.csv": b"k;V,w\n1;5,x\n",
    "quoted.csv": b"k,V\n'a,b',5\n",
    "escaped.csv": b'k,V\n"a/"b",5\n',
    "titled.csv": b"k,V\n1,5\n2,6\n",
    "ragged.csv": b"k,V\n1,5\n2\n",
    "days.csv": b"k,day\n1,3/4/2031\n2,soon\n",
    "spaced.csv": b"k,V\n a ,5\n,\n",
    "signs.csv": b"k,V\n=1+1,5\n",
    "heads.csv": b"K,V\n1,5\n",
    "pairs.csv": b"from,to\n2,3\n",
    "late.csv": b"k,V,w\n1,4,q\n2,9,r\n",
    "letter.csv": b"k,n\na,1\n",
    "gaps.csv": b"k,V\n,5\n",
    "other.csv": b"k,V\n,9\n1,5\n",
    "one.db": _base(),
    "deep.json": b'[{"k": ' + b"[" * 120 + b"]" * 120 + b"}]",
}


def _merged_workbook() -> bytes:
    """A sheet with cells that are merged downwards, and numbers shown with zeros in front."""
    with io.BytesIO() as data:
        with xlsxwriter.Workbook(data) as book:
            sheet = book.add_worksheet("Sheet")
            sheet.write_row(0, 0, ["k", "v"])
            sheet.merge_range(1, 0, 2, 0, "A")
            zeros = book.add_format({"num_format": "000"})
            for row in (1, 2):
                sheet.write_number(row, 1, row, zeros)
        return data.getvalue()


ODD["merged.xlsx"] = _merged_workbook()
ODD["words.csv"] = b"k\nDr. Hill\nHill\n"
ODD |= registers_as_csv(7, 60)
# A line, and what is added to it: the result or what is said of it is another then.
ACTS = {
    "--encoding": ("mend latin.csv", "--encoding cp850"),
    "--delimiter": ("mend semi.csv", "--delimiter ;"),
    "--quote": ("mend quoted.csv", "--quote '"),
    "--escape": ("mend escaped.csv", "--escape /"),
    "--header-line": ("mend titled.csv", "--header-line 2"),
    "--footer": ("mend titled.csv", "--footer 1"),
    "--ragged": ("mend ragged.csv", "--ragged set-aside"),
    "--merged": ("mend merged.xlsx", "--merged fill"),
    "--as-shown": ("mend merged.xlsx", "--as-shown"),
    "--limit": ("mend deep.json", "--limit depth=150"),
    "--query": (f"survey {ONE_BASE}", "--query SELECT_1"),
    "--missing": ("mend a.csv", "--missing x"),
    "--type": ("mend days.csv --unfit missing", "--type day=date:%d/%m/%Y"),
    "--ignore-words": ("group words.csv --by k --take n=count", "--ignore-words Dr."),
    "--evidence": ("keys people.csv payers.csv --key n", "--evidence name,born"),
    "--accept": ("keys people.csv payers.csv --key n --evidence name,born", "--accept 99%"),
    "--settled": (
        "keys people.csv payers.csv --key n --evidence name,born --accept 99%",
        "--settled settled.csv",
    ),
    "--unfit": ("mend days.csv --type day=date:%d/%m/%Y", "--unfit set-aside"),
    "--out": ("mend a.csv", "--out o.csv"),
    "--aside": ("mend a.csv --where V>5", "--aside there"),
    "--aside-limit": ("mend a.csv --where V>5 --aside there", "--aside-limit 0"),
    "--guard-formulas": ("mend signs.csv", "--guard-formulas"),
    "--report": ("mend a.csv", "--report page.html"),
    "--explain": ("check p.toml", "--explain"),
    "--figure": ("keys a.csv --key k", "--figure keys.svg"),
    "--rows": ("survey a.csv", "--rows 2"),
    "--sample": ("survey a.csv", "--sample 2"),
    "--fail-on": ("mend signs.csv", "--fail-on formula-cells"),
    "--append": ("mend a.csv --out one.db#t", "--append"),
    "--replace": ("mend a.csv --out b.csv", "--replace"),
    "--json": ("keys a.csv --key k", "--json"),
    "--quiet": ("mend a.csv", "--quiet"),
    "--verbose": ("settle a.csv late.csv --key k", "--verbose"),
    "--key": ("join a.csv b.csv", "--key k"),
    "--kind": ("join a.csv b.csv --key k", "--kind inner"),
    "--cardinality": ("join a.csv late.csv --key k", "--cardinality one-to-one"),
    "--take": ("join a.csv late.csv --key k", "--take w"),
    "--rename": ("mend a.csv", "--rename V=W"),
    "--prefer": ("join a.csv late.csv --key k", "--prefer right"),
    "--nearest": ("join a.csv late.csv --key k", "--nearest V:before"),
    "--within": ("join a.csv late.csv --key k --nearest V:before", "--within 0"),
    "--max-rows": ("join a.csv b.csv --key k", "--max-rows 2"),
    "--origin": ("join a.csv b.csv --key k", "--origin from"),
    "--ignore": ("join spaced.csv letter.csv --key k", "--ignore space"),
    "--pairs": ("join a.csv b.csv --key k", "--pairs pairs.csv"),
    "--missing-keys": ("join gaps.csv other.csv --key k", "--missing-keys match"),
    "--label": ("stack a.csv", "--label m={stem}"),
    "--distinct": ("stack a.csv", "--distinct"),
    "--number": ("stack a.csv", "--number n"),
    "--same": ("stack a.csv heads.csv", "--same k=K"),
    "--fold-headers": ("stack a.csv heads.csv", "--fold-headers"),
    "--by": ("stack titled.csv heads.csv", "--by position"),
    "--rule": ("settle a.csv late.csv --key k", "--rule V=max"),
    "--otherwise": ("settle a.csv late.csv --key k", "--otherwise last"),
    "--keep-rule": ("settle a.csv late.csv --key k", "--keep-rule last"),
    "--onto-rows": ("group a.csv --by k --take n=count", "--onto-rows"),
    "--places": ("group a.csv --take s=share --by k", "--places 1"),
    "--apart": ("keys parts a.csv --key k", "--apart"),
    "--write": ("mend a.csv --out written.csv --replace", "--write delimiter=semicolon"),
    "--heads": ("widen long.csv --key k --cells v", "--heads h"),
    "--cells": ("widen long.csv --key k --heads h", "--cells v"),
    "--columns": ("lengthen a.csv --heads h --cells c", "--columns V"),
    "--without-missing": (
        "lengthen spaced.csv --heads h --cells c --columns k,V",
        "--without-missing",
    ),
    "--header": ("mend titled.csv", "--header a,b"),
    "--trim": ("mend spaced.csv", "--trim"),
    "--split": ("mend days.csv", "--split day:/_into_d,m,y"),
    "--replace-value": ("mend a.csv", "--replace-value w:x=z"),
    "--fill": ("mend spaced.csv", "--fill V=0"),
    "--compute": ("mend a.csv", "--compute n=V+1"),
    "--where": ("mend a.csv", "--where V>5"),
    "--sort": ("mend a.csv", "--sort V_desc"),
    "--drop": ("mend a.csv", "--drop w"),
    "--keep": ("mend a.csv", "--keep w"),
    "--order": ("mend a.csv", "--order w"),
    "--only": ("keys a.csv b.csv --key k --out o.csv", "--only left"),
    "--all-rows": ("keys a.csv b.csv --key k --out o.csv --only left", "--all-rows"),
    "--set": ("run p.toml", "--set kind=inner"),
    "--log": ("run p.toml", "--log run.log"),
    "--with": ("schedule p.toml --daily 06:00", "--with windows"),
    "--row": ("trace handover --row 1", "--row 2"),
    "--sources": ("trace handover --row 1", "--sources handover"),
    "--columns of a trace": ("trace handover --row 1", "--columns V"),
    "--most": ("trace handover --where k>0", "--most 1"),
    "--result": ("trace handover --row 1", "--result d"),
}
# What memory and which folder a job takes changes nothing, nor who works along:
# tests/cli/test_memory.py, tests/cli/test_workers.py.
# How long something may take changes nothing where it is quick: tests/io/servers.
# What is about runs, schedulers and notices: tests/plan/runs, tests/plan/schedule, and notice.
LEFT_OUT = {
    *("--version", "--timeout", "--memory", "--scratch", "--workers", "--cluster"),
    *("--no-wait", "--run", "--last", "--test", "--install", "--remove"),
    *("--again", "--cache", "--accept-change", "--discard-added", "--trusted"),
    *("--daily", "--weekly", "--monthly", "--every"),
}


def _words(line: str) -> list[str]:
    return [
        word.replace("_", " ")
        if any(one in word for one in ("_into", "_desc", "SELECT_"))
        else word
        for word in line.split()
    ]


def _made(folder, tmp_path, words: list[str]) -> tuple:
    """All that a line leaves behind: status, what is printed, the files."""
    before = {path: path.read_bytes() for path in tmp_path.rglob("*") if path.is_file()}
    ended = folder(*words)
    after = {path: path.read_bytes() for path in tmp_path.rglob("*") if path.is_file()}
    for path in after.keys() - before.keys():
        path.unlink()
    for path in sorted(tmp_path.rglob("*"), reverse=True):
        if path.is_dir() and not any(path.iterdir()):
            path.rmdir()
    for path, content in before.items():
        path.write_bytes(content)
    changed = {path: content for path, content in after.items() if before.get(path) != content}
    return ended.status, ended.out, ended.err, changed


@pytest.mark.parametrize("option", ACTS)
def test_a_right_value_acts(folder, tmp_path, option):
    for name, content in ODD.items():
        (tmp_path / name).write_bytes(content)
    line, more = ACTS[option]
    if line.startswith("trace"):
        assert folder("run", "p.toml", "--quiet").status == 0
    without = _made(folder, tmp_path, _words(line))
    having = _made(folder, tmp_path, [*_words(line), *_words(more)])
    assert having != without
    assert having[0] in (0, 1), having[2]


def test_every_option_is_seen_to_act():
    assert {option for _, option, _ in OPTIONS} - LEFT_OUT <= set(ACTS)


def test_a_value_may_begin_with_a_minus(plait, put):
    put(t_csv="a,b\n-,1\nn/k,2\nx,3\n")
    ended = plait("mend", "t.csv", "--missing", "-,n/k")
    assert ended.status == 0 and ended.out.split() == ["a,b", ",1", ",2", "x,3"]
