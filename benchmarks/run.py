"""Measure Plait against floors of the same run.

python benchmarks/run.py join [--left 10000000] [--right 1000000] [--rounds 5]
python benchmarks/run.py stack [--rows 10000000] [--extracts 24] [--rounds 5]
python benchmarks/run.py survey [--left 10000000] [--right 1000000] [--rounds 5]
python benchmarks/run.py wide|related|many [--rounds 5]
python benchmarks/run.py start
python benchmarks/run.py small [--rounds 5]
python benchmarks/run.py long [--left 10000000] [--times 5] [--rounds 3]
python benchmarks/run.py keys [--left 10000000] [--right 1000000] [--rounds 3]
python benchmarks/run.py compare [--left 10000000] [--rounds 3]
python benchmarks/run.py plan|again [--left 10000000] [--right 1000000] [--rounds 3]
"""

from __future__ import annotations

import argparse
import compileall
import os
import shutil
import sys
import tempfile
from importlib.resources import files
from pathlib import Path

import related
from measure import compare, machine, run

import data

FLOOR = [sys.executable, str(Path(__file__).parent / "floor.py")]
PLAIT = [str(Path(sys.executable).parent / "plait")]


def joined_ahead(left: Path, right: Path, result: Path) -> Path:
    """The joined result with types, made by Plait once and kept for the floor to write."""
    made = result.with_suffix(".arrow")
    if not made.exists():
        run([*PLAIT, "join", str(left), str(right), "--key", "yard,hive", "--out", str(result)])
        run([*FLOOR, "ready", str(result), str(made)])
        result.unlink()
        shutil.rmtree(result.with_name(f"{result.stem}-aside"), ignore_errors=True)
    return made


def bench_join(options: argparse.Namespace, folder: Path) -> None:
    """A left join on a composite key, CSV to CSV."""
    left, right = data.join_files(options.left, options.right)
    ready = joined_ahead(left, right, data.FOLDER / f"joined-{options.left}-{options.right}.csv")
    out, floor_out = folder / "joined.csv", folder / "floor.csv"
    compare(
        [*FLOOR, "join", str(left), str(right), str(ready), str(floor_out)],
        [
            *PLAIT,
            "join",
            str(left),
            str(right),
            "--key",
            "yard,hive",
            "--kind",
            "left",
            "--out",
            str(out),
            "--replace",
        ],
        [out, floor_out],
        options.rounds,
    )


def bench_stack(options: argparse.Namespace, folder: Path) -> None:
    """Extracts of one shape, CSV to Parquet."""
    files = [str(file) for file in data.stack_files(options.extracts, options.rows)]
    out, floor_out = folder / "stacked.parquet", folder / "floor.parquet"
    compare(
        [*FLOOR, "stack", str(floor_out), *files],
        [*PLAIT, "stack", *files, "--out", str(out), "--replace"],
        [out, floor_out],
        options.rounds,
    )


def bench_survey(options: argparse.Namespace, _: Path) -> None:
    """A look at the large table of the join."""
    source = str(data.join_files(options.left, options.right)[0])
    compare([*FLOOR, "survey", source], [*PLAIT, "survey", source], [], options.rounds)


def bench_wide(options: argparse.Namespace, _: Path) -> None:
    """A look at one table of 336,776 rows and 19 columns whose key has four."""
    source = str(related.tour_files()[0])
    compare([*FLOOR, "survey", source], [*PLAIT, "survey", source], [], options.rounds)


def bench_related(options: argparse.Namespace, _: Path) -> None:
    """A look at five tables that refer to one another, against a look at each by itself."""
    sources = [str(file) for file in related.tour_files()]
    each = [*FLOOR, "each", *PLAIT, "survey", "--", *sources]
    compare(each, [*PLAIT, "survey", *sources], [], options.rounds, ("each", "together"))


def bench_many(options: argparse.Namespace, _: Path) -> None:
    """A look at 27 tables of 0.6 million rows together, against reading them with types."""
    sources = [str(file) for file in related.record_files()]
    compare([*FLOOR, "survey", *sources], [*PLAIT, "survey", *sources], [], options.rounds)


def joined(left: Path, right: Path, out: Path) -> list[str]:
    """The words of a left join on the composite key."""
    words = ["join", str(left), str(right), "--key", "yard,hive", "--out", str(out), "--replace"]
    return [*PLAIT, *words, "--quiet"]


def bench_long(options: argparse.Namespace, folder: Path) -> None:
    """A left table several times as long, against the join of the usual one."""
    out = folder / "joined.csv"
    short = data.join_files(options.left, options.right)
    long = data.join_files(options.left * options.times, options.right)
    compare(joined(*short, out), joined(*long, out), [out], options.rounds, ("usual", "long"))
    print(f"the ratio is to be divided by {options.times} for the time a row")


def bench_keys(options: argparse.Namespace, folder: Path) -> None:
    """The audit of both tables' keys, against their join."""
    left, right = data.join_files(options.left, options.right)
    out = folder / "joined.csv"
    audit = [*PLAIT, "keys", str(left), str(right), "--key", "yard,hive", "--quiet"]
    compare(joined(left, right, out), audit, [out], options.rounds, ("join", "keys"))


def bench_compare(options: argparse.Namespace, _: Path) -> None:
    """A table against what became of it in a month, against the audit of both keys."""
    old, new = data.month_files(options.left)
    words = [str(old), str(new), "--key", "yard,hive", "--quiet"]
    audit, compared = [*PLAIT, "keys", *words], [*PLAIT, "compare", *words]
    compare(audit, compared, [], options.rounds, ("keys", "compare"))


PLAN = """
[source.visits]
path = "{left}"
[source.hives]
path = "{right}"
[[step]]
join = ["visits", "hives"]
key = ["yard", "hive"]
into = "joined"
[handover]
result = "joined"
"""


def bench_plan(options: argparse.Namespace, folder: Path) -> None:
    """The join as a plan with handover, report and lineage, against the join by itself."""
    left, right = data.join_files(options.left, options.right)
    plan, out = folder / "plan.toml", folder / "joined.csv"
    plan.write_text(PLAN.format(left=left, right=right))
    words = [*PLAIT, "run", str(plan), "--replace", "--quiet"]
    compare(joined(left, right, out), words, [out], options.rounds, ("join", "plan"))
    made = folder / "handover"
    sizes = [(made / name).stat().st_size for name in ("lineage.parquet", "joined.csv")]
    print(f"lineage: {sizes[0] / 1e6:.1f} MB, {sizes[0] / sizes[1]:.1%} of the dataset")


def bench_again(options: argparse.Namespace, folder: Path) -> None:
    """That plan run a second time, with nothing new, against the first time."""
    left, right = data.join_files(options.left, options.right)
    plan = folder / "plan.toml"
    plan.write_text(PLAN.format(left=left, right=right))
    words = [*PLAIT, "run", str(plan), "--replace", "--quiet"]
    for number in range(1, options.rounds + 1):
        for path in folder.glob("*"):
            if path != plan:
                shutil.rmtree(path) if path.is_dir() else path.unlink()
        first, second, nothing = run(words), run([*words, "--again"]), run(words)
        print(
            f"round {number}: first {first.seconds:.1f} s, {first.memory / 1e9:.2f} GB; second "
            f"{second.seconds / first.seconds:.2f} of it, of processor time "
            f"{second.processor / first.processor:.2f}, {second.memory / 1e9:.2f} GB; told that "
            f"nothing is new after {nothing.seconds:.2f} s",
            flush=True,
        )
    made = folder / "handover"
    sizes = [(made / name).stat().st_size for name in ("digests.parquet", "joined.csv")]
    print(f"digests: {sizes[0] / 1e6:.1f} MB, {sizes[0] / sizes[1]:.1%} of the dataset")


def bench_start(options: argparse.Namespace, _: Path) -> None:
    """``plait --version`` against an interpreter that loads argparse."""
    compare([sys.executable, "-c", "import argparse"], [*PLAIT, "--version"], [], options.rounds)


SMALL = {
    "mend": "mend wardens.csv --out made.csv",
    "stack": "stack inspections --out made.csv",
    "join": "join visits.csv hives.csv --key Yard,Hive --ignore case --out made.csv",
    "group": "group visits.csv --by Yard --take n=count --out made.csv",
    "settle": "settle hives.csv --key Yard,Hive --out made.csv",
    "survey": "survey register",
    "keys": "keys visits.csv hives.csv --key Yard,Hive",
    "compare": "compare older-register.csv hives.csv --key Yard,Hive",
    "history": "history season.toml",
    "trace": "trace handover --row 3",
    "check": "check season.toml",
    "run": "run season.toml --again",
    "run, nothing new": "run season.toml",
}
LOADING = [sys.executable, "-c", "import numpy, pyarrow.compute, rich.console"]


def bench_small(options: argparse.Namespace, folder: Path) -> None:
    """Commands on the demo's files against loading the libraries: least processor time."""
    run([*PLAIT, "demo", str(folder / "demo")])
    os.chdir(folder / "demo")
    run([*PLAIT, "stack", "inspections", "--out", "visits.csv"])
    run([*PLAIT, "stack", "register", "--distinct", "--out", "hives.csv"])
    floors = [run(LOADING).processor for _ in range(options.rounds)]
    print(f"loading: {min(floors):.2f} s")
    for name, words in SMALL.items():
        also = ["--replace"] if "--out" in words or name.startswith("run") else []
        lines = [*PLAIT, *words.split(), *also]
        runs, floors = [], []
        for _ in range(options.rounds):
            floors.append(run(LOADING).processor)
            runs.append(run(lines).processor)
        print(f"{name}: {min(runs):.2f} s, ratio {min(runs) / min(floors):.2f}", flush=True)


def main() -> None:
    """Parse the command line and run one benchmark."""
    parser = argparse.ArgumentParser(description=__doc__)
    names = ["join", "stack", "survey", "wide", "related", "many", "start", "long", "keys"]
    names += ["compare", "plan", "again", "small"]
    parser.add_argument("bench", choices=names)
    parser.add_argument("--left", type=int, default=10_000_000)
    parser.add_argument("--right", type=int, default=1_000_000)
    parser.add_argument("--rows", type=int, default=10_000_000)
    parser.add_argument("--extracts", type=int, default=24)
    parser.add_argument("--times", type=int, default=5)
    parser.add_argument("--rounds", type=int, default=5)
    options = parser.parse_args()
    # As an install does: a run must not begin with compiling what was changed since.
    compileall.compile_dir(files("plait"), quiet=2)
    print(machine())
    with tempfile.TemporaryDirectory() as folder:
        benches = {
            "join": bench_join,
            "stack": bench_stack,
            "survey": bench_survey,
            "wide": bench_wide,
            "related": bench_related,
            "many": bench_many,
            "start": bench_start,
            "long": bench_long,
            "keys": bench_keys,
            "compare": bench_compare,
            "plan": bench_plan,
            "again": bench_again,
            "small": bench_small,
        }
        benches[options.bench](options, Path(folder))


if __name__ == "__main__":
    main()
