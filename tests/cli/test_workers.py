"""Jobs that others take parts of: the same files and words, workers that die, and errors."""

from __future__ import annotations

import os
import random
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path
from types import SimpleNamespace

import pytest

from cases import every_case
from plait.core.base.errors import WorkerPoolError
from plait.io import cluster as crews
from plait.io.cluster import ClusterWorkerPool
from plait.io.worker import result_affecting_versions, run_task

distributed = pytest.importorskip("distributed")
LARGE = 45 << 20  # more than one stretch


def visits(rows, seed=1):
    draw = random.Random(seed)
    return "yard,hive,day,kg,note\n" + "".join(
        f"{draw.choice(['Aue', 'Moor', 'Y1', ''])},{draw.randint(1, 60)},"
        f"2031-04-{draw.randint(1, 30):02d},{draw.choice(['9', '12.50', '', '-'])},"
        f"{draw.choice(['calm', '=1+1', chr(34) + 'two' + chr(10) + 'lines' + chr(34)])}\n"
        for _ in range(rows)
    )


HIVES = "yard,hive,breed\n" + "".join(
    f"{yard},{hive},{'Carnica' if hive % 3 else ''}\n"
    for yard in ("Aue", "Moor", "Linde")
    for hive in range(1, 50)
)
COMMANDS = (
    "join visits.csv hives.csv --key yard,hive --kind full --json",
    "join visits.csv hives.csv --key yard,hive --ignore case --guard-formulas --json",
    "settle visits.csv --key yard,hive --otherwise last --rule kg=agree --json",
    "group visits.csv --by yard --take s=sum:kg --take d=distinct:day --missing - --json",
    "stack visits.csv more.csv --distinct --label from={stem} --json",
    "mend visits.csv --sort kg,day --json",
)


@pytest.fixture(scope="module")
def cluster():
    """A scheduler and two workers within this process: to start others takes longer."""
    with distributed.LocalCluster(
        n_workers=2,
        threads_per_worker=1,
        processes=False,
        protocol="tcp",
        host="127.0.0.1",
        dashboard_address=None,
    ) as running:
        yield running.scheduler_address


@pytest.fixture
def shared(monkeypatch):
    """Small files are shared out as large ones are; the calls that workers took on."""
    calls: list[str] = []
    result = ClusterWorkerPool._result

    def noted(self, future):
        calls.append(future.key)
        return result(self, future)

    monkeypatch.setattr(ClusterWorkerPool, "tasks_per_unit", 1 << 11)
    monkeypatch.setattr(ClusterWorkerPool, "_result", noted)
    return calls


def made(folder):
    every = (path for path in Path(folder).rglob("*") if path.is_file())
    return {str(path.relative_to(folder)): path.read_bytes() for path in every}


@pytest.mark.parametrize("line", COMMANDS)
def test_a_cluster_hands_over_the_same(line, plait, put, cluster, shared, tmp_path):
    put(visits_csv=visits(3000), more_csv=visits(500, 2), hives_csv=HIVES)
    words = [*line.split(), "--out", "made/result.csv", "--aside", "made"]
    Path("made").mkdir()
    usual = plait(*words)
    expected = made("made")
    shutil.rmtree("made")
    Path("made").mkdir()
    again = plait(*words, "--cluster", cluster)
    assert again == usual
    files = made("made")
    assert {name: files[name] for name in files if not name.startswith(".")} == {
        name: expected[name] for name in expected if not name.startswith(".")
    }
    assert len(shared) >= 10


def test_a_plan_names_its_cluster(plait, put, cluster, shared):
    put(visits_csv=visits(3000))
    Path("p.toml").write_text(
        f'[work]\ncluster = "{cluster}"\nscratch = "."\n'
        '[source.visits]\npath = "visits.csv"\n'
        '[handover]\nresult = "visits"\nformats = ["csv"]\n'
    )
    assert plait("run", "p.toml", "--quiet").status == 0
    assert shared
    assert Path("handover/visits.csv").read_text() == Path("visits.csv").read_text()


def test_what_is_wrong_far_down_is_told_as_ever(plait, put, cluster, shared):
    lines = visits(3000).replace('"two\nlines"', "calm").splitlines()
    lines[2500] += ",one too many"
    put(visits_csv="\n".join(lines))
    usual = plait("mend", "visits.csv", "--out", "o.csv")
    assert usual.status == 3 and "line 2,501" in usual.err
    assert plait("mend", "visits.csv", "--out", "o.csv", "--cluster", cluster) == usual
    assert shared


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("--cluster", "tcp://127.0.0.1:1"), "does not answer"),
        (("--cluster", "nonsense"), "does not answer"),
        (("--workers", "0"), "0 workers"),
        (("--workers", "2", "--cluster", "tcp://127.0.0.1:1"), "ask for one of them"),
    ],
)
def test_a_crew_that_cannot_be_had_is_told(words, said, plait, put, monkeypatch):
    monkeypatch.setattr(crews, "_ANSWER_SECONDS", 0.5)
    put(visits_csv=visits(3))
    ended = plait("mend", "visits.csv", "--out", "out.csv", *words)
    assert ended.status in (2, 3)
    assert said in ended.err
    assert not Path("out.csv").exists()


def client_of(answers):
    return SimpleNamespace(
        wait_for_workers=lambda *_, **__: None,
        run=lambda *_, **__: {f"tcp://w{n}": one for n, one in enumerate(answers)},
    )


@pytest.mark.parametrize(
    ("answer", "said"),
    [
        (
            ("apiary", {**result_affecting_versions(), "numpy": "1.0"}, True),
            r"numpy 1\.0, and here",
        ),
        (("apiary", result_affecting_versions(), False), "does not see the scratch folder"),
        (ModuleNotFoundError("No module named 'plait'"), "is Plait installed there"),
    ],
)
def test_a_worker_that_is_not_as_it_must_be_is_named(answer, said, tmp_path):
    right = ("apiary", result_affecting_versions(), True)
    crew = ClusterWorkerPool(client_of([right, answer]), "tcp://somewhere:1", tmp_path, 1 << 30)
    with pytest.raises(WorkerPoolError, match=said) as told:
        crew.check()
    assert told.value.where and told.value.where.startswith("tcp://w1")
    assert not list(tmp_path.iterdir())


def test_a_worker_that_came_late_with_another_version_does_nothing(tmp_path):
    other = {**result_affecting_versions(), "plait": "0.0.1"}
    with pytest.raises(WorkerPoolError, match=r"here it is 0\.0\.1"):
        run_task(len, None, "", 1, str(tmp_path), 1 << 28, other)


def test_no_workers_at_all_is_told(tmp_path):
    with pytest.raises(WorkerPoolError, match="has no workers"):
        ClusterWorkerPool(client_of([]), "tcp://somewhere:1", tmp_path, 1 << 30).check()


def large(folder):
    """A file that is shared out as it is, and hives to join."""
    some = visits(40_000, 5).partition("\n")[2]
    with (folder / "visits.csv").open("w") as file:
        file.write("yard,hive,day,kg,note\n")
        for _ in range(LARGE // len(some) + 1):
            file.write(some)
    (folder / "hives.csv").write_text(HIVES)


def running(folder, *words):
    """The program in a terminal's group of processes of its own."""
    line = ("join", "visits.csv", "hives.csv", "--key", "yard,hive", "--scratch", "scratch")
    (folder / "scratch").mkdir(exist_ok=True)
    return subprocess.Popen(
        [sys.executable, "-m", "plait", *line, "--out", "out.csv", "--quiet", *words],
        cwd=folder,
        stderr=subprocess.PIPE,
        text=True,
        start_new_session=True,
    )


def wait_until(there, seconds=60):
    end = time.monotonic() + seconds
    while not (found := there()):
        assert time.monotonic() < end
        time.sleep(0.02)
    return found


def scratch_of(folder):
    return list(folder.glob("scratch/.plait*"))


def parcels(folder):
    """What workers have sent back so far."""
    found = []
    for path in folder.glob("scratch/.plait*/*"):
        try:
            found += [path] * (path.is_file() and path.stat().st_size > 0)
        except FileNotFoundError:
            continue
    return found


def others(mark):
    """The processes whose command line or environment names a folder."""
    found = []
    for process in Path("/proc").glob("[0-9]*"):
        try:
            told = (process / "cmdline").read_bytes() + (process / "environ").read_bytes()
        except OSError:
            continue
        if str(mark).encode() in told and int(process.name) != os.getpid():
            found.append(int(process.name))
    return found


@pytest.mark.slow
def test_workers_show_no_page_to_whoever_is_on_this_machine(tmp_path):
    (tmp_path / "hives.csv").write_text(HIVES)
    (tmp_path / "job.py").write_text(
        """
import contextlib, http.client, os, pathlib, plait
def family():
    whole, of = {os.getpid()}, {}
    for stat in pathlib.Path("/proc").glob("[0-9]*/stat"):
        with contextlib.suppress(OSError):
            of[int(stat.parent.name)] = int(stat.read_text().rpartition(")")[2].split()[1])
    for _ in of:
        whole |= {pid for pid, parent in of.items() if parent in whole}
    return whole
def ports():
    links = [link for pid in family() for link in pathlib.Path(f"/proc/{pid}/fd").iterdir()]
    mine = set()
    for link in links:
        with contextlib.suppress(OSError):
            mine.add(os.readlink(link))
    for line in pathlib.Path("/proc/net/tcp").read_text().splitlines()[1:]:
        cells = line.split()
        if cells[3] == "0A" and f"socket:[{cells[9]}]" in mine:
            yield int(cells[1].partition(":")[2], 16)
with plait.working("1GB", workers=1):
    plait.read("hives.csv")
    listening = set(ports())
    assert listening
    for port in listening:
        for path in ("/", "/status", "/info/main/workers.html", "/json/counts.json", "/metrics"):
            asking = http.client.HTTPConnection("127.0.0.1", port, timeout=3)
            try:
                asking.request("GET", path)
                status = asking.getresponse().status
            except Exception:
                continue
            assert status >= 400, (port, path, status)
print("none")
"""
    )
    ended = subprocess.run(
        [sys.executable, "job.py"], cwd=tmp_path, capture_output=True, text=True, timeout=120,
        check=False,
    )  # fmt: skip
    assert (ended.returncode, ended.stdout) == (0, "none\n"), ended.stderr


@pytest.mark.slow
def test_a_script_starts_workers_without_ado(tmp_path):
    """Neither a script that is not guarded nor one that is fed is carried out by the workers."""
    (tmp_path / "hives.csv").write_text(HIVES)
    code = (
        "import plait\nprint('once')\nwith plait.working('1GB', workers=1):\n"
        "    print(plait.read('hives.csv').rows)\n"
    )
    (tmp_path / "job.py").write_text(code)
    for words, feed in ((["job.py"], None), (["-"], code)):
        ended = subprocess.run(
            [sys.executable, *words], input=feed, cwd=tmp_path, capture_output=True, text=True,
            timeout=60, check=False,
        )  # fmt: skip
        assert (ended.returncode, ended.stdout, ended.stderr) == (0, "once\n147\n", "")


@pytest.mark.slow
@pytest.mark.skipif(not every_case(), reason="takes long: with the thorough profile")
def test_a_cluster_of_its_own_commands_survives_a_worker(tmp_path, plait):
    """As docs/scale.md says to start one."""
    large(tmp_path)
    assert plait("join", "visits.csv", "hives.csv", "--key", "yard,hive", "--out", "all.csv",
                 "--quiet").status == 0  # fmt: skip
    at, bin_ = tmp_path / "scheduler.json", Path(sys.executable).parent
    quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL, "cwd": tmp_path}
    begun = [
        subprocess.Popen([bin_ / "dask", "scheduler", "--host", "127.0.0.1", "--port", "0",
                          "--no-dashboard", "--scheduler-file", at], **quiet)
    ]  # fmt: skip
    try:
        wait_until(at.exists)
        for _ in range(2):
            begun.append(
                subprocess.Popen([bin_ / "dask", "worker", "--scheduler-file", at, "--nthreads",
                                  "1", "--no-dashboard", "--no-nanny"], **quiet)
            )  # fmt: skip
        address = wait_until(lambda: '"tcp://' in (text := at.read_text()) and text)
        address = address.partition('"address": "')[2].partition('"')[0]
        with distributed.Client(address) as client:
            client.wait_for_workers(2, timeout=60)
        job = running(tmp_path, "--cluster", address)
        wait_until(lambda: parcels(tmp_path))
        begun[1].kill()
        assert job.wait(120) == 0, job.communicate()
    finally:
        for process in begun:
            process.kill()
            process.wait()
    assert (tmp_path / "out.csv").read_bytes() == (tmp_path / "all.csv").read_bytes()
    assert not list((tmp_path / "scratch").iterdir())


@pytest.mark.slow
@pytest.mark.parametrize(
    ("moment", "number"),
    [
        ("begun", signal.SIGINT),
        ("shared out", signal.SIGTERM),
        ("shared out", signal.SIGKILL),
    ],
)
def test_an_end_from_outside_leaves_nobody_at_work(moment, number, tmp_path):
    large(tmp_path)
    job = running(tmp_path, "--workers", "2")
    wait_until(lambda: parcels(tmp_path) if moment == "shared out" else scratch_of(tmp_path))
    if number == signal.SIGINT:
        os.killpg(job.pid, number)
    else:
        job.send_signal(number)
    _, said = job.communicate(timeout=60)
    if number != signal.SIGKILL:
        assert job.returncode == 130
        assert said == "plait: interrupted; no output was written\n"
    wait_until(lambda: not others(tmp_path))
    assert not (tmp_path / "out.csv").exists()
    if number != signal.SIGKILL:
        assert not list((tmp_path / "scratch").iterdir())
