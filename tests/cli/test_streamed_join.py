"""A join whose left file streams past gives, to the byte, what the join in memory gives."""

from __future__ import annotations

import contextlib
import csv
import io
import json
import random

import pytest

from plait.cli import streaming
from plait.cli.main import main
from plait.core.verbs.joining.streamed import StreamJoin
from plait.formats.text import reading as delimited
from plait.formats.text import records

pytestmark = pytest.mark.slow

KEYS = [
    ["A", "B", "C", "a longer key of text", "another longer key"],
    ["1", "2", "3", "10", "7"],
    ["007", "7", "x", "é", "A"],
]
ODD = ["", "NA", "-", "7.0", "zz", "a key that no register has", "  "]


def table(rng, names, rows, unique):
    """Random rows; with a unique key where that is asked for."""
    sorts = {name: rng.choice(KEYS) for name in names}
    odd = rng.choice([0, 0.1, 0.4])
    made, seen = [], set()
    for _ in range(rows):
        key = tuple(
            rng.choice(ODD) if rng.random() < odd else rng.choice(sorts[name]) for name in names
        )
        if not unique or key not in seen:
            seen.add(key)
            made.append(key)
    return made


def put(path, header, rows):
    with path.open("w", newline="", encoding="utf-8") as file:
        csv.writer(file, lineterminator="\n").writerows([header, *rows])


def run(folder, out, words):
    """The status and the JSON of a join, in this process."""
    said = io.StringIO()
    line = ["join", "left.csv", "right.csv", "--out", f"{out}/o.csv", "--json", "--quiet", *words]
    (folder / out).mkdir()
    with contextlib.redirect_stdout(said):
        status = main(line)
    text = said.getvalue().replace(f"{out}/", "")
    return status, json.loads(text) if text else None


def files(folder):
    """All outputs; what names them for the next run has their times in it."""
    return {
        str(path.relative_to(folder)): path.read_bytes()
        for path in sorted(folder.rglob("*"))
        if path.is_file() and path.suffix != ".plait"
    }


@pytest.mark.parametrize("seed", range(60))
def test_same_files_and_same_account(tmp_path, monkeypatch, seed):
    rng = random.Random(seed)
    monkeypatch.chdir(tmp_path)
    monkeypatch.setattr(records, "BLOCK_BYTES", 200)
    monkeypatch.setattr(delimited, "BLOCK_BYTES", 200)
    names = ["k", "m", "n"][: rng.choice([1, 2, 3])]
    left = table(rng, names, rng.choice([0, 3, 60]), unique=False)
    notes = ["calm", "busy", "a note of more than seven bytes", "=1+1"]
    rows = [(*key, rng.choice("xy"), rng.choice(notes)) for key in left]
    put(tmp_path / "left.csv", [*names, "kg", "note"], rows)
    right = table(rng, names, rng.choice([1, 4, 40]), unique=rng.random() < 0.8)
    put(tmp_path / "right.csv", [*names, "breed"], [(*key, f"b{n}") for n, key in enumerate(right)])
    kind = rng.choice(["left", "inner", "semi", "anti"])
    words = ["--kind", kind, *rng.choice([[], ["--key", ",".join(names)]])]
    expected = run(tmp_path, "memory", words)
    monkeypatch.setattr(streaming, "LEAST_BYTES", 0)
    monkeypatch.setattr(streaming, "larger", lambda left, right: True)
    assert run(tmp_path, "streamed", words) == expected
    assert files(tmp_path / "streamed") == files(tmp_path / "memory")


def test_most_of_such_joins_are_streamed(tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    monkeypatch.setattr(streaming, "LEAST_BYTES", 0)
    put(tmp_path / "left.csv", ["k", "kg"], [(f"K{n % 50}", n) for n in range(500)])
    put(tmp_path / "right.csv", ["k", "breed"], [(f"K{n}", "x") for n in range(40)])
    passed, taken = [], StreamJoin.take
    monkeypatch.setattr(
        StreamJoin, "take", lambda self, looked: (passed.append(1), taken(self, looked))[1]
    )
    status, said = run(tmp_path, "out", ["--key", "k"])
    assert status == 0
    assert passed
    assert said["match"]["left_unmatched"] == 100
    assert said["sources"][0]["rows"] == 500


def test_what_must_not_stand_leaves_nothing(tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    monkeypatch.setattr(streaming, "LEAST_BYTES", 0)
    put(tmp_path / "left.csv", ["k", "kg"], [(f"K{n % 50}", n) for n in range(500)])
    put(tmp_path / "right.csv", ["k", "breed"], [(f"K{n}", "x") for n in range(40)])
    for words in (["--fail-on", "key-unmatched"], ["--max-rows", "499"]):
        name = words[0].strip("-")
        assert run(tmp_path, name, ["--key", "k", *words])[0] == 1
        assert files(tmp_path / name) == {}


def test_a_fault_far_down_is_told_with_its_line(tmp_path, monkeypatch, capsys):
    monkeypatch.chdir(tmp_path)
    monkeypatch.setattr(streaming, "LEAST_BYTES", 0)
    monkeypatch.setattr(records, "BLOCK_BYTES", 400)
    rows = [(f"K{n % 50}", n) for n in range(500)]
    put(tmp_path / "left.csv", ["k", "kg"], [*rows, ("K1", "2", "3"), *rows])
    put(tmp_path / "right.csv", ["k", "breed"], [("K1", "x")])
    assert run(tmp_path, "out", ["--key", "k"])[0] == 3
    assert "left.csv, line 502" in capsys.readouterr().err
    assert files(tmp_path / "out") == {}
