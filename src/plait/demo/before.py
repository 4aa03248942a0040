"""The demo's files as they were a month before: October had not come yet.

Since then an extract arrived, a hive that was entered by mistake was taken out again, a
weight with its point in the wrong place was put right, and the register got a column.
"""

from __future__ import annotations

import csv
from pathlib import Path

MISTAKEN = ("GOR", "040")
LATEST = "2031-10"
_VISITS = {"2031-03": "12", "2031-05": "7", "2031-09": "20"}
_SLIP = "2031-04"


def take_back(folder: Path) -> None:
    """Bring the demo's files to where they were a month before.

    Parameters
    ----------
    folder : Path
        As ``write_demo_data`` wrote it.
    """
    (folder / "inspections" / f"{LATEST}.csv").unlink()
    for month, day in _VISITS.items():
        header, *rows = _read(folder / "inspections" / f"{month}.csv")
        visit = {"Yard": MISTAKEN[0], "Hive": MISTAKEN[1], "Day": day, "Frames": "6",
                 "Queen seen": "no", "Varroa": "0", "Note": "empty?"}  # fmt: skip
        rows.append([visit.get(name, "") for name in header])
        _write(folder / "inspections" / f"{month}.csv", [header, *rows])
    _slip(folder / "inspections" / f"{_SLIP}.csv")
    for part in ("north", "south"):
        header, *rows = _read(folder / "register" / f"{part}.csv")
        if part == "south":
            rows.append([*MISTAKEN, "Carnica", "2030", "Tom Ashdown", ""])
        _write(folder / "register" / f"{part}.csv", [row[:-1] for row in (header, *rows)])


def _slip(path: Path) -> None:
    """The first weight of more than ten kilograms had its point one place to the right."""
    header, *rows = _read(path)
    at = header.index("Honey kg")
    row = next(row for row in rows if row[at] and float(row[at]) > 10)
    whole, _, places = row[at].partition(".")
    row[at] = f"{whole}{places[0]}.{places[1:]}0"
    _write(path, [header, *rows])


def _read(path: Path) -> list[list[str]]:
    with path.open(newline="", encoding="utf-8") as file:
        return list(csv.reader(file))


def _write(path: Path, rows: list[list[str]]) -> None:
    with path.open("w", newline="", encoding="utf-8") as file:
        csv.writer(file, lineterminator="\n").writerows(rows)
