"""The second example: it fails on what it expects, is mended, and serves every month."""

from __future__ import annotations

import json
import re
import shutil
import subprocess
import sys
from decimal import Decimal
from pathlib import Path

import pytest

from conftest import rows_of

pytestmark = pytest.mark.slow

EXAMPLE = Path(__file__).parents[2] / "examples" / "ferries"


@pytest.fixture
def ferries(tmp_path):
    """A small fleet's files, and the plan."""
    subprocess.run([sys.executable, EXAMPLE / "make.py", tmp_path, "--crossings", "12"], check=True)
    shutil.copy(EXAMPLE / "ferries.toml", tmp_path)
    return tmp_path / "ferries.toml"


def _mended(plan: Path) -> None:
    text = plan.read_text()
    text = re.sub(r"^# (\[\[step\]\] |mend|replace_value)", r"\1", text, flags=re.MULTILINE)
    plan.write_text(text)


def test_the_old_names_are_found_mended_and_the_month_is_handed_over(plait, ferries):
    ended = plait("run", "ferries.toml", "--json")
    assert ended.status == 1
    (failing,) = [one for one in ended.json["expected"] if not one["holds"]]
    assert failing["what"] == "at most 0 unmatched rows in paid"
    assert "Heron 2" in failing["examples"][0]["text"]
    _mended(ferries)
    ended = plait("run", "ferries.toml")
    assert ended.status == 0, ended.err
    assert plait("run", "ferries.toml", "--set", "month=2032-05", "--replace").status == 0
    rows = rows_of(ferries.parent / "handover" / "month.csv")
    assert {row["Day"][:7] for row in rows} == {"2032-05"} and len(rows) == 12 * 31
    assert (
        json.loads((ferries.parent / "handover" / "ledger.json").read_text())["plan"]["title"]
        == "Ferries, 2032-05"
    )


def test_its_figures_are_those_of_the_files(plait, ferries):
    _mended(ferries)
    assert plait("run", "ferries.toml", "--quiet").status == 0
    folder = ferries.parent
    rows = {(row["Boat"], row["Day"]): row for row in rows_of(folder / "handover" / "month.csv")}
    taken: dict[tuple[str, str, str], Decimal] = {}
    names = {"Heron II": "Heron 2", "King Fisher": "Kingfisher"}
    for row in rows_of(folder / "takings" / "2032-04.csv"):
        key = (names.get(row["Boat"], row["Boat"]), row["Day"], row["Class"])
        taken[key] = taken.get(key, Decimal(0)) + Decimal(row["Taken"])
    assert len(taken) == 3 * len(rows)
    for (boat, day, kind), total in taken.items():
        assert Decimal(rows[boat, day][kind]) == total
    crossings = [
        row for path in (folder / "crossings" / "2032-04").iterdir() for row in rows_of(path)
    ]
    for (boat, day), row in rows.items():
        mine = [one for one in crossings if one["Boat"] == boat and one["Departed"][:10] == day]
        assert int(row["Crossings"]) == len(mine)
        carried = [int(one["Foot"]) + int(one["Cycles"]) + 2 * int(one["Cars"]) for one in mine]
        assert (int(row["Carried"]), int(row["Busiest"])) == (sum(carried), max(carried))
    seats = {row["Boat"]: row for row in rows_of(folder / "boats" / "office.csv")}
    for yard in rows_of(folder / "boats" / "yard.csv"):
        boat = next(name for name in seats if name.upper() == yard["Boat"])
        row = next(row for (name, _), row in rows.items() if name == boat)
        assert row["Seats"] == str(max(int(yard["Seats"]), int(seats[boat]["Seats"])))
        assert row["Surveyed"] == yard["Surveyed"]
