"""The demo's files that are not plain CSV: a workbook, JSON lines, a semicolon file.

They too hold what real ones hold: a title above the header, a heading misspelt
on one sheet of three, a field in which three things stand, numbers with a
decimal comma in a file that is not UTF-8.
"""

from __future__ import annotations

import datetime as dt
import json
import random
from collections.abc import Sequence
from pathlib import Path
from typing import Any

SHEETS = ("July", "August", "September")
VILLAGES = ("Ährenfeld", "Grünbach", "Süderhöfen", "Lärchwald", "Königsau", "Möwenort")
_FIXED = dt.datetime(2031, 10, 31)

Hive = tuple[str, str]


def write_weighins(target: Path, rng: random.Random, hives: Sequence[Hive]) -> None:
    """A workbook with a sheet a month; one spells a heading otherwise."""
    import xlsxwriter

    with xlsxwriter.Workbook(str(target)) as book:
        book.set_properties({"created": _FIXED, "title": "Weigh-ins 2031"})
        date = book.add_format({"num_format": "yyyy-mm-dd"})
        for month, name in enumerate(SHEETS, 7):
            sheet = book.add_worksheet(name)
            sheet.write_string(0, 1, f"Weigh-ins {name} 2031")
            heading = "Moistre %" if name == "September" else "Moisture %"
            for column, text in enumerate(("Yard", "Hive", "Weighed", "Supers", heading), 1):
                sheet.write_string(2, column, text)
            for row, hive in enumerate(rng.sample(list(hives), 60), 3):
                _weighin(sheet, row, hive, dt.date(2031, month, rng.randint(1, 28)), date, rng)


def _weighin(sheet: Any, row: int, hive: Hive, day: dt.date, date: Any, rng: random.Random) -> None:
    sheet.write_string(row, 1, hive[0])
    sheet.write_string(row, 2, hive[1])
    sheet.write_datetime(row, 3, dt.datetime.combine(day, dt.time()), date)
    sheet.write_number(row, 4, rng.randint(1, 4))
    sheet.write_number(row, 5, round(rng.uniform(15, 21), 1))


def write_laboratory(target: Path, rng: random.Random, hives: Sequence[Hive]) -> None:
    """JSON lines with nested results, and samples named by yard, hive and month in one."""
    lines = []
    for number, (yard, hive) in enumerate(rng.sample(list(hives), 90), 1):
        sample = f"{yard}-{hive}/2031-{rng.randint(7, 9):02d}"
        record: dict[str, Any] = {"number": number, "sample": sample}
        if number % 15 == 0:
            record["sample"] = f"{yard} {hive}"  # the slip was filled in by hand
        record["result"] = {
            "grade": rng.choice("AAB"),
            "hmf": round(rng.uniform(1, 40), 1),
            "pollen": rng.choice(["linden", "clover", "heather", None]),
        }
        lines.append(json.dumps(record))
    target.write_text("\n".join(lines) + "\n", encoding="utf-8")


def write_wardens(target: Path, rng: random.Random, wardens: Sequence[str]) -> None:
    """A semicolon file in Windows-1252, as spreadsheets of some countries write them."""
    lines = ["Full name;Village;Since;Fee per visit"]
    for name, village in zip(wardens, VILLAGES, strict=True):
        fee = f"{rng.randint(8, 19)},{rng.choice(('00', '50', '75'))}"
        lines.append(f"{name};{village};{rng.randint(1, 28)}.{rng.randint(1, 12)}.2024;{fee}")
    target.write_bytes(("\r\n".join(lines) + "\r\n").encode("cp1252"))
