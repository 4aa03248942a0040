"""Whatever is written as delimited text is kept from being run as formulas, where that is asked."""

from __future__ import annotations

import csv

import pytest

ROWS = "k,=cmd()\n=1+1,a\n@x,b\n-5,c\n"


def _cells(folder):
    return [
        cell
        for path in folder.rglob("*.csv")
        if path.name not in ("a.csv", "b.csv")
        for row in csv.reader(path.read_text().splitlines())
        for cell in row
    ]


LINES = {
    "mend": ("mend", "a.csv", "--where", "k <> '@x'", "--out", "out/o.csv"),
    "keys": ("keys", "a.csv", "b.csv", "--key", "k", "--out", "out/o.csv", "--only", "left"),
    "compare": ("compare", "a.csv", "b.csv", "--key", "k", "--out", "out/o.csv"),
}


@pytest.mark.parametrize("line", LINES)
def test_no_cell_and_no_heading_of_a_command_begins_as_a_formula(plait, put, tmp_path, line):
    put(a_csv=ROWS, b_csv=ROWS.replace("=1+1,a", "=1+1,=2").replace("@x", "@y"))
    (tmp_path / "out").mkdir()
    assert plait(*LINES[line], "--guard-formulas").status in (0, 1)
    cells = _cells(tmp_path)
    assert cells and not [cell for cell in cells if cell[:1] in "=@" and cell]
    assert any(cell.startswith(("'=", "'@")) for cell in cells)


def test_nothing_of_a_handover_begins_as_a_formula(plait, put, tmp_path):
    put(a_csv=ROWS)
    (tmp_path / "p.toml").write_text(
        '[source.a]\npath = "a.csv"\n[[step]]\nmend = "a"\nwhere = "k <> \'@x\'"\ninto = "o"\n'
        '[describe]\nk = "=danger()"\n[handover]\nresult = "o"\nguard_formulas = true\n'
    )
    ended = plait("run", "p.toml")
    assert ended.status == 0, ended.err
    cells = _cells(tmp_path / "handover")
    assert not [cell for cell in cells if cell[:1] in "=@" and cell]
    assert "'=danger()" in cells and "'=cmd()" in cells


def test_a_heading_that_is_a_formula_is_told(plait, put):
    put(a_csv="k,=cmd()\n1,2\n")
    finding = plait("mend", "a.csv", "--out", "o.csv", "--json").finding("formula-cells")
    assert finding["count"] == 1 and finding["examples"][0]["text"] == "heading: =cmd()"
