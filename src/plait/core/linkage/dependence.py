"""Evidence that follows from other evidence, and would be counted twice."""

from __future__ import annotations

from collections.abc import Sequence

from plait.core.codes.dense_codes import combine_codes, count_codes
from plait.core.linkage.evidence import Evidence
from plait.core.text.hash_table import Codes

FEWEST_PAIRS = 30  # of records that agree in a piece, to tell by
ALMOST_ALWAYS = 0.95  # a town is the same where the postal code is, but for slips
_AT_MOST_BY_CHANCE = 0.5  # a piece that is mostly equal follows from everything, and tells little


def pieces_that_follow(evidence: Sequence[Evidence]) -> dict[str, str]:
    """Which pieces say what another one says already, and which that is.

    Notes
    -----
    Two records of the right are not the same thing. So where two of them agree in one piece and
    then almost always in another as well, which they seldom do otherwise, the second follows from
    the first: a town from a postal code, a year from a date.

    Pieces that follow from one another are told by the first of them.
    """
    follows: dict[str, str] = {}
    for piece in evidence:
        for other in evidence:
            if other is piece or other.name in follows or piece.part_of_key:
                continue
            if _follows(piece.loose[1], other.loose[1]):
                follows[piece.name] = other.name
                break
    return follows


def _follows(codes: Codes, other: Codes) -> bool:
    """Whether records that agree in the other piece agree in this one."""
    both_known = (codes >= 0) & (other >= 0)
    mine, theirs = codes[both_known], other[both_known]
    sizes = [int(side.max(initial=0)) + 1 for side in (mine, theirs)]
    (both,), size = combine_codes([theirs], sizes[1], [mine], sizes[0])
    agree_in_other = _pairs(theirs, sizes[1])
    all_pairs = len(mine) * (len(mine) - 1) // 2
    if agree_in_other < FEWEST_PAIRS or _pairs(mine, sizes[0]) > _AT_MOST_BY_CHANCE * all_pairs:
        return False
    return _pairs(both, size) >= ALMOST_ALWAYS * agree_in_other


def _pairs(codes: Codes, size: int) -> int:
    """How many pairs of records have the same code."""
    counts = count_codes(codes, size)
    return int((counts * (counts - 1) // 2).sum())
