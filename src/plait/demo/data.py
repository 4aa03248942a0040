"""The demo's files, made from a seed. All names and figures are invented.

They hold on purpose what real extracts hold: a month that lacks a column, one
with its columns in another order, rows that two extracts share, keys spelt in
other case or with spaces, keys without a hive number, hives no register knows
and hives nobody visited, hive numbers with leading zeros, notes with commas,
quotes and line breaks, and a register in which two entries for a hive disagree.
"""

from __future__ import annotations

import csv
import random
from importlib.resources import files
from pathlib import Path

from plait.demo.other import write_laboratory, write_wardens, write_weighins

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
        with a sheet a month, ``laboratory.jsonl`` and ``wardens.csv``.
    """
    rng = random.Random(_SEED)
    hives = _hives(rng)
    register = {hive: _entry(rng, *hive) for hive in hives}
    months = _months(rng, hives[:-6])
    for month, rows in months.items():
        _write(folder / "inspections" / f"{month}.csv", *_shaped(month, rows))
    parts = _register_parts(rng, register)
    for part, rows in parts.items():
        _write(folder / "register" / f"{part}.csv", REGISTER, rows)
    _write(folder / "older-register.csv", REGISTER, _older(rng, register))
    write_weighins(folder / "weighins.xlsx", rng, hives)
    write_laboratory(folder / "laboratory.jsonl", rng, hives)
    write_wardens(folder / "wardens.csv", rng, WARDENS)


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


def _write(path: Path, header: list[str], rows: Rows) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    with path.open("w", newline="", encoding="utf-8") as file:
        writer = csv.writer(file, lineterminator="\n")
        writer.writerow(header)
        writer.writerows(rows)
