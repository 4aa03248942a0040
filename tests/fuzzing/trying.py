"""Trying inputs in a process of its own, that may end or hang without ending the rest.

``python tests/fuzzing/trying.py readers --seconds 1800`` tries for as long as asked (processor
time); what ended badly is kept in a folder that is named. The tests run a little of each.
"""

from __future__ import annotations

import argparse
import io
import json
import multiprocessing
import os
import random
import resource
import shutil
import signal
import sys
import tempfile
import time
from contextlib import redirect_stderr, redirect_stdout
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

sys.path[:0] = [str(Path(__file__).parents[1])]

from fuzzing.inputs import TARGETS  # noqa: E402

LONGEST = 10.0
_MEMORY = 8 << 30
_STATUSES = (0, 1, 2, 3, 4)


@dataclass
class Tried:
    """How many inputs were tried, how they ended, and those that ended badly."""

    count: int = 0
    statuses: dict[int, int] = field(default_factory=dict)
    bad: list[str] = field(default_factory=list)


def attempt(target: str, seconds: float, seed: int, most: int = 10**9) -> Tried:
    """Try inputs of a target for so many seconds of processor time."""
    tried, spent = Tried(), 0.0
    begin = time.monotonic()
    while spent < seconds and tried.count < most:
        told, given = multiprocessing.Pipe(duplex=False)
        # Not forked: what libraries with threads do after that may crash the child.
        process = multiprocessing.get_context("spawn").Process(
            target=_child, args=(target, seed + tried.count, seconds - spent, most, given)
        )
        process.start()
        given.close()
        spent += _follow(process, told, tried)
        if not spent or time.monotonic() - begin > 4 * seconds + 60:
            break
    return tried


def _follow(process: Any, told: Any, tried: Tried) -> float:
    """Hear what the child tells, and end it when it hangs; the processor time that it took."""
    spent, words = 0.0, ""
    while True:
        if not told.poll(4 * LONGEST):
            os.kill(process.pid, signal.SIGKILL)
            tried.bad.append(f"hangs: {words}")
            break
        try:
            kind, said = told.recv()
        except EOFError:
            break
        if kind == "begin":
            words = said
        elif kind == "end":
            status, took, spent, why = said
            tried.count += 1
            tried.statuses[status] = tried.statuses.get(status, 0) + 1
            if why or took > LONGEST or status not in _STATUSES:
                tried.bad.append(f"status {status} after {took:.1f} s: {words}: {why}")
    process.join()
    if (process.exitcode or not spent) and not (tried.bad and tried.bad[-1].startswith("hangs")):
        tried.bad.append(f"ended by {process.exitcode}: {words}")
    return spent


def _child(target: str, seed: int, seconds: float, most: int, told: Any) -> None:
    from plait.cli.main import run_command_line

    resource.setrlimit(resource.RLIMIT_AS, (_MEMORY, _MEMORY))
    folder = Path(tempfile.mkdtemp(prefix="fuzz-"))
    os.chdir(folder)
    before = _processor()
    for count, words in enumerate(TARGETS[target](folder, random.Random(seed)), 1):
        told.send(("begin", f"{folder} {json.dumps(words)}"))
        began = time.monotonic()
        status, err = _ended(run_command_line, words)
        took = time.monotonic() - began
        why = err if status == 70 or "Traceback" in err else ""
        told.send(("end", (status, took, _processor() - before, why[:600])))
        if why or took > LONGEST:
            shutil.copytree(folder, f"{folder}-bad-{count}", dirs_exist_ok=True)
        if count >= most or _processor() - before > seconds:
            break
    shutil.rmtree(folder, ignore_errors=True)


def _ended(main: Any, words: list[str]) -> tuple[int, str]:
    out, err = io.TextIOWrapper(io.BytesIO(), "utf-8", "backslashreplace"), io.StringIO()
    with redirect_stdout(out), redirect_stderr(err):
        try:
            status = main(words)
        except SystemExit as ended:
            status = int(ended.code or 0)
    said = err.getvalue()
    if status == 70:
        details = said.rpartition(" in ")[2].strip()
        if Path(details).is_file():
            said += Path(details).read_text()[-400:]
            Path(details).unlink()
    return status, said


def _processor() -> float:
    mine, children = os.times()[:2], os.times()[2:4]
    return sum(mine) + sum(children)


if __name__ == "__main__":
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("target", choices=list(TARGETS))
    parser.add_argument("--seconds", type=float, default=60)
    parser.add_argument("--seed", type=int, default=int(time.time()))
    options = parser.parse_args()
    made = attempt(options.target, options.seconds, options.seed)
    print(f"{options.target}: {made.count:,} inputs, seed {options.seed}, {made.statuses}")
    for one in made.bad:
        print("  ", one)
