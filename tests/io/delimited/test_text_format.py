"""Text as the next program wants it: read back by the standard library and by Plait."""

from __future__ import annotations

import csv
import io
import json
import random
from datetime import date
from decimal import ROUND_HALF_UP, Decimal

import pytest

import plait as plait_package
from plait.core.base.errors import UsageError
from plait.core.table.table import table_from_columns
from plait.io.delimited.text_format import make_text_format, parse_text_format
from plait.io.write import to_csv_bytes

DELIMITERS = {"comma": ",", "semicolon": ";", "tab": "\t", "pipe": "|"}
CODECS = {
    "utf-8": "utf-8",
    "utf-8-bom": "utf-8-sig",
    "utf-16": "utf-16",
    "windows-1252": "cp1252",
    "iso-8859-15": "iso8859-15",
}


def _table(rng, rows):
    """Columns of each family, as texts, with their values."""
    decimals = [Decimal(rng.randrange(-99999, 99999)).scaleb(-rng.randrange(0, 5)) for _ in rows]
    days = [
        f"{rng.randrange(1990, 2040)}-{rng.randrange(1, 13):02}-{rng.randrange(13, 29)}"
        for _ in rows
    ]
    return {
        "whole": [str(rng.randrange(-50, 5000)) for _ in rows],
        "part": [rng.choice([format(value, "f"), "", "n/a"]) for value in decimals],
        "day": [rng.choice([day, ""]) for day in days],
        "code": [rng.choice(["007", "1.5.2", 'a;"b', "1,5 kg", "x|y\tz", "Köln\n"]) for _ in rows],
    }


@pytest.mark.parametrize("seed", range(30))
def test_what_is_written_is_what_plain_python_writes(seed):
    rng = random.Random(seed)
    columns = _table(rng, range(rng.randrange(1, 40)))
    settings = {
        name: value
        for name, value in {
            "delimiter": rng.choice(list(DELIMITERS)),
            "decimal": rng.choice(["point", "comma"]),
            "encoding": rng.choice(list(CODECS)),
            "dates": rng.choice(["%d.%m.%Y", "%m/%d/%Y", "%d %b %Y"]),
            "places": rng.choice([0, 1, 2, 6]),
        }.items()
        if rng.random() < 0.7
    }
    text_format = make_text_format(settings)
    table = table_from_columns("t", columns)
    data = to_csv_bytes(table, text_format)
    text = data.decode(CODECS[settings.get("encoding", "utf-8")])
    delimiter = DELIMITERS[settings.get("delimiter", "comma")]
    heads, *rows = csv.reader(io.StringIO(text, newline=""), delimiter=delimiter)
    assert heads == list(columns)
    sign = {"comma": ","}.get(settings.get("decimal", "point"), ".")
    for name, cells in zip(heads, zip(*rows, strict=True), strict=True):
        family = table.column_type(name).family
        for cell, written in zip(columns[name], cells, strict=True):
            wanted = cell
            if family == "decimal" and cell not in ("", "n/a"):
                if "places" in settings:
                    unit = Decimal(1).scaleb(-settings["places"])
                    wanted = format(Decimal(cell).quantize(unit, ROUND_HALF_UP), "f")
                    wanted = wanted.removeprefix("-") if not Decimal(wanted) else wanted
                wanted = wanted.replace(".", sign)
            if family == "date" and cell and "dates" in settings:
                wanted = date.fromisoformat(cell).strftime(settings["dates"])
            assert written == wanted, (name, cell, settings)


@pytest.mark.parametrize("seed", range(12))
def test_plait_reads_the_same_cells_back(plait, put, seed):
    rng = random.Random(seed)
    columns = _table(rng, range(20))
    columns["part"][:2] = ["1234.5", "0.25"]
    columns["day"][:2] = ["2031-04-30", "2031-12-01"]
    out = io.StringIO()
    csv.writer(out).writerows([columns, *zip(*columns.values(), strict=True)])
    put(t_csv=out.getvalue())
    how = "delimiter=semicolon,decimal=comma,encoding=utf-8-bom,dates=%d.%m.%Y"
    assert plait("stack", "t.csv", "--write", how, "--out", "o.csv").status == 0
    types = ("--type", "part=decimal:1.234,5", "--type", "day=date:%d.%m.%Y")
    again = ("--write", "decimal=point,dates=%Y-%m-%d", "--out", "again.csv")
    assert plait("mend", "o.csv", *types, *again).status == 0
    mended = plait_package.read("again.csv").to_dict()
    first = plait_package.read("t.csv").to_dict()
    for name in columns:
        there = [None if cell == "n/a" else cell for cell in first[name]]
        assert [cell or None for cell in mended[name]] == [cell or None for cell in there]


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("decimals=comma", "did you mean decimal"),
        ("delimiter=ab", "is no delimiter"),
        ("decimal=;", "is no decimal sign"),
        ("encoding=klingon", "nothing is written in"),
        ("dates=%Q", "no code %Q"),
        ("dates=today", "is not a date format"),
        ("places=-1", "is no number of decimal places"),
        ("", "nothing called ''"),
    ],
)
def test_what_cannot_be_meant_is_refused(text, says):
    with pytest.raises(UsageError) as refused:
        parse_text_format(text)
    assert says in str(refused.value)


def test_a_letter_that_the_encoding_lacks_ends_it_and_nothing_is_written(plait, put, tmp_path):
    put(t_csv="yard\nElm\nŁąka\n")
    ended = plait("stack", "t.csv", "--write", "encoding=windows-1252", "--out", "o.csv")
    assert ended.status == 4 and "'Ł' cannot be written in windows-1252" in ended.err
    assert not (tmp_path / "o.csv").exists()


def test_only_text_files_are_written_so(plait, put):
    put(t_csv="yard\nElm\n")
    ended = plait("stack", "t.csv", "--write", "decimal=comma", "--out", "o.parquet")
    assert ended.status == 2 and "only text files" in ended.err


def test_a_handover_is_written_so_described_so_and_compared_with_itself(plait, put, tmp_path):
    put(
        **{
            "v.csv": "hive,kg,seen\n1,1234.50,2031-04-30\n2,0.25,2031-05-02\n",
            "p.toml": '[source.v]\npath = "v.csv"\n[[step]]\nstack = "v"\ninto = "season"\n'
            '[handover]\nresult = "season"\nwrite = { delimiter = "semicolon", decimal = "comma", '
            'dates = "%d.%m.%Y", encoding = "utf-8-bom" }\n',
        }
    )
    assert plait("run", "p.toml").status == 0
    folder = tmp_path / "handover"
    text = (folder / "season.csv").read_text("utf-8-sig")
    assert text == "hive;kg;seen\n1;1234,50;30.04.2031\n2;0,25;02.05.2031\n"
    package = json.loads((folder / "datapackage.json").read_text())
    (resource,) = [one for one in package["resources"] if one["path"] == "season.csv"]
    assert resource["dialect"]["delimiter"] == ";" and resource["encoding"] == "utf-8"
    fields = {one["name"]: one for one in resource["schema"]["fields"]}
    assert fields["kg"]["decimalChar"] == "," and fields["seen"]["format"] == "%d.%m.%Y"
    again = plait("run", "p.toml", "--replace", "--again")
    assert again.status == 0 and "the same 2 rows" in again.err
    traced = plait("trace", "handover", "--row", "1", "--json").json
    assert [one["value"] for one in traced["rows"][0]["cells"]] == ["1", "1234,50", "30.04.2031"]
