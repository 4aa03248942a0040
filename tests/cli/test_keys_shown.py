"""What a person sees of an audit of keys: the grid, the table of comparisons, near keys, pages."""

from __future__ import annotations

import re

import pytest

from conftest import rows_of


@pytest.fixture
def months(put):
    put(
        **{
            f"m{n}_csv": "hive,kg\n" + "".join(f"H{k},{n}\n" for k in range(20) if k % (n + 1))
            for n in range(1, 7)
        }
    )


def section(text, heading):
    """The lines below a heading, up to an empty one."""
    lines = text.splitlines()
    begin = next(n for n, line in enumerate(lines) if line.strip().startswith(heading)) + 1
    end = next((n for n in range(begin, len(lines)) if not lines[n].strip()), len(lines))
    return [line.rstrip() for line in lines[begin:end]]


def test_many_sources_stand_in_a_grid_of_numbers_with_their_names_below(plait, months):
    ended = plait("keys", "m*.csv", "--key", "hive")
    assert re.match(r"\d+ of \d+ keys are in all 6 sources", ended.out)
    grid = section(ended.out, "1  2  3")
    assert set("".join(grid)) & {"●", "○"} == {"●", "○"}
    assert grid[-1].strip() == "1 m1, 2 m2, 3 m3, 4 m4, 5 m5, 6 m6"
    counts = [int(line.split()[6]) for line in grid[:-1]]
    assert counts == sorted(counts, reverse=True)
    assert sum(counts) == 20 - 1  # the first is in none


def test_the_best_comparison_stands_last_and_collisions_are_counted(plait, put):
    put(l_csv="k\nab\nc d\ne-f\n", r_csv="k\nAB\naB\nCD\nEF\n")
    ended = plait("keys", "l.csv", "r.csv", "--key", "k")
    rows = {line.split()[0]: line.split()[1:] for line in section(ended.out, "--ignore")}
    assert rows["case"] == ["1", "1", "2", "2"]
    assert rows["case,punctuation,space"] == ["3", "3", "4", "2"]
    assert "2 keys of r would become the same as another" in " ".join(ended.out.splitlines()[1:3])


def test_near_keys_show_at_most_a_few_unless_asked(plait, put):
    names = [f"Meadow farm number {chr(97 + n)}{chr(110 - n)}" for n in range(10)]
    put(
        l_csv="k\n" + "".join(f"{name[:4]}{name[5:]}\n" for name in names),
        r_csv="k\n" + "".join(f"{name}\n" for name in names),
    )
    short = plait("keys", "l.csv", "r.csv", "--key", "k").out
    long = plait("keys", "l.csv", "r.csv", "--key", "k", "--verbose").out
    assert len(section(short, "similar keys")) == 8
    assert "more: --verbose" in short
    assert "more: --verbose" not in long
    assert len(section(long, "similar keys")) > 10


def test_the_part_of_the_key_that_fails_is_said_in_words(plait, put):
    put(
        l_csv="yard,hive\nA,1\nA,9\nZ,1\nQ,8\nB,2\n",
        r_csv="yard,hive\nA,1\nB,1\nA,2\n",
    )
    ended = plait("keys", "l.csv", "r.csv", "--key", "yard,hive")
    said = [re.split(r"\s{2,}", line.strip())[0] for line in section(ended.out, "which part")]
    assert said == [
        "l: r has neither yard nor hive",
        "l: yard is in r, hive is not",
        "l: hive is in r, yard is not",
        "l: yard and hive are in r, but not together",
        "r: yard and hive are in l, but not together",
    ]


def test_the_page_tells_the_same_and_runs_nothing_from_the_data(plait, put, tmp_path):
    put(l_csv="<b>k</b>\n<script>alert(1)</script>\n", r_csv="k\nx\n")
    plait("keys", "l.csv", "r.csv", "--key", "<b>k</b>=k", "--report", "keys.html")
    page = (tmp_path / "keys.html").read_text()
    assert "not matched: 1 of 1 key in l (1 row), 1 of 1 in r (1 row)" in page
    assert "<script>alert" not in page
    assert "<b>k</b>" not in page
    assert "://" not in page


def test_cells_that_steer_the_terminal_are_spelt_out(plait, put):
    put(l_csv="k\n\x1b[2Jx\n", r_csv="k\n\x1b[2Jy\n")
    ended = plait("keys", "l.csv", "r.csv", "--key", "k")
    assert "\x1b[2J" not in ended.out
    assert "\\x1b[2Jx" in ended.out


def test_keys_of_typed_files_and_workbooks(plait, put, tmp_path):
    put(a_csv="id,kg\n1,2\n2,3\n3,4\n", b_csv="id,breed\n1,x\n4,y\n")
    plait("mend", "a.csv", "--out", "a.parquet", "--quiet")
    plait("mend", "b.csv", "--out", "b.xlsx", "--quiet")
    ended = plait("keys", "a.parquet", "b.xlsx#b", "--key", "id", "--json", "--out", "p.csv")
    (pair,) = ended.json["pairs"]
    assert (pair["keys_in_both"], pair["keys_only_left"], pair["keys_only_right"]) == (1, 2, 1)
    assert rows_of(tmp_path / "p.csv") == []


def test_quiet_says_nothing_and_json_is_all_there_is(plait, months):
    ended = plait("keys", "m1.csv", "m2.csv", "--key", "hive", "--quiet", "--json")
    assert ended.err == ""
    assert ended.json["pairs"][0]["left"] == "m1"


def test_a_source_of_one_letter_is_told_though_a_word_has_that_letter(plait, put):
    put(a_csv="yard,kg\nElm,1.5\nOak,n/a\n")
    assert "[marker-found]  a, column kg" in plait("survey", "a.csv").out
