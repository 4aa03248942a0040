"""Repeated keys: which differ, in which columns, and what is shown of them."""

from __future__ import annotations

import random

import numpy as np
import pyarrow as pa
import pytest

from plait.core.base.errors import UsageError
from plait.core.codes.key_codes import encode_keys
from plait.core.job import executor
from plait.core.keys import duplicates
from plait.core.keys.crosswalk import parse_crosswalk
from plait.core.keys.duplicates import find_duplicate_keys, keys_in_conflict_mask
from plait.core.operations.keys import audit_keys
from plait.core.table.table import table_from_columns
from plait.core.text.words import MARK


def test_an_example_shows_the_first_row_that_differs_and_counts_the_columns_beyond_three():
    table = table_from_columns(
        "hives",
        {
            "hive": ["1", "2", "1", "1"],
            "same": ["x"] * 4,
            **{f"c{n}": ["a", "b", "a", f"z{n}"] for n in range(6)},
        },
    )
    found = audit_keys([table], ["hive"])
    (finding,) = [one for one in found.findings if one.code == "key-conflict"]
    (example,) = finding.examples
    shown = example.text if hasattr(example, "text") else str(example)
    assert "c0 a / z0; c1 a / z1" in shown and "same" not in shown
    more = 6 - shown.count(" a / z")
    assert f"and {more} more columns" in shown
    assert [place.row for place in example.places] == [1, 4]


@pytest.mark.parametrize("seed", range(6))
def test_repeats_and_conflicts_are_those_that_comparing_rows_finds(seed):
    rng = random.Random(seed)
    rows = [(str(rng.randrange(40)), rng.choice("ab"), rng.choice(["", "x", None]))
            for _ in range(150)]  # fmt: skip
    columns = dict(zip(("k", "v", "w"), map(list, zip(*rows, strict=True)), strict=True))
    table = table_from_columns("t", columns)
    coding = encode_keys([table], [["k"]])
    found = find_duplicate_keys(table, ["k"], coding.codes[0], coding.counts(0))
    by_key: dict[str, set] = {}
    times: dict[str, int] = {}
    for key, v, w in rows:
        by_key.setdefault(key, set()).add((v, w or ""))
        times[key] = times.get(key, 0) + 1
    several = {key for key, number in times.items() if number > 1}
    conflicts = {key for key in several if len(by_key[key]) > 1}
    assert found.keys == len(several)
    assert found.rows == sum(times[key] for key in several)
    assert (found.repeats, found.conflicts) == (len(several - conflicts), len(conflicts))


@pytest.mark.parametrize("seed", range(6))
def test_the_first_cells_of_keys_tell_which_differ_however_rows_are_dealt(seed):
    rng = np.random.default_rng(seed)
    codes = rng.integers(-1, 30, 400).astype(np.int32)
    cells = [f"v{code}" if rng.random() < 0.97 else f"w{rng.integers(3)}" for code in codes]
    first, expected = {}, set()
    for code, cell in zip(codes.tolist(), cells, strict=True):
        if code >= 0 and first.setdefault(code, cell) != cell:
            expected.add(code)
    pieces = [pa.array(cells[start : start + 57]) for start in range(0, 400, 57)]
    table = table_from_columns("t", {"v": pa.chunked_array(pieces)})
    differs = keys_in_conflict_mask(table, table.column("v"), codes, 30)
    assert set(np.flatnonzero(differs).tolist()) == expected


def test_a_crosswalk_needs_a_column_of_either_side_for_each_of_the_key():
    whole = {"left yard": ["a"], "left hive": ["1"], "right yard": ["b"], "right hive": ["2"]}
    found = parse_crosswalk(table_from_columns("p", whole), 2)
    assert (found.left, found.right) == (("left yard", "left hive"), ("right yard", "right hive"))
    turned = {name: whole[name] for name in ("right hive", "left yard", "left hive", "right yard")}
    assert parse_crosswalk(table_from_columns("p", turned), 2).right == ("right hive", "right yard")
    extra = {**whole, "right extra": ["3"]}
    assert parse_crosswalk(table_from_columns("p", extra), 2).left == ("left yard", "left hive")
    with pytest.raises(UsageError, match="at least 4 columns; p has 3"):
        parse_crosswalk(table_from_columns("p", {name: ["x"] for name in ("a", "b", "c")}), 2)


def test_cells_that_are_alike_by_their_marks_are_compared_sign_by_sign(monkeypatch):
    """As if all marks were those of long texts, and equal."""
    rng = random.Random(5)
    named = [str(rng.randrange(60)) for _ in range(200)]
    cells = [rng.choice(["a", "b", None]) if key < "3" else "c" for key in named]
    table = table_from_columns("t", {"k": named, "v": cells})
    found: dict[str, set[str]] = {}
    for key, cell in zip(named, cells, strict=True):
        found.setdefault(key, set()).add(cell or "")
    expected = sum(len(texts) > 1 for texts in found.values())

    def alike(cells, rows):
        return np.full(len(cells.lengths) if rows is None else len(rows), MARK, np.uint64)

    for batch in (1 << 16, 7):
        monkeypatch.setattr(duplicates, "BATCH_ROWS", batch)
        with monkeypatch.context() as patched:
            patched.setattr(duplicates, "_marks", alike)
            (audited,) = audit_keys([table], [["k"]]).tables
        assert audited.conflict_keys == expected


@pytest.mark.parametrize("cores", [1, 2, 3])
def test_conflicts_are_found_however_the_rows_are_shared_out(monkeypatch, cores):
    monkeypatch.setattr(duplicates, "BATCH_ROWS", 5)
    monkeypatch.setattr(duplicates, "available_cores", lambda: cores, raising=False)
    monkeypatch.setattr(executor, "available_cores", lambda: cores)
    for seed in range(20):
        rng = random.Random(seed)
        named = [str(rng.randrange(12)) for _ in range(40)]
        cells = [rng.choice("ab") if key < "3" else f"{key} {'long ' * 4}" for key in named]
        found: dict[str, set[str]] = {}
        for key, cell in zip(named, cells, strict=True):
            found.setdefault(key, set()).add(cell)
        (audited,) = audit_keys([table_from_columns("t", {"k": named, "v": cells})], [["k"]]).tables
        assert audited.conflict_keys == sum(len(texts) > 1 for texts in found.values())
