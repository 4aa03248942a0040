"""Bad input ends in a clear error with its status, and nothing is left behind."""

from __future__ import annotations

import errno
import os
import random
import resource
import signal
import subprocess
import sys
import threading
import time
from argparse import ArgumentTypeError
from pathlib import Path
from unittest.mock import Mock

import pytest

from conftest import flat
from plait.cli.arguments import parse_whole_number
from plait.cli.main import run_command_line


@pytest.mark.parametrize(
    ("content", "says", "status"),
    [
        (b"", "a.csv: the file is empty", 3),
        (b"\n\n", "a.csv: the file is empty", 3),
        (b"x,y\n1,2\n3\n", "a.csv, line 3: this row has 1 cells, but the header has 2", 3),
        (b'x,y\n1,"a\nb"\n1,2,3\n', "a.csv, line 4: this row has 3 cells", 3),
        (b"\n\nx,y\n\n1,2\n1,2,3\n", "a.csv, line 6: this row has 3 cells", 3),
        (
            "x,y\ngrün,größe\n1,\udcff\n".encode("utf-8", "surrogateescape"),
            "a.csv, line 3, column y: the text is not UTF-8",
            3,
        ),
        (b"x,y\n1,\0\n", "a.csv, line 2: there is a NUL byte in the text", 3),
        (
            "x,y\n1,2\n".encode("utf-16")[:-1],
            "a.csv, line 2: the file is not encoded as utf-16-le",
            3,
        ),
        (b'x,y\n1,2\n1,"2\n3,4\n', "a.csv, line 3: a quote opens and never closes", 3),
        (b'x,y\n1,"2"3\n', "a.csv, line 2: text follows a closing quote", 3),
    ],
)
def test_files_that_cannot_be_read(plait, tmp_path, content, says, status):
    (tmp_path / "a.csv").write_bytes(content)
    ended = plait("stack", "a.csv", "--out", "o.csv")
    assert (ended.status, ended.out) == (status, "")
    assert says in ended.err
    assert [path.name for path in tmp_path.iterdir()] == ["a.csv"]


def test_the_line_is_right_far_into_a_large_file(plait, tmp_path):
    rows = ["x,y"] + [f'{n},"two\nlines"' if n % 7 == 0 else f"{n},one" for n in range(400_000)]
    rows[300_001] = "1,2,3"
    text = "\n".join(rows)
    line = text[: text.index("\n1,2,3\n")].count("\n") + 2
    (tmp_path / "a.csv").write_text(text)
    assert f"line {line:,}: this row has 3 cells" in plait("stack", "a.csv").err


def test_a_header_and_no_rows_is_a_finding(plait, put):
    put(a_csv="x,y\n")
    ended = plait("stack", "a.csv", "--out", "o.csv", "--json")
    assert ended.status == 0
    assert ended.finding("no-rows")["where"] == "a.csv"


@pytest.mark.parametrize(
    ("words", "says", "status"),
    [
        (["stack", "b.csv"], "b.csv: file not found", 3),
        (["stack", "visit.csv"], "did you mean visits.csv?", 3),
        (["stack", "*.tsv"], "no file matches", 3),
        (["stack", "no/such.csv"], "folder no does not exist either", 3),
        (["stack", "data.xyz"], "'.xyz' is not a supported file format", 3),
        (["stack"], "required: SOURCE", 2),
        (["stack", "visits.csv", "--distnct"], "did you mean --distinct?", 2),
        (["stack", "visits.csv", "--json"], "write the result to a file: --out FILE", 2),
        (["stack", "visits.csv", "--label", "month"], "write --label 'month={stem}'", 2),
        (["jion"], "did you mean join?", 2),
        (["join", "visits.csv"], "a join needs two sources", 2),
        (["join", "visits.csv", "hives.csv", "--key", "yrad"], "did you mean yard?", 2),
        (["join", "visits.csv", "hives.csv", "--key", "yard=yrd"], "no column 'yrd' in hives", 2),
        (["join", "visits.csv", "hives.csv", "--kind", "lft"], "did you mean left?", 2),
        (
            ["join", "visits.csv", "hives.csv", "--cardinality", "1:1"],
            "--cardinality must be one-to-one",
            2,
        ),
        (["join", "visits.csv", "hives.csv", "--ignore", "cases"], "did you mean case?", 2),
        (["join", "visits.csv", "other.csv"], "no column in common", 2),
        (
            ["join", "visits.csv", "hives.csv", "--key", "yard", "--key", "yard", "--key", "yard"],
            "3 keys for 1 join",
            2,
        ),
        (["stack", "visits.csv", "--out", "visits.csv"], "sources are never overwritten", 4),
        (["stack", "visits.csv", "--out", "link.csv", "--replace"], "never overwritten", 4),
        (["stack", "visits.csv", "--out", "other.csv"], "overwrite the file: --replace", 4),
        (["stack", "visits.csv", "--out", "no/o.csv"], "create it: mkdir -p no", 4),
        (["stack", "visits.csv", "--out", "o.cvs"], "did you mean .csv?", 4),
        (["stack", "visits.csv", "--out", "o"], "the file name has no extension", 4),
        (["stack", "visits.csv", "--same", "A=B"], "no column 'B' in any of the sources", 2),
    ],
)
def test_requests_that_cannot_be_carried_out(plait, put, tmp_path, words, says, status):
    put(visits_csv="yard,hive\nA,1\n", hives_csv="yard,breed\nA,x\n", other_csv="z\n1\n")
    (tmp_path / "data.xyz").write_text("x")
    (tmp_path / "link.csv").symlink_to("visits.csv")
    before = {path.name: path.read_bytes() for path in tmp_path.iterdir()}
    ended = plait(*words)
    assert says in ended.err
    assert ended.status == status
    assert {path.name: path.read_bytes() for path in tmp_path.iterdir()} == before


def test_no_shared_column_offers_a_likely_pair(plait, put):
    put(a_csv="Yard Code,v\nA,1\n", b_csv="yard_code,w\nA,2\n")
    ended = plait("join", "a.csv", "b.csv")
    assert ended.status == 2
    assert "--key 'Yard Code=yard_code'" in ended.err


@pytest.mark.slow
def test_a_full_disk_leaves_nothing_behind(tmp_path):
    noise = random.Random(1)
    with (tmp_path / "a.csv").open("w") as file:
        file.write("x\n")
        file.writelines(f"{noise.getrandbits(800):0200x}\n" for _ in range(20_000))

    def small_disk() -> None:
        signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
        resource.setrlimit(resource.RLIMIT_FSIZE, (1_000_000, 1_000_000))

    for out in ("o.csv", "o.parquet"):
        ended = subprocess.run(
            [sys.executable, "-m", "plait", "stack", "a.csv", "--out", out],
            cwd=tmp_path,
            capture_output=True,
            text=True,
            preexec_fn=small_disk,
        )
        assert ended.returncode == 4, ended.stderr
        assert "cannot be written" in ended.stderr
        assert "Traceback" not in ended.stderr
        assert [path.name for path in tmp_path.iterdir()] == ["a.csv"]


@pytest.mark.slow
@pytest.mark.parametrize("sign", [signal.SIGINT, signal.SIGTERM])
def test_an_interrupt_while_writing_leaves_nothing_behind(tmp_path, sign):
    with (tmp_path / "a.csv").open("w") as file:
        file.write("x,y\n")
        file.writelines(f"{number},{'z' * 90}\n" for number in range(600_000))
    process = subprocess.Popen(
        [sys.executable, "-m", "plait", "stack", "a.csv", "--out", "o.csv", "--distinct"],
        cwd=tmp_path,
        stderr=subprocess.PIPE,
        text=True,
        # Whoever runs these tests in the background has it ignored.
        preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),
    )
    deadline = time.monotonic() + 60
    while not any(path.suffix == ".plait-part" for path in tmp_path.iterdir()):
        assert process.poll() is None, "it ended before it could be interrupted"
        assert time.monotonic() < deadline
        time.sleep(0.002)
    process.send_signal(sign)
    said = process.communicate()[1]
    assert process.returncode == 130
    assert "no output was written" in said
    assert "Traceback" not in said
    assert [path.name for path in tmp_path.iterdir()] == ["a.csv"]


def test_a_reader_that_goes_away_is_no_crash(tmp_path):
    with (tmp_path / "a.csv").open("w") as file:
        file.write("x\n")
        file.writelines(f"{number}\n" for number in range(300_000))
    with subprocess.Popen(
        [sys.executable, "-m", "plait", "stack", "a.csv", "--quiet"],
        cwd=tmp_path,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
    ) as process:
        process.stdout.readline()
        process.stdout.close()
        assert b"Traceback" not in process.stderr.read()


def test_a_cell_cannot_steer_the_terminal(plait, put):
    put(a_csv="k,v\n\x1b[2Jx,1\n", b_csv="k,w\n1,2\n")
    ended = plait("join", "a.csv", "b.csv", "--key", "k", "--out", "o.csv")
    assert "\x1b" not in ended.err
    assert "\\x1b[2Jx" in ended.err


def test_colour_only_on_a_terminal(plait, put):
    put(a_csv="k,v\n1,1\n")
    assert "\x1b[" not in plait("stack", "a.csv", "--out", "o.csv", FORCE_COLOR="").err


def test_a_source_that_may_not_be_read(plait, tmp_path):
    path = Path(tmp_path / "a.csv")
    path.write_text("x\n1\n")
    path.chmod(0)
    if os.access(path, os.R_OK):
        pytest.skip("this user may read everything")
    assert plait("stack", "a.csv").status == 3


def test_an_error_that_leads_back_to_itself_is_told(monkeypatch, capsys, tmp_path):
    error, other = ValueError("x"), KeyError("y")
    error.__cause__, other.__context__ = other, error
    monkeypatch.setenv("TMPDIR", str(tmp_path))
    monkeypatch.setattr("plait.cli.main._dispatch", Mock(side_effect=error))
    assert run_command_line(["stack"]) == 70
    other.__cause__ = KeyboardInterrupt()
    assert run_command_line(["stack"]) == 130
    assert "interrupted; no output was written" in capsys.readouterr().err


@pytest.mark.parametrize(
    "error",
    [
        MemoryError(),
        RuntimeError("can't start new thread"),
        OSError(errno.ENOMEM, "Cannot allocate memory"),
        ImportError("numpy/linalg.so: failed to map segment from shared object"),
    ],
)
def test_what_tells_of_memory_in_other_words_is_told_as_that(error, monkeypatch, capsys):
    monkeypatch.setattr("plait.cli.main._dispatch", Mock(side_effect=error))
    assert run_command_line(["stack"]) == 2
    assert capsys.readouterr().err.startswith("plait: not enough memory to finish")


def test_a_system_that_starts_no_thread_lacks_memory(monkeypatch, capsys, tmp_path):
    for name in ("a.csv", "b.csv"):
        (tmp_path / name).write_text("x\n1\n")
    monkeypatch.setattr(
        threading.Thread, "start", Mock(side_effect=RuntimeError("can't start new thread"))
    )
    words = [str(tmp_path / name) for name in ("a.csv", "b.csv")]
    assert run_command_line(["join", *words, "--key", "x"]) == 2
    assert capsys.readouterr().err.startswith("plait: not enough memory to finish")


@pytest.mark.parametrize("folder", ["nowhere", "z" * 300])
def test_a_folder_for_scratch_files_that_cannot_be(plait, put, folder):
    put(a_csv="x\n1\n")
    ended = plait("stack", "a.csv", "--scratch", folder)
    assert ended.status == 2 and "the folder for scratch files does not exist" in flat(ended.err)


def test_a_plan_that_hands_nothing_over_is_checked_and_not_run(plait, put):
    plan = '[source.a]\npath = "a.csv"\n[[step]]\nmend = "a"\ninto = "b"\n'
    put(**{"a.csv": "x\n1\n", "p.toml": plan})
    assert plait("check", "p.toml").status == 0
    ended = plait("run", "p.toml")
    assert ended.status == 2 and "the plan has no [handover] section" in ended.err
    assert 'add [handover] with result = "NAME"' in flat(ended.err)


@pytest.mark.parametrize(("text", "number"), [("0" * 14 + "7", 7), ("9" * 15, 10**15 - 1)])
def test_a_whole_number_has_up_to_fifteen_digits(text, number):
    assert parse_whole_number(text) == number
    with pytest.raises(ArgumentTypeError):
        parse_whole_number("1" + text)
