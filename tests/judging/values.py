"""What cells mean, read without a line of Plait: for all judges the same."""

from __future__ import annotations

import random
import re
from datetime import date
from fractions import Fraction

MARKERS = {"NA", "-", "N/A"}
_NUMBER = re.compile(r"-?(0|[1-9]\d{0,17})(\.\d+)?")
_DATE = re.compile(r"(\d{4})-(\d\d)-(\d\d)")


def as_number(cell: str) -> Fraction | None:
    """The number that a cell is written as, if it is one in plain form."""
    if not _NUMBER.fullmatch(cell) or cell == "-0":
        return None
    return Fraction(cell)


def as_date(cell: str) -> date | None:
    """The day in ISO form, if there is such a day."""
    found = _DATE.fullmatch(cell)
    if not found:
        return None
    try:
        return date(*map(int, found.groups()))
    except ValueError:
        return None


def meaning(cells: list) -> list:
    """The value of each cell as its whole column has it; ``None`` where it is missing."""
    there = [cell for cell in cells if cell and cell not in MARKERS]
    for read in (as_number, as_date):
        if there and all(read(cell) is not None for cell in there):
            return [None if not c or c in MARKERS else read(c) for c in cells]
    return [cell or None for cell in cells]


def random_cells(rng: random.Random, rows: int, sort: str) -> list:
    """Cells of a sort: ``number``, ``date``, ``text`` or ``key``; some missing, some markers."""
    pools = {
        "number": ["7", "7.0", "-3", "10", "9", "0.50", "0.5", "12345678901234567", "-0.25"],
        "date": ["2031-04-05", "2031-10-01", "2030-12-31", "2032-02-29"],
        "text": ["a", "b", "B", "zz", "é", "a longer cell of text", " a", "x'y", 'q"r'],
        "key": ["p", "q", "r", "P", "q "],
    }
    few = rng.sample(pools[sort], rng.choice([2, 3, len(pools[sort])]))
    empty = rng.choice([0, 0.1, 0.4])
    marks = ["", None, *(["NA", "-"] if sort in ("number", "date") else [])]
    cells = [rng.choice(marks) if rng.random() < empty else rng.choice(few) for _ in range(rows)]
    if rows and not any(cell and cell not in MARKERS for cell in cells):
        cells[0] = few[0]
    return cells
