"""Made-up tables that refer to one another: tours of wardens, and a co-operative's records."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.csv

import data

ROWS = 336_776
_WRITE = pa.csv.WriteOptions(quoting_style="needed")
_PARTNERS = ("hives", "queens", "yards", "wardens")


def _write(path: Path, columns: dict[str, Any]) -> Path:
    pa.csv.write_csv(pa.table(columns), path, _WRITE)
    return path


def tour_files() -> list[Path]:
    """Tours of nineteen columns, whose key has four, and four tables that they refer to."""
    folder = data.FOLDER / "tours"
    names = ("tours", "companies", "yards", "vans", "weather")
    files = [folder / f"{name}.csv" for name in names]
    if not files[-1].exists():
        folder.mkdir(parents=True, exist_ok=True)
        _tours(files, np.random.default_rng(data.SEED))
    return files


def _clock(minutes: np.ndarray) -> np.ndarray:
    return minutes % 1440 // 60 * 100 + minutes % 60


def _dates(days: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    dates = np.datetime64("2031-01-01") + days
    months = dates.astype("datetime64[M]")
    return dates, months.astype(int) % 12 + 1, (dates - months).astype(int) + 1


def _hours(dates: np.ndarray, hours: np.ndarray) -> np.ndarray:
    return np.char.add(
        dates.astype(str), np.array([f"T{hour:02d}:00:00" for hour in range(24)])[hours]
    )


def _tours(files: list[Path], rng: np.random.Generator) -> None:
    companies = np.array(
        [f"{a}{b}" for a, b in zip("ABCDEFGHIJKLMNOP", "KLMNOPABCDEFGHIJ", strict=True)]
    )
    vans = np.array([f"V{number:05d}" for number in rng.choice(99_999, 4043, replace=False)])
    yards = np.array([f"Y{number:03d}" for number in range(105)])
    homes = np.array(["ELM", "OAK", "ASH"])
    day = np.sort(rng.integers(0, 365, ROWS))
    dates, month, of_month = _dates(day)
    planned = rng.integers(300, 1380, ROWS) // 5 * 5
    late = np.round(rng.gamma(1.2, 20, ROWS) - 15).astype(int)
    left = planned + late
    taken = rng.integers(30, 400, ROWS)
    company, home, yard = (rng.integers(0, size, ROWS) for size in (16, 3, 105))
    order = np.argsort(day * 16 + company, kind="stable")
    group = (day * 16 + company)[order]
    begins = np.r_[0, np.flatnonzero(np.diff(group)) + 1]
    tour = np.empty(ROWS, int)
    tour[order] = np.arange(ROWS) - np.repeat(begins, np.diff(np.r_[begins, ROWS]))
    missing = rng.random(ROWS) < 0.025
    measured = {
        "left": _clock(left), "late": late, "back": _clock(left + taken),
        "back_late": late + rng.integers(-20, 20, ROWS), "driven": rng.integers(20, 600, ROWS),
    }  # fmt: skip
    texts = {name: np.where(missing, "NA", cells.astype(str)) for name, cells in measured.items()}
    away = rng.integers(80, 2500, (3, 105))
    _write(files[0], {
        "year": np.full(ROWS, 2031), "month": month, "day": of_month, "left": texts["left"],
        "planned": _clock(planned), "late": texts["late"], "back": texts["back"],
        "planned_back": _clock(planned + taken + rng.integers(-9, 9, ROWS)),
        "back_late": texts["back_late"], "company": companies[company], "tour": tour * 7 + 1,
        "van": vans[rng.integers(0, 4043, ROWS)], "home": homes[home], "yard": yards[yard],
        "driven": texts["driven"], "away": away[home, yard], "hour": planned // 60,
        "minute": planned % 60, "at": _hours(dates, planned // 60),
    })  # fmt: skip
    _write(files[1], {"company": companies, "name": np.char.add("Company ", companies)})
    codes = np.r_[yards, homes, [f"Z{number:03d}" for number in range(1300)]]
    size = len(codes)
    _write(files[2], {
        "code": codes, "name": np.char.add("Yard ", np.arange(size).astype(str)),
        "north": np.round(rng.random(size) * 60, 5), "east": np.round(rng.random(size) * 100, 5),
        "height": rng.integers(0, 3000, size), "zone": rng.integers(-9, -4, size),
        "kind": np.array(["A", "N", "U"])[rng.integers(0, 3, size)],
    })  # fmt: skip
    known = np.sort(vans)[:3322]
    _write(files[3], {
        "van": known, "year": rng.integers(1990, 2031, 3322),
        "maker": np.array([f"Maker {number}" for number in range(35)])[rng.integers(0, 35, 3322)],
        "model": np.array([f"M-{number}" for number in range(127)])[rng.integers(0, 127, 3322)],
        "seats": rng.integers(2, 400, 3322), "speed": rng.integers(80, 400, 3322),
    })  # fmt: skip
    _weather(files[4], homes, rng)


def _weather(path: Path, homes: np.ndarray, rng: np.random.Generator) -> None:
    both = np.flatnonzero(rng.random(3 * 8760) < 0.995)
    dates, month, of_month = _dates(both % 8760 // 24)
    rows, hour = len(both), both % 24
    _write(path, {
        "home": homes[both // 8760], "year": np.full(rows, 2031), "month": month, "day": of_month,
        "hour": hour, "warmth": np.round(rng.normal(12, 8, rows), 2),
        "damp": np.round(rng.random(rows) * 100, 2), "wind_from": rng.integers(0, 36, rows) * 10,
        "wind": np.round(rng.gamma(2, 5, rows), 5),
        "gust": np.where(rng.random(rows) < 0.77, "NA", rng.integers(20, 90, rows).astype(str)),
        "rain": np.where(rng.random(rows) < 0.9, 0, np.round(rng.random(rows), 2)),
        "pressure": np.round(rng.normal(1018, 7, rows), 1), "sight": rng.integers(0, 11, rows),
        "at": _hours(dates, hour),
    })  # fmt: skip


def record_files(tables: int = 27, rows: int = 600_000) -> list[Path]:
    """Tables of records that refer to four lists, some 0.6 million rows in all."""
    folder = data.FOLDER / f"records-{tables}-{rows}"
    files = [folder / f"{name}.csv" for name in _PARTNERS]
    files += [folder / f"record_{number:02d}.csv" for number in range(tables - len(_PARTNERS))]
    if not files[-1].exists():
        folder.mkdir(parents=True, exist_ok=True)
        _records(files, rows // (tables - len(_PARTNERS)), np.random.default_rng(data.SEED))
    return files


def _records(files: list[Path], rows: int, rng: np.random.Generator) -> None:
    sizes = dict(zip(_PARTNERS, (6000, 5000, 300, 80), strict=True))
    keys = {
        name: np.array(
            [f"{name[0].upper()}{number:05d}" for number in rng.choice(99_999, size, replace=False)]
        )
        for name, size in sizes.items()
    }
    for file, name in zip(files, _PARTNERS, strict=False):
        size = sizes[name]
        _write(file, {
            f"{name[:-1]}_id": keys[name],
            "name": np.char.add(f"{name} ", np.arange(size).astype(str)),
            "since": rng.integers(1990, 2031, size), "size": np.round(rng.random(size) * 90, 2),
        })  # fmt: skip
    for number, file in enumerate(files[len(_PARTNERS) :]):
        columns: dict[str, Any] = {"id": np.arange(rows) + 1}
        for name in rng.permutation(_PARTNERS)[: 1 + number % 3]:
            columns[f"{name[:-1]}_id"] = keys[name][rng.integers(0, sizes[name], rows)]
        columns["seen"] = (np.datetime64("2031-01-01") + rng.integers(0, 365, rows)).astype(str)
        for extra in range(3 + number % 5):
            columns[f"weight_{number}_{extra}"] = np.round(rng.gamma(2, 10, rows), 2)
            columns[f"grade_{number}_{extra}"] = rng.integers(1, 6, rows)
        _write(file, columns)
