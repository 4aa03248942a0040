"""From odds to partners: the best whole assignment, and groups that hold together."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from plait.core.base.errors import UsageError
from plait.core.codes.dense_codes import dense_rank
from plait.core.linkage.candidates import Candidates
from plait.core.linkage.odds import odds_of, probability_of

Numbers = npt.NDArray[np.int64]
Floats = npt.NDArray[np.float64]
Flags = npt.NDArray[np.bool_]

LEAST_ODDS = 0.01  # a pair with less is neither shown nor assigned


@dataclass(frozen=True, eq=False)
class Partners:
    """Which candidates were chosen, and how sure each candidate is.

    Parameters
    ----------
    chosen : array of bool
        For each candidate whether it is its record's partner.
    log_odds : array of float64
        The odds of each candidate against everything else: that its records mean nothing on the
        other side, or another record there.
    probability : array of float64
        The same as a number from 0 to 1.
    second : array of int64
        For each candidate the best other one of its left record; -1 for none.
    """

    chosen: Flags
    log_odds: Floats
    probability: Floats
    second: Numbers


def assign_partners(candidates: Candidates, log_odds: Floats, one_to_one: bool) -> Partners:
    """For each left record its partner, so that all odds together are the best.

    Parameters
    ----------
    log_odds : array of float64
        Of each candidate by itself.
    one_to_one : bool
        Whether a right record may be the partner of one left record only.

    Notes
    -----
    A left record means one right record at most. So the odds of a pair against everything else
    are its odds by itself, over 1 and the odds of all that it would exclude. In a tie each of
    two pairs has less than even odds.
    """
    odds = odds_of(log_odds)
    rivals = _sum_of_others(candidates.left, odds)
    if one_to_one:
        rivals = rivals + _sum_of_others(candidates.right, odds)
    against = log_odds - np.log1p(rivals)
    worth = np.flatnonzero(log_odds >= np.log(LEAST_ODDS))
    if one_to_one:
        chosen = _best_assignment(candidates, log_odds, worth)
    else:
        chosen = _best_of_left(candidates, log_odds, worth)
    flags = np.zeros(len(candidates), bool)
    flags[chosen] = True
    return Partners(flags, against, probability_of(against), _second_best(candidates, log_odds))


def _sum_of_others(record: Numbers, odds: Floats) -> Floats:
    """For each candidate the sum of the odds of the others of its record."""
    total: Floats = np.bincount(record, odds)[record].astype(np.float64)
    # What is left when a large number is taken from a sum with it is not exact: the largest of a
    # record is summed without itself.
    best = np.zeros(len(total))
    np.maximum.at(best, record, odds)
    largest = odds == best[record]
    without = np.bincount(record, np.where(largest, 0.0, odds), minlength=len(total))[record]
    equals = np.bincount(record, largest, minlength=len(total))[record]
    return np.where(largest, without + (equals - 1) * odds, np.maximum(total - odds, 0.0))


def _best_of_left(candidates: Candidates, log_odds: Floats, worth: Numbers) -> Numbers:
    order = worth[np.lexsort((candidates.right[worth], -log_odds[worth], candidates.left[worth]))]
    left = candidates.left[order]
    best: Numbers = order[np.append(True, left[1:] != left[:-1])[: len(order)]]
    return best


def _best_assignment(candidates: Candidates, log_odds: Floats, worth: Numbers) -> Numbers:
    """One to one: the pairs whose odds multiply to the most (a linear assignment).

    Only those are handed to the solver whose record has a choice: a pair that is the only one of
    both its records is chosen as it is.
    """
    left, right = candidates.left[worth], candidates.right[worth]
    alone = (np.bincount(left)[left] == 1) & (np.bincount(right)[right] == 1)
    free: Numbers = worth[alone]
    open_ = worth[~alone]
    if not len(open_):
        return free
    try:
        from scipy.sparse import csr_array
        from scipy.sparse.csgraph import min_weight_full_bipartite_matching
    except ImportError:
        raise UsageError(
            "evidence between two sources needs SciPy, which is not installed",
            remedy="pip install 'plait[pairs]'",
        ) from None
    _, row, _ = dense_rank(candidates.left[open_])
    _, column, _ = dense_rank(candidates.right[open_])
    rows, columns = int(row.max()) + 1, int(column.max()) + 1
    # Each record of the left may also stay without a partner, which costs what the least pair does.
    gain = log_odds[open_] - np.log(LEAST_ODDS)
    most = float(gain.max()) + 1.0
    cost = np.concatenate([most - gain, np.full(rows, most)])
    # Row numbers of 32 bits: SciPy 1.13 matches no others.
    places = (
        np.concatenate([row, np.arange(rows)]).astype(np.int32),
        np.concatenate([column, columns + np.arange(rows)]).astype(np.int32),
    )
    graph = csr_array((cost, places), shape=(rows, columns + rows))
    matched_rows, matched = min_weight_full_bipartite_matching(graph)
    of_row = np.full(rows, -1)
    of_row[matched_rows] = matched
    chosen: Numbers = np.sort(np.concatenate([free, open_[of_row[row] == column]]))
    return chosen


def _second_best(candidates: Candidates, log_odds: Floats) -> Numbers:
    """For each candidate the best other one of its left record."""
    order = np.lexsort((candidates.right, -log_odds, candidates.left))
    left = candidates.left[order]
    first = np.searchsorted(left, left)
    last = np.searchsorted(left, left, side="right")
    is_first = first == np.arange(len(left))
    other = np.where(is_first, first + 1, first)
    second = np.where(other < last, order[np.minimum(other, max(len(order) - 1, 0))], -1)
    second_of = np.full(len(order), -1)
    second_of[order] = second
    return second_of


def group_records(
    candidates: Candidates, probability: Floats, threshold: float, records: int
) -> Numbers:
    """Groups of records of one table that hold together: each two of a group are sure.

    Parameters
    ----------
    threshold : float
        What each two records of a group must reach.
    records : int
        How many there are.

    Returns
    -------
    array of int64
        For each record the first of its group.

    Notes
    -----
    Complete linkage (Sørensen, 1948): two groups become one only where all pairs between them
    reach the threshold, so no chain of pairs brings together what is apart. The surest first.
    """
    sure = np.flatnonzero(probability >= threshold)
    left, right = candidates.left[sure], candidates.right[sure]
    times = np.bincount(np.concatenate([left, right]), minlength=records)
    alone = (times[left] == 1) & (times[right] == 1)
    group = np.arange(records)
    group[right[alone]] = left[alone]  # a pair of which neither has another
    order = np.flatnonzero(~alone)
    order = order[np.lexsort((right[order], left[order], -probability[sure][order]))]
    pairs = set(zip(left[order].tolist(), right[order].tolist(), strict=True))
    members: dict[int, list[int]] = {}
    for at in order.tolist():  # only what is entangled
        first_group, second_group = sorted((int(group[left[at]]), int(group[right[at]])))
        first_members, second_members = (
            members.get(first_group, [first_group]),
            members.get(second_group, [second_group]),
        )
        if first_group != second_group and all(
            (min(a, b), max(a, b)) in pairs for a in first_members for b in second_members
        ):
            members[first_group] = [*first_members, *second_members]
            group[second_members] = first_group
    return group
