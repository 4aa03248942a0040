"""The demo data: extracts, registers and workbooks of a made-up co-operative.

They hold on purpose what real extracts hold: a month that lacks a column, one
with its columns in another order, rows that two extracts share, keys spelt in
other case or with spaces, keys without a hive number, hives no register knows
and hives nobody visited, hive numbers with leading zeros, notes with commas,
quotes and line breaks, a register in which two entries for a hive disagree, and a book in which
wardens sign by hand.

Since then an extract arrived, a hive that was entered by mistake was taken out again, a
weight with its point in the wrong place was put right, and the register got a column.

They too hold what real ones hold: a title above the header, a heading misspelt
on one sheet of three, a field in which three things stand, numbers with a
decimal comma in a file that is not UTF-8.
"""

from __future__ import annotations

import csv
import datetime as dt
import json
import random
from collections.abc import Sequence
from importlib.resources import files
from pathlib import Path
from typing import Any

SHEETS = ("July", "August", "September")
VILLAGES = ("Ährenfeld", "Grünbach", "Süderhöfen", "Lärchwald", "Königsau", "Möwenort")
_FIXED = dt.datetime(2031, 10, 31)

Hive = tuple[str, str]

YARDS = {
    "ALD": "Alder Mill",
    "BRK": "Brackenfold",
    "CUL": "Culver Down",
    "DUN": "Dunmoor",
    "ELM": "Elm Orchard",
    "FEN": "Fenside",
    "GOR": "Gorse Common",
    "HAW": "Hawthorn Lane",
}
NORTH = ("ALD", "BRK", "CUL", "DUN")
WARDENS = ["Ines Pardal", "Tom Ashdown", "Mara Quill", "Jory Penrose", "Lise Amsel", "Oke Brandt"]
HELPERS = [
    *("Nora Amsel", "Timo Ashby", "Mara Quell", "Jon Penrose", "Edda Brandt", "Rikke Holm"),
    *("Samuel Stark", "Elif Aydin", "Pavel Novak", "Greta Lind", "Owen Marsh", "Ruth Castell"),
    *("Hanno Weiss", "Clara Dunn"),
]
BREEDS = ["Carnica", "Buckfast", "Ligustica", "Mellifera"]
MONTHS = [f"2031-{number:02d}" for number in range(3, 11)]
HEADER = ["Yard", "Hive", "Day", "Frames", "Queen seen", "Varroa", "Honey kg", "Note"]
REGISTER = ["Yard", "Hive", "Breed", "Queen year", "Warden", "Tag"]
_SEED = 2031

NOTES = [
    "calm",
    "calm",
    "busy",
    "needs super",
    "eggs, brood in all stages",
    "queen cell cut",
    'tagged "blue 7"',
    "low stores\nfed 2 l syrup",
    "wasps at entrance, entrance reduced",
    "",
]

Rows = list[list[str]]

MISTAKEN = ("GOR", "040")
LATEST = "2031-10"
_VISITS = {"2031-03": "12", "2031-05": "7", "2031-09": "20"}
_SLIP = "2031-04"


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


def write_demo_data(folder: Path) -> None:
    """Write the demo's files under a folder, over those that are there.

    Parameters
    ----------
    folder : Path
        Gets the records, and the plan ``season.toml``.
    """
    write_records(folder)
    plan = files("plait.demo").joinpath("season.toml").read_text("utf-8")
    (folder / "season.toml").write_text(plan, encoding="utf-8")


def write_records(folder: Path) -> None:
    """Write the records under a folder, over those that are there.

    Parameters
    ----------
    folder : Path
        Gets ``inspections/`` with eight monthly extracts, ``register/`` with the
        two parts of the hive register, ``older-register.csv``, ``weighins.xlsx``
        with a sheet a month, ``laboratory.jsonl``, ``wardens.csv``, ``rota.csv`` and ``book.csv``.
    """
    rng = random.Random(_SEED)
    hives = _hives(rng)
    register = {hive: _entry(rng, *hive) for hive in hives}
    months = _months(rng, hives[:-6])
    for month, rows in months.items():
        _write_extract(folder / "inspections" / f"{month}.csv", *_shaped(month, rows))
    parts = _register_parts(rng, register)
    for part, rows in parts.items():
        _write_extract(folder / "register" / f"{part}.csv", REGISTER, rows)
    _write_extract(folder / "older-register.csv", REGISTER, _older(rng, register))
    write_weighins(folder / "weighins.xlsx", rng, hives)
    write_laboratory(folder / "laboratory.jsonl", rng, hives)
    write_wardens(folder / "wardens.csv", rng, WARDENS)
    write_book(folder, random.Random(_SEED))


def write_book(folder: Path, rng: random.Random) -> None:
    """Write who was to weigh in which yard and month, and the book in which they signed.

    They sign as people do: names the other way round, shortened, misspelt; now and then in the
    line of another month, or without the yard. Two share each duty, so that neither yard and
    month alone tell who it was, nor the name; two names are one letter apart and two people.
    """
    duties = [
        [yard, month, warden]
        for yard in YARDS
        for month in MONTHS
        for warden in rng.sample([*WARDENS, *HELPERS], 2)
    ]
    rows = [[f"D{number:03d}", *duty] for number, duty in enumerate(duties, 1)]
    _write_extract(folder / "rota.csv", ["Duty", "Yard", "Month", "Warden"], rows)
    signed = []
    for yard, month, warden in rng.sample(duties, 90):
        near = MONTHS[min(MONTHS.index(month) + 1, len(MONTHS) - 1)]
        signed.append(
            [
                _signature(rng, warden),
                "" if rng.random() < 0.05 else yard,
                near if rng.random() < 0.06 else month,
                str(rng.randint(40, 400)),
            ]
        )
    signed += [["illegible", rng.choice(list(YARDS)), month, "60"] for month in MONTHS[:3]]
    book = [[str(number), *row] for number, row in enumerate(signed, 1)]
    _write_extract(folder / "book.csv", ["Entry", "Signed", "Yard", "Month", "kg"], book)


def _signature(rng: random.Random, warden: str) -> str:
    """A name as somebody writes it by hand."""
    first, last = warden.split()
    at = rng.randrange(1, len(last) - 1)
    ways = [
        warden,
        warden,
        f"{last}, {first}",
        f"{first} {last[:at]}{last[at + 1 :]}",
        f"{first} {last[:at]}{last[at + 1]}{last[at]}{last[at + 2 :]}",
        f"{first[0]}. {last}",
    ]
    return rng.choice(ways)


def _hives(rng: random.Random) -> list[tuple[str, str]]:
    """Yard and hive number of every hive on the register; the last six are never visited."""
    hives = [(yard, f"{number:03d}") for yard in YARDS for number in range(1, rng.randint(16, 24))]
    rng.shuffle(hives)
    return hives


def _entry(rng: random.Random, yard: str, hive: str) -> list[str]:
    tag = f"{rng.randrange(10**9):010d}"
    return [yard, hive, rng.choice(BREEDS), str(rng.randint(2028, 2031)), rng.choice(WARDENS), tag]


def _months(rng: random.Random, hives: list[tuple[str, str]]) -> dict[str, Rows]:
    months = {
        month: [_visit(rng, *hive) for hive in hives if rng.random() < 0.9] for month in MONTHS
    }
    _misspell(rng, months)
    for yard, hive in (("HAW", "031"), ("HAW", "032"), ("KES", "001"), ("KES", "002")):
        for month in rng.sample(MONTHS, 3):
            months[month].append(_visit(rng, yard, hive))
    for month in rng.sample(MONTHS, 4):
        months[month].append(_visit(rng, rng.choice(list(YARDS)), ""))
    for rows in months.values():
        rng.shuffle(rows)
    _overlap(months)
    return months


def _visit(rng: random.Random, yard: str, hive: str) -> list[str]:
    honey = f"{rng.uniform(0, 24):.2f}" if rng.random() < 0.6 else ""
    return [
        yard,
        hive,
        str(rng.randint(1, 28)),
        str(rng.randint(4, 12)),
        rng.choice(["yes", "yes", "no"]),
        str(rng.randint(0, 9)),
        honey,
        rng.choice(NOTES),
    ]


def _misspell(rng: random.Random, months: dict[str, Rows]) -> None:
    """One yard writes its code in small letters for a month, another puts a space behind it."""
    for month, yard, spelt in (("2031-05", "CUL", "cul"), ("2031-07", "FEN", "FEN ")):
        for row in rng.sample([row for row in months[month] if row[0] == yard], 7):
            row[0] = spelt


def _overlap(months: dict[str, Rows]) -> None:
    """The last visits of April were sent again with May."""
    months["2031-05"][:0] = [list(row) for row in months["2031-04"][-9:]]


def _shaped(month: str, rows: Rows) -> tuple[list[str], Rows]:
    """The shape of each extract: June lacks a column, August has another order."""
    order = list(range(len(HEADER)))
    if month == "2031-06":
        order.remove(HEADER.index("Varroa"))
    if month == "2031-08":
        order = [1, 0, 2, 6, 3, 4, 5, 7]
    return [HEADER[i] for i in order], [[row[i] for i in order] for row in rows]


def _register_parts(
    rng: random.Random, register: dict[tuple[str, str], list[str]]
) -> dict[str, Rows]:
    parts: dict[str, Rows] = {"north": [], "south": []}
    for hive in sorted(register):
        parts["north" if hive[0] in NORTH else "south"].append(register[hive])
    moved = rng.sample(parts["north"], 3)
    parts["south"] += moved  # entered by both offices, word for word
    for yard in ("ALD", "BRK"):  # dissolved, and entered twice with different breeds
        first = _entry(rng, yard, "900")
        second = [*first[:2], BREEDS[(BREEDS.index(first[2]) + 1) % 4], *first[3:]]
        parts["north"] += [first, second]
    return parts


def _older(rng: random.Random, register: dict[tuple[str, str], list[str]]) -> Rows:
    """The register of two years ago: some hives twice, some with another warden or breed."""
    rows = []
    for hive in sorted(register):
        row = list(register[hive])
        row[3] = str(int(row[3]) - 2)
        if rng.random() < 0.1:
            row[4] = rng.choice(WARDENS)
        rows.append(row)
        if rng.random() < 0.05:
            rows.append([*row[:2], rng.choice(BREEDS), *row[3:]])
    return rows


def _write_extract(path: Path, header: list[str], rows: Rows) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    with path.open("w", newline="", encoding="utf-8") as file:
        writer = csv.writer(file, lineterminator="\n")
        writer.writerow(header)
        writer.writerows(rows)


def rewind_one_month(folder: Path) -> None:
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
        _write_rows(folder / "inspections" / f"{month}.csv", [header, *rows])
    _slip(folder / "inspections" / f"{_SLIP}.csv")
    for part in ("north", "south"):
        header, *rows = _read(folder / "register" / f"{part}.csv")
        if part == "south":
            rows.append([*MISTAKEN, "Carnica", "2030", "Tom Ashdown", ""])
        _write_rows(folder / "register" / f"{part}.csv", [row[:-1] for row in (header, *rows)])


def _slip(path: Path) -> None:
    """The first weight of more than ten kilograms had its point one place to the right."""
    header, *rows = _read(path)
    at = header.index("Honey kg")
    row = next(row for row in rows if row[at] and float(row[at]) > 10)
    whole, _, places = row[at].partition(".")
    row[at] = f"{whole}{places[0]}.{places[1:]}0"
    _write_rows(path, [header, *rows])


def _read(path: Path) -> list[list[str]]:
    with path.open(newline="", encoding="utf-8") as file:
        return list(csv.reader(file))


def _write_rows(path: Path, rows: list[list[str]]) -> None:
    with path.open("w", newline="", encoding="utf-8") as file:
        csv.writer(file, lineterminator="\n").writerows(rows)
