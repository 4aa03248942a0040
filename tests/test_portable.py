"""The program where a system is not POSIX: as on Windows, its modules and calls are hidden."""

from __future__ import annotations

import os
import subprocess
import sys

import pytest

# What Windows has not. Its portable lock needs Windows, so a table of inodes stands in for it;
# and the library that knows the user's folders asks this system, which is none, for getuid.
HIDE = """
import os, signal, stat, sys, types
for name in ("fcntl", "resource", "pwd", "grp", "termios", "tty", "pty", "readline", "syslog"):
    sys.modules[name] = None
for name in ("O_CLOEXEC", "O_NOFOLLOW", "pread", "pwrite", "sendfile", "posix_fallocate", "fork",
             "geteuid", "chown", "sysconf", "mkfifo", "statvfs", "fchmod", "getpgid",
             "killpg", "sched_getaffinity"):
    if hasattr(os, name):
        delattr(os, name)
for name in ("SIGHUP", "SIGALRM", "SIGUSR1", "SIGKILL", "pthread_sigmask", "setitimer"):
    delattr(signal, name)
open_file = os.open
def open_no_folder(path, flags, *rest, **options):
    if os.path.isdir(path):
        raise PermissionError(13, "Permission denied", path)
    return open_file(path, flags, *rest, **options)
os.open = open_no_folder
held = {}
class Locked(Exception):
    pass
def lock(descriptor, flags):
    state = os.fstat(descriptor)
    assert stat.S_ISREG(state.st_mode)
    if held.setdefault((state.st_dev, state.st_ino), descriptor) != descriptor:
        raise Locked
sys.modules["portalocker"] = types.SimpleNamespace(
    lock=lock, AlreadyLocked=Locked, LockException=OSError, LOCK_EX=1, LOCK_NB=2)
"""
RUN = "from plait.cli.main import run_command_line\nsys.exit(run_command_line(sys.argv[1:]))\n"
PLAN = """
[source.visits]
path = "visits.csv"
[source.hives]
path = "hives.csv"
[[step]]
join = ["visits", "hives"]
key = "hive"
into = "season"
[handover]
result = "season"
formats = ["csv", "parquet"]
"""
COMMANDS = [
    ["survey", "visits.csv", "hives.csv", "--report", "look.html"],
    ["keys", "visits.csv", "hives.csv", "--key", "hive", "--out", "keys.csv"],
    ["stack", "visits.csv", "more.csv", "--out", "stacked.csv"],
    ["join", "visits.csv", "hives.csv", "--key", "hive", "--out", "joined.xlsx"],
    ["check", "p.toml"],
    ["run", "p.toml"],
    ["run", "p.toml", "--replace", "--again"],
    ["history", "p.toml"],
    ["trace", "handover", "--row", "2"],
    ["compare", "handover", "handover"],
    ["schedule", "p.toml", "--daily", "06:00", "--with", "windows"],
]


@pytest.fixture
def folder(tmp_path):
    (tmp_path / "visits.csv").write_text("hive,kg\n1,2.5\n2,7\n3,1\n")
    (tmp_path / "more.csv").write_text("hive,kg\n4,0.5\n")
    (tmp_path / "hives.csv").write_text("hive,queen\n1,Ada\n2,Bea\n9,Cleo\n")
    (tmp_path / "p.toml").write_text(PLAN)
    return tmp_path


def without_posix(folder, *words):
    return subprocess.run(
        [sys.executable, "-c", HIDE + RUN, *words],
        cwd=folder,
        capture_output=True,
        text=True,
        timeout=120,
        # Scratch folders have no locks here: what runs beside this test would take them away.
        env={**os.environ, "XDG_CACHE_HOME": str(folder / "cache"), "TMPDIR": str(folder)},
    )


@pytest.mark.slow
def test_the_package_loads_and_every_kind_of_command_works(folder, plait):
    for words in COMMANDS:
        ended = without_posix(folder, *words)
        assert ended.returncode == 0, (words, ended.stderr)
    hidden = {path.name: path.read_bytes() for path in (folder / "handover").glob("*.*")}
    joined = (folder / "stacked.csv").read_bytes()
    assert plait("run", "p.toml", "--replace", "--again").status == 0
    same = ("season.csv", "season.parquet", "dictionary.csv")
    assert all((folder / "handover" / name).read_bytes() == hidden[name] for name in same)
    plait("stack", "visits.csv", "more.csv", "--out", "stacked.csv", "--replace")
    assert (folder / "stacked.csv").read_bytes() == joined


@pytest.mark.parametrize(
    "words", [["--memory", "1GB"], ["--workers", "2"], ["--cluster", "tcp://127.0.0.1:1"]]
)
def test_what_needs_posix_says_so(folder, words):
    ended = without_posix(folder, "stack", "visits.csv", *words)
    assert ended.returncode == 2 and "Linux and macOS only" in ended.stderr, ended.stderr


def test_two_runs_of_one_plan_wait_for_each_other_there_too(folder):
    """The lock is asked for on the file of the turn, and refused to the second."""
    code = (
        "from pathlib import Path\nfrom plait.plan.runs.lock import is_run_locked, run_lock\n"
        "plan = Path('p.toml')\n"
        "with run_lock(plan, 'a test', False):\n    assert is_run_locked(plan)\n"
        "print('held')\n"
    )
    ended = subprocess.run(
        [sys.executable, "-c", HIDE + code], cwd=folder, capture_output=True, text=True
    )
    assert ended.stdout == "held\n", ended.stderr
