"""What is tried: for each target a folder, and command lines for it."""

from __future__ import annotations

import hashlib
import json
import random
from collections.abc import Callable, Iterator
from pathlib import Path

from fuzzing.mutating import change_value, mutated, structured
from fuzzing.others import answers, written
from makers import PACKERS, every_format, open_sheet

Words = list[str]
TEXTS = {
    "a.csv": b'hive,kg,note\n1,12.50,"calm, busy"\n2,9,"two\nlines"\n3,,x\n',
    "b.csv": "jour;ruche;poids\n1;Érable;12,5\n2;Chêne;3,1\n".encode("cp1252"),
    "c.tsv": "a\tb\n1\t2\n".encode("utf-16"),
    "d.jsonl": b'{"a": 1.50, "b": {"c": [1, "x"]}}\n{"a": null}\n',
}
VISITS = "yard,hive,kg,day\nElm,007,12.50,2031-04-05\nElm,12,9,2031-04-06\nOak,7,,x\nOak,7,3,\n"
HIVES = "yard,hive,breed\nElm,007,Buckfast\nelm,12,Carniolan\nOak,7,Italian\nOak,8,Mixed\n"
ENDINGS = ("csv", "tsv", "json", "jsonl", "parquet", "arrow", "xlsx", "sqlite")
PLAN = (
    'title = "Season"\n[parameters]\nleast = 2\n[source.visits]\npath = "visits.csv"\n'
    'label = { month = "{stem}" }\nmissing = ["x"]\ntype = { kg = "decimal", day = "date" }\n'
    'unfit = "set-aside"\n[source.hives]\npath = "hives.csv"\n[[step]]\nmend = "visits"\n'
    'where = "kg > ${least} OR kg IS NULL"\ncompute = { twice = "kg * 2" }\n[[step]]\n'
    'settle = "hives"\nkey = ["yard", "hive"]\nrule = { breed = "first" }\n[[step]]\n'
    'join = ["visits", "hives"]\nkey = { yard = "yard", hive = "hive" }\nignore = ["case"]\n'
    'kind = "left"\ncardinality = "many-to-one"\ninto = "season"\n[[step]]\ngroup = "season"\n'
    'by = ["yard"]\ntake = { total = "sum:kg" }\ninto = "yards"\n[describe]\nkg = "weight"\n'
    '[expect]\nrows = ["season >= 1"]\nunique = { yards = ["yard"] }\n[handover]\n'
    'result = "season"\nfolder = "out"\nformats = ["csv", "parquet"]\n'
)
ODD = (
    "", " ", "0", "-1", "1", "2.5", "1e999", "9" * 30, "x", "yard", "hive", "kg", "yard,hive",
    "a,b", "yard=hive", "kg=decimal", "kg=sum:kg", "n=count", "=", ":", ",", "#", "*", "../x",
    "/", "~", "é", "\u202e", "\udcff", "\x1b[2J", "NULL", "TRUE", "'", '"', "yard:- into p,q",
    "day=date:%d.%m.%Y", "kg=sum:nope", "n=max:kg", "yard=first", "case", "case,space",
    "left", "inner", "many-to-many", "kg > 1", "yard LIKE 'E%'", "kg=kg*2", "n=LEFT(yard, 2)",
    "yard desc", "month={stem}", "error", "all", "none", "utf-16", ";", "tab", "o.csv",
    "o.xlsx", "o.db#t", "o.html", "visits.csv", "hives.csv", "z" * 300, "a\nb", "%s",
    "{stem}", "depth=3", "columns=1", "day:before", "kg:either",
)  # fmt: skip


def readers(folder: Path, rng: random.Random) -> Iterator[Words]:
    """Files of every format, changed."""
    whole = folder / "whole"
    whole.mkdir()
    for name, content in TEXTS.items():
        (whole / name).write_bytes(content)
    for packer, pack in PACKERS.items():
        (whole / f"p.csv.{packer}").write_bytes(pack(TEXTS["a.csv"]))
    open_sheet(whole / "s.ods")
    every_format(whole)
    old = Path(__file__).parents[1] / "data" / "hives.xls"
    (whole / "x.xls").write_bytes(old.read_bytes())
    contents = {file.name: file.read_bytes() for file in sorted(whole.iterdir()) if file.is_file()}
    while True:
        name = rng.choice(list(contents))
        (folder / name).write_bytes(structured(name, contents[name], rng))
        ragged = rng.choice(["error", "set-aside"])
        if rng.random() < 0.4:
            yield ["survey", name, "--ragged", ragged, "--json"]
        else:
            out = f"o.{rng.choice(ENDINGS)}"
            yield ["stack", name, "--ragged", ragged, "--out", out, "--replace"]
        (folder / name).unlink()


def plans(folder: Path, rng: random.Random) -> Iterator[Words]:
    """A plan with values, keys and lines changed."""
    _two(folder)
    lines = PLAN.splitlines()
    values = [*ODD, "true", "[]", "{}", "[[]]", "1979-05-27", "inf", "nan", "0x10", '["visits"]']
    while True:
        made = list(lines)
        for _ in range(rng.randint(1, 4)):
            _change_line(made, rng, values)
        text = "\n".join(made)
        if rng.random() < 0.15:
            text = mutated(text.encode("utf-8", "replace"), rng).decode("latin-1")
        (folder / "p.toml").write_text(text, "utf-8", "replace")
        yield rng.choice(
            [
                ["check", "p.toml"],
                ["run", "p.toml", "--replace", "--again"],
                ["check", "p.toml", "--json"],
            ]
        )


def _change_line(made: list[str], rng: random.Random, values: list[str]) -> None:
    place = rng.randrange(len(made))
    kind = rng.randrange(5)
    key, sign, _ = made[place].partition(" = ")
    if kind == 0 and len(made) > 3:
        del made[place]
    elif kind == 1:
        made.insert(place, rng.choice(made))
    elif kind == 2 and sign:
        value = rng.choice(values)
        made[place] = f"{key} = {value if rng.random() < 0.4 else json.dumps(value)}"
    elif kind == 3 and sign:
        other = rng.choice(made).partition(" = ")[2]
        made[place] = f"{key} = {other}"
    else:
        made[place] = (
            mutated(made[place].encode("utf-8", "replace"), rng)
            .decode("latin-1")
            .replace("\n", " ")
        )


def expressions(folder: Path, rng: random.Random) -> Iterator[Words]:
    """Expressions grown from all functions and operators, and their text changed."""
    from plait.core.expressions.expression import FUNCTIONS

    _two(folder)
    while True:
        text = _grown(rng, rng.randint(1, 5), FUNCTIONS)
        if rng.random() < 0.15:
            text = mutated(text.encode(), rng).decode("latin-1")
        text = text.replace("\0", "")
        option = rng.choice(["--compute", "--where"])
        yield ["mend", "visits.csv", option, f"n={text}" if option == "--compute" else text]


_CELLS = (
    "yard", "hive", "kg", "day", "NULL", "TRUE", "1", "0", "-1", "2.5", "1e300", "-1e-300",
    "'x'", "''", "'%'", "'a_\\'", "'2031-04-05'", "9223372036854775807",
    "99999999999999999999999999", "'('", "DATE '2031-04-05'", "'%Y'", "nope", "'é🐝'", "0.1",
    "'[a-'", "1000000",
)  # fmt: skip
_TYPES = ("INTEGER", "DOUBLE", "DECIMAL(9, 2)", "TEXT", "DATE")
_BETWEEN = (
    "+",
    "-",
    "*",
    "/",
    "%",
    "||",
    "=",
    "<>",
    "<",
    ">=",
    "AND",
    "OR",
    "LIKE",
    "NOT LIKE",
    "^",
)


def _grown(rng: random.Random, depth: int, functions: tuple[str, ...]) -> str:
    if not depth or rng.random() < 0.2:
        return rng.choice(_CELLS)
    inner = lambda: _grown(rng, depth - 1, functions)  # noqa: E731
    kind = rng.randrange(9)
    if kind < 3:
        return f"{rng.choice(functions)}({', '.join(inner() for _ in range(rng.randint(0, 4)))})"
    if kind < 6:
        return f"({inner()} {rng.choice(_BETWEEN)} {inner()})"
    return rng.choice(
        [
            f"CASE WHEN {inner()} THEN {inner()} ELSE {inner()} END",
            f"CAST({inner()} AS {rng.choice(_TYPES)})",
            f"({inner()} IS NOT NULL)",
            f"({inner()} IN ({inner()}, {inner()}))",
            f"(NOT {inner()})",
            f"({inner()} BETWEEN {inner()} AND {inner()})",
            f"EXTRACT(YEAR FROM {inner()})",
            f"-{inner()}",
        ]
    )  # fmt: skip


def lines(folder: Path, rng: random.Random) -> Iterator[Words]:
    """Command lines with any options and any values."""
    from plait.cli.main import COMMANDS, CommandLineParser, load_command

    known: dict[str, list[tuple[str, bool]]] = {}
    for name in COMMANDS:
        if name in ("demo",):
            continue
        parser = CommandLineParser(prog=name)
        load_command(name).add_arguments(parser)
        known[name] = [
            (one.option_strings[-1], one.nargs != 0)
            for one in parser._actions
            if one.option_strings
        ]
    while True:
        _two(folder)
        name = rng.choice(list(known))
        words = [name, *rng.sample(["visits.csv", "hives.csv", "."], rng.randint(0, 2))]
        for option, takes in rng.sample(known[name], min(len(known[name]), rng.randint(0, 5))):
            words += [option, rng.choice(ODD)] if takes else [option]
        if rng.random() < 0.7 and "--key" in dict(known[name]):
            words += ["--key", rng.choice(["yard,hive", "hive", "yard"])]
        yield [word.replace("\0", "") for word in words]


def handovers(folder: Path, rng: random.Random) -> Iterator[Words]:
    """A handover whose dataset, lineage or descriptor somebody has changed, and signed anew."""
    _two(folder)
    (folder / "p.toml").write_text(PLAN)
    yield ["run", "p.toml", "--replace", "--again"]
    out = folder / "out"
    names = ("lineage.parquet", "season.csv", "datapackage.json")
    whole = {name: (out / name).read_bytes() for name in names}
    while True:
        name = rng.choice(names)
        made = structured(name, whole[name], rng)
        if name == "lineage.parquet" and rng.random() < 0.6:
            made = _restated(whole[name], rng)
        (out / name).write_bytes(made)
        package = json.loads(whole["datapackage.json"])
        for one in package["resources"]:
            if one["path"] == name:
                one["hash"] = f"sha256:{hashlib.sha256(made).hexdigest()}"
        if name != "datapackage.json":
            (out / "datapackage.json").write_text(json.dumps(package))
        yield ["trace", "out", *rng.choice([["--row", "1"], ["--row", "2"], ["--where", "kg > 1"]])]
        for one, content in whole.items():
            (out / one).write_bytes(content)


def _restated(data: bytes, rng: random.Random) -> bytes:
    """A lineage that states something else."""
    import pyarrow as pa
    import pyarrow.parquet as pq

    table = pq.read_table(pa.BufferReader(data))
    metadata = dict(table.schema.metadata)
    key = next(one for one in metadata if b"plait" in one.lower() or b"stated" in one.lower())
    said = json.loads(metadata[key])
    for _ in range(rng.randint(1, 3)):
        change_value(said, rng)
    metadata[key] = json.dumps(said).encode()
    sink = pa.BufferOutputStream()
    pq.write_table(table.replace_schema_metadata(metadata), sink)
    return bytes(sink.getvalue())


def _two(folder: Path) -> None:
    (folder / "visits.csv").write_text(VISITS)
    (folder / "hives.csv").write_text(HIVES)


TARGETS: dict[str, Callable[[Path, random.Random], Iterator[Words]]] = {
    "readers": readers,
    "plans": plans,
    "expressions": expressions,
    "lines": lines,
    "handovers": handovers,
    "written": written,
    "answers": answers,
}
