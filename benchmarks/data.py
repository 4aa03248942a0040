"""Made-up data for the benchmarks, written once and kept in ``benchmarks/data``."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.csv

YARDS, HIVES = 2000, 500
SEED = 7
FOLDER = Path(__file__).parent / "data"
PLAIN = pa.csv.WriteOptions(quoting_style="none", quoting_header="none")


def registers(rows: int) -> pa.Table:
    """One row for each hive: yard and hive number, three columns about it."""
    rng = np.random.default_rng(SEED)
    order = rng.permutation(rows)
    days = np.datetime64("2022-01-01") + rng.integers(0, 3000, rows)
    return pa.table(
        {
            "yard": _yards(order // HIVES),
            "hive": pa.array(order % HIVES + 1),
            "breed": _some(rng, rows, ["Carnica", "Buckfast", "Ligustica", "Mellifera"]),
            "registered": pa.array(days),
            "frames": pa.array(np.round(rng.uniform(5, 12, rows), 1)),
        }
    )


def visits(rows: int, hives: int, seed: int = SEED) -> pa.Table:
    """Visits to hives drawn at random, two in a hundred to hives no register has."""
    rng = np.random.default_rng(seed)
    key = rng.integers(0, int(hives * 1.02), rows)
    known = key < hives
    days = np.datetime64("2031-01-01") + rng.integers(0, 365, rows)
    notes = ["calm", "busy", "queen seen", "no eggs", "needs super", "ok"]
    return pa.table(
        {
            "yard": _yards(np.where(known, key // HIVES, key % YARDS)),
            "hive": pa.array(np.where(known, key % HIVES + 1, 900 + key % 97)),
            "seen": pa.array(days),
            "kg": pa.array(np.round(rng.uniform(0, 40, rows), 2)),
            "note": _some(rng, rows, notes),
        }
    )


def _yards(numbers: np.ndarray) -> pa.Array:
    names = pa.array([f"Y{number:04d}" for number in range(YARDS)])
    return names.take(pa.array(numbers))


def _some(rng: np.random.Generator, rows: int, texts: list[str]) -> pa.Array:
    return pa.array(texts).take(pa.array(rng.integers(0, len(texts), rows)))


def join_files(left: int, right: int) -> tuple[Path, Path]:
    """The two files of the join benchmark."""
    FOLDER.mkdir(exist_ok=True)
    files = FOLDER / f"visits-{left}-{right}.csv", FOLDER / f"hives-{right}.csv"
    if not files[0].exists():
        pa.csv.write_csv(visits(left, right), files[0], PLAIN)
    if not files[1].exists():
        pa.csv.write_csv(registers(right), files[1], PLAIN)
    return files


def month_files(rows: int) -> tuple[Path, Path]:
    """A table and what became of it in a month: a hundredth gone, as many new, two in a hundred
    weights corrected, in another order. Yard and hive are the key.
    """
    FOLDER.mkdir(exist_ok=True)
    files = FOLDER / f"month-{rows}-old.csv", FOLDER / f"month-{rows}-new.csv"
    if not files[1].exists():
        rng = np.random.default_rng(SEED)
        order = rng.permutation(rows)
        old = visits(rows, HIVES)
        old = old.set_column(0, "yard", _yards(order % YARDS))
        old = old.set_column(1, "hive", pa.array(order // YARDS + 1))
        kg = old["kg"].to_numpy() + np.where(rng.random(rows) < 0.02, 0.5, 0)
        new = old.set_column(3, "kg", pa.array(np.round(kg, 2)))
        kept = rng.permutation(rows)[: rows - rows // 100]
        more = new.slice(0, rows // 100)
        more = more.set_column(1, "hive", pa.array(more["hive"].to_numpy() + rows // YARDS + 1))
        pa.csv.write_csv(old, files[0], PLAIN)
        pa.csv.write_csv(pa.concat_tables([new.take(kept), more]), files[1], PLAIN)
    return files


def stack_files(extracts: int, rows: int) -> list[Path]:
    """The extracts of the stack benchmark, ``rows`` in all."""
    folder = FOLDER / f"extracts-{extracts}-{rows}"
    files = [folder / f"2030-{number:02d}.csv" for number in range(1, extracts + 1)]
    if not files[-1].exists():
        folder.mkdir(parents=True, exist_ok=True)
        for number, file in enumerate(files):
            pa.csv.write_csv(visits(rows // extracts, YARDS * HIVES, number), file, PLAIN)
    return files
