"""The report of a handover: its picture, the rows behind its numbers, its findings and tables."""

from __future__ import annotations

import csv
import re
from urllib.parse import unquote

import pytest

from conftest import rows_of

pytestmark = pytest.mark.slow

PLAN = """
title = "Season"
[source.visits]
path = "visits/*.csv"
[source.hives]
path = "hives.csv"
[[step]]
stack = "visits"
distinct = true
into = "every visit"
[[step]]
settle = "hives"
key = "Hive"
[[step]]
join = ["every visit", "hives"]
key = "Hive"
kind = "KIND"
into = "season"
[handover]
result = "season"
"""


@pytest.fixture
def handed(tmp_path, plait, opened):
    """The report of a plan with months, repeats, conflicts and rows without a match."""

    def do(months: int = 3, kind: str = "left", rows: int = 300, **how):
        (tmp_path / "visits").mkdir()
        for month in range(1, months + 1):
            lines = [f"{number % 250},{month}.{number}" for number in range(rows)]
            (tmp_path / "visits" / f"2031-{month:02}.csv").write_text(
                "\n".join(["Hive,kg", *lines, lines[0]]) + "\n"
            )
        hives = [f"{number},Carnica" for number in range(20, 250)]
        hives = ["Hive,Breed", *hives, "30,Buckfast", "900,Carnica"]
        (tmp_path / "hives.csv").write_text("\n".join(hives) + "\n")
        (tmp_path / "p.toml").write_text(PLAN.replace("KIND", kind))
        ended = plait("run", "p.toml", "--quiet")
        assert ended.status == 0, ended.err
        return opened(tmp_path / "handover" / "report.html", **how)

    return do


def _listed(page) -> list[list[str]]:
    return page.evaluate(
        "[...document.querySelectorAll('dialog tbody tr')]"
        ".map(row => [...row.cells].map(one => one.textContent))"
    )


@pytest.mark.slow
@pytest.mark.parametrize("kind", ["left", "inner"])
def test_every_number_opens_the_rows_that_it_counts(handed, tmp_path, kind):
    page = handed(kind=kind)
    asides = {path.name: rows_of(path) for path in (tmp_path / "handover" / "aside").iterdir()}
    names = page.evaluate(
        "[...document.querySelectorAll('button[data-behind]')].map(one => one.textContent)"
    )
    assert len(names) >= 12
    checked = set()
    page.evaluate("document.querySelectorAll('details').forEach(one => { one.open = true; })")
    for at in range(len(names)):
        button = page.locator("button[data-behind]").nth(at)
        count = int(
            re.search(r"[\d,]+", button.text_content().replace("−", ""))[0].replace(",", "")
        )
        if len(button.get_attribute("data-behind").split()) > 1:
            continue
        button.click()
        text = page.locator("dialog p").first.text_content()
        shown = _listed(page)
        whole = re.search(r"(?:of|All) ([\d,]+)", text)
        conflicts = "conflict" in page.locator("dialog h2").first.text_content()
        assert int(whole[1].replace(",", "")) == count or conflicts, text
        assert len(shown) == min(200, int(whole[1].replace(",", "")))
        link = page.locator("dialog a")
        if link.count():
            name = unquote(link.get_attribute("href")).removeprefix("aside/")
            reason = page.locator("dialog h2").first.text_content().partition(": ")[2]
            rows = [
                one for one in asides[name] if "reason" not in one or one["reason"] == reason
            ] or asides[name]
            assert [[cell or "(missing)" for cell in one.values()] for one in rows][:200] == shown
            checked.add(name)
        page.keyboard.press("Escape")
        page.locator("dialog").wait_for(state="detached")
    assert len(checked) >= 4, checked


def test_the_picture_leads_to_every_part_and_opens_its_bands(handed, tmp_path):
    page = handed()
    links = page.evaluate(
        "[...document.querySelectorAll('.closed svg a')].map(one => one.getAttribute('href'))"
    )
    assert (
        "#step-1" in links
        and "#step-3" in links
        and "#source-hives" in links
        and "#columns" in links
    )
    for link in links:
        if link.startswith("#"):
            assert page.locator(f"[id='{link[1:]}']").count() == 1, link
        else:
            assert (tmp_path / "handover" / unquote(link)).is_file()
    page.locator(".closed svg a[href='#step-3'] rect").click()
    assert page.locator("#step-3 table").is_visible()
    assert not page.locator("#step-1 table").is_visible()
    page.get_by_role("button", name="Show all 4 sources separately").click()
    assert page.locator(".closed").is_hidden()
    words = page.locator(".opened svg text").all_text_contents()
    assert {"2031-01", "2031-02", "2031-03"} <= set(words)
    page.get_by_role("button", name="Show all 4 sources separately").click()
    assert page.locator(".closed").is_visible()


_BOXES = """() => [...document.querySelectorAll('.opened svg text')].map(one => {
  const box = one.getBoundingClientRect(), all = one.closest('svg').getBoundingClientRect();
  const four = ({ left, top, right, bottom }) => [left, top, right, bottom];
  return [one.textContent, ...four(box), ...four(all)];
})"""


def test_forty_sources_can_be_read_and_no_word_is_cut_or_covers_another(handed, tmp_path):
    page = handed(months=40, rows=3)
    page.get_by_role("button", name="separately").click()
    boxes = page.evaluate(_BOXES)
    assert sum(text.startswith("2031-") for text, *_ in boxes) == 40
    for number, (text, left, top, right, bottom, *svg) in enumerate(boxes):
        assert svg[0] <= left and svg[1] <= top and right <= svg[2] and bottom <= svg[3], text
        for other, left2, top2, right2, bottom2, *_ in boxes[:number]:
            apart = right <= left2 or right2 <= left or bottom - 3 <= top2 or bottom2 - 3 <= top
            assert apart, (text, other)


def test_findings_are_filtered_by_what_they_are_about(handed):
    page = handed()
    every = page.evaluate(
        "[...document.querySelectorAll('#told .finding')].map(one => ({...one.dataset}))"
    )
    for name in ("severity", "code", "step", "source"):
        select = page.locator(f"select[data-of={name}]")
        values = {one[name] for one in every if one[name]}
        if len(values) < 2:
            continue
        for value in values:
            select.select_option(value)
            assert page.locator("#told .finding:visible").count() == sum(
                one[name] == value for one in every
            )
        select.select_option("")
    steps = {one["step"] for one in every}
    assert any("settle" in step for step in steps) and any("join" in step for step in steps)


def test_tables_are_sorted_as_numbers_and_searched(handed):
    page = handed(months=14, rows=3)
    table = page.locator("table.long").filter(has_text="SHA-256").first
    head = table.locator("thead button", has_text="Name")
    head.click()
    head.click()
    names = table.locator("tbody th").all_text_contents()
    assert names == sorted(names, reverse=True)
    page.locator("#sources ~ input.find").first.fill("2031-07")
    assert table.locator("tbody tr:visible").count() == 1


def test_without_script_the_report_is_whole(handed, tmp_path):
    page = handed(script=False)
    assert page.locator("svg a").count() >= 8
    page.locator("summary").filter(has_text="join").first.click()
    ledger = page.locator("#step-3 tbody tr").all_text_contents()
    said = next(csv.reader([ledger[0]]))
    assert said and page.locator("button").count() == 0


def test_a_plan_without_steps_has_its_picture_too(tmp_path, put, plait, opened):
    put(a_csv="k\n1\n2\n")
    (tmp_path / "p.toml").write_text(
        '[source.a]\npath = "a.csv"\n[handover]\nresult = "a"\nfolder = "all"\n'
    )
    for words in (["run", "p.toml"], ["run", "p.toml", "--replace", "--figure", "p.svg"]):
        assert plait(*words, "--quiet").status == 0
    page = opened(tmp_path / "all" / "report.html")
    assert page.locator("svg a[href='#source-a']").count() == 1
    assert page.get_by_text("The plan has no steps").is_visible()
