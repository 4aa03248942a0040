"""Pairs with their odds, as people read them: the table that is edited, and its words."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

import numpy as np
import pyarrow as pa

from plait.core.base.findings import (
    MOST_EXAMPLES,
    Finding,
    FindingExample,
    Location,
    agreeing,
    pluralize,
)
from plait.core.codes.key_codes import KeyCodes, encode_keys
from plait.core.codes.normalize import Ignored
from plait.core.keys.crosswalk import DECIDED, EVIDENCE, ODDS, USE, crosswalk_column_names
from plait.core.keys.match import match_keys
from plait.core.linkage.evidence import Level
from plait.core.linkage.evidence_spec import EvidenceSpec
from plait.core.linkage.linkage import Alternatives, Linkage, link_records
from plait.core.linkage.odds import CERTAIN
from plait.core.table.table import Table, table_from_columns
from plait.core.unmatched.diagnosis import format_keys

LEAST_WEIGHT = np.log(1.25)  # a piece that says less tells little
LEVEL_WORDS = {
    Level.MISSING: "not known",
    Level.DIFFERENT: "different",
    Level.NEAR: "near",
    Level.ALIKE: "alike",
    Level.EQUAL: "equal",
}


def resolve_pairs(
    tables: Sequence[Table],
    columns: Sequence[Sequence[str]],
    pairs: Table | EvidenceSpec | None,
    ignore: Iterable[Ignored],
) -> tuple[Table | None, tuple[Finding, ...]]:
    """A crosswalk as it is; or the one that evidence makes, and what there is to say of it.

    Parameters
    ----------
    tables : sequence of Table
        Two, or one.
    columns : sequence of sequence of str
        For each table its key columns.
    """
    if not isinstance(pairs, EvidenceSpec):
        return pairs, ()
    ignore = tuple(ignore)
    coding = encode_keys(tables, columns, ignore)
    key_match = match_keys(coding) if len(tables) > 1 else None
    linkage = link_records(tables, columns, coding, key_match, pairs, ignore)
    names = crosswalk_column_names(tuple(zip(columns[0], columns[-1], strict=True)))
    crosswalk = table_from_columns("pairs", linkage_columns(linkage, names, coding))
    return crosswalk, tuple(report_linkage(linkage, tables, coding))


def report_linkage(
    linkage: Linkage, tables: Sequence[Table], coding: KeyCodes
) -> Iterator[Finding]:
    """That pairs were used by their odds, and how many may be wrong; or that there are none."""
    left, right = tables[0].name, tables[-1].name
    for name, other in linkage.follows.items():
        yield Finding(
            "evidence-follows",
            "note",
            1,
            f"{name} is the same almost wherever {other} is: left out of the evidence, or it would "
            "count twice",
            where=Location(right, name.split("=")[-1]),
        )
    if linkage.refused:
        yield Finding(
            "no-odds",
            "warning",
            1,
            f"no keys of {left} matched by evidence: {linkage.refused}",
            "name more columns, or match by key only",
            Location(left),
        )
        return
    accepted = int(linkage.accepted.sum())
    if not accepted:
        return
    keys = f"{pluralize(accepted, 'key')} of {left}"
    same = f"{keys} {agreeing(accepted, 'means', 'mean')} the same as another"
    how = same if len(tables) == 1 else f"{keys} matched to {right}"
    wrong = format_expected(linkage.expected_wrong)
    surely = f" ({linkage.accept * 100:.6g}% or more)" if linkage.accept else ""
    least_sure = np.flatnonzero(linkage.accepted)
    least_sure = least_sure[np.argsort(linkage.probability[least_sure], kind="stable")][
        :MOST_EXAMPLES
    ]
    mine, theirs = (
        format_keys(coding, codes[least_sure]) for codes in (linkage.left, linkage.right)
    )
    yield Finding(
        "matched-by-evidence",
        "note",
        accepted,
        f"{how} by evidence{surely}; expected to be wrong: {wrong}",
        "",
        Location(left),
        tuple(
            FindingExample(
                f"{left_key} / {right_key}: {format_odds(float(linkage.log_odds[at]))}", ()
            )
            for left_key, right_key, at in zip(mine, theirs, least_sure.tolist(), strict=True)
        ),
    )


def format_expected(number: float) -> str:
    """A number of pairs that are expected to be wrong.

    >>> format_expected(0.04), format_expected(1.38), format_expected(41.2), format_expected(0.0)
    ('0.04', '1.4', '41', 'none')
    """
    if number < 0.005:
        return "none" if number == 0 else "fewer than 0.01"
    return f"{number:,.0f}" if number >= 10 else f"{number:.2g}"


def linkage_columns(
    linkage: Linkage, names: tuple[list[str], list[str]], coding: KeyCodes
) -> dict[str, pa.Array]:
    """The pairs as columns: left key, right key, how sure, by what, the second best, use.

    Parameters
    ----------
    names : pair of lists of str
        Names for the key columns of the left and the right.
    """
    columns_of_pairs: dict[str, pa.Array] = {}
    for codes, side_names in zip((linkage.left, linkage.right), names, strict=True):
        for name, part, column in zip(side_names, coding.distinct, coding.key_columns, strict=True):
            columns_of_pairs[name] = column.texts.take(pa.array(part[codes]))
    rows = range(len(linkage.left))
    names_of_pieces = [piece.short_name for piece in linkage.model.pieces]
    with_second = np.flatnonzero(linkage.second >= 0)
    seconds: list[str | None] = [None] * len(linkage.left)
    for at, text in zip(
        with_second.tolist(), format_keys(coding, linkage.second[with_second]), strict=True
    ):
        seconds[at] = text
    columns: dict[str, list[str | None]] = {
        "probability": [f"{share:.6f}" for share in linkage.probability.tolist()],
        ODDS: [format_odds(odds) for odds in linkage.log_odds.tolist()],
        EVIDENCE: [describe_weights(linkage, at, names_of_pieces) for at in rows],
        "second best": seconds,
        "second odds": [
            None if np.isnan(odds) else format_odds(odds)
            for odds in linkage.second_log_odds.tolist()
        ],
        USE: ["yes" if use else "no" for use in linkage.accepted.tolist()],
        DECIDED: ["accepted" if decided else None for decided in linkage.decided.tolist()],
    }
    return columns_of_pairs | {
        name: pa.array(cells, pa.string()) for name, cells in columns.items()
    }


def format_odds(log_odds: float) -> str:
    """Odds as people say them.

    >>> format_odds(6.04), format_odds(-2.3), format_odds(0.0)
    ('420 to 1', '1 to 10', '1 to 1')
    """
    if abs(log_odds) >= CERTAIN:
        return "certain" if log_odds > 0 else "none"
    times = _two_digits(float(np.exp(abs(log_odds))))
    return f"{times} to 1" if log_odds >= 0 or times == "1" else f"1 to {times}"


def format_times(weight: float) -> str:
    """How many times likelier or less likely a pair is made by evidence of that weight.

    >>> format_times(6.04), format_times(-2.3)
    ('420', '10')
    """
    return _two_digits(float(np.exp(min(abs(weight), CERTAIN))))


def _two_digits(times: float) -> str:
    """A factor as precisely as it is known.

    >>> [_two_digits(times) for times in (1.04, 2.72, 8.96, 40.3, 419.9, 12_345, 4e13)]
    ['1', '2.7', '9', '40', '420', '12,000', 'over a billion']
    """
    if times >= 1e9:
        return "over a billion"
    digits = float(f"{times:.2g}")
    return f"{digits:,.0f}" if digits >= 10 or digits == int(digits) else f"{digits:.1f}"


def format_share(share: float) -> str:
    """How often something occurs, as a percentage of two digits.

    >>> [format_share(share) for share in (0.944, 0.0003, 0.9999, 1.0, 0.0)]
    ['94%', '0.03%', '99.99%', '100%', '0%']
    """
    percent = share * 100
    if percent > 99 and share < 1:
        return f"{100 - float(f'{100 - percent:.1g}'):.10g}%"
    return f"{float(f'{percent:.2g}'):.10g}%"


def sides_of_evidence(
    linkage: Linkage | Alternatives, at: int, names: Sequence[str]
) -> tuple[list[str], list[str]]:
    """What speaks for a pair and what against it, those that say most first, each with its odds.

    Pieces that are missing, or tell little, are on neither side.
    """
    weights, levels = linkage.weights[at], linkage.levels[at]
    sides: tuple[list[str], list[str]] = ([], [])
    for piece in np.argsort(-np.abs(weights), kind="stable").tolist():
        weight = float(weights[piece])
        if abs(weight) < LEAST_WEIGHT:
            continue
        times = format_times(weight)
        word = LEVEL_WORDS[Level(int(levels[piece]))]
        sides[weight < 0].append(f"{names[piece]} {word} {times}")
    return sides


def describe_weights(linkage: Linkage | Alternatives, at: int, names: Sequence[str]) -> str:
    """The same in a cell."""
    sides = zip(sides_of_evidence(linkage, at, names), ("for", "against"), strict=True)
    return "; ".join(f"{', '.join(side)} to 1 {word}" for side, word in sides if side)
