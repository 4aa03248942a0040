"""Rows that do not fit their header, and notes below the table: which is which, and how many."""

from __future__ import annotations

import csv
from pathlib import Path

import pytest

TABLE = "hive,kg\n1,3\n2,9\n"


def aside(folder: Path, kind: str) -> list[list[str]]:
    """A list of rows set aside, without its header."""
    (path,) = folder.glob(f"*-{kind}.csv")
    with path.open() as file:
        return list(csv.reader(file))[1:]


@pytest.mark.parametrize(
    ("below", "ragged", "notes"),
    [
        ("3,4,5\nNote: weighed wet\n", [["3 cells", 3]], [["Note: weighed wet", 4]]),
        ("3,4,5\n4,5,6\nkg: net\n", [["3 cells", 3], ["3 cells", 4]], [["kg: net", 5]]),
        ("3\n4,5\n", [["1 cell", 3]], []),
        ("counted by Ines\nNote: all\n", [], [["counted by Ines", 3], ["Note: all", 4]]),
    ],
)
def test_rows_just_above_a_note_are_ragged_and_the_note_is_a_note(
    plait, put, tmp_path, below, ragged, notes
):
    put(a_csv=TABLE + below)
    ended = plait("stack", "a.csv", "--ragged", "set-aside", "--out", "o.csv", "--json")
    assert ended.status == 0, ended.err
    (reading, _) = ended.json["ledger"]
    lines = {line["reason"]: -line["rows"] for line in reading["lines"][1:]}
    expected = {"rows with too few or too many cells, set aside": len(ragged),
                "lines below the table, set aside": len(notes)}  # fmt: skip
    assert lines == {reason: rows for reason, rows in expected.items() if rows}
    if ragged:
        rows = aside(tmp_path / "o-aside", "ragged")
        assert [
            [reason.partition(" where")[0], int(line[5:]) - 1] for reason, _, line, _ in rows
        ] == ragged
        assert all("where the header has 2" in row[0] for row in rows)
        assert ended.finding("row-ragged")["count"] == len(ragged)
    if notes:
        rows = aside(tmp_path / "o-aside", "notes")
        assert [[text, int(line[5:]) - 1] for _, _, line, text in rows] == notes
        assert {row[0] for row in rows} == {"a line below the table"}
        assert ended.finding("footer-lines")["count"] == len(notes)


def test_ten_lines_of_words_are_notes_and_eleven_are_not(plait, put):
    put(a_csv=TABLE + "as counted there\n" * 10, b_csv=TABLE + "as counted there\n" * 11)
    assert plait("stack", "a.csv", "--out", "a1.csv").status == 0
    ended = plait("stack", "b.csv", "--out", "b1.csv")
    assert ended.status == 3 and "b.csv, line 4" in ended.err
