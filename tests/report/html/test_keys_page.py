"""Keys settled by hand on the page, saved, loaded again, and joined with."""

from __future__ import annotations

import csv
import io
import shlex

import pytest

from conftest import rows_of
from registers import registers_as_csv

pytestmark = pytest.mark.slow

LEFT = """Yard,Hive,kg
Elm Road,1,2.5
Elm Raod,2,3
"Oak, ""old"" St",3,4
 Fen Lane,4,5
Birchh,5,6
Unlike Anything,6,7
Ash,7,8
"""
RIGHT = """Yard,Hive,kg
Elm Road,1,9
Elm Road,2,8
"Oak, ""old"" Street",3,7
Fen Lane,4,5
Birch,5,4
Birchy,5,3
Zzz,9,1
Ash,7,8
"""


@pytest.fixture
def audited(tmp_path, put, plait, opened):
    """The page of an audit of two tables."""

    def do(*more: str, left: str = LEFT, right: str = RIGHT, key: str = "Yard,Hive"):
        put(left_csv=left, right_csv=right)
        ended = plait(
            "keys",
            "left.csv",
            "right.csv",
            "--key",
            key,
            "--report",
            "k.html",
            "--quiet",
            "--replace",
            *more,
        )
        assert ended.status == 0, ended.err
        return opened(tmp_path / "k.html")

    return do


def _saved(page, path) -> list[dict[str, str]]:
    with page.expect_download() as waited:
        page.get_by_role("button", name="save pairs.csv").click()
    assert waited.value.suggested_filename == "pairs.csv"
    waited.value.save_as(path)
    return rows_of(path)


def _joined(plait, tmp_path) -> dict[str, str]:
    ended = plait(
        "join",
        "left.csv",
        "right.csv",
        "--key",
        "Yard,Hive",
        "--pairs",
        "pairs.csv",
        "--out",
        "j.csv",
        "--replace",
    )
    assert ended.status == 0, ended.err
    return {row["Yard"]: row["right.kg"] or "" for row in rows_of(tmp_path / "j.csv")}


def test_pairs_settled_by_mouse_are_saved_loaded_again_and_joined_with(audited, tmp_path, plait):
    page = audited()
    assert page.locator(".pair").count() == 5
    raod = page.locator(".pair").filter(has_text="Elm Raod")
    assert raod.locator("mark").all_text_contents() == ["o", "o"] or raod.locator("mark").count()
    raod.get_by_role("button", name="accept").click()
    birch = page.locator(".pair").filter(has_text="Birchh")
    choice = birch.get_by_label("Matching key")
    labels = choice.locator("option").all_text_contents()
    other = next(one for one in labels if one.startswith("Birchy"))
    choice.select_option(label=other)
    page.locator(".pair").filter(has_text="Oak").get_by_role("button", name="reject").click()
    lonely = page.locator(".pair").filter(has_text="Unlike Anything")
    lonely.get_by_label("Another key").fill("Zzz, 9")
    lonely.get_by_label("Another key").press("Enter")
    assert page.get_by_text("3 accepted, 1 rejected, 1 open").count() == 1

    rows = _saved(page, tmp_path / "pairs.csv")
    used = {row["left Yard"]: row["right Yard"] for row in rows if row["use"] == "yes"}
    assert used == {"Elm Raod": "Elm Road", "Birchh": "Birchy", "Unlike Anything": "Zzz"}
    assert {row["decided"] for row in rows if row["left Yard"].startswith("Oak")} == {"rejected"}
    found = _joined(plait, tmp_path)
    assert found["Elm Raod"] == "8" and found["Birchh"] == "3" and found["Unlike Anything"] == "1"
    assert found['Oak, "old" St'] == "" and found[" Fen Lane"] == ""

    page.reload()
    page.wait_for_selector("html[data-ready]")
    assert page.get_by_text("3 accepted, 1 rejected, 1 open").count() == 1, (
        "a reload forgets nothing"
    )
    page.evaluate("localStorage.clear()")
    page.reload()
    page.wait_for_selector("html[data-ready]")
    assert page.get_by_text("0 accepted, 0 rejected, 5 open").count() == 1
    page.get_by_label("Load a saved pairs.csv").set_input_files(tmp_path / "pairs.csv")
    page.get_by_text("pairs.csv: 3 accepted, 1 rejected").wait_for()
    assert page.get_by_text("3 accepted, 1 rejected, 1 open").count() == 1
    before = (tmp_path / "pairs.csv").read_bytes()
    _saved(page, tmp_path / "pairs.csv")
    assert (tmp_path / "pairs.csv").read_bytes() == before


def test_everything_is_done_by_keyboard(audited, tmp_path):
    page = audited()
    for _ in range(60):
        page.keyboard.press("Tab")
        if page.evaluate("document.activeElement.className").startswith("pair"):
            break
    first = page.evaluate("document.activeElement.getAttribute('aria-label')")
    page.keyboard.press("Enter")
    assert "accepted" in page.evaluate("document.activeElement.getAttribute('aria-label')")
    page.keyboard.press("ArrowDown")
    assert page.evaluate("document.activeElement.getAttribute('aria-label')") != first
    page.keyboard.press("Delete")
    assert "rejected" in page.evaluate("document.activeElement.getAttribute('aria-label')")
    assert page.get_by_text("1 accepted, 1 rejected, 3 open").count() == 1
    page.keyboard.press("u")
    page.keyboard.press("u")
    assert page.get_by_text("0 accepted, 0 rejected, 5 open").count() == 1
    page.locator(".pair").filter(has_text="Birchh").focus()
    page.keyboard.press("ArrowRight")
    page.keyboard.press("ArrowRight")
    page.keyboard.press("ArrowRight")
    assert page.locator(".pair.accepted").filter(has_text="Birchh").count() == 1
    page.keyboard.press("Tab")
    inside = page.evaluate("document.activeElement.closest('.pair') !== null")
    assert inside, "what a key has to choose from is reached by Tab from it"


def test_all_that_differ_in_spelling_only_are_accepted_and_none_that_is_near(
    audited, tmp_path, plait
):
    page = audited()
    ended = plait("keys", "left.csv", "right.csv", "--key", "Yard,Hive", "--out", "offered.csv")
    assert ended.status == 0, ended.err
    offered = {}
    for row in rows_of(tmp_path / "offered.csv"):
        if row["left Yard"].casefold().strip() == row["right Yard"].casefold().strip():
            offered.setdefault(row["left Yard"], []).append(row["right Yard"])
    wanted = {key: near[0] for key, near in offered.items() if len(near) == 1}
    page.get_by_role("button", name="accept all that differ in spelling only").click()
    rows = _saved(page, tmp_path / "pairs.csv")
    assert {row["left Yard"]: row["right Yard"] for row in rows if row["use"] == "yes"} == wanted
    page.get_by_label("Which keys are shown").select_option("open")
    assert page.locator(".pair:visible").count() == 5 - len(wanted)
    page.get_by_role("button", name="undo").click()
    assert page.locator(".pair.accepted").count() == 0


def test_the_pairs_of_an_earlier_crosswalk_are_kept(audited, tmp_path, put, plait):
    put(first_csv="left Yard,left Hive,right Yard,right Hive\nElm Raod,2,Elm Road,2\n")
    page = audited("--pairs", "first.csv")
    assert page.locator(".pair").count() == 4
    page.locator(".pair").filter(has_text="Birchh").get_by_role("button", name="accept").click()
    _saved(page, tmp_path / "pairs.csv")
    found = _joined(plait, tmp_path)
    assert found["Elm Raod"] == "8" and found["Birchh"] in ("4", "3")


def test_where_only_the_right_has_keys_without_a_match_a_left_key_is_given_once(audited, tmp_path):
    page = audited(left="Yard\nElm\nOak\n", right="Yard\nElm\nElm\nOak\nElmm\nElmy\n", key="Yard")
    assert page.locator(".pair").count() == 2
    for at in (0, 1):
        page.locator(".pair").nth(at).get_by_role("button", name="accept").click()
    rows = _saved(page, tmp_path / "pairs.csv")
    used = [row["left Yard"] for row in rows if row["use"] == "yes"]
    assert used == ["Elm"]


@pytest.mark.parametrize("sign", [",", '"', "\n", "\r\n", ";", " ", "ä", "=1+1", "\ufeff"])
def test_texts_come_through_the_saved_file_as_they_are(audited, tmp_path, sign):
    left, right = f"Elm{sign}Road{sign}North", f"Elm{sign}Road{sign}Nort"
    out = io.StringIO()
    csv.writer(out).writerows([["Yard"], [left]])
    other = io.StringIO()
    csv.writer(other).writerows([["Yard"], [right]])
    page = audited(left=out.getvalue(), right=other.getvalue(), key="Yard")
    page.locator(".pair").get_by_role("button", name="accept").click()
    (row,) = _saved(page, tmp_path / "pairs.csv")
    assert (row["left Yard"], row["right Yard"], row["use"]) == (left, right, "yes")
    page.evaluate("localStorage.clear()")
    page.reload()
    page.wait_for_selector("html[data-ready]")
    page.get_by_label("Load a saved pairs.csv").set_input_files(tmp_path / "pairs.csv")
    page.locator(".pair.accepted").wait_for()


@pytest.mark.parametrize(
    "sources", [("a",), ("a", "a"), ("a", "b"), ("a", "b", "none"), ("none", "a")]
)
def test_there_is_a_page_of_any_number_of_sources(tmp_path, put, plait, opened, sources):
    put(a_csv="k,v\n1,x\n2,y\n2,z\n", b_csv="k,v\n1,x\n3,\n", none_csv="k,v\n")
    words = [f"{name}={name}.csv" for name in dict.fromkeys(sources)]
    ended = plait(
        "keys", *words, "--key", "k", "--report", "k.html", "--figure", "k.svg", "--quiet"
    )
    assert ended.status == 0, ended.err
    for script in (True, False):
        page = opened(tmp_path / "k.html", script=script)
        rows = page.locator("main table").first.locator("tbody tr").all_text_contents()
        assert len(rows) == len(words)


def test_without_script_the_pairs_are_a_table(tmp_path, put, plait, opened):
    put(left_csv=LEFT, right_csv=RIGHT)
    plait("keys", "left.csv", "right.csv", "--key", "Yard,Hive", "--report", "k.html", "--quiet")
    page = opened(tmp_path / "k.html", script=False)
    rows = page.locator("#static tbody tr").all_text_contents()
    assert any("Elm Raod" in row and "Elm Road" in row for row in rows)


def test_partners_by_evidence_are_weighed_decided_and_taken_as_known_at_the_next_run(
    tmp_path, plait, opened
):
    for name, content in registers_as_csv(6, 150).items():
        (tmp_path / name).write_bytes(content)
    line = ["keys", "people.csv", "payers.csv", "--key", "n", "--evidence", "name,born,town,phone"]
    more = ["--accept", "99%", "--quiet", "--replace", "--report", "k.html"]
    assert plait(*line, *more, "--out", "all.csv").status == 0
    page = opened(tmp_path / "k.html")
    odds = {(row["left n"], row["right n"]): row["odds"] for row in rows_of(tmp_path / "all.csv")}
    # The doubtful come first, each with its odds and a bar for each column.
    first = page.locator(".pair").first
    mine, theirs = (first.locator(".keyed").nth(at).text_content() for at in (0, 1))
    assert first.locator(".odds strong").text_content() == odds[mine, theirs]
    names = first.locator(".weighed .piece").all_text_contents()
    assert names == ["n", "name", "born", "town", "phone"]
    signs = first.locator(".weighed .times").all_text_contents()
    assert any(one.startswith("+") for one in signs)
    page.get_by_label("Which keys are shown").select_option("decide")
    assert page.locator(".pair:visible").count() <= 30
    page.get_by_label("Which keys are shown").select_option("")
    first.get_by_role("button", name="reject").click()
    second = page.locator(".pair").nth(1)
    other = second.locator(".keyed").first.text_content()
    partner = second.locator(".keyed").nth(1).text_content()
    second.get_by_role("button", name="accept").click()
    rows = _saved(page, tmp_path / "pairs.csv")
    decided = {(row["left n"], row["right n"]): row["decided"] for row in rows}
    assert decided[mine, theirs] == "rejected" and decided[other, partner] == "accepted"
    # What is not decided is not used, and the command that estimates anew is told.
    assert [row["left n"] for row in rows if row["use"] == "yes"] == [other]
    commands = page.locator(".next code").all_text_contents()
    assert any("--settled pairs.csv" in one for one in commands)
    again = next(one for one in commands if "--settled" in one)
    ended = plait(*shlex.split(again)[1:], "--out", "next.csv")
    assert ended.status == 0, ended.err
    now = {row["left n"]: row for row in rows_of(tmp_path / "next.csv")}
    assert now[other]["right n"] == partner and now[other]["decided"] == "accepted"
    assert now.get(mine, {"right n": ""})["right n"] != theirs
    page = opened(tmp_path / "keys.html")
    page.evaluate("localStorage.clear()")
    page.reload()
    page.wait_for_selector("html[data-ready]")
    assert page.locator(".pair.accepted").count() == 1
