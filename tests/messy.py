"""A folder as an office keeps it: seventy files, some of them no tables, months that drifted."""

from __future__ import annotations

import json
import random
from pathlib import Path

import xlsxwriter

YARDS = ("ASH", "BRK", "CUL", "DUN", "ELM", "FIR", "GLN", "HOL")
MONTHS = [f"{year}-{month:02d}" for year in (2028, 2029, 2030, 2031) for month in range(1, 11)]
HIVES = [(yard, f"{number:03d}") for yard in YARDS for number in range(1, 41)]
ROWS = 60


def write_messy(folder: Path, seed: int = 7) -> None:
    """Write all of it; what must be found there stands in the tests."""
    rng = random.Random(seed)
    for month in MONTHS:
        _visits(folder / "visits", month, rng)
    for year in range(2022, 2032):
        _harvest(folder / "harvest", year, rng)
    _registers(folder, rng)
    _workbook(folder / "yields.xlsx")
    _questionnaire(folder, rng)
    _json(folder, rng)
    _no_tables(folder)


def _write(path: Path, rows, delimiter: str = ",", encoding: str = "utf-8") -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    text = "".join(delimiter.join(map(str, row)) + "\n" for row in rows)
    path.write_bytes(text.encode(encoding))


def _visits(folder: Path, month: str, rng: random.Random) -> None:
    """Forty months: a heading respelt, a column more, one less, another delimiter, notes below."""
    number = MONTHS.index(month)
    header = ["yard", "hive", "day", "frames", "weight", "remark"]
    if number in (5, 6, 7):
        header[4] = "wieght"
    if number in (20, 21):
        header[4] = "Weight"
    seen = rng.sample(HIVES, ROWS)
    rows = [
        [
            *(yard, hive, f"{month}-{rng.randint(1, 28):02d}", rng.randint(4, 12)),
            f"{rng.uniform(8, 40):.1f}" if rng.random() < 0.95 else "NA",
            rng.choice(["calm", "", "swarmed"]),
        ]
        for yard, hive in seen
    ]
    if number >= 30:
        header.append("scale")
        rows = [[*row, rng.choice(["A", "B"])] for row in rows]
    if number == 12:
        header, rows = header[:-1], [row[:-1] for row in rows]
    lines = [header, *rows]
    if number == 15:
        lines.append(["Total", "", "", sum(row[3] for row in rows), "", ""])
    delimiter = ";" if number % 10 == 9 else ","
    _write(folder / f"visits_{month}.csv", lines, delimiter, "cp1252" if number == 25 else "utf-8")


def _harvest(folder: Path, year: int, rng: random.Random) -> None:
    rows = [
        [
            *(yard, year, f"{rng.uniform(100, 900):.1f}"),
            *(f"{rng.uniform(10, 90):.2f}", rng.randint(2, 30)),
        ]
        for yard in YARDS
    ]
    _write(folder / f"harvest {year}.csv", [["Yard", "Year", "kg", "moisture", "boxes"], *rows])


def _registers(folder: Path, rng: random.Random) -> None:
    breeds = ["Carnica", "Buckfast", "Ligustica", "Mellifera"]
    hives = [
        [
            *(yard, int(hive), rng.choice(breeds), rng.randint(2020, 2031)),
            f"Q{rng.randrange(10**6):06d}",
        ]
        for yard, hive in HIVES
    ]
    _write(folder / "register" / "data.csv", [["yard", "hive", "breed", "since", "queen"], *hives])
    queens = [[row[4], rng.choice(breeds), f"{rng.uniform(1, 9):.3f}"] for row in hives]
    _write(folder / "queens" / "data.csv", [["queen", "mother", "score"], *queens])
    yards = [[yard.lower(), f"The {yard.title()} yard", rng.randint(100, 900)] for yard in YARDS]
    _write(folder / "yards.tsv", [["code", "name", "height"], *yards], "\t")
    labels = [[f"{yard}-{hive}", rng.choice(["red", "blue"])] for yard, hive in HIVES]
    _write(folder / "labels.csv", [["label", "colour"], *labels])
    grades = [[n, word] for n, word in enumerate(["poor", "fair", "good", "fine", "best"], 1)]
    _write(folder / "grades.csv", [["grade", "meaning"], *grades])
    prices = [[f"0{n}.0{n % 9 + 1}.2031", f"€ {n}.{n:03d},50"] for n in range(1, 9)]
    _write(folder / "prices.csv", [["from", "price"], *prices], ";")


def _workbook(path: Path) -> None:
    """Years merged over quarters, and a total below."""
    with xlsxwriter.Workbook(path) as book:
        sheet = book.add_worksheet("Yields")
        sheet.write(1, 0, "yard")
        for year in range(2):
            sheet.merge_range(0, 1 + 4 * year, 0, 4 + 4 * year, str(2030 + year))
            for quarter in range(4):
                sheet.write(1, 1 + 4 * year + quarter, f"Q{quarter + 1}")
        for row, yard in enumerate(YARDS, 2):
            sheet.write(row, 0, yard)
            for column in range(1, 9):
                sheet.write(row, column, 10 * row + column)
        sheet.write(len(YARDS) + 2, 0, "Total")
        for column in range(1, 9):
            sheet.write(len(YARDS) + 2, column, sum(10 * row + column for row in range(2, 10)))


def _questionnaire(folder: Path, rng: random.Random) -> None:
    """Every answer is a number from 1 to 5: every small column seems to join every other."""
    header = ["person", *(f"q{n}" for n in range(1, 41))]
    rows = [[f"P{n:03d}", *(rng.randint(1, 5) for _ in range(40))] for n in range(200)]
    _write(folder / "answers.csv", [header, *rows])


def _json(folder: Path, rng: random.Random) -> None:
    samples = [
        {"yard": rng.choice(YARDS), "hive": f"{rng.randint(1, 40):03d}", "acid": rng.random()}
        for _ in range(50)
    ]
    (folder / "samples.json").write_text(json.dumps({"data": samples}))
    people = [{"person": f"P{n:03d}", "born": 1950 + n % 50} for n in range(200)]
    wages = [{"grade": n, "wage": 100 * n} for n in range(1, 6)]
    (folder / "office.json").write_text(json.dumps({"people": people, "wages": wages}))


def _no_tables(folder: Path) -> None:
    shape = {"type": "Topology", "arcs": [[[0, 1], [1, 2]]], "transform": {"scale": [1, 1]}}
    (folder / "map.json").write_text(json.dumps(shape))
    (folder / "yard.png").write_bytes(b"\x89PNG\r\n\x1a\n" + bytes(range(256)))
    (folder / "picture.csv").write_bytes(b"\x89PNG\r\n\x1a\n" + bytes(range(256)) * 20)
    (folder / "empty.csv").write_bytes(b"")
    (folder / "broken.xlsx").write_bytes(b"PK\x03\x04 and no more")
    (folder / "broken.parquet").write_bytes(b"PAR1 and no more")
