"""Each verb at ten million rows against the floor of its own reading and writing.

    python benchmarks/verbs.py [--rows 10000000] [--rounds 3] [--only group settle]

The floor reads the same sources with types and writes a ready-made result, with the Arrow library
alone; what is only looked at (keys, compare, survey) has a floor of reading.
"""

from __future__ import annotations

import argparse
import compileall
import os
import shutil
import statistics
import sys
import tempfile
from dataclasses import dataclass
from importlib.resources import files
from pathlib import Path

from measure import Run, machine, run

import data

FLOOR = [sys.executable, str(Path(__file__).parent / "floor.py")]
PLAIT = [str(Path(sys.executable).parent / "plait")]
KEY = ["--key", "yard,hive"]
HEADS = ["--heads", "note", "--cells", "kg", "--key", "yard,hive,seen", "--rule", "sum"]
RULES = ["--rule", "kg=sum", "--rule", "seen=max", "--rule", "note=first"]

TEN_STEPS = """
[source.visits]
path = "{visits}"
[source.hives]
path = "{hives}"
[[step]]
mend = "visits"
rename = {{ note = "remark" }}
into = "named"
[[step]]
mend = "named"
compute = {{ grams = "kg * 1000" }}
into = "weighed"
[[step]]
mend = "weighed"
where = "kg > 1"
into = "heavy"
[[step]]
join = ["heavy", "hives"]
key = ["yard", "hive"]
into = "joined"
[[step]]
mend = "joined"
drop = ["registered"]
into = "narrow"
[[step]]
group = "narrow"
by = ["yard"]
take = {{ visits = "count" }}
into = "by_yard"
[[step]]
settle = "visits"
key = ["yard", "hive"]
rule = {{ kg = "sum", seen = "max", note = "first" }}
into = "by_hive"
[[step]]
mend = "by_hive"
drop = ["note"]
into = "sums"
[[step]]
join = ["narrow", "by_yard"]
key = ["yard"]
into = "counted"
[[step]]
mend = "counted"
fill = {{ breed = "unknown" }}
into = "season"
[handover]
result = "season"
keep = 0
"""


@dataclass(frozen=True)
class Job:
    """A verb, its sources, and the words behind them."""

    sources: list[Path]
    words: list[str]
    out: str = ""


def jobs(rows: int, folder: Path) -> dict[str, Job]:
    """What is measured, by name."""
    visits, hives = data.join_files(rows, rows // 10)
    old, new = data.month_files(rows)
    extracts = data.stack_files(24, rows)
    out = str(folder / "out.csv")
    made = ["--out", out, "--replace"]
    (folder / "ten.toml").write_text(TEN_STEPS.format(visits=visits, hives=hives))
    groups = ["--by", "yard,note", "--take", "kg=sum:kg", "--take", "n=count"]
    return {
        "stack": Job(extracts, ["stack", *map(str, extracts), *made], out),
        "keys": Job([visits, hives], ["keys", str(visits), str(hives), *KEY]),
        "join": Job([visits, hives], ["join", str(visits), str(hives), *KEY, *made], out),
        "group": Job([visits], ["group", str(visits), *groups, *made], out),
        "settle": Job([visits], ["settle", str(visits), *KEY, *RULES, *made], out),
        "widen": Job([visits], ["widen", str(visits), *HEADS, *made], out),
        "compare": Job([old, new], ["compare", str(old), str(new), *KEY]),
        "survey": Job([visits], ["survey", str(visits)]),
        "plan of ten steps": Job(
            [visits, hives],
            ["run", str(folder / "ten.toml"), "--replace", "--again"],
            str(folder / "handover" / "season.csv"),
        ),
    }


def floor_of(name: str, job: Job, rows: int, folder: Path) -> list[str]:
    """The words of the floor; the result that it writes is made by the job itself, once."""
    sources = [str(source) for source in job.sources]
    if not job.out:
        return [*FLOOR, "survey", *sources]
    ready = data.FOLDER / f"ready-{name.replace(' ', '-')}-{rows}.arrow"
    if not ready.exists():
        run([*PLAIT, *job.words, "--quiet"])
        run([*FLOOR, "ready", job.out, str(ready)])
    return [*FLOOR, "write", str(folder / "floor.csv"), str(ready), *sources]


def ratio(runs: list[Run], floors: list[Run], what: str) -> str:
    """The median of the ratios, and all of them."""
    ratios = [
        getattr(mine, what) / getattr(floor, what) for mine, floor in zip(runs, floors, strict=True)
    ]
    return f"{statistics.median(ratios):.2f} ({min(ratios):.2f} to {max(ratios):.2f})"


def main() -> None:
    """Measure them, each in turn with its floor."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rows", type=int, default=10_000_000)
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--only", nargs="+", metavar="NAME")
    options = parser.parse_args()
    compileall.compile_dir(files("plait"), quiet=2)
    print(machine())
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        os.chdir(folder)
        for name, job in jobs(options.rows, folder).items():
            if options.only and name not in options.only:
                continue
            floor, floors, runs = floor_of(name, job, options.rows, folder), [], []
            for _ in range(options.rounds):
                floors.append(run(floor))
                shutil.rmtree(folder / "handover", ignore_errors=True)
                runs.append(run([*PLAIT, *job.words, "--quiet"]))
            peak = max(one.memory for one in runs) / 1e9
            print(
                f"{name}: {statistics.median(one.seconds for one in runs):.1f} s, "
                f"by the clock {ratio(runs, floors, 'seconds')}, "
                f"processor {ratio(runs, floors, 'processor')}, peak {peak:.2f} GB",
                flush=True,
            )


if __name__ == "__main__":
    main()
