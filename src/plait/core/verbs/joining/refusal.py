"""Joins that are refused before a row is built, and the keys that are to blame."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

import numpy as np

from plait.core.account.errors import ExpectationError
from plait.core.account.finding import MOST_EXAMPLES, Example, Finding, counted
from plait.core.codes.counting import by_code, stable_order
from plait.core.keys.duplicates import key_text
from plait.core.keys.match import ONE_SIDED, Match, Matching
from plait.core.table.keyspec import Key
from plait.core.table.table import SetAside, Table
from plait.core.text.cells import the_same


class JoinRefusedError(ExpectationError):
    """A join whose rows would multiply, or whose declared cardinality does not hold.

    Parameters
    ----------
    match : Match
        The numbers the join would have.
    findings : tuple of Finding
        What was found, the offending keys included.
    aside : tuple of SetAside
        The offending rows.
    """

    def __init__(
        self,
        what: str,
        remedy: str,
        match: Match,
        findings: tuple[Finding, ...],
        aside: tuple[SetAside, ...] = (),
    ) -> None:
        super().__init__(what, remedy=remedy)
        self.match, self.findings, self.aside = match, findings, aside


def refuse(
    left: Table,
    right: Table,
    pairs: Key,
    matching: Matching,
    match: Match,
    cardinality: str | None,
    findings: tuple[Finding, ...],
    kind: str,
    max_rows: int | None = None,
) -> None:
    """Raise when the join is not what was declared, or may not pass undeclared."""
    _refuse_size(match, max_rows, findings)
    if kind == "cross" or (kind in ONE_SIDED and cardinality is None):
        return
    found = match.cardinality
    if cardinality is None:
        if found == "many-to-many":
            raise JoinRefusedError(
                f"this join is many-to-many: {match.left_rows:,} and {match.right_rows:,} "
                f"rows would become {match.output_rows:,}",
                f"make the key unique in {right.name} or {left.name} (plait settle), or "
                "allow it: --cardinality many-to-many",
                match,
                (*findings, *_multiplying(left, right, pairs, matching, ("left", "right"))),
                tuple(_offending(left, right, matching, ("left", "right"))),
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
            f"the join is declared {cardinality} but is {found}: matching keys occur on "
            f"several rows of {tables}",
            f"make the key unique there, or declare --cardinality {found}",
            match,
            (*findings, *_multiplying(left, right, pairs, matching, broken)),
            tuple(_offending(left, right, matching, broken)),
        )


def _refuse_size(match: Match, max_rows: int | None, findings: tuple[Finding, ...]) -> None:
    """Raise when the result would have more rows than are allowed."""
    if max_rows is not None and match.output_rows > max_rows:
        raise JoinRefusedError(
            f"this join would give {match.output_rows:,} rows from {match.left_rows:,} "
            f"and {match.right_rows:,}; the limit is {max_rows:,}",
            f"make the key unique, or raise the limit: --max-rows {match.output_rows}",
            match,
            findings,
        )


def _offending(
    left: Table, right: Table, matching: Matching, sides: Iterable[str]
) -> Iterator[SetAside]:
    """The rows of a side whose key matches and repeats, those of one key together."""
    for number, (side, table, counts) in enumerate(
        (("left", left, matching.left_counts), ("right", right, matching.right_counts))
    ):
        if side in sides:
            codes = matching.coding.codes[number]
            rows = np.flatnonzero(by_code(matching.matched & (counts > 1), codes, False))
            rows = rows[stable_order(codes[rows], len(counts))]
            reason = the_same("key matches and is on several rows", len(rows))
            yield SetAside(f"{table.name}-multiplying", table.at(rows), reason, False)


def _multiplying(
    left: Table, right: Table, pairs: Key, matching: Matching, sides: Iterable[str]
) -> Iterator[Finding]:
    """The matching keys that are on several rows of a side."""
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
            f"{counted(len(several), 'matching key')} of {table.name} on several rows",
            where=table.name,
            examples=tuple(examples),
        )
