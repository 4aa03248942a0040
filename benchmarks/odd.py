"""Odd shapes at one size and at twice that size: nothing may grow with the square.

python benchmarks/odd.py [--rows 1000000]
"""

from __future__ import annotations

import argparse
import random
import sys
import tempfile
from collections.abc import Callable, Iterator
from pathlib import Path

from measure import machine, run

PLAIT = str(Path(sys.executable).parent / "plait")
KEY12 = [f"k{number}" for number in range(12)]

Rows = Iterator[list[str]]


def put(path: Path, header: list[str], rows: Rows) -> Path:
    """Write a CSV file of plain cells."""
    with path.open("w") as file:
        file.write(",".join(header) + "\n")
        file.writelines(",".join(row) + "\n" for row in rows)
    return path


def join(left: Path, right: Path, key: str, *more: str) -> list[str]:
    """The words of a join that only counts."""
    out = left.with_name("out.csv")
    words = ["join", str(left), str(right), "--key", key, "--out", str(out), "--replace", "--quiet"]
    return [PLAIT, *words, *more]


def equal_keys(folder: Path, rows: int) -> list[str]:
    """Every left row has the same key."""
    left = put(folder / "l.csv", ["k", "v"], (["same", str(n)] for n in range(rows)))
    right = put(folder / "r.csv", ["k", "w"], iter([["same", "1"], ["other", "2"]]))
    return join(left, right, "k")


def half_one_key(folder: Path, rows: int) -> list[str]:
    """One key is on half of the left rows."""
    keys = (["same" if n % 2 else f"k{n}", str(n)] for n in range(rows))
    left = put(folder / "l.csv", ["k", "v"], keys)
    right = put(
        folder / "r.csv", ["k", "w"], (["same" if not n else f"k{n}", "1"] for n in range(rows))
    )
    return join(left, right, "k")


def all_missing(folder: Path, rows: int) -> list[str]:
    """No left row has a key."""
    left = put(folder / "l.csv", ["k", "v"], (["", str(n)] for n in range(rows)))
    right = put(folder / "r.csv", ["k", "w"], (["", str(n)] for n in range(rows)))
    return join(left, right, "k")


def twelve_columns(folder: Path, rows: int) -> list[str]:
    """A key of twelve columns."""

    def key(number: int) -> list[str]:
        return [str(number >> (2 * place) & 3) for place in range(12)]

    left = put(folder / "l.csv", [*KEY12, "v"], ([*key(n), str(n)] for n in range(rows)))
    right = put(folder / "r.csv", [*KEY12, "w"], ([*key(n), str(n)] for n in range(0, rows, 2)))
    return join(left, right, ",".join(KEY12), "--cardinality", "many-to-many")


def many_columns(folder: Path, rows: int) -> list[str]:
    """So many columns, a hundredth of the rows asked for, on one side."""
    columns = rows // 100
    header = [f"c{n}" for n in range(columns)]
    left = put(folder / "l.csv", ["k", *header], ([str(n), *header] for n in range(100)))
    right = put(folder / "r.csv", ["k", "w"], ([str(n), "1"] for n in range(100)))
    return join(left, right, "k")


def same_columns(folder: Path, rows: int) -> list[str]:
    """The same on both sides, so that each column is compared."""
    columns = rows // 100
    header = [f"c{n}" for n in range(columns)]
    for name in ("l", "r"):
        put(folder / f"{name}.csv", ["k", *header], ([str(n), *header] for n in range(100)))
    return join(folder / "l.csv", folder / "r.csv", "k")


def all_unmatched(folder: Path, rows: int) -> list[str]:
    """No key matches, and each is one slip away from one that would: plait keys."""
    rng, signs = random.Random(7), "abcdefghiklmnoprstuvwxyz"
    right = ["".join(rng.choices(signs, k=12)) for _ in range(rows)]
    put(folder / "r.csv", ["k"], ([key] for key in right))
    put(folder / "l.csv", ["k"], ([f"{key[:5]}Q{key[6:]}"] for key in right))
    return [PLAIT, "keys", str(folder / "l.csv"), str(folder / "r.csv"), "--key", "k", "--quiet"]


CASES: dict[str, Callable[[Path, int], list[str]]] = {
    "all left rows of one key": equal_keys,
    "one key on half the rows": half_one_key,
    "all keys missing": all_missing,
    "a key of 12 columns": twelve_columns,
    "rows / 100 columns, one side": many_columns,
    "rows / 100 columns, both sides": same_columns,
    "keys: none matches, all near": all_unmatched,
}


def main() -> None:
    """Measure each case at both sizes."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rows", type=int, default=1_000_000)
    options = parser.parse_args()
    print(f"{machine()}; {options.rows:,} rows and {2 * options.rows:,}")
    for name, make in CASES.items():
        found = []
        for rows in (options.rows, 2 * options.rows):
            with tempfile.TemporaryDirectory() as folder:
                words = make(Path(folder), rows)
                found.append(min((run(words) for _ in range(2)), key=lambda one: one.seconds))
        small, large = found
        print(
            f"{name:32} {small.seconds:6.2f} s, {large.seconds:6.2f} s, "
            f"ratio {large.seconds / small.seconds:.2f}, {large.memory / 1e9:.2f} GB",
            flush=True,
        )


if __name__ == "__main__":
    main()
