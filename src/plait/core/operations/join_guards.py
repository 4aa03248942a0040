"""What a join refuses, or warns of, before it makes any row."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from itertools import combinations

import numpy as np

from plait.core.base.errors import ExpectationError
from plait.core.base.findings import MOST_EXAMPLES, Finding, FindingExample, Location, pluralize
from plait.core.base.wording import Command, Setting, Text, Wording, wording
from plait.core.codes.dense_codes import combine_codes, count_codes, gather_by_code, order_of_codes
from plait.core.codes.key_codes import encode_keys
from plait.core.keys.duplicates import format_key
from plait.core.keys.match import ONE_SIDED, KeyMatch, MatchCounts, match_keys
from plait.core.table.key_spec import Key, format_key_option, key_setting, quote_name
from plait.core.table.table import SetAside, Table
from plait.core.text.cells import constant_text
from plait.core.text.hash_table import Codes
from plait.core.unmatched.causes import find_better_columns
from plait.core.unmatched.normalization_gains import (
    best_normalization_gain,
    exceeds_key_text_limit,
)

_POOR, _GOOD, _TIMES = 0.5, 0.5, 2
_NEXT_TO_NONE = 0.05
_MOST_PARTS = 12
_MANY = "many-to-many"


class JoinRefusedError(ExpectationError):
    """A join whose rows would multiply, or whose declared cardinality does not hold.

    Parameters
    ----------
    match : MatchCounts
        The numbers the join would have.
    findings : tuple of Finding
        What was found, the offending keys included.
    aside : tuple of SetAside
        The offending rows.
    """

    def __init__(
        self,
        what: Text,
        remedy: Text,
        match: MatchCounts,
        findings: tuple[Finding, ...],
        aside: tuple[SetAside, ...] = (),
    ) -> None:
        super().__init__(what, remedy=remedy)
        self.match, self.findings, self.aside = match, findings, aside


def refuse_join(
    left: Table,
    right: Table,
    pairs: Key,
    key_match: KeyMatch,
    match: MatchCounts,
    cardinality: str | None,
    findings: tuple[Finding, ...],
    kind: str,
    max_rows: int | None = None,
) -> None:
    """Raise when the join is not what was declared, or may not pass undeclared."""
    _refuse_size(match, max_rows, findings)
    if kind == "cross" or (kind in ONE_SIDED and cardinality is None):
        return
    text = match.cardinality
    if cardinality is None:
        if text == "many-to-many":
            raise JoinRefusedError(
                f"this join is many-to-many: {match.left_rows:,} and {match.right_rows:,} "
                f"rows would become {match.output_rows:,}",
                wording(
                    f"make the key unique in {right.name} or {left.name} (",
                    Command("settle"),
                    "), or allow it: ",
                    Setting("cardinality", "many-to-many"),
                ),
                match,
                (*findings, *_multiplying(left, right, pairs, key_match, ("left", "right"))),
                tuple(_offending(left, right, key_match, ("left", "right"))),
            )
        return
    broken = [
        side
        for side, allowed, is_found in zip(
            ("left", "right"), cardinality.split("-to-"), text.split("-to-"), strict=True
        )
        if allowed == "one" and is_found == "many"
    ]
    if broken:
        tables = " and ".join({"left": left, "right": right}[side].name for side in broken)
        raise JoinRefusedError(
            f"the join is declared {cardinality} but is {text}: matching keys occur on "
            f"several rows of {tables}",
            wording("make the key unique there, or declare ", Setting("cardinality", text)),
            match,
            (*findings, *_multiplying(left, right, pairs, key_match, broken)),
            tuple(_offending(left, right, key_match, broken)),
        )


def _refuse_size(match: MatchCounts, max_rows: int | None, findings: tuple[Finding, ...]) -> None:
    """Raise when the result would have more rows than are allowed."""
    if max_rows is not None and match.output_rows > max_rows:
        raise JoinRefusedError(
            f"this join would give {match.output_rows:,} rows from {match.left_rows:,} "
            f"and {match.right_rows:,}; the limit is {max_rows:,}",
            wording(
                "make the key unique, or raise the limit: ", Setting("max_rows", match.output_rows)
            ),
            match,
            findings,
        )


def _offending(
    left: Table, right: Table, key_match: KeyMatch, sides: Iterable[str]
) -> Iterator[SetAside]:
    """The rows of a side whose key matches and repeats, those of one key together."""
    for number, (side, table, counts) in enumerate(
        (("left", left, key_match.left_counts), ("right", right, key_match.right_counts))
    ):
        if side in sides:
            codes = key_match.coding.codes[number]
            rows = np.flatnonzero(gather_by_code(key_match.matched & (counts > 1), codes, False))
            rows = rows[order_of_codes(codes[rows], len(counts))]
            reason = constant_text("key matches and is on several rows", len(rows))
            yield SetAside("multiplying", table.take(rows), reason, False)


def _multiplying(
    left: Table, right: Table, pairs: Key, key_match: KeyMatch, sides: Iterable[str]
) -> Iterator[Finding]:
    """The matching keys that are on several rows of a side."""
    tables = {
        "left": (0, left, key_match.left_counts),
        "right": (1, right, key_match.right_counts),
    }
    for side in sides:
        number, table, counts = tables[side]
        several = np.flatnonzero(key_match.matched & (counts > 1))
        worst = several[np.argsort(-counts[several], kind="stable")][:MOST_EXAMPLES]
        codes = key_match.coding.codes[number]
        examples = []
        for code in worst:
            rows = np.flatnonzero(codes == code)
            places = [
                source_row for row in rows[:2] for source_row in table.source_rows(int(row))[:1]
            ]
            key = format_key(table, [pair[number] for pair in pairs], int(rows[0]))
            examples.append(FindingExample(f"{key} on {counts[code]:,} rows", tuple(places)))
        yield Finding(
            "cardinality",
            "error",
            len(several),
            f"{pluralize(len(several), 'matching key')} of {table.name} on several rows",
            where=Location(table.name),
            examples=tuple(examples),
        )


@dataclass(frozen=True)
class _Part:
    """Some columns of the key, the left rows that they match, and the cardinality."""

    key: Key
    rows: int
    cardinality: str


def report_overmatching_key_parts(
    left: Table, right: Table, pairs: Key, key_match: KeyMatch, match: MatchCounts
) -> Iterator[Finding]:
    """Say so when a part of the key would match far more rows than the whole.

    Notes
    -----
    Looked at only when less than half of the left rows match. Every key column
    is left out in turn, and each is tried by itself. A part that is a key on neither
    side says little where the whole key would match if it were compared more loosely.
    """
    rows = match.left_matched + match.left_unmatched
    if not rows or match.left_matched > _POOR * rows:
        return
    least = max(_GOOD * rows, _TIMES * match.left_matched)
    best = _best_part(pairs, key_match, least)
    if best is not None and best.cardinality == _MANY and _matches_loosely(key_match, least):
        return
    if best is not None and best.rows >= least:
        dropped = ", ".join(quote_name(name) for name, _ in pairs if (name, _) not in best.key)
        yield Finding(
            "key-trap",
            "warning",
            best.rows - match.left_matched,
            f"{match.left_matched / rows:.1%} of the rows of {left.name} match on "
            f"{format_key_option(pairs)}; {best.rows / rows:.1%} would match on "
            f"{format_key_option(best.key)} ("
            f"{best.cardinality}). {dropped} may mean different things in {left.name} "
            f"and {right.name}",
            wording(key_setting(best.key))
            if best.cardinality != _MANY
            else _look_at_keys(left, right, pairs),
            Location(right.name),
        )
    elif match.left_matched <= _NEXT_TO_NONE * rows:
        yield from _elsewhere_findings(left, right, pairs, key_match)


def _matches_loosely(key_match: KeyMatch, least: float) -> bool:
    """Whether so many rows would match by the whole key, compared more loosely."""
    if exceeds_key_text_limit(key_match.coding):
        return False
    gain = best_normalization_gain(key_match)
    return gain is not None and gain.rows >= least


def _look_at_keys(left: Table, right: Table, pairs: Key) -> Wording:
    inputs = (left.path or left.name, right.path or right.name)
    return wording("check which rows match: ", Command("keys", inputs, (key_setting(pairs),)))


def _best_part(pairs: Key, key_match: KeyMatch, least: float) -> _Part | None:
    """The part that matches most; one that is a key on a side, where that matches enough."""
    if not 2 <= len(pairs) <= _MOST_PARTS:
        return None
    keys = key_match.coding.distinct
    sizes = dict.fromkeys((len(pairs) - 1, 1))
    tried = [
        _part(pairs, key_match, keys, chosen)
        for size in sizes
        for chosen in combinations(range(len(pairs)), size)
    ]
    safe = [t for t in tried if t.cardinality != _MANY and t.rows >= least]
    return max(safe or tried, key=lambda one: (round(one.rows, -1), len(one.key)), default=None)


def _part(pairs: Key, key_match: KeyMatch, keys: list[Codes], chosen: tuple[int, ...]) -> _Part:
    codes, size = keys[chosen[0]], key_match.coding.key_columns[chosen[0]].size
    for number in chosen[1:]:
        column = key_match.coding.key_columns[number]
        (codes,), size = combine_codes([codes], size, [keys[number]], column.size)
    sums = [
        _summed(codes, counts, size) for counts in (key_match.left_counts, key_match.right_counts)
    ]
    both = (sums[0] > 0) & (sums[1] > 0)
    sides = ["many" if (s[both] > 1).any() else "one" for s in sums]
    key = tuple(pairs[number] for number in chosen)
    return _Part(key, int(sums[0][both].sum()), "-to-".join(sides))


def _summed(codes: Codes, counts: np.ndarray, size: int) -> np.ndarray:
    """Rows of each partial key."""
    there = codes >= 0
    if (counts <= 1).all():
        return count_codes(np.where(counts > 0, codes, -1), size)
    return np.bincount(codes[there], weights=counts[there], minlength=size).astype(np.int64)


def _elsewhere_findings(
    left: Table, right: Table, pairs: Key, key_match: KeyMatch
) -> Iterator[Finding]:
    """The values may be in another column."""
    for better_column in find_better_columns(left, right, pairs, key_match):
        here = better_column.table == left.name
        pair = (
            (better_column.column, better_column.better)
            if here
            else (better_column.better, better_column.column)
        )
        yield Finding(
            "key-elsewhere",
            "warning",
            1,
            f"{better_column.better_share:.0%} of the values of {better_column.column} in "
            f"{better_column.table} are "
            f"found in {better_column.better} of {better_column.other}, but only "
            f"{better_column.named_share:.0%} in "
            f"{better_column.named}",
            wording(key_setting((pair,)))
            if _is_key(left, right, pair)
            else _look_at_keys(left, right, pairs),
            Location(better_column.other),
        )


def _is_key(left: Table, right: Table, pair: tuple[str, str]) -> bool:
    """Whether a join on two columns would not be many-to-many."""
    coding = encode_keys([left, right], ((pair[0],), (pair[1],)))
    return match_keys(coding).cardinality != _MANY
