"""Figures for documents: the same every time, with the numbers in them."""

from __future__ import annotations

import pytest

FIGURES = {
    "keys": ("keys", "a.csv", "b.csv", "--key", "k"),
    "keys of one": ("keys", "a.csv", "--key", "k"),
    "keys of three": ("keys", "a.csv", "b.csv", "none.csv", "--key", "k"),
    "survey": ("survey", "a.csv", "b.csv"),
    "compare": ("compare", "a.csv", "b.csv", "--key", "k"),
    "run": ("run", "p.toml", "--replace", "--again"),
}


@pytest.mark.parametrize("name", FIGURES)
def test_a_figure_is_the_same_every_time_and_holds_its_numbers(plait, put, tmp_path, name):
    put(
        a_csv="k,$x$\n" + "".join(f"{n},a_{{b\n" for n in range(1234)) + "7,y\n",
        none_csv="k\n",
        b_csv="k,$x$\n" + "".join(f"{n},a_{{b\n" for n in range(12, 1300)),
    )
    (tmp_path / "p.toml").write_text(
        '[source.a]\npath = "a.csv"\n[source.b]\npath = "b.csv"\n'
        '[[step]]\nstack = ["a", "b"]\ndistinct = true\ninto = "all"\n'
        '[handover]\nresult = "all"\n'
    )
    made = []
    for _ in range(2):
        for ending in ("svg", "png", "pdf") if name == "keys" else ("svg",):
            file = f"figure.{ending}"
            ended = plait(*FIGURES[name], "--figure", file, "--quiet", "--replace")
            assert ended.status == 0, ended.err
            made.append((tmp_path / file).read_bytes())
    assert made[: len(made) // 2] == made[len(made) // 2 :]
    if name == "keys":
        assert made[1].startswith(b"\x89PNG") and made[2].startswith(b"%PDF")
    drawn = made[0].decode()
    words = {
        "keys": ("1,222", "66", "12"),
        "keys of three": ("1,222", "66", "none"),
        "keys of one": ("1,233 keys once", "1 on rows that differ"),
        "survey": ("$x$", "a_{b", "2,523 rows"),
        "compare": ("1,222 equal", "66 new"),
        "run": ("1,235 rows", "1,222 set aside", "1 stack"),
    }
    for text in words[name]:
        assert f">{text}" in drawn or f" {text}" in drawn, text


def test_a_figure_of_more_columns_is_taller(plait, tmp_path):
    heights = []
    for columns in (1, 9):
        names = ",".join(f"c{number}" for number in range(columns))
        for name, cell in (("old", "1"), ("new", "2")):
            row = ",".join([cell] * columns)
            (tmp_path / f"{name}.csv").write_text(f"k,{names}\n7,{row}\n")
        words = ("compare", "old.csv", "new.csv", "--key", "k", "--figure", "f.png", "--replace")
        assert plait(*words, "--quiet").status == 0
        raw = (tmp_path / "f.png").read_bytes()
        heights.append(int.from_bytes(raw[20:24]))  # of the first chunk of a PNG
    assert heights[1] - heights[0] > 8 * 20
