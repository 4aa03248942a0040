"""Typed sources set against text: a verb gives the same on each file of the same cells.

The cells are values of Python's. Its own writers, and those of the formats' libraries, put them
into files; what comes of a verb is read back and compared as values, by ``decimal``, ``datetime``
and plain Python.
"""

from __future__ import annotations

import csv
import datetime as dt
import json
import random
import re
import sqlite3
import tempfile
from collections.abc import Callable
from contextlib import closing
from decimal import Decimal
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.feather
import pyarrow.parquet
import xlsxwriter

import plait

Cells = dict[str, list[Any]]
FAMILIES = ("whole", "decimal", "date", "moment", "truth", "text")
ARROW = {
    "whole": pa.int64(),
    "decimal": pa.decimal128(12, 2),
    "date": pa.date32(),
    "moment": pa.timestamp("us"),
    "truth": pa.bool_(),
    "text": pa.string(),
}
FORMATS = ("parquet", "arrow", "jsonl", "db", "xlsx")


def random_value(rng: random.Random, family: str, few: int) -> Any:
    """A value of a family, of few different ones."""
    number = rng.randrange(few)
    return {
        "whole": lambda: number - few // 2,
        "decimal": lambda: Decimal(number * 5 - few) / 100 + Decimal("0.00"),
        "date": lambda: dt.date(2031, 1, 1) + dt.timedelta(number * 17),
        "moment": lambda: dt.datetime(2031, 1, 1, 8, 30) + dt.timedelta(minutes=number * 613),
        "truth": lambda: bool(number % 2),
        "text": lambda: f"{number:03}" if number % 3 else f"yard {number}",
    }[family]()


def random_cells(rng: random.Random, rows: int, family: str, few: int, missing: float) -> list[Any]:
    """Cells of a column; some are missing."""
    cells = [
        None if rng.random() < missing else random_value(rng, family, few) for _ in range(rows)
    ]
    if family == "text":
        cells[0] = "yard"  # a text that nobody takes for a number
    elif all(cell is None for cell in cells):
        cells[0] = random_value(rng, family, few)
    return cells


def random_table(rng: random.Random, rows: int, few: int) -> Cells:
    """A column of each family, by whose name it goes, and a key."""
    return {
        "key": [rng.randrange(few) for _ in range(rows)],
        **{one: random_cells(rng, rows, one, few, rng.choice([0, 0.2])) for one in FAMILIES},
    }


def text(value: Any) -> str:
    """A value as a text file has it."""
    if value is None:
        return ""
    if isinstance(value, bool):
        return "true" if value else "false"
    return value.isoformat(" ") if isinstance(value, dt.datetime) else str(value)


def family_of(name: str) -> str:
    return "whole" if name == "key" else name


def write(cells: Cells, path: Path) -> Path:
    """A file of cells, by the writer that its ending asks for."""
    rows = list(zip(*cells.values(), strict=True))
    if path.suffix == ".csv":
        with path.open("w", newline="") as file:
            csv.writer(file).writerows([list(cells), *([text(v) for v in row] for row in rows)])
    elif path.suffix == ".jsonl":
        with path.open("w") as file:
            for row in rows:
                fields = (
                    f"{json.dumps(name)}: {_json(value)}"
                    for name, value in zip(cells, row, strict=True)
                )
                file.write("{" + ", ".join(fields) + "}\n")
    elif path.suffix == ".db":
        with closing(sqlite3.connect(path)) as base, base:
            sql = {"whole": "INTEGER", "decimal": "DECIMAL(12,2)", "truth": "BOOLEAN"}
            names = ", ".join(f'"{name}" {sql.get(family_of(name), "TEXT")}' for name in cells)
            base.execute(f"CREATE TABLE {path.stem} ({names})")
            marks = ", ".join("?" * len(cells))
            values = ([v if isinstance(v, int) else text(v) or None for v in row] for row in rows)
            base.executemany(f"INSERT INTO {path.stem} VALUES ({marks})", values)
    elif path.suffix == ".xlsx":
        _workbook(cells, rows, path)
    else:
        types = [ARROW[family_of(name)] for name in cells]
        columns = [pa.array(cells[name], kind) for name, kind in zip(cells, types, strict=True)]
        table = pa.table(columns, list(cells))
        if path.suffix == ".parquet":
            pa.parquet.write_table(table, path)
        else:
            pa.feather.write_feather(table, path, compression="uncompressed")
    return path


def _json(value: Any) -> str:
    if isinstance(value, Decimal):
        return str(value)
    return json.dumps(value if value is None or isinstance(value, bool | int) else text(value))


def _workbook(cells: Cells, rows: list[tuple[Any, ...]], path: Path) -> None:
    with xlsxwriter.Workbook(str(path)) as book:
        sheet = book.add_worksheet("Table")
        day = book.add_format({"num_format": "yyyy-mm-dd"})
        moment = book.add_format({"num_format": "yyyy-mm-dd hh:mm:ss"})
        sheet.write_row(0, 0, list(cells))
        for number, row in enumerate(rows, 1):
            for column, value in enumerate(row):
                if isinstance(value, str):
                    sheet.write_string(number, column, value)
                elif isinstance(value, dt.date):
                    kind = moment if isinstance(value, dt.datetime) else day
                    sheet.write_datetime(number, column, value, kind)
                elif isinstance(value, bool):
                    sheet.write_boolean(number, column, value)
                elif value is not None:
                    sheet.write_number(number, column, float(value))


def value(cell: Any) -> Any:
    """What a cell of a result means, however it is written."""
    if cell is None or cell == "":
        return None
    if isinstance(cell, bool):
        return cell
    if isinstance(cell, dt.datetime):
        return cell if cell.time() != dt.time() else cell.date()
    if isinstance(cell, dt.date):
        return cell
    if isinstance(cell, int | float | Decimal):
        return Decimal(repr(cell) if isinstance(cell, float) else cell).normalize() + 0
    if cell in ("true", "false"):
        return cell == "true"
    try:
        return value(dt.datetime.fromisoformat(cell))
    except ValueError:
        pass
    plain = cell.lstrip("-")
    if plain.replace(".", "", 1).isdigit() and (plain == "0" or plain[0] != "0" or plain[1] == "."):
        return Decimal(cell).normalize() + 0
    return cell


def rows_of(table: Any) -> list[tuple[Any, ...]]:
    """The rows of a result as values."""
    columns = table.to_dict().values()
    return [tuple(map(value, row)) for row in zip(*columns, strict=True)]


FIGURES = ("sum", "mean", "smallest", "largest", "count", "distinct", "commonest", "middle")
CONDITIONS = (
    "decimal * 3 > 0.3",
    "decimal = 0.10 OR whole = 2",
    "date >= DATE '2031-03-01'",
    "moment < TIMESTAMP '2031-06-01 12:00:00'",
    "truth OR text = '001'",
    "whole BETWEEN -3 AND 7 AND decimal IS NOT NULL",
    "EXTRACT(MONTH FROM date) = 3",
    "decimal + whole > 1",
)
COMPUTED = (
    "decimal * 3",
    "decimal + whole",
    "decimal / 4",
    "CAST(decimal AS INTEGER)",
    "CAST(date AS TEXT)",
    "whole || ' hives'",
    "ROUND(decimal, 1)",
    "CASE WHEN truth THEN decimal ELSE 0 END",
    "moment - INTERVAL '1' DAY",
    "CAST(moment AS DATE)",
)


def verb(rng: random.Random) -> tuple[str, Callable[[Path, Path], Any]]:
    """A call of a verb with random options, on two files."""
    name = rng.choice(FAMILIES)
    numeric = rng.choice(["whole", "decimal"])
    figure = rng.choice(FIGURES)
    counted = name if figure in ("count", "distinct", "commonest") else numeric
    key = rng.choice(["key", "key,text", "decimal", "date", "moment", "whole", "truth,key"])
    kind = rng.choice(["left", "inner", "full", "semi", "anti"])
    rule = rng.choice(["first", "last", "min", "max", "commonest", "agree"])
    falling = rng.choice(["", " desc"])
    where, made = rng.choice(CONDITIONS), rng.choice(COMPUTED)
    either = rng.choice(["many-to-many", None])
    calls: dict[str, Callable[[Path, Path], Any]] = {
        f"join {key} {kind}": lambda a, b: plait.join(
            a, b, key=key, kind=kind, cardinality=either if kind in ("semi", "anti") else
            "many-to-many"
        ),
        f"group {counted} {figure} by key": lambda a, b: plait.group(
            a, "key", {"figure": f"{figure}:{counted}"}
        ),
        f"group {name}": lambda a, b: plait.group(a, name, {"n": "count"}),
        f"settle {rule}": lambda a, b: plait.settle(a, "key", otherwise=rule),
        f"sort {name}{falling}": lambda a, b: plait.mend(a, sort=f"{name}{falling}"),
        f"where {where}": lambda a, b: plait.mend(a, where=where),
        f"compute {made}": lambda a, b: plait.mend(a, compute={"made": made}, keep=["made"]),
        "stack": lambda a, b: plait.stack([a, b]),
        "stack distinct": lambda a, b: plait.stack([a, b], distinct=True),
        f"widen {name}": lambda a, b: plait.widen(
            plait.settle(a, f"key,{name}", otherwise="first").table,
            key="key", heads=name, cells=numeric
        ),
        "lengthen": lambda a, b: plait.lengthen(
            a, "of", "cell", columns=["whole", "decimal"]
        ),
    }  # fmt: skip
    word = rng.choice(list(calls))
    return word, calls[word]


def done(call: Callable[[Path, Path], Any], files: tuple[Path, Path]) -> Any:
    """The rows of a result, or the kind of error that it ends in."""
    try:
        return rows_of(call(*files).table)
    except plait.PlaitError as error:
        return type(error).__name__


def judge_typed(rng: random.Random) -> bool:
    """A verb on files of each format, against the same on text."""
    rows, few = rng.choice([1, 3, 20]), rng.choice([2, 5, 12])
    cells = random_table(rng, rows, few), random_table(rng, rng.choice([1, 4]), few)
    word, call = verb(rng)
    form = rng.choice(FORMATS)
    with tempfile.TemporaryDirectory() as folder:
        pairs = [
            tuple(
                write(one, Path(folder, f"{name}.{ending}"))
                for name, one in zip(("left", "right"), cells, strict=True)
            )
            for ending in ("csv", form)
        ]
        of_text, of_typed = (done(call, pair) for pair in pairs)
    assert of_typed == of_text, f"{word} on {form}: {of_typed} and not {of_text} of {cells}"
    return not isinstance(of_text, str)


def read_back(path: Path) -> tuple[list[tuple[Any, ...]], dict[str, str]]:
    """The rows of a file and the types of its columns, by other programs than Plait."""
    if path.suffix == ".parquet":
        table = pa.parquet.read_table(path)
    elif path.suffix == ".arrow":
        table = pa.feather.read_table(path, memory_map=False)
    elif path.suffix == ".sqlite":
        with closing(sqlite3.connect(path)) as base:
            ((name,),) = base.execute("SELECT name FROM sqlite_master").fetchall()
            rows = base.execute(f'SELECT * FROM "{name}"').fetchall()
            told = base.execute("SELECT name, type FROM pragma_table_info(?)", (name,))
            types = {name: kind.partition("(")[0] for name, kind in told}
        truths = [n for n, kind in enumerate(types.values()) if kind == "BOOLEAN"]
        rows = [
            tuple(bool(v) if n in truths and v is not None else v for n, v in enumerate(row))
            for row in rows
        ]
        return rows, types
    else:
        lines = path.read_text().splitlines()
        records = [json.loads(line, parse_float=Decimal) for line in lines]
        names = list(records[0]) if records else []
        kinds = {
            name: {type(one[name]).__name__ for one in records if one[name] is not None}
            for name in names
        }
        return [tuple(one.values()) for one in records], {n: "/".join(k) for n, k in kinds.items()}
    rows = list(zip(*(column.to_pylist() for column in table.columns), strict=True))
    return rows, {field.name: str(field.type).partition("(")[0] for field in table.schema}


# What each format calls the types of values; text where a column has none.
CALLED = {
    "parquet": {"integer": "int64", "decimal": "decimal128", "date": "date32[day]",
                "datetime": "timestamp[us]", "boolean": "bool"},
    "sqlite": {"integer": "INTEGER", "decimal": "DECIMAL", "boolean": "BOOLEAN"},
    "jsonl": {"integer": "int", "decimal": "Decimal", "boolean": "bool"},
}  # fmt: skip
CALLED["arrow"] = CALLED["parquet"]
NOT_CALLED = {"parquet": "string", "arrow": "string", "sqlite": "TEXT", "jsonl": "str"}


def plain_type(cells: list[str]) -> str:
    """The type of the cells of a text file, by the rules of docs/sources.md, in plain Python."""
    there = [cell for cell in cells if cell]
    if not there:
        return "empty"
    for name, pattern in PATTERNS.items():
        if all(re.fullmatch(pattern, cell) for cell in there):
            return name
    return "text"


def digits_of(texts: list[str | None]) -> int:
    """The digits that a decimal type of all these numbers has."""
    numbers = [Decimal(text) for text in texts if text]
    places = max(-number.as_tuple().exponent for number in numbers)
    return max(len(str(abs(int(number.scaleb(max(places, 0)))))) for number in numbers)


PATTERNS = {
    "integer": "-?(0|[1-9][0-9]{0,17})",
    "decimal": r"-?(0|[1-9][0-9]{0,17})(\.[0-9]+)?",
    "boolean": "true|false",
    "date": r"\d{4}-\d\d-\d\d",
    "datetime": r"\d{4}-\d\d-\d\d \d\d:\d\d:\d\d",
}


def judge_written(rng: random.Random) -> bool:
    """The result of a verb in each format: its cells, and their types, are those of its text."""
    rows, few = rng.choice([1, 5, 30]), rng.choice([2, 7, 40])
    if rng.random() < 0.02:  # keys are coded from here on
        rows, few = 20_000, rng.choice([40, 5000])
    cells = random_table(rng, rows, few), random_table(rng, rng.choice([1, few]), few)
    cells[1]["key"] = list(range(len(cells[1]["key"])))
    word, call = verb(rng)
    if rows > 100:
        word, call = "join", lambda a, b: plait.join(a, b, key="key")
    with tempfile.TemporaryDirectory() as folder:
        files = [
            write(one, Path(folder, f"{name}.csv"))
            for name, one in zip(("left", "right"), cells, strict=True)
        ]
        try:
            table = call(*files).table
        except plait.PlaitError:
            return False
        plait.write(table, Path(folder, "out.csv"))
        with Path(folder, "out.csv").open(newline="") as file:
            names, *lines = csv.reader(file)
        types = {n: plain_type([line[at] for line in lines]) for at, n in enumerate(names)}
        wanted = [tuple(map(value, line)) for line in lines]
        for name, kind in types.items():
            told = str(table.column_type(name))
            assert told == kind, f"{word}: {name} is {told} and not {kind}"
        for form in NOT_CALLED:
            plait.write(table, path := Path(folder, f"out.{form}"))
            rows_there, kinds = read_back(path)
            got = [tuple(map(value, row)) for row in rows_there]
            assert got == wanted, f"{word} as {form}: {got[:3]} and not {wanted[:3]}"
            for name, kind in types.items():
                called = CALLED[form].get(kind, NOT_CALLED[form])
                if form == "sqlite" and kind == "decimal":
                    texts = [line[names.index(name)] or None for line in lines]
                    if digits_of(texts) > 15:  # a float would not give them back
                        called = "TEXT"
                        assert [row[names.index(name)] for row in rows_there] == texts
                there = kinds.get(name, called) or called
                if (
                    form == "jsonl"
                    and kind == "decimal"
                    and there in ("int", "Decimal/int", "int/Decimal")
                ):
                    continue
                if kind != "empty":
                    assert there == called, f"{word} as {form}: {name} is {there}, not {called}"
    return True


JUDGES = {"typed sources": judge_typed, "typed results": judge_written}
