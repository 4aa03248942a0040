"""Odds against a judge in plain Python: all pairs, the same model, no code in common."""

from __future__ import annotations

import math
import random
import unicodedata
from dataclasses import replace
from datetime import date
from itertools import product

import numpy as np
import pytest

from plait.core.codes.key_codes import encode_keys
from plait.core.keys.match import match_keys
from plait.core.linkage.candidates import Candidates
from plait.core.linkage.evidence_spec import EvidenceSpec
from plait.core.linkage.linkage import Linkage, _decisions_of_candidates, link_records
from plait.core.table.table import table_from_columns
from registers import registers

LEVELS = ("different", "near", "alike", "equal")


def _slips(one: str, two: str) -> int:
    """The optimal string alignment distance, as Damerau (1964) has it."""
    rows = [list(range(len(two) + 1))]
    for i, a in enumerate(one, 1):
        row = [i]
        for j, b in enumerate(two, 1):
            row.append(min(rows[-1][j] + 1, row[-1] + 1, rows[-1][j - 1] + (a != b)))
            if i > 1 and j > 1 and a == two[j - 2] and one[i - 2] == b:
                row[-1] = min(row[-1], rows[-2][j - 2] + 1)
        rows.append(row)
    return rows[-1][-1]


def _plain(text: str) -> str:
    apart = unicodedata.normalize("NFKD", text)
    marks = (c for c in apart if unicodedata.category(c) != "Mn")
    return "".join(c if c.isalnum() else " " for c in "".join(marks).lower())


def _near_letters(one: str, two: str) -> bool:
    words = [sorted(_plain(text).split()) for text in (one, two)]
    if set(words[0]) <= set(words[1]) or set(words[1]) <= set(words[0]):
        return True
    for short, long in (words, words[::-1]):
        letters = {word for word in short if len(word) == 1}
        rest = set(short) - letters
        if letters and rest and rest <= set(long) and letters <= {word[0] for word in long}:
            return True
    stand = [_plain(text).split() for text in (one, two)]
    tries = (stand, (stand[0][::-1], stand[1]), words)
    texts = [tuple(" ".join(side) for side in pair) for pair in tries]
    return any(5 * _slips(a, b) <= max(len(a), len(b)) for a, b in texts)


def _near_days(one: str, two: str) -> bool:
    left, right = date.fromisoformat(one), date.fromisoformat(two)
    parts = list(
        zip((left.year, left.month, left.day), (right.year, right.month, right.day), strict=True)
    )
    turned = left.year == right.year and (left.month, left.day) == (right.day, right.month)
    return abs((left - right).days) <= 7 or turned or sum(a == b for a, b in parts) == 2


def _near_numbers(one: str, two: str) -> bool:
    left, right = float(one), float(two)
    return abs(left - right) <= 0.01 * max(abs(left), abs(right))


NEAR = {"n": _near_letters, "name": _near_letters, "born": _near_days, "town": _near_letters,
        "weight": _near_numbers}  # fmt: skip


def _loose(cell: str | None, ignoring: bool) -> str | None:
    return cell.upper() if cell and ignoring else cell


class Judge:
    """The model, pair by pair, with lists and dictionaries only."""

    def __init__(self, left: dict, right: dict, columns: list[str], ignoring: bool) -> None:
        self.left, self.right, self.columns, self.ignoring = left, right, columns, ignoring
        sizes = len(left["n"]), len(right["n"])
        self.pairs = list(product(range(sizes[0]), range(sizes[1])))
        self.level = {(c, p): self._level(c, p) for c in columns for p in self.pairs}
        self.chance = {}
        for column in columns:
            self._chances(column)
        self.odds = self._estimate(min(sizes))

    def _level(self, column: str, pair: tuple[int, int]) -> str | None:
        one, two = self.left[column][pair[0]], self.right[column][pair[1]]
        if one is None or two is None:
            return None
        if one == two:
            return "equal"
        if column in ("name", "town", "n") and _loose(one, self.ignoring) == _loose(
            two, self.ignoring
        ):
            return "alike"
        return "near" if NEAR[column](one, two) else "different"

    def _chances(self, column: str) -> None:
        there = [p for p in self.pairs if self.level[column, p] is not None]
        near = sum(self.level[column, p] == "near" for p in there)
        near_share = (near + 0.5) / (len(there) + 1)
        cells = [c for c in self.left[column] + self.right[column] if c is not None]
        text = column in ("name", "town", "n")
        loose = [_loose(c, self.ignoring and text) for c in cells]

        same = [(self.left[column][p[0]], self.right[column][p[1]]) for p in there
                if self.level[column, p] in ("equal", "alike")]  # fmt: skip
        equal = sum(one == two for one, two in same)
        spelt = 1.0 if equal == len(same) else (equal + 0.5) / (len(same) + 1)

        def share(every: list, value: object, of_pair: int) -> float:
            have = max(every.count(value) - 1 - of_pair, 0)
            return (have + 0.5) / (max(len(every) - 2, 0) + 0.5 * len(set(every)))

        for pair in there:
            one, level = self.left[column][pair[0]], self.level[column, pair]
            of_loose = _loose(one, self.ignoring and text)
            if level in ("equal", "alike"):
                chance = share(loose, of_loose, 1) * (spelt if level == "equal" else 1 - spelt)
            else:
                chance = (
                    near_share if level == "near" else 1 - share(loose, of_loose, 0) - near_share
                )
            self.chance[column, pair] = max(1e-12, chance)

    def _estimate(self, most: int) -> dict[tuple[int, int], float]:
        begin = dict(zip(LEVELS, (0.1, 0.1, 0.1, 0.7), strict=True))
        occurs = {c: [x for x in LEVELS if any(self.level[c, p] == x for p in self.pairs)]
                  for c in self.columns}  # fmt: skip
        true = {
            c: {x: begin[x] / sum(begin[y] for y in occurs[c]) for x in occurs[c]}
            for c in self.columns
        }
        partners = 0.5 * most
        for _ in range(1000):
            odds = self._odds(true, partners)
            every = {left: 1 + sum(odds[p] for p in self.pairs if p[0] == left)
                     for left in range(len(self.left["n"]))}  # fmt: skip
            share = {p: o / every[p[0]] for p, o in odds.items()}
            partners = min(sum(share.values()), most)
            new = {}
            for c in self.columns:
                weight = {
                    x: 0.5 + sum(share[p] for p in self.pairs if self.level[c, p] == x)
                    for x in occurs[c]
                }
                new[c] = {x: w / sum(weight.values()) for x, w in weight.items()}
            moved = max(abs(new[c][x] - true[c][x]) for c in self.columns for x in occurs[c])
            true = new
            if moved < 1e-12:
                break
        return self._odds(true, partners)

    def _odds(self, true: dict, partners: float) -> dict[tuple[int, int], float]:
        have = (partners + 0.5) / (len(self.left["n"]) + 1)
        prior = have / (1 - have) / len(self.right["n"])
        odds = {}
        for pair in self.pairs:
            odds[pair] = prior
            for column in self.columns:
                level = self.level[column, pair]
                if level is not None:
                    odds[pair] *= true[column][level] / self.chance[column, pair]
        return odds

    def best(self, left: int) -> dict[int, float]:
        """The odds of each partner of a record against all else that either could mean."""
        against = {}
        for pair in self.pairs:
            if pair[0] == left:
                rivals = (q for q in self.pairs if q != pair and (q[0] == left or q[1] == pair[1]))
                against[pair[1]] = self.odds[pair] / (1 + sum(self.odds[q] for q in rivals))
        return against


def _linked(
    left: dict, right: dict, columns, ignore=(), accept=0.99, settled=None
) -> tuple[Linkage, list]:
    tables = [table_from_columns("left", left), table_from_columns("right", right)]
    coding = encode_keys(tables, [["n"], ["n"]], ignore)
    spec = EvidenceSpec(tuple(columns), accept, settled)
    linkage = link_records(tables, [["n"], ["n"]], coding, match_keys(coding), spec, ignore)
    texts = coding.key_columns[0].texts.to_pylist()
    pairs = [(texts[a], texts[b]) for a, b in zip(linkage.left, linkage.right, strict=True)]
    return linkage, pairs


@pytest.mark.parametrize(
    "seed", [0, 1, *(pytest.param(seed, marks=pytest.mark.slow) for seed in (2, 3))]
)
def test_the_odds_are_those_of_a_judge_that_compares_all_pairs(seed):
    left, right, _ = registers(seed, 40)
    chance = random.Random(seed)
    for side in (left, right):
        del side["phone"]
        side["weight"] = [
            None if chance.random() < 0.1 else str(chance.randrange(100, 120)) for _ in side["n"]
        ]
        side["name"] = [name if chance.random() < 0.8 else f"{name[0]}. {name.split(' ', 1)[1]}"
                        for name in side["name"]]  # fmt: skip
        side["town"] = [c and (c.upper() if chance.random() < 0.2 else c) for c in side["town"]]
    ignoring = bool(seed % 2)
    judge = Judge(left, right, ["n", "name", "born", "town", "weight"], ignoring)
    linkage, pairs = _linked(
        left, right, ["name", "born", "town", "weight"], ["case"] if ignoring else []
    )
    assert len(pairs) >= 15
    for (mine, theirs), log_odds in zip(pairs, linkage.log_odds.tolist(), strict=True):
        wanted = judge.best(left["n"].index(mine))[right["n"].index(theirs)]
        assert log_odds == pytest.approx(math.log(wanted), rel=1e-9, abs=1e-9)


def test_the_odds_do_not_depend_on_the_order_of_rows_or_columns():
    left, right, _ = registers(11, 200)
    linkage, pairs = _linked(left, right, ["name", "born", "town", "phone"])
    chance = random.Random(3)
    turned = []
    for side in (left, right):
        order = list(range(len(side["n"])))
        chance.shuffle(order)
        turned.append({name: [cells[at] for at in order] for name, cells in reversed(side.items())})
    again, same = _linked(*turned, ["phone", "town", "name", "born"])
    assert dict(zip(pairs, linkage.log_odds.round(9), strict=True)) == dict(
        zip(same, again.log_odds.round(9), strict=True)
    )


@pytest.mark.slow
def test_a_column_that_tells_nothing_changes_no_pair():
    left, right, _ = registers(12, 200)
    linkage, pairs = _linked(left, right, ["name", "born", "town", "phone"])
    used = {pair for pair, yes in zip(pairs, linkage.accepted, strict=True) if yes}
    chance = random.Random(5)
    for side in (left, right):
        side["coin"] = [chance.choice("ab") for _ in side["n"]]
        side["same"] = ["x" for _ in side["n"]]
    more, found = _linked(left, right, ["name", "born", "town", "phone", "coin", "same"])
    assert {pair for pair, yes in zip(found, more.accepted, strict=True) if yes} == used
    weights = dict(
        zip((p.name for p in more.model.pieces), np.abs(more.weights).max(axis=0), strict=True)
    )
    assert weights["coin"] < 0.5 and weights["same"] < 0.05


@pytest.mark.slow
@pytest.mark.parametrize("seed", [21, 22])
def test_what_is_said_to_be_sure_is_as_often_true(seed):
    left, right, truth = registers(seed, 1500)
    linkage, pairs = _linked(left, right, ["name", "born", "town", "phone"])
    true = np.array([truth.get(mine) == theirs for mine, theirs in pairs])
    assert true[linkage.accepted].mean() >= 0.99
    assert true[linkage.accepted].sum() / len(truth) >= 0.95
    sure = linkage.probability >= 0.9
    assert 0.9 <= true[sure].mean() <= 1
    doubtful = (linkage.probability > 0.1) & ~sure
    said = linkage.probability[doubtful].sum()
    assert abs(true[doubtful].sum() - said) <= 3 * math.sqrt(said) + 2
    assert linkage.expected_wrong == pytest.approx(
        (1 - linkage.probability)[linkage.accepted].sum()
    )


def test_a_tie_is_never_accepted():
    left, right, truth = registers(13, 120)
    mine, theirs = next(iter(truth.items()))
    at = right["n"].index(theirs)
    for name, cells in right.items():  # the same person once more, under another number
        cells.append("R9999999" if name == "n" else cells[at])
    linkage, pairs = _linked(left, right, ["name", "born", "town", "phone"], accept=0.51)
    (row,) = [row for row, pair in enumerate(pairs) if pair[0] == mine]
    assert linkage.probability[row] < 0.5 and not linkage.accepted[row]


def test_the_whole_assignment_is_the_best_and_not_each_pair():
    # Both of the left are likest the same one of the right; one of them has another that fits.
    left, right, _ = registers(14, 60)
    for side, names in (
        (left, ("Ada Berghof", "Ada Berghov")),
        (right, ("Ada Berghof", "Ada Bergof")),
    ):
        for number, name in enumerate(names):
            row = (f"{'L' if side is left else 'R'}99{number}", name, "1971-03-05", "Elmham", None)
            for column, cell in zip(side, row, strict=True):
                side[column].append(cell)
    linkage, pairs = _linked(left, right, ["name", "born", "town", "phone"], accept=None)
    chosen = dict(pairs)
    assert {chosen["L990"], chosen["L991"]} == {"R990", "R991"} and chosen["L990"] == "R990"
    assert linkage.one_to_one and not linkage.accepted.any()


def test_what_a_person_decided_is_taken_as_known():
    left, right, truth = registers(15, 200)
    linkage, pairs = _linked(left, right, ["name", "born", "town", "phone"])
    used = [pair for pair, yes in zip(pairs, linkage.accepted, strict=True) if yes]
    wrong, (other, _) = used[0], used[1]
    lonely = next(
        n for n in right["n"] if n not in dict(map(reversed, pairs)) and n not in truth.values()
    )
    settled = table_from_columns(
        "settled",
        {
            "left n": [wrong[0], other, used[2][0]],
            "right n": [wrong[1], lonely, used[2][1]],
            "use": ["no", "yes", "no"],
            "decided": ["rejected", " Accepted", "open"],  # as somebody writes it by hand
        },
    )
    again, after = _linked(left, right, ["name", "born", "town", "phone"], settled=settled)
    now = dict(after)
    assert now.get(wrong[0]) != wrong[1] and now[other] == lonely and now[used[2][0]] == used[2][1]
    (row,) = [row for row, pair in enumerate(after) if pair[0] == other]
    assert again.decided[row] and again.accepted[row]


@pytest.mark.parametrize(
    ("one_to_one", "same_table", "wanted"),
    [
        (True, False, [1, 0, 0, None]),
        (False, False, [1, 0, None, None]),
        (False, True, [1, None, None, None]),
    ],
)
def test_whoever_is_known_to_be_one_person_is_no_other(one_to_one, same_table, wanted):
    """Of 0-5, 0-6, 1-5 and 2-7 a person accepted the first."""
    candidates = Candidates(np.array([0, 0, 1, 2]), np.array([5, 6, 5, 7]), 9)
    told = np.array([0]), np.array([5]), np.array([True])
    known = _decisions_of_candidates(candidates, told, one_to_one, same_table)
    assert [None if np.isnan(value) else value for value in known.tolist()] == wanted


def test_too_little_to_tell_by_gives_no_odds_and_says_why():
    left, right, _ = registers(16, 9)
    linkage, pairs = _linked(left, right, ["name", "born"])
    assert not pairs and "fewer than 10 keys" in linkage.refused
    left, right, _ = registers(16, 60)
    for side in (left, right):
        side["same"] = ["x"] * 60
    strangers = {
        name: [f"{cell}{at}" for at, cell in enumerate(cells)] for name, cells in right.items()
    }
    linkage, pairs = _linked(left, strangers, ["same"])
    assert not pairs and "chance" in linkage.refused


def test_many_spellings_of_one_key_have_one_partner_each():
    left, right, truth = registers(17, 150)
    rows = {name: cells + cells[:40] for name, cells in left.items()}  # so keys are on several rows
    linkage, pairs = _linked(rows, right, ["name", "born", "town", "phone"])
    assert not linkage.one_to_one
    assert len({mine for mine, _ in pairs}) == len(pairs)
    used = [
        truth.get(mine) == theirs
        for (mine, theirs), yes in zip(pairs, linkage.accepted, strict=True)
        if yes
    ]
    assert len(used) > 60 and sum(used) / len(used) > 0.98


def test_records_of_one_table_that_mean_the_same_hold_together():
    left, right, truth = registers(18, 250)
    table = table_from_columns(
        "people", {name: cells + right[name] for name, cells in left.items()}
    )
    coding = encode_keys([table], [["n"]])
    linkage = link_records(
        [table], [["n"]], coding, None, EvidenceSpec(("name", "born", "town", "phone"), 0.99)
    )
    texts = coding.key_columns[0].texts.to_pylist()
    pairs = {(texts[b], texts[a]) for a, b in zip(linkage.left, linkage.right, strict=True)}
    wrong = [pair for pair in pairs if truth.get(pair[0]) != pair[1]]
    assert len(wrong) <= 1 and len(pairs) > 0.9 * len(truth)


@pytest.mark.slow
def test_what_a_person_decided_of_one_table_parts_and_joins_groups():
    left, right, _ = registers(19, 120)
    table = table_from_columns(
        "people", {name: cells + right[name] for name, cells in left.items()}
    )
    coding = encode_keys([table], [["n"]])
    spec = EvidenceSpec(("name", "born", "town", "phone"), 0.99)
    texts = coding.key_columns[0].texts.to_pylist()

    def used(settled=None) -> set[frozenset[str]]:
        given = replace(spec, settled=settled)
        linkage = link_records([table], [["n"]], coding, None, given)
        pairs = zip(linkage.left, linkage.right, linkage.accepted, strict=True)
        return {frozenset((texts[mine], texts[theirs])) for mine, theirs, yes in pairs if yes}

    before = used()
    apart = next(iter(sorted(before, key=sorted)))
    strangers = [n for n in left["n"] if not any(n in pair for pair in before)][:2]
    mine, theirs = sorted(apart)
    settled = table_from_columns(
        "settled",
        {
            "left n": [mine, strangers[0], mine],
            "right n": [theirs, strangers[1], mine],  # and a key that is itself, which says nothing
            "decided": ["rejected", "accepted", "accepted"],
        },
    )
    after = used(settled)
    assert apart not in after and frozenset(strangers) in after
    assert before - {apart} <= after
