"""What a join finds out about its keys: inferred, of two kinds, unmatched, missing, duplicate."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from plait.core.coding import Coding, Counts
from plait.core.duplicates import Duplicates, key_text
from plait.core.finding import MOST_EXAMPLES, Example, Finding, counted
from plait.core.gains import MOST_TEXTS, best_gain, too_many
from plait.core.keyspec import Key, quoted, spelt
from plait.core.kinds import NUMBERS
from plait.core.match import ONE_SIDED, Match, Matching, Rows
from plait.core.table import Table
from plait.core.wordtable import Codes


@dataclass(frozen=True, eq=False)
class _Side:
    """One of the two tables, with its part of the matching."""

    table: Table
    other: Table
    names: tuple[str, ...]
    codes: Codes
    counts: Counts
    unmatched: Rows
    duplicates: Duplicates

    def examples(self, rows: npt.NDArray[np.int64]) -> tuple[Example, ...]:
        """The keys of some rows, with their places."""
        return tuple(
            Example(key_text(self.table, self.names, int(row)), self.table.places(int(row))[:1])
            for row in rows[:MOST_EXAMPLES]
        )


def key_findings(
    left: Table,
    right: Table,
    pairs: Key,
    matching: Matching,
    match: Match,
    duplicates: tuple[Duplicates, Duplicates],
    kind: str = "left",
    explain: bool = True,
) -> tuple[Finding, ...]:
    """All there is to say about the keys of a join.

    Parameters
    ----------
    left, right : Table
    pairs : Key
    matching : Matching
    match : Match
    duplicates : pair of Duplicates
        Of the left and the right table.
    kind : str
        The kind of join.
    explain : bool
        Whether to try what looser comparisons would match.

    Returns
    -------
    tuple of Finding
    """
    here, there = zip(*pairs, strict=True)
    codes, alone = matching.coding.codes, matching.unmatched
    sides = (
        _Side(left, right, here, codes[0], matching.left_counts, alone[0], duplicates[0]),
        _Side(right, left, there, codes[1], matching.right_counts, alone[1], duplicates[1]),
    )
    findings = list(_kind_findings(left, right, pairs, matching.coding))
    remedy = _gain_remedy(right, matching, match) if explain and match.left_unmatched else ""
    findings += _unmatched_finding(sides[0], matching, "warning", remedy)
    findings += _unmatched_finding(sides[1], matching, "note", "")
    for side, severity in zip(sides, ("note", "warning"), strict=True):
        findings += _missing_finding(side)
        findings += _duplicate_findings(side, severity)
    if match.cardinality.endswith("many") and kind not in ONE_SIDED:
        findings.append(_more_rows_finding(left, right, matching.pairs - match.left_matched))
    return tuple(findings)


def audit_findings(
    table: Table, key: Sequence[str], coding: Coding, number: int, duplicates: Duplicates
) -> Iterator[Finding]:
    """What there is to say about the key of one table: missing, repeated, in conflict."""
    codes = coding.codes[number]
    missing = np.flatnonzero(codes < 0)
    side = _Side(table, table, tuple(key), codes, coding.counts(number), missing, duplicates)
    yield from _missing_finding(side)
    yield from _duplicate_findings(side, "warning")


def inferred_finding(left: Table, right: Table, pairs: Key) -> Finding:
    """Names the key aloud when none was given."""
    return Finding(
        "key-inferred",
        "note",
        len(pairs),
        f"no key was given: {left.name} and {right.name} are joined on the columns both have",
        f"--key {spelt(pairs)}",
        right.name,
    )


def _kind_findings(left: Table, right: Table, pairs: Key, coding: Coding) -> Iterator[Finding]:
    for (here, there), column in zip(pairs, coding.columns, strict=True):
        kinds = set(column.kinds) - {"empty"}
        if len(kinds) < 2 or kinds <= set(NUMBERS):
            continue
        remedy = "give both columns one type before joining"
        if "text" in kinds and kinds & set(NUMBERS):
            remedy = "if the difference is leading zeros: --ignore leading-zeros"
        yield Finding(
            "key-kind",
            "warning",
            1,
            f"{here} is {column.kinds[0]} in {left.name}, {there} is {column.kinds[1]} in "
            f"{right.name}; they are compared as text",
            remedy,
            f"{left.name}, column {here}",
        )


def _unmatched_finding(
    side: _Side, matching: Matching, severity: str, remedy: str
) -> Iterator[Finding]:
    alone = side.unmatched[side.codes[side.unmatched] >= 0]
    if not len(alone):
        return
    keys = counted(int((~matching.matched & (side.counts > 0)).sum()), "key")
    yield Finding(
        "key-unmatched",
        severity,
        len(alone),
        f"{counted(len(alone), 'row')} of {side.table.name} ({keys}) match nothing in "
        f"{side.other.name}",
        remedy,
        side.table.name,
        side.examples(alone[_first_of_each(side.codes[alone])]),
    )


def _first_of_each(codes: Codes) -> npt.NDArray[np.int64]:
    """Positions of the first few distinct codes, for examples."""
    seen: dict[int, int] = {}
    for position, code in enumerate(codes[:1000].tolist()):
        seen.setdefault(code, position)
    return np.array(sorted(seen.values()), np.int64)


def _gain_remedy(right: Table, matching: Matching, match: Match) -> str:
    if too_many(matching.coding):
        return (
            f"plait keys tells why; with more than {MOST_TEXTS:,} different keys a join does not "
            "look for it"
        )
    gain = best_gain(matching)
    if gain is None:
        return "no looser comparison would match any of them"
    collide = "nothing would collide"
    if gain.collisions:
        collide = f"{counted(gain.collisions, 'key')} of {right.name} would collide"
    return (
        f"{gain.rows:,} of {match.left_unmatched:,} rows would match with "
        f"--ignore {','.join(gain.ways)}; {collide}"
    )


def _missing_finding(side: _Side) -> Iterator[Finding]:
    rows = side.unmatched[side.codes[side.unmatched] < 0]
    if len(rows):
        yield Finding(
            "key-missing",
            "warning",
            len(rows),
            f"{counted(len(rows), 'row')} of {side.table.name} without a full key",
            f"fill {', '.join(side.names)} in the source",
            side.table.name,
            side.examples(rows),
        )


def _duplicate_findings(side: _Side, severity: str) -> Iterator[Finding]:
    """Several left rows of one key are what most joins are about; several right rows are not."""
    found, name = side.duplicates, side.table.name
    if found.conflicts:
        yield Finding(
            "key-conflict",
            severity,
            found.conflicts,
            f"{counted(found.conflicts, 'key')} of {name} on several rows that differ",
            f"decide which row of each {','.join(map(quoted, side.names))} counts"
            if severity == "warning"
            else "",
            name,
            found.conflict_examples,
        )
    if found.repeats:
        yield Finding(
            "key-repeat",
            "note",
            found.repeats,
            f"{counted(found.repeats, 'key')} of {name} on several rows that are equal",
            "leave out exact repeats: plait stack … --distinct",
            name,
            found.repeat_examples,
        )


def _more_rows_finding(left: Table, right: Table, more: int) -> Finding:
    return Finding(
        "rows-added",
        "warning",
        more,
        f"{counted(more, 'row')} more than {left.name} has, since matching keys stand on "
        f"several rows of {right.name}",
        "if that is not meant: --cardinality many-to-one",
        right.name,
    )
