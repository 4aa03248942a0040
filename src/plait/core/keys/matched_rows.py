"""By what the rows of a join came together: equal keys, looser ones, a crosswalk, evidence."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from plait.core.base.findings import SourceRow
from plait.core.codes.dense_codes import count_codes, rows_grouped_by_code
from plait.core.keys.crosswalk import Crosswalk
from plait.core.keys.match import KeyMatch, MatchedBy
from plait.core.table.table import Table

MOST_EVIDENCE_ROWS = 100_000  # rows whose evidence is kept for tracing


@dataclass(frozen=True)
class EvidenceMatch:
    """Rows that a join took for the same by evidence, and how sure that is."""

    left: tuple[SourceRow, ...]
    right: tuple[SourceRow, ...]
    reason: str


def count_matched_by(key_match: KeyMatch, respelt: int, crosswalk: Crosswalk | None) -> MatchedBy:
    """By what the rows came together.

    Parameters
    ----------
    respelt : int
        Pairs of rows whose keys are spelt differently.
    """
    by_pairs = by_evidence = 0
    pair = key_match.coding.pair_rows
    if pair is not None and crosswalk is not None:
        codes = key_match.coding.codes[0]
        rows = np.flatnonzero((pair >= 0) & (codes >= 0))
        times = key_match.right_counts[codes[rows]]
        with_odds = crosswalk.with_odds()[pair[rows]]
        by_pairs, by_evidence = int(times[~with_odds].sum()), int(times[with_odds].sum())
    looser = max(respelt - by_pairs - by_evidence, 0)
    equal = key_match.pairs - looser - by_pairs - by_evidence
    return MatchedBy(equal, looser, by_pairs, by_evidence)


def rows_matched_by_evidence(
    left: Table, right: Table, key_match: KeyMatch, crosswalk: Crosswalk | None
) -> Iterator[EvidenceMatch]:
    """The rows of both tables that came together by odds, pair by pair."""
    pair = key_match.coding.pair_rows
    if pair is None or crosswalk is None:
        return
    codes = key_match.coding.codes
    there = np.flatnonzero((pair >= 0) & (codes[0] >= 0))
    there = there[crosswalk.with_odds()[pair[there]]]
    there = there[key_match.right_counts[codes[0][there]] > 0][:MOST_EVIDENCE_ROWS]
    counts = count_codes(codes[1], key_match.coding.code_count)
    rows, offsets = rows_grouped_by_code(codes[1], counts)
    for row in there.tolist():
        code = codes[0][row]
        partners = rows[offsets[code] : offsets[code + 1]][:MOST_EVIDENCE_ROWS]
        yield EvidenceMatch(
            left.source_rows(row),
            tuple(place for partner in partners for place in right.source_rows(int(partner))),
            crosswalk.reason(int(pair[row])),
        )
