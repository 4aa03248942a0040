"""What nobody should have, and somebody has: each ends in a result or a sentence."""

from __future__ import annotations

import json
import os
import struct
import subprocess
import sys
import threading
import zipfile

import pytest

TEXT = "yard,hive\nÄsch,1\nBirk,2\n"
PLAN = """
[parameters]
m = 1
[source.a]
path = "a.csv"
[[step]]
mend = "a"
where = "hive = ${m}"
into = "r"
[handover]
result = "r"
"""


@pytest.mark.parametrize("encoding", ["utf-16", "utf-16-le", "utf-16-be", "utf-32", "utf-32-be"])
@pytest.mark.parametrize("given", [True, False])
def test_wide_encodings_are_read_with_and_without_a_mark(plait, tmp_path, encoding, given):
    (tmp_path / "a.csv").write_bytes(TEXT.encode(encoding))
    ended = plait("stack", "a.csv", *(("--encoding", encoding[:6]) if given else ()))
    if given and encoding.endswith("-be"):
        assert ended.status in (0, 3)
    else:
        assert ended.out == TEXT, ended.err


@pytest.mark.parametrize(
    "name", ["base64", "idna", "rot13", "hex", "zlib", "punycode", "undefined", "unicode_escape"]
)
def test_what_is_no_encoding_of_text_is_refused(plait, put, name):
    put(a_csv=TEXT)
    ended = plait("stack", "a.csv", "--encoding", name)
    assert ended.status == 2 and f"unknown encoding '{name}'" in ended.err


@pytest.mark.parametrize(
    ("text", "place"),
    [
        ('[{"a": "x"}, {"a": "\\ud800"}]', "row 2, column a"),
        ('[{"a\\udfff": 1}]', "the name of a column"),
    ],
)
def test_half_a_letter_in_json_is_told_with_its_place(plait, tmp_path, text, place):
    (tmp_path / "a.json").write_text(text)
    ended = plait("stack", "a.json")
    assert ended.status == 3 and "an unpaired surrogate" in ended.err and place in ended.err


NAMES = [
    b"no\xff.csv", b"a=b.csv", b"${x}.csv", b"a>=b.csv", b"a\nb = 1.csv", b"\x1b[31mred.csv",
    b"n" * 250 + b".csv", b"'q\".csv", "zero\u200bwide\u202e.csv".encode(), b"[x].csv", b"a#b.csv",
    b"$x$.csv", b" .csv", b"-.csv", b"--out.csv", b"$\\frac{$.csv",
]  # fmt: skip


@pytest.fixture(params=NAMES, ids=lambda name: repr(name[:12]))
def odd_name(request, tmp_path):
    place = os.path.join(os.fsencode(tmp_path), b"in", request.param)  # noqa: PTH118
    (tmp_path / "in").mkdir()
    with open(place, "wb") as file:  # noqa: PTH123
        file.write(b"yard,hive\nA,1\nB,2\n")
    return os.fsdecode(request.param)


def test_a_file_of_any_name_is_stacked_and_told_of(plait, odd_name, tmp_path):
    words = ("stack", f"in/{odd_name}", "--out", "o.csv", "--report", "o.html", "--json")
    ended = plait(*words)
    assert ended.status == 0, ended.err
    assert json.loads(ended.out)["sources"][0]["rows"] == 2
    assert "\x1b" not in ended.err and "\u202e" not in ended.err
    assert (tmp_path / "o.csv").read_text() == "yard,hive\nA,1\nB,2\n"


def test_a_draft_of_a_file_of_any_name_runs(plait, odd_name, tmp_path):
    assert plait("draft", "in", "--out", "p.toml").status == 0
    ended = plait("run", "p.toml")
    assert ended.status == 0, ended.err
    plan = (tmp_path / "handover" / "plan.toml").read_text()
    heads = [line for line in plan.splitlines() if line and not line.startswith("#")]
    written = (tmp_path / "p.toml").read_text().splitlines()
    assert set(heads) <= set(written)


@pytest.mark.parametrize(
    ("result", "said"),
    [
        ("../../evil", "cannot be called"),
        ("/tmp/evil", "cannot be called"),
        ("..", "cannot be called"),
        ("a\\u0000b", "cannot be called|no name"),
        ("a\\nb", "no name|cannot be called"),
    ],
)
def test_a_plan_names_no_way_out_of_its_handover(plait, put, tmp_path, result, said):
    import re

    put(a_csv=TEXT)
    text = PLAN.replace('into = "r"', f'into = "{result}"').replace('"r"', f'"{result}"')
    (tmp_path / "p.toml").write_text(text)
    for command in ("check", "run"):
        ended = plait(command, "p.toml")
        assert ended.status == 2 and re.search(said, ended.err)
    assert sorted(one.name for one in tmp_path.iterdir()) == ["a.csv", "p.toml"]


@pytest.mark.parametrize(
    "value", ["[" * 3000 + "]" * 3000, "9" * 5000, "{a = 1}", '"x"', "inf", "1979-05-27"]
)
def test_a_parameter_of_any_value_ends_well(plait, put, value):
    put(a_csv=TEXT, p_toml="")
    (plan := "p.toml")
    put(**{plan.replace(".toml", "__p.toml"): PLAN})
    ended = plait("check", "p/p.toml", "--set", f"m={value}")
    assert ended.status in (0, 2, 3) and len(ended.err) < 5000


@pytest.mark.parametrize(
    "text",
    ["x = " + "[" * 5000 + "]" * 5000, "[" + ".".join("a" * 3000) + "]\n", "title = 'a\0b'\n"],
)
def test_a_plan_that_is_none_ends_well(plait, tmp_path, text):
    (tmp_path / "p.toml").write_text(text)
    assert plait("check", "p.toml").status == 2


def test_a_stack_that_doubles_over_and_over_is_refused_with_its_size(plait, put, tmp_path):
    put(a_csv=TEXT)
    step = '[[step]]\nstack = ["a", "a"]\ninto = "a"\n'
    (tmp_path / "p.toml").write_text('[source.a]\npath = "a.csv"\n' + step * 40)
    ended = plait("check", "p.toml")
    assert ended.status == 2 and "would have 2,147,483,648 rows or more" in ended.err


@pytest.mark.parametrize(
    "words",
    [
        ("--split", "yard:- into p,p"),
        ("--delimiter", ""),
        ("--compute", "n=LEFT(yard, 99999999999999999999)"),
        ("--compute", "n=RIGHT(yard, -99999999999999999999)"),
        ("--compute", "n=SUBSTRING(yard, 99999999999999999999, 1)"),
        ("--compute", "n=LPAD(yard, 99999999999, yard)"),
        ("--compute", "n=ROUND(hive, 99999999999)"),
        ("--compute", "n=CAST(hive AS DECIMAL(99, 99))"),
        ("--compute", "n=hive * 1e300 * 1e300"),
        ("--compute", "n=" + "(" * 5000 + "1" + ")" * 5000),
        ("--where", "NOT " * 20000 + "TRUE"),
        ("--header-line", "100000000"),
        ("--header-line", "99999999999999999999"),
    ],
    ids=lambda words: " ".join(words)[:40],
)
def test_options_of_any_value_end_well(plait, put, words):
    put(a_csv=TEXT)
    ended = plait("mend", "a.csv", *words)
    assert ended.status in (0, 2, 3) and len(ended.err) < 5000


def test_an_empty_name_is_no_folder(plait, put):
    put(a_csv=TEXT)
    assert "a source name is empty" in plait("stack", "").err


def test_the_crosswalk_is_read_and_so_never_written_to(plait, put, tmp_path):
    crosswalk = "left hive,right hive,use\n1,2,yes\n"
    put(a_csv=TEXT, b_csv=TEXT, pr_csv=crosswalk)
    for command in ("keys", "join"):
        for out in (("--out", "pr.csv"), ("--out", "o.csv", "--aside", ".", "--replace")):
            words = ("a.csv", "b.csv", "--key", "hive", "--pairs", "pr.csv", "--replace", *out)
            ended = plait(command, *(words if command == "join" else words[:9]))
            if out[1] == "pr.csv":
                assert ended.status == 4 and "this file is a source" in ended.err
    assert (tmp_path / "pr.csv").read_text() == crosswalk


def _zip(path, *members):
    with zipfile.ZipFile(path, "w") as archive:
        for name, text in members:
            archive.writestr(name, text)


@pytest.mark.filterwarnings("ignore:Duplicate name")
def test_two_files_of_one_name_in_an_archive_are_both_read(plait, tmp_path):
    _zip(tmp_path / "a.zip", ("a.csv", "k\n1\n"), ("a.csv", "k\n2\n"))
    assert plait("stack", "a.zip").out == "k\n1\n2\n"
    assert plait("stack", "a.zip#a.csv (2)").out == "k\n2\n"


def test_an_archive_with_an_odd_header_or_an_empty_file_is_told(plait, tmp_path):
    _zip(tmp_path / "a.zip", ("a.csv", ""), ("b.csv", "k\n1\n"))
    assert "a.zip#a.csv: the file is empty" in plait("stack", "a.zip").err
    data = bytearray((tmp_path / "a.zip").read_bytes())
    place = data.index(b"PK\x01\x02")
    struct.pack_into("<H", data, place + 6, 255)
    (tmp_path / "b.zip").write_bytes(data)
    ended = plait("stack", "b.zip")
    assert ended.status == 3 and "cannot unpack" in ended.err


def test_rows_that_are_in_the_log_of_a_database_are_read_and_nothing_is_left(plait, tmp_path):
    made = (
        "import os, sqlite3; base = sqlite3.connect('a.db'); "
        "base.execute('PRAGMA journal_mode = WAL'); base.execute('CREATE TABLE t (k)'); "
        "base.execute('INSERT INTO t VALUES (1), (2)'); base.commit(); os._exit(0)"
    )
    subprocess.run([sys.executable, "-c", made], cwd=tmp_path, check=True)
    for left in (["a.db", "a.db-shm", "a.db-wal"], ["a.db", "a.db-wal"]):
        if len(left) == 2:
            (tmp_path / "a.db-shm").unlink()
        before = {name: (tmp_path / name).read_bytes() for name in ("a.db", "a.db-wal")}
        assert plait("stack", "a.db#t").out == "k\n1\n2\n"
        assert sorted(one.name for one in tmp_path.iterdir()) == left
        assert before == {name: (tmp_path / name).read_bytes() for name in before}


def test_a_database_that_is_being_written_to_is_read_as_it_was(plait, tmp_path):
    import sqlite3

    base = sqlite3.connect(tmp_path / "a.db", isolation_level=None)
    base.execute("CREATE TABLE t (k)")
    base.execute("INSERT INTO t VALUES (1)")
    base.execute("BEGIN IMMEDIATE")
    base.execute("INSERT INTO t VALUES (2)")
    assert plait("stack", "a.db#t").out == "k\n1\n"
    base.execute("COMMIT")
    base.close()
    assert plait("stack", "a.db#t").out == "k\n1\n2\n"


def test_a_pipe_is_waited_for_aloud(started, tmp_path):
    os.mkfifo(tmp_path / "a.csv")
    writer = threading.Thread(target=lambda: (tmp_path / "a.csv").write_text("k\n1\n"))
    writer.start()
    ended = started("stack", "a.csv")
    writer.join()
    assert ended.out == "k\n1\n" and "waiting for data from the pipe a.csv" in ended.err


def test_a_run_waits_for_a_pipe_aloud(plait, tmp_path):
    (tmp_path / "p.toml").write_text(
        '[source.a]\npath = "a.csv"\n[[step]]\nmend = "a"\ninto = "b"\n[handover]\nresult = "b"\n'
    )
    os.mkfifo(tmp_path / "a.csv")
    writer = threading.Thread(target=lambda: (tmp_path / "a.csv").write_text("k\n1\n"))
    writer.start()
    ended = plait("run", "p.toml")
    writer.join()
    assert ended.status == 0 and "waiting for data from the pipe a.csv" in ended.err


def test_a_database_whose_names_are_no_text_is_told(plait, tmp_path):
    import sqlite3

    with sqlite3.connect(tmp_path / "a.db") as base:
        base.execute("CREATE TABLE t (zzzz)")
        base.execute("INSERT INTO t VALUES (1)")
    base.close()
    data = (tmp_path / "a.db").read_bytes()
    (tmp_path / "a.db").write_bytes(data.replace(b"zzzz", b"zz\xe0z"))
    ended = plait("survey", "a.db")
    assert ended.status == 3 and "cannot read the database" in ended.err


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("--compute", "n=1e"), "not a number"),
        (("--delimiter", "\udcff"), "is not a valid delimiter"),
        (("--quote", "\udcff"), "must be one character"),
        (("--missing", "\udcff"), "is not valid UTF-8"),
        (("--out", "\ud83d.csv"), "not a valid file name"),
    ],
)
def test_signs_that_are_none_are_refused(plait, put, words, said):
    put(a_csv=TEXT)
    ended = plait("mend", "a.csv", *words)
    assert ended.status in (2, 4) and said in ended.err


@pytest.mark.parametrize("key", ["path", "folder"])
@pytest.mark.parametrize("name", ["z" * 300, "z" * 5000, "a\\u0000b"])
def test_a_plan_with_a_name_that_no_file_can_have_ends_well(plait, put, tmp_path, key, name):
    put(a_csv=TEXT)
    plan = (
        PLAN.replace('path = "a.csv"', f'path = "{name}"')
        if key == "path"
        else (f'{PLAN}folder = "{name}"\n')
    )
    (tmp_path / "p.toml").write_text(plan)
    for command in ("check", "run"):
        ended = plait(command, "p.toml")
        assert ended.status in ((0, 4) if key == "folder" else (2, 3)), ended.err


def test_a_database_that_is_written_to_while_it_is_read_without_locks_is_refused(tmp_path):
    """One that keeps a log and has none is read so: with locks, files would be made beside it."""
    import sqlite3

    from plait.core.base.errors import SourceError
    from plait.io.sqlite.read import read_database

    base = sqlite3.connect(tmp_path / "a.db")
    base.execute("PRAGMA journal_mode = WAL")
    base.execute("CREATE TABLE t (k)")
    base.commit()
    base.close()
    assert read_database(tmp_path / "a.db", "t", "t", "a.db").column_names == ("k",)
    assert [one.name for one in tmp_path.iterdir()] == ["a.db"]

    import plait.io.sqlite.read as read

    real = read._connected
    with pytest.MonkeyPatch.context() as patched:
        patched.setattr(
            read, "_connected", lambda *given: os.utime(given[0], (1, 1)) or real(*given)
        )
        with pytest.raises(SourceError, match="changed while it was being read"):
            read_database(tmp_path / "a.db", "t", "t", "a.db")
