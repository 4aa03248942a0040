"""Run commands in processes of their own and measure time and peak memory."""

from __future__ import annotations

import os
import platform
import statistics
import subprocess
import sys
import time
from dataclasses import dataclass
from importlib.metadata import version
from pathlib import Path


@dataclass(frozen=True)
class Run:
    """Wall-clock seconds, processor seconds and peak memory in bytes of one process."""

    seconds: float
    processor: float
    memory: int


def run(words: list[str]) -> Run:
    """Run a command to its end; its output is thrown away.

    What earlier runs wrote is put on the disk first, so that nobody waits for another's writes.
    """
    os.sync()
    begin = time.perf_counter()
    process = subprocess.Popen(words, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE)
    said = process.stderr.read()
    _, status, used = os.wait4(process.pid, 0)
    seconds = time.perf_counter() - begin
    if status:
        sys.exit(f"{' '.join(words)} failed: {said.decode()[-2000:]}")
    return Run(seconds, used.ru_utime + used.ru_stime, used.ru_maxrss * 1024)


def compare(
    floor: list[str],
    plait: list[str],
    outputs: list[Path],
    rounds: int,
    names: tuple[str, str] = ("floor", "plait"),
) -> None:
    """Run floor and program in turn and print the medians and their ratio."""
    floors, plaits = [], []
    for number in range(1, rounds + 1):
        for path in outputs:
            path.unlink(missing_ok=True)
        floors.append(run(floor))
        plaits.append(run(plait))
        print(
            f"round {number}: {names[0]} {floors[-1].seconds:.2f} s, "
            f"{names[1]} {plaits[-1].seconds:.2f} s, "
            f"ratio {plaits[-1].seconds / floors[-1].seconds:.2f}",
            flush=True,
        )
    ratios = [ours.seconds / theirs.seconds for ours, theirs in zip(plaits, floors, strict=True)]
    for name, runs in zip(names, (floors, plaits), strict=True):
        print(
            f"{name}: {statistics.median(run.seconds for run in runs):.2f} s, "
            f"processor {statistics.median(run.processor for run in runs):.2f} s, "
            f"peak memory {max(run.memory for run in runs) / 1e9:.2f} GB"
        )
    print(f"ratio: median {statistics.median(ratios):.2f}, all {[f'{r:.2f}' for r in ratios]}")
    used = [ours.processor / theirs.processor for ours, theirs in zip(plaits, floors, strict=True)]
    print(f"ratio of processor time: median {statistics.median(used):.2f}")


def machine() -> str:
    """The machine and the versions that the figures belong to."""
    model = platform.processor() or platform.machine()
    for line in Path("/proc/cpuinfo").read_text().splitlines():
        if line.startswith("model name"):
            model = line.partition(":")[2].strip()
            break
    memory = os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES") / 2**30
    versions = ", ".join(f"{name} {version(name)}" for name in ("numpy", "pyarrow", "plait"))
    return (
        f"{model}, {os.cpu_count()} cores, {memory:.0f} GiB; "
        f"Python {platform.python_version()}, {versions}"
    )
