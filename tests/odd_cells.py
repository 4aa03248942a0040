"""Random tables with columns of every type that a server knows, and the cells that go wrong."""

from __future__ import annotations

import datetime as dt
import random
from decimal import Decimal
from typing import Any

import pyarrow as pa

from plait.core.table.table import Table

TEXTS = [
    "",
    " ",
    "007",
    "a",
    "A",
    "a ",
    "é",
    "e\u0301",
    "日本 🐝",
    "NULL",
    "\\N",
    "\\",
    "it's",
    '"',
    "tab\t",
    "two\nlines",
    "%s",
    "{}",
    "x" * 300,
]
UTC = dt.UTC


def _decimals(rng: random.Random, digits: int, scale: int) -> Any:
    def one() -> Decimal:
        whole = rng.randrange(10 ** rng.randint(1, digits))
        return Decimal(f"{whole * rng.choice([1, -1])}e-{scale}")  # no context rounds that

    return one


def _moment(rng: random.Random, first: int, last: int) -> dt.datetime:
    day = dt.date.fromordinal(
        rng.randint(dt.date(first, 1, 2).toordinal(), dt.date(last, 12, 30).toordinal())
    )
    return dt.datetime.combine(day, _time(rng))


def _time(rng: random.Random) -> dt.time:
    return dt.time(
        rng.randrange(24), rng.randrange(60), rng.randrange(60), rng.choice([0, 1, 999_999])
    )


def makers(rng: random.Random, scheme: str) -> dict[pa.DataType, Any]:
    """What makes a cell of each type."""
    years = (1, 9999) if scheme == "postgresql" else (1000, 9999)
    zoned = (1, 9999) if scheme == "postgresql" else (1971, 2037)
    floats = [0.1, -0.0, 1e308, 5e-324, 123456.789, 1 / 3]
    return {
        pa.bool_(): lambda: rng.random() < 0.5,
        pa.int16(): lambda: rng.randint(-(2**15), 2**15 - 1),
        pa.int32(): lambda: rng.randint(-(2**31), 2**31 - 1),
        pa.int64(): lambda: rng.choice([0, -(2**63), 2**63 - 1, rng.randint(-99, 99)]),
        pa.float64(): lambda: rng.choice([*floats, rng.random()]),
        pa.decimal128(12, 2): _decimals(rng, 12, 2),
        pa.decimal128(38, 10): _decimals(rng, 38, 10),
        pa.decimal256(60, 5): _decimals(rng, 60, 5),
        pa.string(): lambda: rng.choice(TEXTS),
        pa.date32(): lambda: _moment(rng, *years).date(),
        pa.time64("us"): lambda: _time(rng),
        pa.timestamp("us"): lambda: _moment(rng, *years),
        pa.timestamp("us", "UTC"): lambda: _moment(rng, *zoned).replace(tzinfo=UTC),
    }


def random_table(rng: random.Random, scheme: str) -> Table:
    """A table with some columns of random types, and cells that are not there."""
    every = makers(rng, scheme)
    rows, missing = rng.choice([0, 1, 7, 200]), rng.choice([0.0, 0.2, 1.0])
    kinds = rng.sample(list(every), rng.randint(1, len(every)))
    columns = {
        f"c{number}": pa.array(
            [None if rng.random() < missing else every[kind]() for _ in range(rows)], kind
        )
        for number, kind in enumerate(kinds)
    }
    return Table.from_arrow(pa.table({"id": pa.array(range(rows), pa.int64()), **columns}), "there")
