"""Workbooks with merged cells, shown zeros, formulas without a value, and endings that lie."""

from __future__ import annotations

import pytest
import xlsxwriter


@pytest.fixture
def merged(tmp_path):
    """A title, a blank row, a region that is merged over its months."""
    with xlsxwriter.Workbook(str(tmp_path / "sales.xlsx")) as book:
        sheet = book.add_worksheet("Sales")
        sheet.merge_range(0, 0, 0, 2, "Sales 2031")
        sheet.write_row(2, 0, ["Region", "Month", "Sales"])
        sheet.merge_range(3, 0, 10, 0, "North")
        sheet.merge_range(11, 0, 12, 0, "South")
        for number in range(10):
            sheet.write_row(3 + number, 1, [f"m{number}", number])


@pytest.fixture
def shown(tmp_path):
    """Numbers that are shown as 00042, formulas that no program has calculated, durations."""
    with xlsxwriter.Workbook(str(tmp_path / "ids.xlsx")) as book:
        sheet = book.add_worksheet("Ids")
        five, hours = (book.add_format({"num_format": one}) for one in ("00000", "[h]:mm"))
        sheet.write_row(0, 0, ["id", "total", "time"])
        for row, number in enumerate((42, 7, 12345), 1):
            sheet.write_number(row, 0, number, five)
            sheet.write_formula(row, 1, "=A2*2", None, "")
            sheet.write_number(row, 2, 1.5 * row, hours)


def test_merged_cells_are_told_and_filled_when_asked(plait, merged):
    ended = plait("group", "sales.xlsx", "--by", "Region", "--take", "n=count", "--out", "o.csv",
                  "--json")  # fmt: skip
    found = ended.finding("cells-merged")
    assert found["count"] == 8 and "--merged fill" in found["remedy"]
    filled = plait("group", "sales.xlsx", "--by", "Region", "--take", "n=count", "--merged", "fill")
    assert filled.out.split() == ["Region,n", "North,8", "South,2"]


def test_zeros_that_only_the_format_has_are_told_and_taken_when_asked(plait, shown):
    ended = plait("mend", "ids.xlsx", "--keep", "id", "--out", "o.csv", "--json")
    found = ended.finding("zeros-shown")
    assert found["count"] == 2 and "--as-shown" in found["remedy"]
    assert plait("mend", "ids.xlsx", "--keep", "id").out.split() == ["id", "42", "7", "12345"]
    taken = plait("mend", "ids.xlsx", "--keep", "id", "--as-shown")
    assert taken.out.split() == ["id", "00042", "00007", "12345"]


def test_formulas_without_a_value_are_counted(plait, shown):
    found = plait("mend", "ids.xlsx", "--out", "o.csv", "--json").finding("formula-uncalculated")
    assert (found["count"], found["severity"]) == (3, "error") and "total" in found["message"]
    assert [one["text"] for one in found["examples"]] == ["B2", "B3", "B4"]


def test_a_stretch_of_time_is_hours_and_minutes(plait, shown):
    out = plait("mend", "ids.xlsx", "--keep", "time").out.split()
    assert out == ["time", "36:00:00", "72:00:00", "108:00:00"]


def test_the_options_are_those_of_a_source_in_a_plan_too(plait, merged, tmp_path):
    (tmp_path / "p.toml").write_text(
        '[source.sales]\npath = "sales.xlsx"\nmerged = "fill"\nas_shown = true\n'
        '[handover]\nresult = "sales"\n'
    )
    assert plait("run", "p.toml").status == 0
    rows = (tmp_path / "handover" / "sales.csv").read_text().split()
    assert rows[8] == "North,m7,7"
    ended = plait("trace", "handover", "--row", "8", "--columns", "Region")
    assert ended.status == 0 and "North" in ended.out


@pytest.mark.parametrize(
    ("name", "content", "says"),
    [
        ("a.xlsx", "hive,kg\n1,2\n", "text with the ending of a workbook"),
        ("a.xls", "<html><table><tr><td>a</td></tr></table></html>", "HTML"),
        ("a.xls", '<?xml version="1.0"?><Workbook/>', "XML"),
    ],
)
def test_a_file_that_is_no_workbook_is_told_as_what_it_is(plait, tmp_path, name, content, says):
    (tmp_path / name).write_text(content)
    ended = plait("mend", name)
    assert ended.status == 3 and says in ended.err and "EOCD" not in ended.err


def test_headings_in_two_rows_below_a_title_are_read_as_one(plait, tmp_path):
    rows = ["Honey 2031,,,,", ",,,,", "Yard,Honey,,Wax,", ",kg,jars,kg,blocks", "Elm,1,2,3,4"]
    (tmp_path / "h.csv").write_text("\n".join([*rows, ""]))
    with xlsxwriter.Workbook(str(tmp_path / "h.xlsx")) as book:
        sheet = book.add_worksheet("Honey")
        sheet.merge_range("A1:E1", "Honey 2031")
        for number, row in enumerate(rows[2:], 2):
            for column, cell in enumerate(row.split(",")):
                if cell:
                    sheet.write(number, column, int(cell) if cell.isdigit() else cell)
    for source in ("h.csv", "h.xlsx"):
        ended = plait("mend", source, "--rename", "Yard=yard")
        assert ended.out.split("\n")[0] == "yard,Honey kg,Honey jars,Wax kg,Wax blocks"


def test_the_remedy_for_headings_that_are_empty_names_the_next_row_that_is_not_blank(
    plait, tmp_path
):
    with xlsxwriter.Workbook(str(tmp_path / "h.xlsx")) as book:
        sheet = book.add_worksheet("Honey")
        sheet.merge_range("A1:C1", "Honey 2031")
        sheet.write_row("A4", ["Yard", "kg", "7"])
        sheet.write_row("A5", ["Elm", 1, 2])
    remedy = plait("mend", "h.xlsx", "--out", "o.csv", "--json").finding("header-empty")["remedy"]
    assert remedy.endswith("--header-line 4")
    assert plait("mend", "h.xlsx", *remedy.split()[-2:]).out.split() == ["Yard,kg,7", "Elm,1,2"]
