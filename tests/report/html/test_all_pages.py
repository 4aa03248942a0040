"""What holds of every page: nothing hostile runs, everything is shown, everybody can use it."""

from __future__ import annotations

import csv
import json

import pytest

from registers import registers
from servers import library

EVIL = "<script>document.title='run'</script>"
CELLS = [
    EVIL,
    f"</script>{EVIL}",
    '"><img src=x onerror="document.title=\'run\'">',
    "{{ 7 * 7 }} {% for %}",
    "<!-- <script>",
    "]]>",
    "&lt;b&gt;&amp;",
    "' onmouseover='document.title=\"run\"",
    "\u202egnp.exe\u202c",
    "zero\u200bwidth",
    "tab\there",
    "line\nbreak",
    "javascript:document.title='run'",
    "L" * 10_000,
    "\u2028\u2029",
    "😀 ä 中文字",
    "\\u003c/script>",
    "a\x07b",
]
# What of them is seen where signs are written out that are not seen.
HIDDEN = ("gnp.exe", "⟨U+202E⟩", "⟨U+200B⟩", "⟨U+0007⟩")


def _write(path, heads: list[str], rows: list[list[str]]) -> None:
    with path.open("w", newline="", encoding="utf-8") as file:
        csv.writer(file).writerows([heads, *rows])


def _registers(folder) -> list[str]:
    """Two registers whose key and towns mean harm."""
    paths = [folder / "people.csv", folder / "payers.csv"]
    for path, columns in zip(paths, registers(9, 60)[:2], strict=True):
        towns = [f"{town}{EVIL}" for town in columns["town"]]
        cells = [columns["n"], columns["name"], columns["born"], towns]
        _write(path, [EVIL, "name", "born", "town"], list(zip(*cells, strict=True)))
    return [str(path) for path in paths]


@pytest.fixture
def pages(tmp_path, plait):
    """Each kind of page, made of names and cells that mean harm."""
    heads = ["Key " + EVIL, "\u202eB\u202c", "C </style></script>", "L" * 300]
    several = [CELLS[at:] + CELLS[:at] for at in (0, 3, 7)]
    rows = [[*cells, str(at)] for at, cells in enumerate(zip(*several, strict=True))]
    (tmp_path / "in").mkdir()
    left, right = tmp_path / "in" / "le <b>ft&.csv", tmp_path / "in" / "ri'gh\"t.csv"
    _write(left, heads, [*rows, rows[0]])
    _write(right, heads, [[one[:-1] + "!", *more] for one, *more in rows[:9]] + rows[9:])
    key = f'"{heads[0]}"'
    right_name = json.dumps(f"r{EVIL}")
    (tmp_path / "p.toml").write_text(
        f"""
title = {json.dumps(EVIL)}
[source.left]
path = 'in/le*.csv'
[source.{right_name}]
path = 'in/ri*.csv'
[[step]]
stack = 'left'
distinct = true
[[step]]
join = ['left', {right_name}]
key = [{json.dumps(key)}]
kind = 'inner'
into = 'season'
[handover]
result = 'season'
[describe]
{json.dumps(heads[1])} = {json.dumps(EVIL)}
"""
    )
    for words in (
        ["survey", left, right, "--report", "survey.html"],
        ["keys", left, right, "--key", key, "--report", "keys.html"],
        ["compare", left, right, "--key", key, "--report", "compare.html"],
        ["join", left, right, "--key", key, "--out", "joined.csv", "--report", "join.html"],
        [
            "keys",
            *_registers(tmp_path),
            "--key",
            f'"{EVIL}"',
            "--report",
            "pairs.html",
            "--evidence",
            "name,born,town",
            "--accept",
            "99%",
        ],
        ["run", "p.toml"],
    ):
        ended = plait(*words, "--quiet")
        assert ended.status == 0, ended.err
    return {
        **{name: tmp_path / f"{name}.html" for name in ("survey", "keys", "compare", "join")},
        "pairs": tmp_path / "pairs.html",
        "handover": tmp_path / "handover" / "report.html",
    }


@pytest.mark.slow
def test_nothing_hostile_runs_and_all_of_it_is_shown(pages, opened):
    for name, path in pages.items():
        page = opened(path)
        for one in page.locator("summary").all():
            one.evaluate("one => { one.parentElement.open = true; }")
        if name == "survey":
            page.locator(".rows-chosen").first.scroll_into_view_if_needed()
            page.locator(".listed").first.wait_for()
            page.evaluate(
                "[...document.querySelectorAll('.listed button')].forEach(one => one.click())"
            )
            text = page.locator(".listed").first.text_content()
            assert all(cell in text for cell in CELLS if not set("\u202e\u200b\x07") & set(cell))
            assert all(word in text for word in HIDDEN)
        for at in range(page.locator("button[data-behind]").count()):
            page.evaluate(f"document.querySelectorAll('button[data-behind]')[{at}].click()")
            assert page.locator("dialog").count() == 1
            page.keyboard.press("Escape")
            page.locator("dialog").wait_for(state="detached")
        assert page.title() != "run", name
        shown = page.evaluate("document.body.textContent")
        assert "document.title='run'" in shown, f"{name} hides what was there"
        assert (
            page.locator("img").count() == 0
            and page.locator("body b:empty:not([style])").count() == 0
        )


@pytest.mark.slow
@pytest.mark.parametrize("scheme", ["light", "dark"])
def test_no_serious_fault_of_accessibility(pages, opened, scheme):
    axe = library("axe_playwright_python.sync_playwright").Axe()
    # What colours there are is on two of them.
    names = pages if scheme == "light" else ("survey", "keys", "pairs")
    for name, path in ((name, pages[name]) for name in names):
        width = 1280 if scheme == "light" else 400
        page = opened(
            path, color_scheme=scheme, viewport={"width": width, "height": 900}, bypass_csp=True
        )
        page.evaluate("document.querySelectorAll('details').forEach(one => { one.open = true; })")
        if name == "survey":
            page.evaluate("document.querySelector('.value').click()")
        page.wait_for_timeout(50)
        found = axe.run(page.page).response["violations"]
        bad = [
            (one["id"], [node["html"][:160] for node in one["nodes"][:3]])
            for one in found
            if one["impact"] in ("serious", "critical")
        ]
        assert bad == [], (name, bad)


@pytest.mark.slow
def test_a_phone_is_wide_enough(pages, opened):
    for name, path in pages.items():
        page = opened(path, viewport={"width": 400, "height": 800})
        wide = page.evaluate("document.documentElement.scrollWidth")
        assert wide <= 400, (name, wide)
