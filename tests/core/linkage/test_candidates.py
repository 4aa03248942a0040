"""Which records are compared, and how far two values agree."""

from __future__ import annotations

import random

import numpy as np
import pytest

from plait.core.base.errors import UsageError
from plait.core.codes.key_codes import encode_keys
from plait.core.keys.match import match_keys
from plait.core.linkage import candidates as blocks
from plait.core.linkage.assignment import group_records
from plait.core.linkage.candidates import Candidates, find_candidates
from plait.core.linkage.evidence import (
    Level,
    compare_records,
    gather_evidence,
    resolve_evidence,
)
from plait.core.linkage.evidence_spec import EvidenceSpec, parse_accept
from plait.core.linkage.linkage import link_records
from plait.core.table.table import table_from_columns
from registers import registers


def _evidence(left: dict, right: dict, spec, ignore=()):
    """Each piece, with a record for each row."""
    tables = [table_from_columns("l", left), table_from_columns("r", right)]
    coding = encode_keys(tables, [["k"], ["k"]])
    records = [codes.astype(np.int64) for codes in coding.codes]
    names = resolve_evidence(spec, tables, [["k"], ["k"]])
    return list(gather_evidence(tables, names, coding.codes, records, ignore, 1))


def _level(one: object, two: object, name: str = "v", ignore=(), more=()) -> Level:
    """How far two cells agree, in columns that hold a few others like them."""
    left = {"k": [f"l{n}" for n in range(1 + len(more))], name: [one, *more]}
    right = {"k": [f"r{n}" for n in range(1 + len(more))], name: [two, *more]}
    piece = _evidence(left, right, [name], ignore)[1]
    return Level(int(compare_records(piece, np.array([0]), np.array([0]))[0]))


@pytest.mark.parametrize(
    ("one", "two", "level"),
    [
        ("Ada Hill", "Ada Hill", Level.EQUAL),
        ("Ada Hill", None, Level.MISSING),
        ("Ada Hill", "Hill, Ada", Level.NEAR),
        ("Ada Hill", "Ada Hlil", Level.NEAR),
        ("Tanaka, Rosa", "Rosa anaka", Level.NEAR),
        ("Ada Hill", "A. Hill", Level.NEAR),
        ("Ada Okonkwo", "Ada Okonkwo-Hill", Level.NEAR),
        ("Zoë Hill", "Zoe Hill", Level.NEAR),
        ("Ada Hill", "Bo Hill", Level.DIFFERENT),
        ("A. Hill", "Bo Hill", Level.DIFFERENT),
        ("A. Hill", "A. Rossi", Level.DIFFERENT),
        ("12345", "12354", Level.NEAR),  # a slip in five digits of a code
    ],
)
def test_texts_agree_by_their_letters_and_words(one, two, level):
    assert _level(one, two, more=("x y z",)) == level


@pytest.mark.parametrize(
    ("one", "two", "level"),
    [
        ("100", "100.0", Level.EQUAL),
        ("100", "101", Level.NEAR),
        ("100", "101.1", Level.DIFFERENT),
        ("0", "0.001", Level.DIFFERENT),
        ("-100", "100", Level.DIFFERENT),
    ],
)
def test_numbers_agree_by_a_hundredth(one, two, level):
    assert _level(one, two, more=("7", "8.5")) == level


@pytest.mark.parametrize(
    ("one", "two", "level"),
    [
        ("1971-03-05", "1971-03-05", Level.EQUAL),
        ("1971-03-05", "1971-03-12", Level.NEAR),
        ("1971-03-05", "1971-03-13", Level.NEAR),  # the year and the month are the same
        ("1971-03-28", "1971-04-05", Level.DIFFERENT),
        ("1971-03-05", "1971-05-03", Level.NEAR),  # day and month exchanged
        ("1971-03-05", "1972-03-05", Level.NEAR),
        ("1971-03-05", "1972-05-03", Level.DIFFERENT),
    ],
)
def test_days_agree_by_what_people_mistake(one, two, level):
    assert _level(one, two, more=("1980-01-31",)) == level


def test_days_written_otherwise_are_the_days_they_are():
    left = {"k": ["a", "b"], "v": ["05.03.1971", "31.01.1980"]}
    right = {"k": ["c", "d"], "v": ["1971-03-06", "1980-01-31"]}
    (_, piece) = _evidence(left, right, ["v"])
    levels = compare_records(piece, np.array([0, 0, 1]), np.array([0, 1, 1]))
    assert piece.kind == "days"
    assert levels.tolist() == [Level.NEAR, Level.DIFFERENT, Level.ALIKE]


def test_numbers_written_otherwise_are_the_numbers_they_are():
    left = {"k": ["a", "b"], "v": ["1.234,5", "2.000,25"]}
    right = {"k": ["c", "d"], "v": ["1240.0", "2000.25"]}
    (_, piece) = _evidence(left, right, ["v"])
    levels = compare_records(piece, np.array([0, 0, 1]), np.array([0, 1, 1]))
    assert piece.kind == "number"
    assert levels.tolist() == [Level.NEAR, Level.DIFFERENT, Level.ALIKE]


def test_a_latitude_and_a_longitude_are_one_place():
    # One degree of latitude is 111.2 km: 0.0089 of one are 0.99 km, 0.0091 are 1.01 km.
    left = {"k": list("abc"), "Lat": ["50.0", "50.0", "50.0"], "Lon": ["7.0", "7.0", "7.0"]}
    right = {"k": list("xyz"), "Lat": ["50.0", "50.0089", "50.0091"], "Lon": ["7.0", "7.0", "7.0"]}
    _, piece = _evidence(left, right, ["Lat", "Lon"])
    assert piece.kind == "distance" and piece.name == "Lat and Lon"
    levels = compare_records(piece, np.array([0, 0, 0]), np.array([0, 1, 2]))
    assert levels.tolist() == [Level.EQUAL, Level.NEAR, Level.DIFFERENT]


def test_what_is_ignored_is_alike_and_not_equal():
    assert _level("ADA", "ada", ignore=["case"], more=("x",)) == Level.ALIKE
    assert _level("ADA", "ada", more=("x",)) == Level.NEAR  # capitals make no slip


def test_what_is_ignored_counts_where_one_side_has_numbers_and_the_other_has_not():
    left = {"k": ["a", "b"], "v": ["15", "20"]}
    right = {"k": ["c", "d"], "v": ["1-5", "zz"]}
    (_, piece) = _evidence(left, right, ["v"], ["punctuation"])
    assert compare_records(piece, np.array([0]), np.array([0])).tolist() == [Level.ALIKE]


def test_a_column_in_which_the_rows_of_a_key_differ_says_nothing():
    left = {"k": ["a", "a", "b"], "v": ["x", "y", "z"]}
    right = {"k": ["c", "d"], "v": ["x", "z"]}
    tables = [table_from_columns("l", left), table_from_columns("r", right)]
    coding = encode_keys(tables, [["k"], ["k"]])
    texts = coding.key_columns[0].texts.to_pylist()
    records = [np.array([texts.index(k) for k in keys]) for keys in ("ab", "cd")]
    names = resolve_evidence(["v"], tables, [["k"], ["k"]])
    piece = list(gather_evidence(tables, names, coding.codes, records, (), 1))[1]
    levels = compare_records(piece, np.array([0, 0, 1]), np.array([0, 1, 1]))
    assert levels.tolist() == [Level.MISSING, Level.MISSING, Level.EQUAL]


def _pairs(found: Candidates) -> set[tuple[int, int]]:
    return set(zip(found.left.tolist(), found.right.tolist(), strict=True))


def _registers_evidence(seed: int, size: int):
    left, right, _ = registers(seed, size)
    for side in (left, right):
        side["k"] = side.pop("n")
    return left, right, _evidence(left, right, ["name", "born", "town", "phone"])


def test_blocks_hold_what_agrees_in_two_pieces_or_shares_a_rare_word(monkeypatch):
    left, right, evidence = _registers_evidence(1, 120)
    every = _pairs(find_candidates(evidence, []))
    assert len(every) == 120 * 120
    monkeypatch.setattr(blocks, "FEW_PAIRS", 0)
    found = find_candidates(evidence, [(np.array([3]), np.array([5]))])
    pairs = _pairs(found)
    assert len(pairs) == len(found) < 2000 and (3, 5) in pairs and found.possible == 120 * 120
    columns = ("name", "born", "town", "phone")
    surnames = [cell.split()[-1] for side in (left, right) for cell in side["name"]]
    for one, two in every:
        equal = [c for c in columns if left[c][one] and left[c][one] == right[c][two]]
        rare = left["name"][one].split()[-1]
        shares = rare == right["name"][two].split()[-1] and surnames.count(rare) <= 2
        if len(equal) >= 2 or shares:
            assert (one, two) in pairs


def test_a_block_that_is_too_large_is_cut_by_a_third_piece_and_that_is_told(monkeypatch):
    monkeypatch.setattr(blocks, "FEW_PAIRS", 0)
    monkeypatch.setattr(blocks, "MOST_OF_BLOCK", 50)
    size = 40
    side = {
        "k": [str(n) for n in range(size)],
        "a": ["x"] * size,
        "b": ["y"] * size,
        "c": [str(n % 10) for n in range(size)],
    }
    other = side | {"k": [f"r{n}" for n in range(size)]}
    found = find_candidates(_evidence(side, other, ["a", "b", "c"]), [])
    assert "a and b" in found.cut
    assert _pairs(found) == {(m, n) for m in range(size) for n in range(size) if m % 10 == n % 10}


@pytest.mark.slow
def test_the_blocks_lose_hardly_any_true_pair(monkeypatch):
    left, right, truth = registers(4, 400)
    monkeypatch.setattr(blocks, "FEW_PAIRS", 0)
    tables = [table_from_columns("l", left), table_from_columns("r", right)]
    coding = encode_keys(tables, [["n"], ["n"]])
    spec = EvidenceSpec(("name", "born", "town", "phone"), 0.99)
    by_blocks = link_records(tables, [["n"], ["n"]], coding, match_keys(coding), spec)
    monkeypatch.setattr(blocks, "FEW_PAIRS", 10**6)
    of_all = link_records(tables, [["n"], ["n"]], coding, match_keys(coding), spec)
    assert by_blocks.compared < of_all.compared / 20
    assert by_blocks.accepted.sum() >= 0.99 * of_all.accepted.sum() > 0.9 * len(truth)


@pytest.mark.slow
def test_what_follows_from_other_evidence_is_left_out_and_does_not_count_twice():
    left, right, truth = registers(2, 1500)
    for side in (left, right):
        side["year"] = [born and born[:4] for born in side["born"]]
        side["county"] = [town and town[0] for town in side["town"]]
    tables = [table_from_columns("l", left), table_from_columns("r", right)]
    coding = encode_keys(tables, [["n"], ["n"]])
    spec = EvidenceSpec(("name", "born", "year", "town", "county", "phone"), 0.99)
    linkage = link_records(tables, [["n"], ["n"]], coding, match_keys(coding), spec)
    assert linkage.follows == {"year": "born", "county": "town"}
    assert [piece.name for piece in linkage.model.pieces] == ["n", "name", "born", "town", "phone"]
    texts = coding.key_columns[0].texts.to_pylist()
    pairs = zip(linkage.left, linkage.right, linkage.accepted, strict=True)
    true = [truth.get(texts[mine]) == texts[theirs] for mine, theirs, used in pairs if used]
    assert sum(true) / len(true) >= 0.99


def test_groups_are_held_together_by_every_pair():
    # 0-1 and 1-2 are sure, 0-2 is not: a chain is no group. 3, 4 and 5 are all sure.
    left, right = np.array([0, 1, 3, 3, 4]), np.array([1, 2, 4, 5, 5])
    shares = np.array([0.99, 0.98, 0.95, 0.96, 0.97])
    group = group_records(Candidates(left, right, 15), shares, 0.9, 7)
    assert group.tolist() == [0, 0, 2, 3, 3, 3, 6]
    assert group_records(Candidates(left, right, 15), shares, 0.97, 7).tolist() == [
        0,
        0,
        2,
        3,
        4,
        4,
        6,
    ]


@pytest.mark.parametrize("text", ["50%", "0.5", "101%", "x", "", "-1", "1e-3"])
def test_a_probability_is_above_even_odds(text):
    with pytest.raises(UsageError, match="probability"):
        parse_accept(text)


@pytest.mark.parametrize(
    "seed", [pytest.param(seed, marks=[pytest.mark.slow] if seed > 7 else []) for seed in range(25)]
)
def test_whatever_is_in_the_columns_there_is_an_answer(seed):
    rng = random.Random(seed)
    makers = [
        lambda: None,
        lambda: "",
        lambda: rng.choice(["x", "X", " x", "ß", "中文", "a\nb", "\u202e"]),
        lambda: str(rng.randrange(3)),
        lambda: f"20{rng.randrange(10, 32)}-0{rng.randrange(1, 9)}-1{rng.randrange(9)}",
        lambda: rng.choice(["1.5", "n/a", "1e400", "-0"]),
        lambda: "constant",
    ]
    rows = rng.choice([0, 1, 9, 12, 60])
    columns = {
        f"c{n}": rng.choices(makers, k=rng.choice([1, 2])) for n in range(rng.randrange(1, 4))
    }
    tables = []
    for name in "lr":
        cells = {c: [rng.choice(some)() for _ in range(rows)] for c, some in columns.items()}
        cells["k"] = [rng.choice([f"{name}{n}", f"{n}", None, "same"]) for n in range(rows)]
        tables.append(table_from_columns(name, cells))
    spec = EvidenceSpec(tuple(columns), 0.9)
    for some in (tables, tables[:1]):
        keys = [["k"]] * len(some)
        coding = encode_keys(some, keys)
        matched = match_keys(coding) if len(some) > 1 else None
        linkage = link_records(
            some, keys, coding, matched, spec, rng.choice([(), ("case", "word-order")])
        )
        assert np.isfinite(linkage.log_odds).all() and len(linkage.left) == len(linkage.accepted)
        assert ((linkage.probability >= 0) & (linkage.probability <= 1)).all()
        if len(some) > 1:
            assert len(set(linkage.left.tolist())) == len(linkage.left)
