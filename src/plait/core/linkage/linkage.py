"""Records of two tables, or of one, that mean the same: found by evidence, with odds."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt
import pyarrow.compute as pc

from plait.core.codes.dense_codes import first_row_of_each_code
from plait.core.codes.key_codes import KeyCodes, encode_keys
from plait.core.codes.normalize import Ignored, normalize_texts
from plait.core.keys.crosswalk import parse_decisions
from plait.core.keys.match import KeyMatch
from plait.core.linkage.assignment import (
    Partners,
    assign_partners,
    group_records,
)
from plait.core.linkage.candidates import Candidates, find_candidates
from plait.core.linkage.dependence import pieces_that_follow
from plait.core.linkage.evidence import gather_evidence, resolve_evidence
from plait.core.linkage.evidence_spec import EvidenceSpec
from plait.core.linkage.odds import (
    FEWEST_RECORDS,
    LinkageModel,
    estimate_odds,
    probability_of,
    with_decisions,
)
from plait.core.table.table import Table
from plait.core.unmatched.approximate import find_near_keys

Numbers = npt.NDArray[np.int64]
Floats = npt.NDArray[np.float64]
Flags = npt.NDArray[np.bool_]

LEAST_SHOWN = 1e-4  # the odds from which on a partner is worth a look
MOST_ALTERNATIVES, MOST_DOUBTFUL = 3, 2000
GROUP_THRESHOLD = 0.9  # of records of one table, where nobody names another


@dataclass(frozen=True, eq=False)
class Alternatives:
    """The best partners of the keys that are most in doubt, for a person to choose from.

    Parameters
    ----------
    left, right : arrays of int64
        Codes of keys; those of one left key beside each other, the best first.
    log_odds, probability : arrays of float64
        As in ``Linkage``.
    weights, levels : arrays
        As in ``Linkage``.
    decided : array of int8
        1 accepted, 0 rejected by a person, -1 neither.
    """

    left: Numbers
    right: Numbers
    log_odds: Floats
    probability: Floats
    weights: Floats
    levels: npt.NDArray[np.int8]
    decided: npt.NDArray[np.int8]


@dataclass(frozen=True, eq=False)
class Linkage:
    """Partners by evidence of the keys that match nothing.

    Parameters
    ----------
    left, right : arrays of int64
        For each pair that was chosen the codes of its keys. In one table the right one is that
        of the key that stands for its group.
    log_odds, probability : arrays of float64
        Of each pair, against everything else.
    weights : array of float64
        For each pair and each piece of the model what it adds to the logarithm of the odds.
    levels : array of int8
        For each pair and each piece its ``Level``.
    second : array of int64
        The code of the next best key of each left one; -1 for none.
    second_log_odds : array of float64
        The odds of that; NaN for none.
    accepted : array of bool
        Whether the pair is to be used.
    decided : array of bool
        Whether a person has decided so.
    records : pair of int
        How many keys were set against how many.
    compared, possible : int
        Pairs of keys.
    cut : tuple of str
        Evidence that too many records share, two pieces at a time.
    follows : mapping of str to str
        Evidence that was left out, and what says the same.
    """

    left: Numbers
    right: Numbers
    log_odds: Floats
    probability: Floats
    weights: Floats
    levels: npt.NDArray[np.int8]
    second: Numbers
    second_log_odds: Floats
    accepted: Flags
    decided: Flags
    model: LinkageModel
    records: tuple[int, int]
    compared: int
    possible: int
    cut: tuple[str, ...]
    one_to_one: bool
    accept: float | None
    alternatives: Alternatives | None = None
    follows: Mapping[str, str] = field(default_factory=dict)

    @property
    def refused(self) -> str:
        """Why there are no odds; empty where there are."""
        return self.model.refused

    @property
    def expected_wrong(self) -> float:
        """How many of the accepted pairs are expected to be wrong: one less the probability each.

        Those that a person decided are taken for right.
        """
        return float((1 - self.probability)[self.accepted & ~self.decided].sum())

    def rank_by_doubt(self) -> Numbers:
        """The pairs, those next to even odds first."""
        doubt = np.where(self.decided, np.inf, np.abs(self.log_odds))
        return np.lexsort((self.right, self.left, doubt))


def link_records(
    tables: Sequence[Table],
    columns: Sequence[Sequence[str]],
    coding: KeyCodes,
    key_match: KeyMatch | None,
    spec: EvidenceSpec,
    ignore: Iterable[Ignored] = (),
) -> Linkage:
    """Partners of keys that match nothing, or keys of one table that mean the same.

    Parameters
    ----------
    tables : sequence of Table
        Two, or one.
    columns : sequence of sequence of str
        For each table its key columns.
    key_match : KeyMatch or None
        Of two tables.
    ignore : iterable of str or IgnoredWords
        What does not count in a comparison, of evidence either.

    Notes
    -----
    Keys are put in order by their texts before anything is added up, so that the odds are the
    same in whatever order rows stand.
    """
    same_table = key_match is None
    records, one_to_one = _records(coding, key_match)
    names = resolve_evidence(spec.columns, tables, columns)
    if min(map(len, records)) < FEWEST_RECORDS:
        reason = f"fewer than {FEWEST_RECORDS} keys of one side can be set against others"
        return _without_odds(reason, names, records, one_to_one, spec.accept)
    evidence = tuple(
        gather_evidence(tables, names, coding.codes, records, tuple(ignore), len(columns[0]))
    )
    # Of one table two records may well be the same: they do not tell what follows from what.
    follows = {} if same_table else pieces_that_follow(evidence)
    evidence = tuple(piece for piece in evidence if piece.name not in follows)
    near = find_near_keys(coding, coding.distinct, records[0], records[-1])
    numbers = _record_numbers(coding, records)
    decided = _decided(tables, columns, coding, numbers, spec.settled, ignore)
    named = (numbers[0][near.key], numbers[-1][near.other]), decided[:2]
    candidates = find_candidates(evidence, named, same_table)
    known = _decisions_of_candidates(candidates, decided, one_to_one, same_table)
    most = min(map(len, records)) if one_to_one else len(records[0])
    model = estimate_odds(evidence, candidates, most, known, same_table)
    if model.refused:
        return _without_odds(
            model.refused, names, records, one_to_one, spec.accept, len(candidates)
        )
    log_odds = with_decisions(model.log_odds, known)
    accept = np.inf if spec.accept is None else spec.accept
    if same_table:
        partners, left, right = _grouped(candidates, log_odds, spec.accept, records[0])
    else:
        partners = assign_partners(candidates, log_odds, one_to_one)
        left, right = records[0][candidates.left], records[-1][candidates.right]
    at = np.flatnonzero(partners.chosen)
    at = at[np.argsort(left[at], kind="stable")]
    by_hand = ~np.isnan(known[at])
    second = partners.second[at]
    return Linkage(
        left[at],
        right[at],
        partners.log_odds[at],
        partners.probability[at],
        model.weights[at],
        model.levels[at],
        np.where(second >= 0, records[-1][candidates.right[second]], -1),
        np.where(second >= 0, partners.log_odds[second], np.nan),
        by_hand | (partners.probability[at] >= accept),
        by_hand,
        model,
        (len(records[0]), len(records[-1])),
        len(candidates),
        candidates.possible,
        candidates.cut,
        one_to_one,
        spec.accept,
        None
        if same_table
        else _alternatives(candidates, model, partners, known, (records[0], records[-1])),
        follows,
    )


def _alternatives(
    candidates: Candidates,
    model: LinkageModel,
    partners: Partners,
    known: Floats,
    records: tuple[Numbers, Numbers],
) -> Alternatives:
    """The best partners of the keys that are most in doubt."""
    worth = np.flatnonzero((model.log_odds >= np.log(LEAST_SHOWN)) | ~np.isnan(known))
    order = worth[
        np.lexsort((candidates.right[worth], -model.log_odds[worth], candidates.left[worth]))
    ]
    left = candidates.left[order]
    place = np.arange(len(order)) - np.searchsorted(left, left)
    order = order[(place < MOST_ALTERNATIVES) | (known[order] == 1)]
    doubt = np.full(len(records[0]), np.inf)
    np.minimum.at(doubt, candidates.left[order], np.abs(partners.log_odds[order]))
    doubtful = np.argsort(doubt, kind="stable")[:MOST_DOUBTFUL]
    order = order[np.isin(candidates.left[order], doubtful)]
    decided = np.where(np.isnan(known[order]), -1, known[order]).astype(np.int8)
    return Alternatives(
        records[0][candidates.left[order]],
        records[1][candidates.right[order]],
        partners.log_odds[order],
        partners.probability[order],
        model.weights[order],
        model.levels[order],
        decided,
    )


def _without_odds(
    reason: str,
    names: Sequence[Sequence[tuple[str, str]]],
    records: Sequence[Numbers],
    one_to_one: bool,
    accept: float | None,
    compared: int = 0,
) -> Linkage:
    """What there is to say where the data do not let odds be estimated."""
    none, floats, flags = np.zeros(0, np.int64), np.zeros(0), np.zeros(0, bool)
    weights, levels = np.zeros((0, len(names))), np.zeros((0, len(names)), np.int8)
    sizes = len(records[0]), len(records[-1])
    possible = sizes[0] * sizes[1]
    return Linkage(
        *(none, none, floats, floats, weights, levels, none, floats, flags, flags),
        LinkageModel((), 0.0, 0.0, weights, levels, floats, reason),
        *(sizes, compared, possible, (), one_to_one, accept),
    )


def _records(coding: KeyCodes, key_match: KeyMatch | None) -> tuple[tuple[Numbers, ...], bool]:
    """The keys of either side in order of their texts, and whether each has one partner at most.

    Where a key of the left comes on several rows, several of its spellings may mean one key of
    the right, which may also have a match already.
    """
    order = _order_of_texts(coding)
    if key_match is None:
        standing = coding.counts(0) > 0
        return (order[standing[order]],), False
    on_left, on_right = key_match.left_counts > 0, key_match.right_counts > 0
    one_to_one = bool(key_match.left_counts.max(initial=0) <= 1)
    free = on_right & ~on_left if one_to_one else on_right
    alone = on_left & ~on_right
    return (order[alone[order]], order[free[order]]), one_to_one


def _order_of_texts(coding: KeyCodes) -> Numbers:
    """The keys in the order of their texts."""
    ranks = []
    for part, column in zip(coding.distinct, coding.key_columns, strict=True):
        # Of keys that are equal but for what is ignored any may be the text: so without that.
        texts = normalize_texts(column.texts, column.ignored)
        rank = np.full(column.size + 1, -1, np.int64)
        rank[np.asarray(pc.array_sort_indices(texts))] = np.arange(column.size)
        ranks.append(rank[part])
    return np.lexsort(ranks[::-1])


def _record_numbers(coding: KeyCodes, records: Sequence[Numbers]) -> list[Numbers]:
    """For each side the number of the record of each key; -1 for a key that is none."""
    numbers = []
    for of_side in records:
        number = np.full(coding.code_count + 1, -1, np.int64)
        number[of_side] = np.arange(len(of_side))
        numbers.append(number)
    return numbers


def _decided(
    tables: Sequence[Table],
    columns: Sequence[Sequence[str]],
    coding: KeyCodes,
    numbers: Sequence[Numbers],
    settled: Table | None,
    ignore: Iterable[Ignored],
) -> tuple[Numbers, Numbers, Flags]:
    """Pairs of records that a person decided on, and whether they were accepted."""
    if settled is None:
        return np.zeros(0, np.int64), np.zeros(0, np.int64), np.zeros(0, bool)
    decisions = parse_decisions(settled, len(columns[0]))
    all_tables = [*tables, decisions.crosswalk.table, decisions.crosswalk.table]
    keys = [*columns, decisions.crosswalk.left, decisions.crosswalk.right]
    both = encode_keys(all_tables, keys, ignore, followers=2)
    # The same rows have the same keys in both codings: so one leads to the other.
    of_side = []
    for number, decided in ((0, both.codes[-2]), (len(tables) - 1, both.codes[-1])):
        first = first_row_of_each_code(coding.codes[number], coding.code_count)
        standing = np.flatnonzero(first >= 0)
        code = np.full(both.code_count + 1, -1, np.int64)
        code[both.codes[number][first[standing]]] = standing
        of_side.append(numbers[number][code[decided]])
    left, right = of_side
    met = (left >= 0) & (right >= 0)
    if len(tables) == 1:
        met &= left != right
    return left[met], right[met], decisions.accepted[met]


def _decisions_of_candidates(
    candidates: Candidates,
    decided: tuple[Numbers, Numbers, Flags],
    one_to_one: bool,
    same_table: bool,
) -> Floats:
    """For each candidate 1 or 0 where a person decided, NaN elsewhere."""
    known = np.full(len(candidates), np.nan)
    left, right, use = decided
    if same_table:
        left, right = np.minimum(left, right), np.maximum(left, right)
    width = max(int(candidates.right.max(initial=0)), int(right.max(initial=0))) + 1
    at = np.searchsorted(candidates.left * width + candidates.right, left * width + right)
    known[at] = use
    if same_table:
        return known
    # Whoever is one person is no other.
    accepted = known == 1
    taken = np.isin(candidates.left, candidates.left[accepted])
    if one_to_one:
        taken |= np.isin(candidates.right, candidates.right[accepted])
    known[taken & ~accepted] = 0
    return known


def _grouped(
    candidates: Candidates, log_odds: Floats, accept: float | None, records: Numbers
) -> tuple[Partners, Numbers, Numbers]:
    """The pairs of one table: each record with the one that stands for its group."""
    probability = probability_of(log_odds)
    threshold = GROUP_THRESHOLD if accept is None else accept
    group = group_records(candidates, probability, threshold, len(records))
    chosen = group[candidates.right] == candidates.left
    partners = Partners(chosen, log_odds, probability, np.full(len(candidates), -1))
    # The one that is left is written first: it counts as the one on the right of the pair.
    return partners, records[candidates.right], records[candidates.left]
