"""Tables larger than memory: how long jobs take as they grow, and the most that is resident.

    python benchmarks/scale.py --rows 10 30 100 --memory 2GB

makes visits of so many million rows and hives of a tenth as many (3 GB for 100), and does each job
once with that memory. The peak is of the process and its children, looked at every five
milliseconds. A job of which the process is killed, or that ends with an error, is shown as such.
"""

from __future__ import annotations

import argparse
import os
import resource
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.csv

DATA = Path(__file__).parent / "data"
KEY = "--key yard,hive"
JOBS = {
    "join": f"join visits.csv hives.csv {KEY} --out o.csv",
    "join --workers 1": f"join visits.csv hives.csv {KEY} --workers 1 --out o.csv",
    "join --workers 2": f"join visits.csv hives.csv {KEY} --workers 2 --out o.csv",
    "join --ignore case,space": f"join visits.csv hives.csv {KEY} --ignore case,space --out o.csv",
    "join --kind full": f"join visits.csv hives.csv {KEY} --kind full --out o.csv",
    "settle": f"settle visits.csv {KEY} --rule grams=sum --rule day=max --out o.csv",
    "group": "group visits.csv --by yard,hive --take kg=sum:grams --take n=count --out o.csv",
    "widen": f"widen long.csv --heads what --cells value {KEY} --out o.csv",
    "stack": "stack visits.csv --out o.parquet",
    "stack --distinct": "stack visits.csv visits.csv --distinct --out o.parquet",
    "mend --sort": "mend visits.csv --sort day,hive --out o.csv",
    "survey": "survey visits.csv",
}
HEADS = ("mites", "honey", "wax", "brood", "queen", "frames", "weight", "warmth", "noise", "loss")
_STEP = 2_000_000
_HEAD = f"{'rows':>5}  {'job':26} {'wall':>8} {'processor':>9} {'µs a row':>8} {'peak':>8}"


def main() -> None:
    """Make the data, do the jobs, print what they took."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rows", type=int, nargs="+", default=[10], metavar="MILLIONS")
    parser.add_argument("--memory", default="2GB")
    parser.add_argument("--only", nargs="+", choices=JOBS, default=list(JOBS))
    asked = parser.parse_args()
    print(_HEAD)
    for millions in asked.rows:
        folder = made(millions)
        for name in asked.only:
            words = [*JOBS[name].split(), "--memory", asked.memory, "--quiet"]
            if name != "survey":
                words += ["--replace", "--aside", str(folder / "aside")]
            print(f"{millions:>4}M  {name:26} {measured(words, folder, millions)}", flush=True)


def measured(words: list[str], folder: Path, millions: int) -> str:
    """What a job took, in a line."""
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    begin, most = time.monotonic(), 0
    job = subprocess.Popen([sys.executable, "-m", "plait", *words], cwd=folder, stdout=-3)
    while job.poll() is None:
        most = max(most, sum(map(resident, family(job.pid))))
        time.sleep(0.005)
    wall, after = time.monotonic() - begin, resource.getrusage(resource.RUSAGE_CHILDREN)
    if job.returncode:
        return f"ended with status {job.returncode}"
    taken = after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime
    return f"{wall:7.1f}s {taken:8.1f}s {wall / millions:8.2f} {most / 2**30:5.2f} GB"


def family(process: int) -> Iterator[int]:
    """A process and all that it started."""
    yield process
    try:
        text = Path(f"/proc/{process}/task/{process}/children").read_text()
    except OSError:
        return
    for child in text.split():
        yield from family(int(child))


def resident(process: int) -> int:
    """Bytes that are resident of a process."""
    try:
        pages = int(Path(f"/proc/{process}/statm").read_text().split()[1])
    except (OSError, IndexError):
        return 0
    return pages * os.sysconf("SC_PAGE_SIZE")


def made(millions: int) -> Path:
    """The folder with the files of so many million rows."""
    folder = DATA / f"scale-{millions}"
    folder.mkdir(parents=True, exist_ok=True)
    rows, keys, draw = millions * 1_000_000, millions * 100_000, np.random.default_rng(7)
    days = pa.array(
        [f"2031-{month:02d}-{day:02d}" for month in range(1, 13) for day in range(1, 29)]
    )
    shuffled = draw.permutation(keys)

    def visits(start: int, stop: int) -> dict[str, pa.Array]:
        size = stop - start
        return {
            **key(draw.integers(0, int(keys * 1.02), size)),
            "day": days.take(pa.array(draw.integers(0, len(days), size))),
            "grams": pa.array(draw.integers(0, 9999, size)),
        }

    def hives(start: int, stop: int) -> dict[str, pa.Array]:
        breeds = pa.array(["Carnica", "Buckfast", "Ligustica", "Mellifera"])
        return {
            **key(shuffled[start:stop]),
            "breed": breeds.take(pa.array(draw.integers(0, 4, stop - start))),
            "queen_year": pa.array(draw.integers(2026, 2032, stop - start)),
        }

    def long(start: int, stop: int) -> dict[str, pa.Array]:
        at = np.arange(start, stop)
        heads = pa.array(HEADS).take(pa.array(at // keys % len(HEADS)))
        values = pa.array(draw.integers(0, 9999, stop - start))
        return {**key(at * 7919 % keys), "what": heads, "value": values}

    for name, size, make in (
        ("hives", keys, hives),
        ("visits", rows, visits),
        ("long", rows, long),
    ):
        if not (folder / f"{name}.csv").exists():
            write(folder / f"{name}.csv", size, make)
    return folder


def key(numbers: np.ndarray) -> dict[str, pa.Array]:
    """The yard and the hive of numbered keys."""
    yards = pa.array([f"Y{number:04d}" for number in range(1000)])
    return {"yard": yards.take(pa.array(numbers % 1000)), "hive": pa.array(numbers // 1000 + 1)}


def write(path: Path, rows: int, make: Callable[[int, int], dict[str, pa.Array]]) -> None:
    """Write a file whole, so many rows at a time."""
    part, writer = path.with_suffix(".part"), None
    for start in range(0, rows, _STEP):
        table = pa.table(make(start, min(start + _STEP, rows)))
        if writer is None:
            how = pa.csv.WriteOptions(quoting_style="none")
            writer = pa.csv.CSVWriter(part, table.schema, write_options=how)
        writer.write_table(table)
    assert writer is not None
    writer.close()
    part.rename(path)


if __name__ == "__main__":
    main()
