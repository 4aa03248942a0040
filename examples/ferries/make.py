"""Write the made-up records of a ferry company: ``python make.py [FOLDER] [--boats N]``.

Crossings of three months, one file a boat; gauge readings of the river; what two tills
took a day; two lists of boats that do not quite agree. All of it comes from a seed.
"""

from __future__ import annotations

import argparse
import csv
import datetime as dt
import random
from collections.abc import Iterable, Sequence
from pathlib import Path

NAMES = (
    "Heron 2", "Coot", "Grebe", "Dipper", "Teal", "Wagtail", "Bittern", "Moorhen", "Osprey",
    "Kingfisher", "Shelduck", "Sandpiper",
)  # fmt: skip
LANDINGS = ("Quayside", "Millbank", "Staithe")
MONTHS = ("2032-04", "2032-05", "2032-06")
OLD_NAMES = {"Heron 2": "Heron II", "Kingfisher": "King Fisher"}
CLASSES = {"foot": 2.40, "cycle": 1.10, "car": 9.75}


def main() -> None:
    """Parse the line and write the files."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("folder", nargs="?", type=Path, default=Path(__file__).parent)
    parser.add_argument("--boats", type=int, default=len(NAMES))
    parser.add_argument("--crossings", type=int, default=60, help="a boat and day")
    options = parser.parse_args()
    boats = NAMES[: options.boats]
    rng = random.Random(2032)
    for month in MONTHS:
        days = _days(month)
        crossings = {boat: _crossings(rng, boat, days, options.crossings) for boat in boats}
        for boat, rows in crossings.items():
            name = boat.lower().replace(" ", "-")
            head = ("Boat", "Departed", "From", "To", "Foot", "Cycles", "Cars")
            _write(options.folder / "crossings" / month / f"{name}.csv", head, rows)
        gauge = (("Landing", "Read", "Level cm"), _gauge(rng, days))
        _write(options.folder / "gauge" / f"{month}.csv", *gauge)
        takings = (("Boat", "Day", "Class", "Till", "Taken"), _takings(rng, crossings, days))
        _write(options.folder / "takings" / f"{month}.csv", *takings)
    _boats(rng, boats, options.folder)


def _days(month: str) -> list[dt.date]:
    first = dt.date.fromisoformat(f"{month}-01")
    return [day for n in range(31) if (day := first + dt.timedelta(n)).month == first.month]


def _crossings(
    rng: random.Random, boat: str, days: Iterable[dt.date], most: int
) -> list[list[object]]:
    rows: list[list[object]] = []
    for day in days:
        at = dt.datetime.combine(day, dt.time(5, rng.randrange(60)))
        for number in range(rng.randint(most // 2, most)):
            one, other = rng.sample(LANDINGS, 2)
            counts = [rng.randint(0, 90), rng.randint(0, 12), rng.randint(0, 6)]
            rows.append([boat, at.isoformat(" ", "minutes"), one, other, *counts])
            at += dt.timedelta(minutes=rng.randint(10, 25) + (number % 20 == 19) * 40)
            if at.date() != day:
                break
    return rows


def _gauge(rng: random.Random, days: Sequence[dt.date]) -> list[list[object]]:
    """A reading a quarter of an hour at every landing; the gauge of one fails for a night."""
    rows: list[list[object]] = []
    for landing in LANDINGS:
        level = 140.0
        for day in days:
            for quarter in range(96):
                level = min(max(level + rng.uniform(-4, 4), 60), 260)
                if landing == "Staithe" and day == days[9] and quarter < 40:
                    continue
                at = dt.datetime.combine(day, dt.time(quarter // 4, quarter % 4 * 15))
                rows.append([landing, at.isoformat(" ", "minutes"), f"{level:.1f}"])
    return rows


def _takings(
    rng: random.Random, crossings: dict[str, list[list[object]]], days: Sequence[dt.date]
) -> list[list[object]]:
    """Two tills a boat, each class a row; one office still writes two boats by their old names."""
    rows: list[list[object]] = []
    for boat, trips in crossings.items():
        for day in days:
            of_day = [trip for trip in trips if str(trip[1]).startswith(day.isoformat())]
            counts = [sum(int(str(trip[place])) for trip in of_day) for place in (4, 5, 6)]
            for (name, fare), count in zip(CLASSES.items(), counts, strict=True):
                fore = rng.randint(0, count)
                for till, sold in (("fore", fore), ("aft", count - fore)):
                    called = OLD_NAMES.get(boat, boat)
                    rows.append([called, day.isoformat(), name, till, f"{sold * fare:.2f}"])
    rng.shuffle(rows)
    return rows


def _boats(rng: random.Random, boats: Sequence[str], folder: Path) -> None:
    """The office and the yard each keep a list; they differ in seats and in the last survey."""
    office, yard = [], []
    for boat in boats:
        seats, built = rng.randint(60, 140), rng.randint(1988, 2024)
        office.append([boat, seats, built, f"2031-{rng.randint(1, 6):02d}-12"])
        more = seats + rng.choice((0, 0, 0, 4))
        yard.append([boat.upper(), more, built, f"2031-{rng.randint(7, 12):02d}-03"])
    head = ("Boat", "Seats", "Built", "Surveyed")
    _write(folder / "boats" / "office.csv", head, office)
    _write(folder / "boats" / "yard.csv", head, yard)


def _write(path: Path, head: Sequence[str], rows: Iterable[Sequence[object]]) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    with path.open("w", newline="", encoding="utf-8") as file:
        writer = csv.writer(file, lineterminator="\n")
        writer.writerow(head)
        writer.writerows(rows)


if __name__ == "__main__":
    main()
