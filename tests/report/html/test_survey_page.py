"""What is chosen on the page of a survey, against counting in plain Python."""

from __future__ import annotations

import csv
import os
import random
import re
import subprocess
import sys
from datetime import date, timedelta
from decimal import Decimal
from pathlib import Path

import pytest

from conftest import rows_of

pytestmark = pytest.mark.slow

YARDS = ["ALD", "BRK", 'O\'Hara "x"', " CUL", "ä,;\n2", "NULL", "1e3"]


def _table(number: int, rows: int) -> dict[str, list[str]]:
    """Columns as an office has them: text, numbers, dates, truths, gaps, markers."""
    rng = random.Random(number)
    some = lambda make, gaps: [make() if rng.random() > gaps else "" for _ in range(rows)]  # noqa: E731
    return {
        "Yard": some(lambda: rng.choice(YARDS), 0.1),
        'kg "net"': some(
            lambda: rng.choice(["12.50", "12.5", f"{rng.random() * 30:.2f}", "NA"]), 0.2
        ),
        "Day": some(lambda: str(date(2031, 3, 1) + timedelta(rng.randrange(60))), 0.05),
        "Seen": some(lambda: rng.choice(["true", "false"]), 0.1),
        "Count": some(lambda: str(rng.randrange(-5, 9)), 0.0),
        "id": [f"{n:05}" for n in range(rows)],
    }


def _write(path, columns: dict[str, list[str]]) -> None:
    with path.open("w", newline="", encoding="utf-8") as file:
        out = csv.writer(file)
        out.writerow(columns)
        out.writerows(zip(*columns.values(), strict=True))


def _value(name: str, text: str):
    """A cell as its column means it; None where it counts as missing."""
    if not text or (text == "NA" and name.startswith("kg")):
        return None
    if name.startswith("kg"):
        return Decimal(text)
    return int(text) if name == "Count" else date.fromisoformat(text) if name == "Day" else text


_SAID = """family => {
  const section = document.querySelectorAll(".family")[family];
  const text = one => one.querySelector(".rows").textContent;
  const rows = one => Number(text(one).split(" of ")[0].replaceAll(",", ""));
  const bars = one => [...one.querySelectorAll(".value")].map(bar => [bar.title, rows(bar)]);
  const name = one => one.querySelector("strong").textContent;
  const fields = [...section.querySelectorAll(".field")].map(one => [name(one), bars(one)]);
  return [section.querySelector("[role=status]").textContent, Object.fromEntries(fields)];
}"""


def _said(page, family: int = 0) -> tuple[int, dict[str, list[tuple[str, int]]]]:
    """The rows chosen, and of each field its bars with the rows chosen of each."""
    status, fields = page.evaluate(_SAID, family)
    return int(status.split(" of ")[0].replace(",", "")), fields


def _bins(page, name: str) -> list[tuple[str, str, int]]:
    """Of a spread the ends of each stretch and the rows chosen of it."""
    field = page.locator(".field").filter(
        has=page.locator("strong", has_text=re.compile(f"^{re.escape(name)}$"))
    )
    made = []
    for one in field.locator(".bins button").all():
        found = re.fullmatch(
            r"from (\S+) to (\S+): ([\d,]+) (?:of|row).*", one.get_attribute("title")
        )
        if found:
            made.append((found[1], found[2], int(found[3].replace(",", ""))))
    return made


@pytest.fixture
def surveyed(tmp_path, plait, opened):
    def do(*sources: str, **how):
        ended = plait("survey", *sources, "--report", "s.html", "--quiet", "--replace")
        assert ended.status == 0, ended.err
        return opened(tmp_path / "s.html", **how)

    return do


@pytest.mark.parametrize("number", range(3))
def test_a_choice_is_counted_in_every_field_and_its_expression_gives_its_rows(
    number, surveyed, tmp_path, plait
):
    columns = _table(number, 400)
    _write(tmp_path / "visits.csv", columns)
    page = surveyed("visits.csv")
    rng = random.Random(number)
    records = [
        dict(zip(columns, cells, strict=True)) for cells in zip(*columns.values(), strict=True)
    ]
    tests = {}

    yard = page.locator(".field").nth(0)
    picked = rng.sample(range(yard.locator(".value").count()), 2)
    names = []
    for at in picked:
        yard.locator(".value").nth(at).click()
        names.append(yard.locator(".value").nth(at).get_attribute("title"))
    tests["Yard"] = lambda one: (one["Yard"] or "missing") in names

    kg = page.locator(".field").nth(1).locator(".bins button")
    first = rng.randrange(4)
    kg.nth(first).focus()
    page.keyboard.press("Enter")
    for _ in range(6):
        page.keyboard.press("Shift+ArrowRight")
    ends = [
        re.search(r"from (\S+) to (\S+):", kg.nth(at).get_attribute("title"))
        for at in range(first, first + 7)
    ]
    ends = [found for found in ends if found]
    low, high = Decimal(ends[0][1]), Decimal(ends[-1][2])
    kilos = lambda one: _value('kg "net"', one['kg "net"'])  # noqa: E731
    tests["kg"] = lambda one: kilos(one) is not None and low <= kilos(one) <= high
    every = number != 1
    if not every:
        page.locator(".joint").click()
    wanted = [
        one for one in records if (all if every else any)(test(one) for test in tests.values())
    ]

    count, fields = _said(page)
    assert count == len(wanted)
    for name, bars in fields.items():
        for text, rows in bars:
            cells = [one[name] for one in wanted]
            if text == "missing":
                assert rows == sum(_value(name, cell) is None for cell in cells), name
            else:
                assert rows == cells.count(text), (name, text)
    for name in ("Day", "Count", 'kg "net"'):
        kind = type(_value(name, next(filter(None, columns[name]))))
        made = date.fromisoformat if kind is date else kind
        for start, end, rows in _bins(page, name):
            values = [_value(name, one[name]) for one in wanted]
            assert rows == sum(
                value is not None and made(start) <= value <= made(end) for value in values
            )

    where = page.locator(".where code").text_content()
    ended = plait("mend", "visits.csv", "--where", where, "--out", "chosen.csv", "--replace")
    assert ended.status == 0, ended.err
    assert [one["id"] for one in rows_of(tmp_path / "chosen.csv")] == [one["id"] for one in wanted]
    page.locator(".rows-chosen").scroll_into_view_if_needed()
    page.locator(".rows-chosen h3", has_text=f" {len(wanted)} of 400 rows").wait_for()
    listed = page.locator(".listed tbody tr")
    assert listed.count() == min(len(wanted), 200)
    shown = page.locator(".listed tbody tr td:last-child").all_text_contents()
    assert shown == [one["id"] for one in wanted][:200]


def test_a_source_a_truth_and_a_day_are_chosen_by_words_and_the_command_gives_their_rows(
    surveyed, tmp_path, plait
):
    for number, month in enumerate(("may", "june")):
        _write(tmp_path / f"{month}.csv", _table(number + 7, 120))
    page = surveyed("may.csv", "june.csv")
    page.locator(".field").nth(0).locator(".value", has_text="june").click()
    page.locator(".field", has=page.locator("strong", has_text="Seen")).locator(
        ".value", has_text="true"
    ).click()
    day = page.locator(".field", has=page.locator("strong", has_text="Day"))
    day.locator("button.plain").click()
    page.get_by_label("Find a value").fill("2031-03")
    page.locator("dialog .value").nth(2).click()
    chosen_day = page.locator("dialog .value").nth(2).get_attribute("title")
    page.keyboard.press("Escape")
    june = [
        dict(zip(_table(8, 120), cells, strict=True))
        for cells in zip(*_table(8, 120).values(), strict=True)
    ]
    wanted = [one["id"] for one in june if one["Seen"] == "true" and one["Day"] == chosen_day]
    assert _said(page)[0] == len(wanted) > 0
    assert page.locator(".chip").all_text_contents() == [
        "source is june",
        f"Day is {chosen_day}",
        "Seen is true",
    ]
    command = page.locator(".where button").nth(1).get_attribute("title")
    path = f"{Path(sys.executable).parent}{os.pathsep}{os.environ['PATH']}"
    ended = subprocess.run(
        ["bash", "-c", command], cwd=tmp_path, capture_output=True, text=True,
        env={**os.environ, "PATH": path},
    )  # fmt: skip
    assert ended.returncode == 0, ended.stderr
    assert [line["id"] for line in csv.DictReader(ended.stdout.splitlines())] == wanted
    page.locator(".chip").nth(0).click()
    assert page.locator(".chip").count() == 2
    page.get_by_role("button", name="clear all").click()
    assert page.locator(".words").is_hidden() and page.locator(".value b").count() > 0


def test_two_fields_against_each_other_are_counted_and_a_cell_chooses_both(surveyed, tmp_path):
    columns = _table(3, 300)
    _write(tmp_path / "visits.csv", columns)
    page = surveyed("visits.csv")
    page.get_by_text("Cross-tabulate two fields").click()
    page.get_by_label("Down").select_option(label="Yard")
    page.get_by_label("Across").select_option(label="Seen")
    pairs = list(zip(columns["Yard"], columns["Seen"], strict=True))
    cells = page.locator(".against td button").all()
    seen = 0
    for one in cells:
        yard, truth = one.get_attribute("title").rsplit(", ", 1)
        wanted = pairs.count(
            ("" if yard == "missing" else yard, "" if truth == "missing" else truth)
        )
        text = one.text_content()
        assert (0 if text == "·" else int(text)) == wanted
        seen += wanted
    assert seen == 300
    page.get_by_label("Down").select_option(label="id")
    others = page.locator(".against tr", has_text="289 others").locator("button").all()
    assert others and all(one.is_disabled() for one in others), "they cannot be chosen as one"
    page.get_by_label("Down").select_option(label="Yard")
    cells = page.locator(".against td button").all()
    yard, truth = cells[0].get_attribute("title").rsplit(", ", 1)
    wanted = int(cells[0].text_content())
    cells[0].click()
    assert _said(page)[0] == wanted


def test_above_its_size_the_page_works_on_a_sample_and_says_so(surveyed, tmp_path, monkeypatch):
    from plait.core.operations.survey import survey
    from plait.io.read import read_source
    from plait.io.sources import find_sources
    from plait.report.html import survey_data

    _write(tmp_path / "visits.csv", _table(4, 3000))
    table = read_source(find_sources([str(tmp_path / "visits.csv")])[0])
    monkeypatch.setattr(survey_data, "MOST_CELLS", 17_999)
    monkeypatch.setattr(survey_data, "SAMPLED_CELLS", 6000)
    assert survey_data.pack_survey_rows(survey([table])).rows == (1000,)
    monkeypatch.setattr(survey_data, "MOST_CELLS", 10**9)
    monkeypatch.setattr(survey_data, "MOST_LETTERS", 20_000)
    monkeypatch.setattr(survey_data, "SAMPLED_CELLS", 10**9)
    monkeypatch.setattr(survey_data, "SAMPLED_LETTERS", 20_000)
    made = survey_data.pack_survey_rows(survey([table]))
    assert len(made.packed) <= 20_000 and 200 <= made.rows[0] < 3000


def test_the_page_is_what_it_was_without_script(surveyed, tmp_path):
    _write(tmp_path / "visits.csv", _table(5, 50))
    page = surveyed("visits.csv", script=False)
    assert (
        page.locator(".field .common .bar").count() and page.locator(".field .spread span").count()
    )
    assert page.locator(".words").count() == 0


FORMS = {
    "comma": (lambda n: f"{n // 7},{n % 7}0", lambda text: Decimal(text.replace(",", "."))),
    "thousands": (lambda n: f"{1000 + n * 37:,}.50", lambda text: Decimal(text.replace(",", ""))),
    "percent": (lambda n: f"{n % 23} %", lambda text: int(text[:-2])),
    "german": (
        lambda n: f"{n % 28 + 1}.{n % 11 + 1}.2031",
        lambda text: tuple(map(int, text.split(".")[::-1])),
    ),
    "clock": (lambda n: f"{n % 24:02}:{n % 60:02}", lambda text: tuple(map(int, text.split(":")))),
    "moment": (lambda n: f"2031-03-{n % 28 + 1:02} {n % 24:02}:00:05", str),
    "yes": (lambda n: "yes" if n % 3 else "no", str),
    "negative": (lambda n: str(n - 40), int),
    "tiny": (lambda n: f"0.{n:07}", Decimal),
    "long": (lambda n: f"{n}2345678901234567890.25", Decimal),
    "plus": (lambda n: f"+{n}", str),
    "zeros": (lambda n: f"{n:03}", str),
}


@pytest.mark.slow
def test_the_expression_means_what_was_chosen_however_values_are_written(surveyed, tmp_path, plait):
    rng = random.Random(5)
    columns = {
        name: [make(rng.randrange(90)) for _ in range(200)] for name, (make, _) in FORMS.items()
    }
    columns["id"] = [f"r{n}" for n in range(200)]
    _write(tmp_path / "visits.csv", columns)
    page = surveyed("visits.csv")
    for at, (name, (_, read)) in enumerate(FORMS.items()):
        field = page.locator(".field").nth(at)
        if field.locator(".bins").count():
            found = None
            while not found:
                bar = field.locator(".bins button").nth(rng.randrange(12))
                found = re.search(r"from (.+) to (.+): ", bar.get_attribute("title"))
            low, high = read(found[1]), read(found[2])
            wanted = [n for n, text in enumerate(columns[name]) if low <= read(text) <= high]
        else:
            bar = field.locator(".value").nth(0)
            wanted = [
                n for n, text in enumerate(columns[name]) if text == bar.get_attribute("title")
            ]
        bar.evaluate("one => one.click()")
        assert _said(page)[0] == len(wanted) > 0, name
        where = page.locator(".where code").text_content()
        ended = plait("mend", "visits.csv", "--where", where, "--out", "chosen.csv", "--replace")
        assert ended.status == 0, ended.err
        assert [one["id"] for one in rows_of(tmp_path / "chosen.csv")] == [
            f"r{n}" for n in wanted
        ], (name, where)
        page.locator(".chip").evaluate("one => one.click()")


ODD = {
    "none.csv": "a,b\n",
    "gaps.csv": "a\n\n\n",
    "nested.json": '[{"a":{"b":[1,2]},"c":null},{"a":{"b":[]},"c":true}]',
    "one.csv": "a\n7\n",
    "floats.jsonl": '{"f":1e300}\n{"f":-1e300}\n{"f":0.1}\n',
}


@pytest.mark.parametrize("name", ODD)
def test_there_is_a_page_of_any_table(name, surveyed, tmp_path):
    (tmp_path / name).write_text(ODD[name])
    page = surveyed(name)
    assert page.locator(".field").count() >= 1
    page.evaluate("document.querySelectorAll('.value, .bins button').forEach(one => one.click())")


def test_a_stretch_is_drawn_over_with_the_mouse(surveyed, tmp_path):
    columns = _table(6, 200)
    _write(tmp_path / "visits.csv", columns)
    page = surveyed("visits.csv")
    bins = page.locator(".field").nth(4).locator(".bins")  # Count, from -5 to 8
    bins.scroll_into_view_if_needed()
    box = bins.bounding_box()
    at = lambda bin_: (box["x"] + box["width"] * (bin_ + 0.5) / 14, box["y"] + 20)  # noqa: E731
    page.mouse.move(*at(3))
    page.mouse.down()
    page.mouse.move(*at(5))
    page.mouse.move(*at(7))
    page.mouse.up()
    assert page.locator(".chip").all_text_contents() == ["Count from -2 to 2"]
    wanted = sum(-2 <= int(cell) <= 2 for cell in columns["Count"])
    assert _said(page)[0] == wanted
