"""What a person sees: on a terminal, away from one, in a pipe, and on the page."""

from __future__ import annotations

import io
import os
import pty
import re
import subprocess
import sys
from dataclasses import replace

import pytest
from rich.console import Console

from plait.cli.survey_view import render_first_look
from plait.core.base.findings import Finding
from plait.core.operations.survey import survey
from plait.core.table.table import table_from_columns


@pytest.fixture
def on_terminal(tmp_path):
    """Runs the program with a terminal as standard error; returns what appeared there."""

    def run(*words: str, width: int = 100, slow_feed: list[bytes] | None = None, **env: str) -> str:
        leader, follower = pty.openpty()
        process = subprocess.Popen(
            [sys.executable, "-m", "plait", *words],
            cwd=tmp_path,
            stdin=subprocess.PIPE,
            stdout=subprocess.DEVNULL,
            stderr=follower,
            env={**os.environ, "TERM": "xterm-256color", "COLUMNS": str(width), **env},
        )
        os.close(follower)
        for piece in slow_feed or []:
            process.stdin.write(piece)
            process.stdin.flush()
            subprocess.run(["sleep", "0.4"], check=True)
        process.stdin.close()
        seen = b""
        while True:
            try:
                part = os.read(leader, 65536)
            except OSError:
                break
            if not part:
                break
            seen += part
        process.wait()
        os.close(leader)
        return seen.decode()

    return run


@pytest.fixture
def files(put):
    many = "".join(f"u{number},{number}\n" for number in range(8))
    put(l_csv=f"k,v\n1,a\n{many}", r_csv="k,w\n1,x\n")


JOIN = ("join", "l.csv", "r.csv", "--key", "k")


def test_answer_then_ledger_then_findings(plait, files):
    lines = plait(*JOIN, "--out", "o.csv").err.splitlines()
    assert lines[0] == "o.csv: 9 rows, 3 columns"
    assert lines[1] == "not matched: 8 of l, 0 of r"
    assert lines[2] == "set aside:   0 rows; rows without a match are listed in o-aside/"
    order = [
        next(number for number, line in enumerate(lines) if line.startswith(start))
        for start in (
            "left join of l and r on k",
            "  rows out",
            "2 warnings",
            "  warning 8 rows of l",
        )
    ]
    assert order == sorted(order)


def test_a_hundred_columns_are_enough_away_from_a_terminal(plait, files):
    assert max(map(len, plait(*JOIN, "--out", "o.csv").err.splitlines())) <= 100


def test_quiet_says_nothing_and_verbose_shows_all_examples(plait, files):
    assert plait(*JOIN, "--out", "o.csv", "--quiet").err == ""
    plain = plait(*JOIN, "--out", "p.csv").err
    verbose = plait(*JOIN, "--out", "q.csv", "--verbose").err
    assert plain.count("(l line ") == 2
    assert verbose.count("(l line ") == 5


def test_the_result_alone_goes_to_standard_output(plait, files):
    ended = plait(*JOIN, "--kind", "inner")
    assert ended.out == "k,v,w\n1,a,x\n"
    assert "left out:    8 rows; to list them: --aside DIR" in ended.err


def test_colours_on_a_terminal_unless_no_color_is_set(on_terminal, files):
    assert "\x1b[33mwarning" in on_terminal(*JOIN, "--out", "o.csv")
    plain = on_terminal(*JOIN, "--out", "p.csv", NO_COLOR="1")
    assert not re.search(r"\x1b\[[0-9;]*3[0-9]m", plain)


@pytest.mark.slow
def test_progress_on_a_terminal_after_a_second_and_never_elsewhere(on_terminal, plait):
    feed = [b"x,y\n"] + [b"1,2\n" * 10_000] * 5
    seen = on_terminal("stack", "-", slow_feed=feed)
    assert "reading" in seen
    assert "reading" not in plait("stack", "-", feed=b"".join(feed)).err


def test_bars_only_where_they_can_be_drawn(plait, files):
    assert "█" in plait(*JOIN, "--out", "o.csv", PYTHONIOENCODING="utf-8").err
    assert "█" not in plait(*JOIN, "--out", "p.csv", PYTHONIOENCODING="ascii").err


def test_of_very_many_sources_the_ledger_names_some_and_adds_up_the_others(plait, tmp_path):
    for number in range(30):
        (tmp_path / f"m{number}.csv").write_text("x\n" + "1\n" * (number + 1))
    said = plait("stack", ".", "--out", "o.parquet", "--json")
    assert len(said.json["ledger"][0]["lines"]) == 30
    lines = [line for line in said.err.splitlines() if "rows of" in line]
    assert len(lines) == 12
    assert re.search(r"rows of 19 more sources +399", lines[-1])


def test_one_report_for_several_joins(plait, put, tmp_path):
    put(a_csv="k,v\n1,x\n2,y\n", b_csv="k,m\n1,p\n", c_csv="k,z\n2,9\n")
    assert plait("join", "a.csv", "b.csv", "c.csv", "--report", "r.html").status == 0
    page = (tmp_path / "r.html").read_text()
    assert page.count("<caption>") == 2
    assert "left join of a and b on k" in page
    assert '<th scope="row">rows out</th><td class="count">2</td>' in page
    assert plait("stack", "a.csv", "--report", "r.txt").status == 2


SHOWN = {
    "survey": ["survey", "visits.csv", "hives.csv"],
    "keys": ["keys", "visits.csv", "hives.csv", "--key", "yard,hive"],
    "stack": ["stack", "visits.csv", "more.csv", "--out", "s.csv"],
    "join": ["join", "visits.csv", "hives.csv", "--key", "yard,hive", "--out", "j.csv"],
    "settle": ["settle", "visits.csv", "--key", "yard,hive", "--out", "t.csv"],
    "group": ["group", "visits.csv", "--by", "yard", "--take", "n=count", "--out", "g.csv"],
    "mend": ["mend", "visits.csv", "--split", "hive:- into a,b", "--out", "m.csv"],
    "check": ["check", "p.toml"],
    "run": ["run", "p.toml"],
}


@pytest.fixture
def long_names(put, tmp_path):
    """Columns, sources and cells of names as long as people give them, with signs of all kinds."""
    long = "measured weight of the honey supers, in kilograms"
    visits = "".join(f"Würzburg-{n % 3},{n:03d}-x,{n}.5,{'very ' * 12}busy\n" for n in range(40))
    put(
        visits_csv=f"yard,hive,{long!r},note\n".replace("'", '"') + visits,
        more_csv='yard,hive,"measured weight of the honey supers in kilogramms",note\nA,1,2,x\n',
        hives_csv="yard,hive,breed\nwürzburg-1,001-x,Carnica\nA,1,Buckfast\nA,1,Ligustica\n",
    )
    (tmp_path / "p.toml").write_text(
        '[source.visits]\npath = "visits.csv"\n[source.hives]\npath = "hives.csv"\n'
        '[[step]]\njoin = ["visits", "hives"]\nkey = ["yard", "hive"]\ninto = "season"\n'
        '[handover]\nresult = "season"\n'
    )


@pytest.mark.parametrize("command", SHOWN)
def test_every_command_fits_a_hundred_columns_and_says_the_answer_first(plait, long_names, command):
    ended = plait(*SHOWN[command])
    assert ended.status == 0, ended.err
    shown = ended.err + (ended.out if command in ("survey", "keys", "check") else "")
    lines = shown.splitlines()
    assert max(map(len, lines)) <= 100, max(lines, key=len)
    assert re.search(r"\d|all |no ", lines[0]), lines[0]
    assert "Traceback" not in shown and "None" not in shown and "{" not in lines[0]


@pytest.mark.parametrize("command", SHOWN)
def test_counts_have_the_right_number_and_verb(plait, long_names, command):
    ended = plait(*SHOWN[command])
    said = " ".join((ended.err + ended.out).split())
    assert not re.search(r"\b1 (rows|columns|keys|cells|findings|warnings|notes|sources)\b", said)
    assert not re.search(r"\b1 (row|key) [^.;]{0,40}\bhave no match\b", said)


READ = {
    "survey": "survey a.csv b.csv c.csv",
    "keys": "keys a.csv b.csv --key k",
    "check": "check p.toml",
    "history": "history p.toml",
    "trace": "trace all --row 3",
    "compare": "compare a.csv b.csv --key k",
    "help": "help join",
}


@pytest.fixture
def made(plait, put, tmp_path):
    """A plan that has run, and its sources."""
    for name in "abc":
        put(**{f"{name}_csv": "k,v\n" + "".join(f"{n},{name}{n % 7}\n" for n in range(50))})
    (tmp_path / "p.toml").write_text(
        '[source.a]\npath = "a.csv"\n[source.b]\npath = "b.csv"\n'
        '[[step]]\nstack = ["a", "b"]\ninto = "all"\n[handover]\nresult = "all"\nfolder = "all"\n'
    )
    assert plait("run", "p.toml", "--quiet").status == 0
    return tmp_path


@pytest.mark.parametrize("command", READ)
def test_what_is_for_reading_is_on_standard_output_alone(plait, made, command):
    ended = plait(*READ[command].split())
    assert ended.status == 0 and ended.out.strip() and not ended.err.strip()


@pytest.mark.parametrize("command", ["survey", "check", "trace", "help"])
def test_a_reader_that_goes_away_ends_the_program_quietly(made, command):
    reader, writer = os.pipe()
    os.close(reader)
    line = [sys.executable, "-m", "plait", *READ[command].split()]
    ended = subprocess.run(line, cwd=made, stdout=writer, stderr=subprocess.PIPE, timeout=60)
    os.close(writer)
    assert (ended.returncode, ended.stderr) == (141, b"")


def test_pages_are_drawn_without_the_plotting_library(made):
    code = (
        "import sys; from plait.cli.main import run_command_line\n"
        "for words in (['run', 'p.toml', '--replace'], ['survey', 'a.csv', '--report', 's.html'],\n"
        "              ['keys', 'a.csv', 'b.csv', '--key', 'k', '--report', 'k.html']):\n"
        "    assert run_command_line([*words, '--quiet']) == 0\n"
        "print([name for name in ('matplotlib', 'scipy') if name in sys.modules])"
    )
    ended = subprocess.run([sys.executable, "-c", code], cwd=made, capture_output=True, text=True)
    assert ended.stdout.strip() == "[]", ended.stderr


def survey_of_first_rows(rows: int = 3):
    dates = [f"2031-04-{day + 1:02}" for day in range(rows)]
    table = table_from_columns("visits", {"yard": ["Aue"] * rows, "seen": dates})
    finding = Finding("sample-only", "note", rows, "only the first rows were read")
    return survey([replace(table, findings=(finding,))])


@pytest.mark.parametrize(("height", "width"), [(40, 100), (24, 80), (8, 60), (3, 40)])
def test_a_first_look_fits_above_the_bar_and_says_that_it_is_preliminary(height, width):
    out = Console(width=width, height=height, file=io.StringIO(), force_terminal=True)
    lines = render_first_look(survey_of_first_rows(), {"visits": 9 << 30}, out, 2).plain.split("\n")
    assert lines[-1] == "reading all rows and 2 more sources: the figures above are preliminary"
    assert len(lines) <= max(height - 4, 1)
    assert all(len(line) <= width for line in lines[:-1])
    if height == 40:
        assert lines[0] == "sample of the first 3 rows: 1 source, 3 rows"
        assert any(re.match(r" +seen +date ", line) for line in lines)
        assert not any("finding" in line or "sample-only" in line for line in lines)


@pytest.mark.slow
def test_first_rows_are_shown_while_a_large_source_is_read_and_then_give_way(tmp_path, on_terminal):
    rows = "Aue,7,2031-04-05\n" * 3_200_000
    (tmp_path / "visits.csv").write_text(f"yard,hive,seen\n{rows}Moor,x,2031-04-06\n")
    seen = on_terminal("survey", "visits.csv")
    early, _, late = seen.partition("reading all rows: the figures above are preliminary")
    assert re.search(r"hive +integer", early) and "sample of the first 1,000 rows" in early
    assert "\x1b[2K" in late  # the lines are taken away again
    assert "preliminary" not in on_terminal("survey", "visits.csv", "--sample", "10")
