"""How the cost of each verb grows with rows, columns and sources: the slope on a log-log scale.

    python benchmarks/slopes.py rows [--only keys join] [--rounds 3]
    python benchmarks/slopes.py columns
    python benchmarks/slopes.py sources

A slope of 1 is cost in proportion. What a command takes for a table of one row is taken off first,
as loading the libraries would make every slope look flat. The last step is shown by itself, since
what grows by the square shows there first; steps of a tenth of a second tell nothing.
"""

from __future__ import annotations

import argparse
import os
import tempfile
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.csv
from measure import Run, machine, run
from verbs import HEADS, KEY, PLAIT, RULES

import data

SIZES = {
    "rows": [100_000, 300_000, 1_000_000, 3_000_000],
    "columns": [10, 100, 1_000, 10_000],
    "sources": [1, 50, 500, 5_000],
}
ROWS_OF_COLUMNS, ROWS_OF_SOURCES = 200, 50
#: More new columns than these are refused.
MOST_HEADS = 2000


def by_rows(rows: int) -> dict[str, list[str]]:
    """Each verb on visits to a tenth as many hives."""
    visits, hives = map(str, data.join_files(rows, max(rows // 10, 1)))
    old, new = map(str, data.month_files(max(rows, 100)))
    extracts = [str(extract) for extract in data.stack_files(24, max(rows, 24))]
    figures = ["--take", "kg=sum:kg", "--take", "n=count", "--take", "half=middle:kg"]
    changes = ["--compute", "grams=kg * 1000", "--where", "kg > 1", "--sort", "seen,kg"]
    return {
        "survey": ["survey", visits],
        "keys": ["keys", visits, hives, *KEY],
        "compare": ["compare", old, new, *KEY],
        "stack": ["stack", *extracts],
        "join": ["join", visits, hives, *KEY],
        "mend": ["mend", visits, *changes],
        "settle": ["settle", visits, *KEY, *RULES],
        "group": ["group", visits, "--by", "yard,note", *figures],
        "group of many": ["group", visits, "--by", "yard,hive", *figures],
        "widen": ["widen", visits, *HEADS],
        "lengthen": ["lengthen", visits, "--heads", "what", "--cells", "cell", *KEY],
        "beside": ["beside", visits, f"other={visits}"],
    }


def by_columns(columns: int) -> dict[str, list[str]]:
    """Each verb on a table of so many columns, and on what became of it."""
    folder = data.FOLDER / f"columns-{columns}"
    wide, later, long = (str(folder / f"{name}.csv") for name in ("wide", "later", "long"))
    if not folder.exists():
        folder.mkdir(parents=True)
        rng = np.random.default_rng(data.SEED)
        rows = ROWS_OF_COLUMNS
        cells = {f"c{number}": rng.integers(0, 1000, rows) for number in range(columns)}
        key = {"id": np.arange(rows) + 1}
        pa.csv.write_csv(pa.table(key | cells), wide)
        changed = {name: np.where(rng.random(rows) < 0.1, 0, cell) for name, cell in cells.items()}
        pa.csv.write_csv(pa.table(key | changed), later)
        cell_rows = {
            "id": np.repeat(key["id"], columns),
            "what": np.tile(np.array(list(cells)), rows),
            "cell": np.column_stack(list(cells.values())).ravel(),
        }
        pa.csv.write_csv(pa.table(cell_rows), long)
    heads = ["--heads", "what", "--cells", "cell"]
    return {
        "survey": ["survey", wide],
        "keys": ["keys", wide, later, "--key", "id"],
        "compare": ["compare", wide, later, "--key", "id"],
        "stack": ["stack", wide, later],
        "join": ["join", wide, later, "--key", "id"],
        "mend": ["mend", wide, "--where", "id > 2", "--sort", "c0"],
        "settle": ["settle", wide, later, "--key", "id", "--otherwise", "last"],
        "group": ["group", wide, "--by", "c0", "--take", "n=count", "--onto-rows"],
        "widen": ["widen", long, *heads, "--key", "id"] if columns <= MOST_HEADS else [],
        "lengthen": ["lengthen", wide, *heads, "--key", "id"],
        "beside": ["beside", wide, later],
    }


def by_sources(sources: int) -> dict[str, list[str]]:
    """Each verb that takes many sources, on so many extracts of a few rows."""
    folder = data.FOLDER / f"sources-{sources}"
    if not folder.exists():
        folder.mkdir(parents=True)
        for number in range(sources):
            extract = data.visits(ROWS_OF_SOURCES, 1000, seed=number)
            pa.csv.write_csv(extract, folder / f"extract-{number:05d}.csv", data.PLAIN)
    plan = folder / "season.toml"
    plan.write_text(
        f'[source.visits]\npath = "{folder}/*.csv"\n\n[[step]]\nstack = "visits"\n'
        'into = "season"\n\n[handover]\nresult = "season"\nkeep = 0\n'
    )
    extracts = str(folder / "*.csv")
    return {
        "survey": ["survey", extracts],
        "stack": ["stack", extracts],
        "settle": ["settle", extracts, *KEY, "--otherwise", "first"],
        "check": ["check", str(plan)],
        "run": ["run", str(plan), "--again", "--replace"],
    }


KINDS: dict[str, Callable[[int], dict[str, list[str]]]] = {
    "rows": by_rows,
    "columns": by_columns,
    "sources": by_sources,
}
#: What differs from one run to the next.
LEAST = 0.1
#: Verbs that write no result.
LOOKING = ("survey", "keys", "compare", "check", "run")


def words_of(name: str, words: list[str], folder: Path) -> list[str]:
    """The whole command, with its result in the folder."""
    out = [] if words[0] in LOOKING else ["--out", str(folder / "out.csv"), "--replace"]
    return [*PLAIT, *words, *out, "--quiet"]


def least(words: list[str], rounds: int) -> Run:
    """The run of the least processor time."""
    return min((run(words) for _ in range(rounds)), key=lambda each: each.processor)


def main() -> None:
    """Measure each verb at each size and print its slopes."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("kind", choices=KINDS)
    parser.add_argument("--rounds", type=int, default=2)
    parser.add_argument("--sizes", type=int, nargs="+")
    parser.add_argument("--only", nargs="+", metavar="NAME")
    options = parser.parse_args()
    sizes = options.sizes or SIZES[options.kind]
    print(machine())
    print(f"{'':14}" + "".join(f"{size:>12,}" for size in sizes) + "   slope  last step  peak")
    data.FOLDER.mkdir(exist_ok=True)
    with tempfile.TemporaryDirectory() as place:
        os.chdir(place)
        folder = Path(place)
        jobs = {size: KINDS[options.kind](size) for size in [1, *sizes]}
        for name in jobs[sizes[0]]:
            if options.only and name not in options.only:
                continue
            start = least(words_of(name, jobs[1][name], folder), 2).processor
            measured = [size for size in sizes if jobs[size][name]]
            runs = [
                least(words_of(name, jobs[size][name], folder), options.rounds) for size in measured
            ]
            spent = [max(each.processor - start, LEAST) for each in runs]
            logs, times = np.log(measured), np.log(spent)
            last = (times[-1] - times[-2]) / (logs[-1] - logs[-2])
            print(
                f"{name:14}"
                + "".join(f"{seconds:>12.2f}" for seconds in spent)
                + f"  {np.polyfit(logs, times, 1)[0]:6.2f}  {last:9.2f}"
                + f"  {max(each.memory for each in runs) / 1e9:.2f} GB",
                flush=True,
            )


if __name__ == "__main__":
    main()
