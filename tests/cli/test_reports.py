"""Reports, as Markdown and as pages, say what the terminal says: one document, drawn each way."""

from __future__ import annotations

import re

import pytest

from conftest import flat

VISITS = "yard,hive,kg\nA,1,12.5\nA,2,7\nB,1,\nB,3,9|x\nC,9,1\n"
HIVES = "yard,hive,queen\nA,1,Carnica\nA,2,Buckfast\nB,1,*wild*\nB,1,Carnica\nD,4,<b>\n"
LATER = VISITS.replace("12.5", "13").replace("C,9,1\n", "C,8,2\n")
COMMANDS = {
    "join": "join visits.csv hives.csv --key yard,hive --out o.csv",
    "stack": "stack visits.csv later.csv --out o.csv",
    "settle": "settle hives.csv --key yard,hive --rule queen=first --out o.csv",
    "keys": "keys visits.csv hives.csv --key yard,hive",
    "compare": "compare visits.csv later.csv --key yard,hive",
    "survey": "survey visits.csv hives.csv",
}


def _words(text: str) -> list[str]:
    """The words and numbers of a text, without what draws its tables."""
    return re.findall(r"[\w.%]+", re.sub(r"\\(.)", r"\1", flat(text)))


@pytest.mark.parametrize("command", COMMANDS)
def test_every_word_of_the_terminal_is_in_the_report(plait, put, tmp_path, command):
    put(visits_csv=VISITS, hives_csv=HIVES, later_csv=LATER)
    ended = plait(*COMMANDS[command].split(), "--report", "r.md", "--verbose")
    assert ended.status == 0, ended.err
    report = (tmp_path / "r.md").read_text()
    there = set(_words(report))
    said = set(_words(ended.out if command in ("keys", "compare", "survey") else ended.err))
    # Sizes of files, sample rows and how sources differ are drawn for the terminal only.
    drawn = {"B", "utf", "comma", "8", "row", "rows", "lines", "sources"}
    drawn |= {"note", "notes", "warning", "warnings"}
    lost = {w for w in said - there - drawn if not re.fullmatch(r"[\d,.]+B?|kB|\w+_?=\w*", w)}
    assert not lost or (command == "survey" and len(lost) < 12), lost
    for finding in re.findall(r"\[([a-z-]+)\]", flat(ended.out + ended.err)):
        assert f"`{finding}`" in report


def test_nothing_of_the_data_is_taken_for_markup(plait, put, tmp_path):
    put(visits_csv=VISITS, hives_csv=HIVES)
    words = "keys hives.csv --key yard,hive --report r.md"
    assert plait(*words.split()).status == 0
    report = (tmp_path / "r.md").read_text()
    assert "*wild*" not in report and r"\*wild\*" in report
    assert "<b>" not in report
    widths = {}
    for number, line in enumerate(report.splitlines()):
        if line.startswith("|"):
            cells = len(re.findall(r"(?<!\\)\|", line))
            widths[number] = cells
            assert widths.get(number - 1, cells) == cells, line


def test_a_name_that_begins_like_markup_is_a_name(plait, put, tmp_path):
    put(visits_csv="**a|b**,k\n1,2\n3,4\n")
    assert plait("survey", "visits.csv", "--report", "r.md").status == 0
    lines = [line for line in (tmp_path / "r.md").read_text().splitlines() if "a" in line]
    (row,) = [line for line in lines if line.startswith("|") and "integer" in line and "b" in line]
    assert row.startswith(r"| \*\*a\|b\*\* | integer |")


def test_a_report_of_another_ending_is_refused_before_anything_is_read(plait, put):
    put(visits_csv=VISITS)
    ended = plait("survey", "visits.csv", "--report", "r.pdf")
    assert ended.status == 2 and "must end in .html or .md" in flat(ended.err)


@pytest.mark.parametrize("command", ["keys", "compare", "survey"])
def test_a_page_is_headed_by_the_answer_of_the_terminal(plait, put, tmp_path, command):
    put(visits_csv=VISITS, hives_csv=HIVES, later_csv=LATER)
    ended = plait(*COMMANDS[command].split(), "--report", "r.html")
    assert ended.status == 0, ended.err
    page = (tmp_path / "r.html").read_text()
    (heading,) = re.findall(r"<h1>(.*?)</h1>", page)
    assert flat(ended.out).startswith(heading)


def test_a_survey_page_says_how_to_split_a_column_as_a_command(plait, put, tmp_path):
    both = [f"P{plot}-{box:02}" for plot in range(1, 13) for box in range(1, 16)]
    put(
        visits_csv="plot,box,kg\n"
        + "".join(f"{b.replace('-', ',')},{n}\n" for n, b in enumerate(both)),
        hives_csv="label,queen\n" + "".join(f"{b},q{n}\n" for n, b in enumerate(both)),
    )
    assert plait("survey", "visits.csv", "hives.csv", "--report", "r.html").status == 0
    page = (tmp_path / "r.html").read_text()
    assert (
        "after <code>plait mend hives.csv --split &#39;label:- into plot,box&#39; --out …</code>"
        in page
    )
