"""A folder of monthly extracts as an office keeps it, from the first look to what is sent on."""

from __future__ import annotations

import csv
import io
import random
from decimal import Decimal

import pytest
from python_calamine import CalamineWorkbook

MONTHS = ("Januar", "Februar", "März", "April", "Mai", "Juni", "Juli", "August")
HEADS = ["Stand", "Stock", "Gesehen", "Honig kg", "Anteil"]
PLAN = """
title = "Besuche 2031"
[source.besuche]
path = "besuche"
label = { Monat = "{stem}" }
[source.staende]
path = "staende.csv"
[[step]]
stack = "besuche"
into = "alle"
[[step]]
join = ["alle", "staende"]
key = ["Stand"]
cardinality = "many-to-one"
into = "saison"
[[step]]
group = "saison"
by = ["Region"]
take = { Besuche = "count", Honig = "sum:Honig kg", Mittel = "mean:Honig kg" }
into = "regionen"
[expect]
series = { besuche = "2031-01 .. 2031-08" }
[handover]
results = ["saison", "regionen"]
formats = ["csv", "xlsx"]
write = { delimiter = "semicolon", decimal = "comma", encoding = "utf-8-bom" }
"""


def _rows(number, rows=30):
    rng = random.Random(number)
    return [
        [
            rng.choice(["Elm", "Oak", "Ash"]),
            f"{rng.randrange(1, 40):03}",
            f"{rng.randrange(13, 29)}. {MONTHS[number - 1]} 2031",
            f"{rng.randrange(0, 2000) / 100:.2f}".replace(".", ","),
            f".{rng.randrange(1, 1000):03}",
        ]
        for _ in range(rows)
    ]


def _text(rows):
    out = io.StringIO()
    csv.writer(out, delimiter=";", lineterminator="\r\n").writerows([HEADS, *rows])
    return out.getvalue().encode("cp1252")


@pytest.fixture
def office(put):
    """Eight months: March is missing, June is May's once more, August is short; and a register."""
    files = {n: _rows(n) for n in range(1, 9) if n != 3}
    files[6] = files[5]
    files[8] = files[8][:9]
    put(
        **{f"besuche/Besuche {MONTHS[n - 1]} 2031.csv": _text(rows) for n, rows in files.items()},
        **{
            "besuche/Thumbs.db": b"\xd0\xcf\x11\xe0",
            "staende.csv": "Stand,Region\nElm,Nord\nOak,Süd\n",
        },
        **{"p.toml": PLAN},
    )
    return files


def test_the_first_look_says_what_is_not_as_it_should_be(plait, office):
    found = plait("survey", "besuche", "--json")
    (shape,) = found.json["shapes"]
    assert shape["name"] == "Besuche"
    assert "2031-03" in found.finding("series-gap")["message"]
    assert "Besuche Juni 2031" in found.finding("series-repeat")["message"]
    assert found.finding("series-size")["count"] == 9
    outside = found.finding("series-outside")
    assert outside["count"] == 30 and "outside 2031-06" in outside["message"]
    (april,) = (one for one in found.json["profiles"] if "April" in one["source"])
    kinds = {name: one["kind"] for name, one in april["columns"].items()}
    assert kinds["Gesehen"] == "date:%d. %B %Y" and kinds["Stock"] == "text"
    assert kinds["Honig kg"] == "decimal:1.234,5" and kinds["Anteil"] == "decimal:.5"


def test_the_plan_waits_for_the_missing_month(plait, office, tmp_path):
    ended = plait("run", "p.toml")
    assert ended.status == 1 and not (tmp_path / "handover").exists()
    assert "missing 2031-03" in " ".join((ended.out + ended.err).split())


def test_what_is_sent_on_opens_with_the_cells_that_came_in(plait, put, office, tmp_path):
    office[3], office[6], office[8] = _rows(3), _rows(6), _rows(8)
    put(**{f"besuche/Besuche {MONTHS[n - 1]} 2031.csv": _text(office[n]) for n in (3, 6, 8)})
    ended = plait("run", "p.toml")
    assert ended.status == 0, ended.err
    every = [row for number in sorted(office) for row in office[number]]
    text = (tmp_path / "handover" / "saison.csv").read_text("utf-8-sig")
    heads, *rows = csv.reader(io.StringIO(text), delimiter=";")
    assert sorted(row[3] for row in rows) == sorted(row[3] for row in every)
    assert {row[heads.index("Monat")] for row in rows} == {f"Besuche {m} 2031" for m in MONTHS}
    book = CalamineWorkbook.from_path(str(tmp_path / "handover" / "saison.xlsx"))
    assert book.sheet_names == ["account", "saison", "regionen", "dictionary", "ledger"]
    regions = {row[0]: row[1:] for row in book.get_sheet_by_name("regionen").to_python()[1:]}
    for region, stand in (("Nord", "Elm"), ("Süd", "Oak"), ("", "Ash")):
        kg = [Decimal(row[3].replace(",", ".")) for row in every if row[0] == stand]
        assert regions[region][0] == len(kg)
        assert Decimal(str(regions[region][1])) == sum(kg)
        assert abs(Decimal(str(regions[region][2])) - sum(kg) / len(kg)) < Decimal("5.1e-7")
    audit = plait("keys", "besuche", "staende.csv", "--key", "Stand", "--json").json
    assert {one["name"] for one in audit["extracts"]} == {f"Besuche {m} 2031" for m in MONTHS}
    assert sum(one["unmatched_rows"] for one in audit["extracts"]) == sum(
        row[0] == "Ash" for row in every
    )
