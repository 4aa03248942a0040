"""How well the quick tests notice faults that are drawn at random.

    python tools/mutate.py 7 50                    50 mutations, drawn by the seed 7
    python tools/mutate.py 7 50 --rooms core,cli   in these folders of the package only
    python tools/mutate.py 7 50 --show             what is drawn, and nothing is tried
    python tools/mutate.py 7 50 --judges           tried by the judges of tests/judges.py alone
    python tools/mutate.py 7 50 --part 1/2         every second one, from the first

Each is tried by those quick tests that call the function it is in, in a copy of what is
committed. It says which mutations nobody noticed, and the share that was noticed, by folder.
Which tests call which function is heard once, by running the quick tests, and kept in
``--map``: delete it when much has changed.
"""

from __future__ import annotations

import argparse
import json
import os
import subprocess
import sys
import tempfile
from collections import Counter, defaultdict
from pathlib import Path
from typing import Any

from mutations import PACKAGE, Mutation, drawn

ROOT = Path(__file__).parents[1]
_MOST_SECONDS = 120
_TIMES_AS_LONG = 5  # as the tests take where nothing is wrong: longer, and it does not end
_CASES_OF_JUDGES = 1500
_PYTEST = (sys.executable, "-m", "pytest", "-q", "-m", "not slow", "-p", "no:cacheprovider")
_ENDS = {0: "unnoticed", 1: "noticed", 2: "noticed", 5: "untested"}


def calls(folder: Path, keep: Path) -> dict[str, Any]:
    """Which tests call which function, and how long each takes."""
    if not keep.exists():
        with tempfile.TemporaryDirectory() as heard:
            env = _env(folder) | {"CALLED_MAP": heard}
            _must_pass([*_PYTEST, "-n", "auto", "-p", "called"], folder, env)
            tests: dict[str, set[str]] = defaultdict(set)
            seconds: Counter[str] = Counter()
            for file in Path(heard).glob("*.json"):
                part = json.loads(file.read_text())
                seconds.update(part["seconds"])
                for place, names in part["tests"].items():
                    tests[place].update(names)
        by_place = {place: sorted(names) for place, names in tests.items()}
        keep.write_text(json.dumps({"tests": by_place, "seconds": seconds}))
    return dict(json.loads(keep.read_text()))


def callers(mutation: Mutation, known: dict[str, Any]) -> list[str]:
    """The tests that call its function, or else any of its module, the quickest first."""
    tests = known["tests"].get(f"{mutation.file}:{mutation.function}", [])
    if not tests:  # it is called where the module is loaded, if at all
        every = (names for place, names in known["tests"].items()
                 if place.startswith(f"{mutation.file}:"))  # fmt: skip
        tests = {name for names in every for name in names}
    return sorted(tests, key=lambda name: known["seconds"].get(name, 1.0))


def judged(folder: Path) -> list[str]:
    """The command that has the judges judge, in a copy of the project."""
    cases = ["--cases", str(_CASES_OF_JUDGES), "--seed", "1", "--first"]
    return [sys.executable, str(folder / "tests" / "judges.py"), *cases]


def _must_pass(command: list[str], folder: Path, env: dict[str, str]) -> None:
    """Where something fails already, every mutation would seem to be noticed."""
    ended = subprocess.run(command, cwd=folder, env=env, capture_output=True, text=True)
    if ended.returncode:
        raise SystemExit(f"fails without any mutation:\n{ended.stdout[-2000:]}")


def tested(folder: Path, tests: list[str]) -> list[str]:
    """The command that runs these tests, in a copy of the project, until one fails."""
    listed = folder / "tests-to-run.txt"
    listed.write_text("\n".join(tests))
    return [*_PYTEST, "-x", f"@{listed}"]


def tried(mutation: Mutation, folder: Path, command: list[str], seconds: float) -> str:
    """How a command ends with it: ``noticed``, ``unnoticed``, ``untested``."""
    path = folder / PACKAGE / mutation.file
    original = path.read_bytes()
    try:
        path.write_text(mutation.text, "utf-8")
        ended = subprocess.run(
            command, cwd=folder, env=_env(folder), capture_output=True,
            timeout=_MOST_SECONDS + _TIMES_AS_LONG * seconds, check=False,
        )  # fmt: skip
    except subprocess.TimeoutExpired:
        return "noticed"  # it does not end: somebody would see that
    finally:
        path.write_bytes(original)
    return _ENDS.get(ended.returncode, "noticed")


def _env(folder: Path) -> dict[str, str]:
    paths = [str(folder / name) for name in ("src", "tools", "tests")]
    return {**os.environ, "PYTHONPATH": os.pathsep.join(paths), "PYTHONDONTWRITEBYTECODE": "1"}


def main() -> None:
    """Draw, try, and tell."""
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("seed", type=int)
    parser.add_argument("count", type=int)
    parser.add_argument("--rooms", default="", help="folders of the package, with commas between")
    parser.add_argument("--map", type=Path, default=ROOT / "build" / "called.json")
    parser.add_argument("--out", type=Path, help="a line of JSON for each that was tried")
    parser.add_argument("--show", action="store_true")
    parser.add_argument("--judges", action="store_true")
    parser.add_argument("--part", default="1/1", help="every N-th of them, from the K-th: K/N")
    asked = parser.parse_args()
    mutations = drawn(ROOT, asked.seed, asked.count, tuple(asked.rooms.split(",")))
    begin, step = map(int, asked.part.split("/"))
    mutations = mutations[begin - 1 :: step]
    if asked.show:
        for mutation in mutations:
            print(f"{mutation.file}:{mutation.line}: {mutation.what}: {mutation.before}")
        return
    asked.map.parent.mkdir(exist_ok=True)
    ends: dict[str, Counter[str]] = defaultdict(Counter)
    with tempfile.TemporaryDirectory() as copy:
        folder = Path(copy)
        archive = subprocess.run(
            ["git", "archive", "HEAD"], cwd=ROOT, capture_output=True, check=True
        )
        subprocess.run(["tar", "-x"], cwd=folder, input=archive.stdout, check=True)
        known = {} if asked.judges else calls(folder, asked.map)
        if asked.judges:
            _must_pass(judged(folder), folder, _env(folder))
        for mutation in mutations:
            if asked.judges:
                end = tried(mutation, folder, judged(folder), _MOST_SECONDS)
            elif tests := callers(mutation, known):
                seconds = sum(known["seconds"].get(name, 1.0) for name in tests)
                end = tried(mutation, folder, tested(folder, tests), seconds)
            else:
                end = "untested"
            ends[mutation.room][end] += 1
            if end != "noticed":
                where = f"{mutation.file}:{mutation.line}"
                print(f"{end}: {where}: {mutation.what}: {mutation.before}", flush=True)
            if asked.out:
                with asked.out.open("a") as file:
                    told = {"file": mutation.file, "line": mutation.line, "what": mutation.what}
                    file.write(json.dumps(told | {"end": end}) + "\n")
    for room, counts in sorted(ends.items()):
        print(f"{room:24}{counts['noticed']:5} of {counts.total():5} noticed")
    every = sum(ends.values(), Counter())
    print(f"{'all':24}{every['noticed']:5} of {every.total():5} noticed")


if __name__ == "__main__":
    main()
