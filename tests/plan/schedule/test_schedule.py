"""Plans handed to the scheduler of the system: the user's crontab, systemd, Windows."""

from __future__ import annotations

import os
import random
import shutil
import subprocess
import sys
import time
from pathlib import Path

import pytest

from plait.cli.commands.schedule import print_schedule
from plait.cli.terminal import print_to_stdout
from plait.plan.schedule import cron, systemd
from plait.plan.schedule.cron_times import monthly, parse_cron
from plait.plan.schedule.scheduled_job import make_job
from servers import needed

PLAN = (
    '[source.visits]\npath = "visits.csv"\n[expect]\nrows = "visits >= 2"\n'
    '[handover]\nresult = "visits"\n'
)
# A crontab program of the tests' own: nobody's real crontab is touched.
CRONTAB = """#!/bin/sh
case "$1" in
  -l) cat "$CRONTAB_FILE" 2>/dev/null || { echo "no crontab for $USER" >&2; exit 1; } ;;
  *) cat "$1" > "$CRONTAB_FILE" ;;
esac
"""


@pytest.fixture
def planned(put, tmp_path):
    put(visits_csv="yard,kg\nA,1\nB,2\n")
    (tmp_path / "p.toml").write_text(PLAN)
    return tmp_path / "p.toml"


@pytest.fixture
def crontab(plait, tmp_path, monkeypatch):
    """``plait`` with a crontab of its own; what stands in that."""
    programs = tmp_path / "programs"
    programs.mkdir()
    (programs / "crontab").write_text(CRONTAB)
    (programs / "crontab").chmod(0o755)
    table = tmp_path / "table"

    monkeypatch.setenv("PATH", f"{programs}:{os.environ['PATH']}")
    monkeypatch.setenv("CRONTAB_FILE", str(table))
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path))

    def run(*words):
        return plait(*words)

    run.table = table
    return run


def test_what_would_be_set_is_printed_exactly_and_nothing_is_set(crontab, planned):
    shown = crontab("schedule", "p.toml", "--daily", "06:00", "--with", "cron")
    assert shown.status == 0 and not crontab.table.exists()
    assert "every day at 06:00" in shown.err and "--install" in shown.err
    set_ = crontab("schedule", "p.toml", "--daily", "06:00", "--with", "cron", "--install")
    assert set_.status == 0 and set_.out == ""
    assert crontab.table.read_text().strip() == shown.out.strip()
    assert str(planned) in shown.out and "cd " in shown.out


def test_a_plan_has_one_line_and_others_lines_stay(crontab, planned):
    crontab.table.write_text("5 4 * * * /usr/bin/backup  # mine, not plait-p-00000000\n")
    crontab("schedule", "p.toml", "--daily", "06:00", "--install", "--with", "cron")
    crontab("schedule", "p.toml", "--weekly", "mon", "07:00", "--install", "--with", "cron")
    lines = [line for line in crontab.table.read_text().splitlines() if line.strip()]
    assert len(lines) == 2 and "/usr/bin/backup" in lines[0] and lines[1].startswith("0 7 * * 1 ")
    listed = crontab("schedule", "--json").json["scheduled"]
    assert [(one["when"], one["plan"], one["last"]) for one in listed] == [
        ("0 7 * * 1", str(planned), None)
    ]
    assert crontab("schedule", "p.toml", "--remove").status == 0
    assert "backup" in crontab.table.read_text() and "p.toml" not in crontab.table.read_text()
    assert "was not scheduled" in crontab("schedule", "p.toml", "--remove").err
    assert crontab("schedule", "p.toml", "--remove", "--quiet").err == ""


def test_the_list_has_last_and_next_run(crontab, planned):
    crontab("run", "p.toml")
    crontab("schedule", "p.toml", "--monthly", "1", "06:00", "--install", "--with", "cron")
    (one,) = crontab("schedule", "--json").json["scheduled"]
    assert one["last"]["status"] == "done" and one["next"][8:16] == "01T06:00"
    assert "1 plan scheduled with cron" in crontab("schedule").out


@pytest.mark.slow
@pytest.mark.parametrize("name", ["50 %, it's 5 o'clock.toml", "ä#b $x.toml"])
def test_the_line_works_in_the_poor_environment_of_cron(crontab, planned, tmp_path, name):
    """As cron runs it: a bare shell in another folder, ``\\%`` being a plain percent sign."""
    folder = tmp_path / "a folder, 100%"
    folder.mkdir()
    shutil.copy(planned, folder / name)
    shutil.copy(tmp_path / "visits.csv", folder)
    words = ("--every", "*/5 * * * *", "--install", "--with", "cron")
    assert crontab("schedule", folder / name, *words).status == 0
    (line,) = [one for one in crontab.table.read_text().splitlines() if "plait" in one]
    command = line.removeprefix("*/5 * * * * ").replace("\\%", "%")
    bare = {"PATH": "/usr/bin:/bin", "SHELL": "/bin/sh", "HOME": "/"}
    ended = subprocess.run(["/bin/sh", "-c", command], cwd="/", env=bare, capture_output=True)
    assert ended.returncode == 0 and ended.stdout == ended.stderr == b"", ended.stderr
    assert (folder / "handover" / "visits.csv").exists()
    assert (folder / name).with_suffix(".log").read_text().count("plait run") == 1
    (folder / "visits.csv").write_text("yard,kg\nA,1\n")
    ended = subprocess.run(["/bin/sh", "-c", command], cwd="/", env=bare, capture_output=True)
    assert ended.returncode == 1, "the status of the run is that of the line"
    assert "nothing was handed over" in (folder / name).with_suffix(".log").read_text()
    (one,) = crontab("schedule", "--json").json["scheduled"]
    assert one["plan"] == str(folder / name) and one["last"]["status"] == "refused"


@pytest.mark.parametrize(
    ("words", "said"),
    [
        ([], "no time given for the runs"),
        (["--daily", "06:00", "--every", "* * * * *"], "not both"),
        (["--weekly", "someday", "06:00"], "unknown day"),
        (["--monthly", "32", "06:00"], "no month has a day"),
        (["--remove", "--install"], "--remove"),
        (["--every", "*/7 * * * *", "--with", "windows"], "--daily"),
    ],
)
def test_what_cannot_be_scheduled_is_refused(plait, planned, words, said):
    ended = plait("schedule", "p.toml", *words)
    assert ended.status == 2 and said in ended.err


def test_a_plan_that_is_wrong_is_not_scheduled(plait, put, tmp_path):
    (tmp_path / "p.toml").write_text("[[stepp]]\n")
    assert plait("schedule", "p.toml", "--daily", "06:00").status == 2


@pytest.mark.parametrize(
    "when", ["*/15 8-17 * * 1-5", "0 6 31 * *", "*/30 8 1 * mon", "* * * * *", "5 4 29 2 *"]
)
@pytest.mark.parametrize("name", ["p.toml", "50 % of 'it' $x \\ \".toml"])
def test_systemd_takes_the_units(tmp_path, when, name):
    program = needed(shutil.which("systemd-analyze"), "systemd-analyze")
    job = make_job(tmp_path / name, parse_cron(when))
    units = systemd.unit_texts(job)
    for unit, text in units.items():
        (tmp_path / unit).write_text(text)
    paths = [str(tmp_path / unit) for unit in units]
    ended = subprocess.run([program, "verify", *paths], capture_output=True, text=True)
    assert ended.returncode == 0 and not ended.stderr, ended.stderr
    for calendar in systemd.calendars(parse_cron(when)):
        words = [program, "calendar", "--iterations=1", calendar]
        assert subprocess.run(words, capture_output=True).returncode == 0, calendar


def test_timers_are_listed_by_what_their_units_say(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path))
    systemd.unit_folder().mkdir(parents=True)
    jobs = [make_job(tmp_path / name, monthly("1", "6:00")) for name in ("a.toml", 'b "%$\\.toml')]
    for job in jobs:
        for name, text in systemd.unit_texts(job).items():
            (systemd.unit_folder() / name).write_text(text)
    found = {one.plan: str(one.when) for one in systemd.scheduled()}
    assert found == {job.plan: "0 6 1 * *" for job in jobs}


@pytest.mark.slow
def test_cron_runs_a_plan(tmp_path_factory):
    """Debian's cron, by a file of its own among the system's: nobody's crontab is touched."""
    cron = needed(shutil.which("cron") or shutil.which("crond"), "cron")
    table = Path("/etc/cron.d") / f"plait-test-{os.getpid()}"
    disposable = os.environ.get("PLAIT_DISPOSABLE_MACHINE") == "yes"
    if not disposable or os.geteuid() or not table.parent.is_dir():
        pytest.skip(
            "cron would run every job of this machine: PLAIT_DISPOSABLE_MACHINE=yes, as root"
        )
    folder = tmp_path_factory.mktemp("by cron")
    (folder / "visits.csv").write_text("yard,kg\nA,1\nB,2\n")
    (folder / "p.toml").write_text(PLAN)
    words = ("schedule", "p.toml", "--every", "* * * * *", "--with", "cron")
    command = [sys.executable, "-m", "plait", *words]
    line = subprocess.run(command, cwd=folder, capture_output=True, text=True, check=True).stdout
    table.write_text(line.replace("* * * * * ", "* * * * * root ", 1))
    history = folder / "p.history.jsonl"
    process = subprocess.Popen([cron, "-f"], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    try:
        end = time.monotonic() + 150
        while time.monotonic() < end and '"done"' not in _text(history):
            time.sleep(0.5)
    finally:
        table.unlink()
        process.kill()
        process.wait()
    assert (folder / "handover" / "visits.csv").exists(), _text(folder / "p.log")
    assert "plait run" in _text(folder / "p.log") and '"status": "done"' in _text(history)


def _text(path: Path) -> str:
    return path.read_text() if path.exists() else ""


OTHERS = (
    "*/100 * * * * odd", "@daily /usr/bin/backup", "@reboot x", 'FOO = "a b"', "MAILTO=ines",
    "0~59 3 * * * jitter", "# 0 6 * * * off # plait-p-00000000", "", "   ", "\t", "#", "5 4 * * *",
    "5 4 * * * backup # mine # plait-other-12345678", "1 2 3 4 5 a%b\\%c", "no crontab at all \xff",
    "0 6 * * * plait run p.toml # plait-p-0000000", "0 6 * * * x # plait-q-00000000 ", "a # b",
    "0 0 * * * echo ' # plait-p-00000000'", "0 6 * * 1 cd /a && run /a/p.toml # plait-z-00000000",
)  # fmt: skip
MINE = "0 6 * * * cd '/srv/a # b' && plait run p.toml --set 'm=a # b' # plait-p-00000000"


@pytest.mark.parametrize("seed", range(40))
def test_nobody_elses_line_of_a_crontab_changes_by_a_byte(seed):
    rng = random.Random(seed)
    for _ in range(100):
        lines = [
            rng.choice([*OTHERS, "".join(rng.choices("* #0-9ab%\t@=~", k=12))])
            for _ in range(rng.randrange(12))
        ]
        table = rng.choice(["\n", "\r\n"]).join([*lines, ""] if rng.random() < 0.9 else lines)
        before = table.encode("latin-1")
        once = cron.with_line(before, "plait-p-00000000", MINE)
        ended = before if before.endswith(b"\n") or not before else before + b"\n"
        assert once == ended + MINE.encode() + b"\n"
        other = cron.with_line(once, "plait-p-00000000", MINE.replace("0 6", "1 7", 1))
        assert other == ended + MINE.replace("0 6", "1 7", 1).encode() + b"\n"
        assert cron.with_line(other, "plait-p-00000000", None) == ended
        assert cron.with_line(before, "plait-none-00000000", None) == before


def test_a_job_in_an_odd_folder_is_set_once_and_taken_away(crontab, planned, tmp_path):
    folder = "it's  a # b, 100 % sure"
    crontab.table.write_bytes(b"@daily backup\n*/100 * * * * odd \xff\n")
    (tmp_path / folder).mkdir()
    planned.write_text('[parameters]\nm = "x"\n' + PLAN)
    for name in ("p.toml", "visits.csv"):
        (tmp_path / folder / name).write_bytes((tmp_path / name).read_bytes())
    words = ("schedule", f"{folder}/p.toml", "--daily", "06:00", "--with", "cron", "--install")
    assert crontab(*words).status == crontab(*words, "--set", "m=a # b").status == 0
    assert len(crontab.table.read_bytes().splitlines()) == 3
    (one,) = crontab("schedule", "--json").json["scheduled"]
    assert one["plan"] == str(tmp_path / folder / "p.toml")
    assert crontab("schedule", f"{folder}/p.toml", "--remove").status == 0
    assert crontab.table.read_bytes() == b"@daily backup\n*/100 * * * * odd \xff\n"


@pytest.mark.parametrize("with_", ["cron", "systemd"])
def test_a_line_break_in_a_word_is_no_line_of_the_scheduler(crontab, planned, with_):
    planned.write_text('[parameters]\nm = "x"\n' + PLAN)
    words = ("--daily", "06:00", "--with", with_, "--install", "--set", "m=1\n* * * * * evil")
    refused = crontab("schedule", "p.toml", *words)
    assert refused.status == 2 and "line break" in refused.err and not crontab.table.exists()


def test_the_list_of_scheduled_plans_is_a_line_each_and_nothing_where_there_is_none(capsys):
    with print_to_stdout():
        print_schedule([])
        assert capsys.readouterr().out == ""
        print_schedule([("jobs/season.toml", "0 6 * * 1", "never", "Mon 2031-05-05 06:00")])
    lines = [line.split() for line in capsys.readouterr().out.splitlines() if line.strip()]
    assert lines[0] == ["plan", "when", "last", "run", "next", "run"]
    assert lines[1] == [
        "jobs/season.toml",
        "0",
        "6",
        "*",
        "*",
        "1",
        "never",
        "Mon",
        "2031-05-05",
        "06:00",
    ]
