"""Joins that are refused before a row is built, and the keys that are to blame."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

import numpy as np

from plait.core.duplicates import key_text
from plait.core.errors import ExpectationError
from plait.core.finding import MOST_EXAMPLES, Example, Finding, counted
from plait.core.keyspec import Key
from plait.core.match import Match, Matching
from plait.core.table import Table


class JoinRefusedError(ExpectationError):
    """A join whose rows would multiply, or whose declared cardinality does not hold.

    Parameters
    ----------
    match : Match
        The numbers the join would have.
    findings : tuple of Finding
        What was found, the offending keys included.
    """

    def __init__(self, what: str, remedy: str, match: Match, findings: tuple[Finding, ...]) -> None:
        super().__init__(what, remedy=remedy)
        self.match, self.findings = match, findings


def refuse(
    left: Table,
    right: Table,
    pairs: Key,
    matching: Matching,
    match: Match,
    cardinality: str | None,
    findings: tuple[Finding, ...],
) -> None:
    """Raise when the cardinality found is not one that was declared or may pass undeclared."""
    found = match.cardinality
    if cardinality is None:
        if found == "many-to-many":
            raise JoinRefusedError(
                f"this join is many-to-many and would make {match.output_rows:,} rows of "
                f"{match.left_rows:,} and {match.right_rows:,}",
                f"make the key unique in {right.name} or {left.name}, or say that it is meant: "
                "--cardinality many-to-many",
                match,
                (*findings, *_multiplying(left, right, pairs, matching, ("left", "right"))),
            )
        return
    broken = [
        side
        for side, allowed, is_found in zip(
            ("left", "right"), cardinality.split("-to-"), found.split("-to-"), strict=True
        )
        if allowed == "one" and is_found == "many"
    ]
    if broken:
        tables = " and ".join({"left": left, "right": right}[side].name for side in broken)
        raise JoinRefusedError(
            f"the join was declared {cardinality} and is {found}: "
            f"matching keys stand on several rows of {tables}",
            f"make the key unique there, or declare --cardinality {found}",
            match,
            (*findings, *_multiplying(left, right, pairs, matching, broken)),
        )


def _multiplying(
    left: Table, right: Table, pairs: Key, matching: Matching, sides: Iterable[str]
) -> Iterator[Finding]:
    """The matching keys that stand on several rows of a side."""
    tables = {
        "left": (0, left, matching.left_counts),
        "right": (1, right, matching.right_counts),
    }
    for side in sides:
        number, table, counts = tables[side]
        several = np.flatnonzero(matching.matched & (counts > 1))
        worst = several[np.argsort(-counts[several], kind="stable")][:MOST_EXAMPLES]
        codes = matching.coding.codes[number]
        examples = []
        for code in worst:
            rows = np.flatnonzero(codes == code)
            places = [place for row in rows[:2] for place in table.places(int(row))[:1]]
            key = key_text(table, [pair[number] for pair in pairs], int(rows[0]))
            examples.append(Example(f"{key} on {counts[code]:,} rows", tuple(places)))
        yield Finding(
            "cardinality",
            "error",
            len(several),
            f"{counted(len(several), 'key')} of {table.name} that match stand on several rows",
            where=table.name,
            examples=tuple(examples),
        )
