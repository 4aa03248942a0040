"""How sure it is that two records mean the same: the model of Fellegi and Sunter."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from plait.core.codes.dense_codes import count_codes, dense_rank
from plait.core.linkage.candidates import Candidates
from plait.core.linkage.evidence import Evidence, Level, compare_records, near_matrix
from plait.core.text.hash_table import Codes

Numbers = npt.NDArray[np.int64]
Floats = npt.NDArray[np.float64]
Levels = npt.NDArray[np.int8]

SMOOTHING = 0.5  # observations of each level taken for granted, so that none is impossible
SAMPLE = 1000  # records of each side, from which chance nearness is estimated where there are more
MOST_ROUNDS, STILL = 1000, 1e-12
FEWEST_RECORDS, FEWEST_PARTNERS, FEWEST_PIECES = 10, 5.0, 2
_SHARE_OF_PARTNERS = 0.5  # of the smaller side, to begin with
_BEGIN = (0.0, 0.1, 0.1, 0.1, 0.7)  # how often each level occurs among true pairs, to begin with
LEAST_CHANCE = 1e-12
CERTAIN = 700.0  # the logarithm of the odds of what a person decided: as much as a double holds
_LIKELY = 0.5
_LEVELS = len(Level)


@dataclass(frozen=True, eq=False)
class PieceModel:
    """What a piece of evidence tells.

    Parameters
    ----------
    name, short_name : str
        The evidence: with both columns, and with the left one.
    true : array of float64
        By ``Level``: how often it occurs among true pairs in which the piece is not missing.
    chance : array of float64
        The same among pairs of any two records.
    """

    name: str
    short_name: str
    true: Floats
    chance: Floats


@dataclass(frozen=True, eq=False)
class LinkageModel:
    """The odds of candidates, and what they are made of.

    Parameters
    ----------
    prior : float
        The odds of any two records.
    partners : float
        How many true pairs there are, by the model.
    weights : array of float64
        For each candidate and each piece the natural logarithm of what it adds to the odds.
    levels : array of int8
        For each candidate and each piece its ``Level``.
    log_odds : array of float64
        Of each candidate, by itself: the natural logarithm.
    refused : str
        Why there are no odds; empty where there are.
    """

    pieces: tuple[PieceModel, ...]
    prior: float
    partners: float
    weights: Floats
    levels: Levels
    log_odds: Floats
    refused: str = ""


def estimate_odds(
    evidence: Sequence[Evidence],
    candidates: Candidates,
    most: int,
    known: Floats,
    same_table: bool = False,
) -> LinkageModel:
    """The odds that each candidate is a true pair.

    Parameters
    ----------
    most : int
        How many true pairs there can be.
    known : array of float64
        For each candidate 1 or 0 where a person has decided, NaN elsewhere.
    same_table : bool
        Whether both sides are one table.

    Returns
    -------
    LinkageModel
        Without odds where the data do not let them be estimated: then ``refused`` says why.

    Notes
    -----
    A pair has for each piece of evidence a level of agreement. How often a level occurs among
    true pairs is estimated by expectation and maximisation (Dempster, Laird and Rubin, 1977;
    Winkler, "Using the EM algorithm for weight computation in the Fellegi-Sunter model of record
    linkage", 1988); how often by chance is counted: for agreement on a value it is the share of
    that value among all other records, so that a rare one weighs more (Newcombe et al., 1959), for
    nearness the share of near pairs among any two records. The odds are those before
    anything is known, times the ratio of the two for each piece (Fellegi and Sunter, "A theory
    for record linkage", 1969). A missing cell tells nothing. Pairs that are no candidates count
    as not true. The pieces are taken to be independent, given that a pair is true or not.

    Of two tables a record of the left has one partner at most, and any of the right is as likely:
    so the odds of a pair are those against its left record having none, and the shares of a
    record's candidates, and of none, add up to one. Of one table each pair stands by itself.
    """
    levels = np.stack(
        [compare_records(piece, candidates.left, candidates.right) for piece in evidence], axis=1
    )
    shares = [near_share(piece, same_table) for piece in evidence]
    chances = np.stack(
        [
            _log_chance(piece, candidates, levels[:, at], shares[at], same_table)
            for at, piece in enumerate(evidence)
        ],
        axis=1,
    )
    sizes = len(evidence[0].loose[0]), len(evidence[0].loose[1])
    question = _Question(None if same_table else candidates.left, sizes, candidates.possible, known)
    true, partners = _maximise(levels, chances, question, most)
    prior = question.prior(partners)
    weights = np.log(true)[np.arange(len(evidence)), levels] - chances
    weights[levels == Level.MISSING] = 0.0
    log_odds = np.log(prior) + weights.sum(axis=1)
    pieces = tuple(
        PieceModel(
            piece.name,
            piece.short_name,
            np.where(possible_levels(levels[:, at]), of_true, 0.0),
            _overall_chance(piece, share, same_table),
        )
        for at, (piece, of_true, share) in enumerate(zip(evidence, true, shares, strict=True))
    )
    share = question.shares(log_odds)
    refused = _reason_to_refuse(evidence, float(share[share > _LIKELY].sum()))
    return LinkageModel(pieces, prior, partners, weights, levels, log_odds, refused)


def _reason_to_refuse(evidence: Sequence[Evidence], likely: float) -> str:
    """Why the data do not let odds be estimated; nothing where they do."""
    telling = [piece.name for piece in evidence if piece.tells]
    if len(telling) < FEWEST_PIECES:
        return "fewer than two columns differ between records, the key included"
    if likely < FEWEST_PARTNERS:
        return f"fewer than {FEWEST_PARTNERS:.0f} pairs agree in more than chance would bring"
    return ""


def possible_levels(levels: Levels) -> npt.NDArray[np.bool_]:
    """Which levels occur in a piece at all, by ``Level``; that it is missing is none."""
    occurs = np.bincount(levels, minlength=_LEVELS) > 0
    occurs[Level.MISSING] = False
    return occurs


@dataclass(frozen=True, eq=False)
class _Question:
    """What is asked: which right record each of the left means, or which of all pairs are true.

    Parameters
    ----------
    left : array of int64, or None
        For each candidate its left record; nothing where each pair stands by itself.
    sizes : pair of int
        Records of the left and of the right.
    possible : int
        Pairs.
    known : array of float64
        For each candidate 1 or 0 where a person has decided, NaN elsewhere.
    """

    left: Numbers | None
    sizes: tuple[int, int]
    possible: int
    known: Floats

    def prior(self, partners: float) -> float:
        """The odds of any pair where there are so many true ones."""
        if self.left is None:
            return partners / max(self.possible - partners, 1.0)
        have = (partners + SMOOTHING) / (self.sizes[0] + 2 * SMOOTHING)
        return have / ((1.0 - have) * max(self.sizes[1], 1))

    def shares(self, log_odds: Floats) -> Floats:
        """How much of each candidate is true, what is known taken as it is."""
        odds = odds_of(with_decisions(log_odds, self.known))
        total = odds
        if self.left is not None:
            total = np.bincount(self.left, odds, minlength=self.sizes[0])[self.left].astype(float)
        shares: Floats = odds / (1.0 + total)
        return shares


def with_decisions(log_odds: Floats, known: Floats) -> Floats:
    """The logarithms of odds, certain where a person has decided."""
    return np.where(np.isnan(known), log_odds, np.where(known > 0, CERTAIN, -CERTAIN))


def odds_of(log_odds: Floats) -> Floats:
    """The odds themselves, as far as a double holds them."""
    odds: Floats = np.exp(np.clip(log_odds, -CERTAIN, CERTAIN))
    return odds


def probability_of(log_odds: Floats) -> Floats:
    """Odds as a number from 0 to 1."""
    return 1.0 / (1.0 + odds_of(-log_odds))


def _maximise(
    levels: Levels, chances: Floats, question: _Question, most: int
) -> tuple[Floats, float]:
    """How often each level occurs among true pairs, and how many of those there are."""
    pieces = levels.shape[1]
    occurs = np.stack([possible_levels(levels[:, at]) for at in range(pieces)])
    true = np.where(occurs, np.array(_BEGIN), 0.0)
    true = np.where(occurs, true / np.maximum(true.sum(axis=1, keepdims=True), 1e-300), 1.0)
    base = -np.where(levels == Level.MISSING, 0.0, chances).sum(axis=1)
    # Pairs of one pattern of levels share all but their chances.
    pattern = np.zeros(len(levels), np.int64)
    for at in range(pieces):
        pattern = pattern * _LEVELS + levels[:, at]
    patterns, of_pair, _ = dense_rank(pattern)
    of_pattern = np.stack(
        [patterns // _LEVELS ** (pieces - 1 - at) % _LEVELS for at in range(pieces)], axis=1
    )
    partners = _SHARE_OF_PARTNERS * most
    for _ in range(MOST_ROUNDS):
        logs = np.where(of_pattern == Level.MISSING, 0.0, np.log(true)[range(pieces), of_pattern])
        log_odds = np.log(question.prior(partners)) + logs.sum(axis=1)[of_pair] + base
        share = question.shares(log_odds)
        weight = np.bincount(of_pair, share, minlength=len(patterns)).astype(np.float64)
        partners = float(min(max(weight.sum(), 1e-9), most))
        new = _shares_of_levels(of_pattern, weight, occurs)
        moved = float(np.abs(new - true).max())
        true = new
        if moved < STILL:
            break
    return true, partners


def _shares_of_levels(of_pattern: Numbers, weight: Floats, occurs: npt.NDArray[np.bool_]) -> Floats:
    """How the weight of patterns is shared out among the levels of each piece."""
    rows = []
    for at in range(of_pattern.shape[1]):
        counts = np.bincount(of_pattern[:, at], weight, minlength=_LEVELS)
        counts = np.where(occurs[at], counts + SMOOTHING, 0.0)
        rows.append(np.where(occurs[at], counts / max(counts.sum(), 1e-300), 1.0))
    return np.stack(rows)


def near_share(piece: Evidence, same_table: bool = False) -> float:
    """The share of pairs of any two records that are near, and not equal but for what is ignored.

    Of at most ``SAMPLE`` records of each side with a value, spread evenly over all of them.
    """
    records = [_spread(np.flatnonzero(codes >= 0)) for codes in piece.exact]
    pairs = len(records[0]) * len(records[1]) - (len(records[0]) if same_table else 0)
    if pairs <= 0:
        return 0.5
    # Each value once, with how many records have it.
    values, loose, times = [], [], []
    for side, of_side in enumerate(records):
        distinct, which, first = dense_rank(piece.exact[side][of_side])
        values.append(distinct)
        loose.append(piece.loose[side][of_side[first]])
        times.append(np.bincount(which).astype(np.float64))
    near = near_matrix(piece, values[0], values[1]) & (loose[0][:, None] != loose[1][None, :])
    return float((times[0] @ near @ times[1] + SMOOTHING) / (pairs + 2 * SMOOTHING))


def _spread(records: Numbers) -> Numbers:
    if len(records) <= SAMPLE:
        return records
    return records[np.arange(SAMPLE) * len(records) // SAMPLE]


@dataclass(frozen=True, eq=False)
class _Frequencies:
    """How many records of either side have each value of a piece, and how often by chance.

    How often a value occurs by chance is told by the records that are neither of the pair: those
    two may have it as they are one. Half a record is added for each value, so that one that nobody
    else has is rare and not impossible (Krichevsky and Trofimov, "The performance of universal
    encoding", 1981).
    """

    left: Numbers
    right: Numbers
    values: int

    def chance(self, codes: Codes, others_of_pair: int) -> Floats:
        """The chance of each value; ``others_of_pair`` of the pair have it besides the left."""
        total = int(self.left.sum() + self.right.sum())
        have = np.append(self.left + self.right, 0)[codes] - 1 - others_of_pair
        half = SMOOTHING
        rest = max(total - 2, 0) + half * max(self.values, 1)
        shares: Floats = (np.maximum(have, 0) + half) / rest
        return shares


def _records_of_values(codes: tuple[Codes, Codes]) -> tuple[Numbers, Numbers]:
    """How many records of the left, and of the right, have each value."""
    size = int(max(side.max(initial=0) for side in codes)) + 1
    return count_codes(codes[0], size), count_codes(codes[1], size)


def _frequencies(codes: tuple[Codes, Codes], same_table: bool) -> _Frequencies:
    left, right = _records_of_values(codes)
    if same_table:  # the records are there once
        right = np.zeros_like(right)
    return _Frequencies(left, right, int(((left + right) > 0).sum()))


def _log_chance(
    piece: Evidence, candidates: Candidates, levels: Levels, near: float, same_table: bool
) -> Floats:
    """The logarithm of how often each pair's level would occur by chance, given its left value."""
    loose = _frequencies(piece.loose, same_table)
    mine = piece.loose[0][candidates.left]
    # Either of the two may be the one that is spelt otherwise: so the share is that of all.
    spelt_alike = _share_spelt_alike(piece)
    same = loose.chance(mine, 1)
    chance = np.ones(len(levels))
    for level, share in (
        (Level.EQUAL, same * spelt_alike),
        (Level.ALIKE, same * (1.0 - spelt_alike)),
        (Level.NEAR, np.full(len(levels), near)),
        (Level.DIFFERENT, 1.0 - loose.chance(mine, 0) - near),
    ):
        chance = np.where(levels == level, share, chance)
    logs: Floats = np.log(np.maximum(chance, LEAST_CHANCE))
    return logs


def _share_spelt_alike(piece: Evidence) -> float:
    """The share that is equal of all pairs of records that are so but for what is ignored."""
    pairs = []
    for codes in (piece.exact, piece.loose):
        left, right = _records_of_values(codes)
        pairs.append(int((left * right).sum()))
    if pairs[0] == pairs[1]:  # nothing is spelt otherwise
        return 1.0
    return (pairs[0] + SMOOTHING) / (pairs[1] + 2 * SMOOTHING)


def _overall_chance(piece: Evidence, near: float, same_table: bool) -> Floats:
    """How often each level occurs among any two records, by ``Level``."""
    shares = []
    for codes in (piece.loose, piece.exact):
        left, right = _records_of_values(codes)
        itself = int(same_table)
        pairs = int(left.sum()) * (int(right.sum()) - itself)
        shares.append(int((left * np.maximum(right - itself, 0)).sum()) / max(pairs, 1))
    alike, equal = shares
    return np.array([0.0, max(1.0 - alike - near, 0.0), near, max(alike - equal, 0.0), equal])
