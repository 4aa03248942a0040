"""What a join finds out about its keys: inferred, of two kinds, unmatched, missing, duplicate."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from plait.core.base.findings import (
    MOST_EXAMPLES,
    Finding,
    FindingExample,
    Location,
    agreeing,
    pluralize,
)
from plait.core.base.wording import Command, Setting, Text, wording
from plait.core.codes.key_codes import KeyCodes, Rows
from plait.core.keys.duplicates import DuplicateKeys, format_key
from plait.core.keys.match import ONE_SIDED, KeyMatch, MatchCounts
from plait.core.table.key_spec import Key, key_setting, quote_name
from plait.core.table.table import Table
from plait.core.text.hash_table import Codes
from plait.core.types.column_type import DECIMAL, EMPTY, INTEGER, TEXT
from plait.core.unmatched.normalization_gains import (
    MOST_TEXTS,
    best_normalization_gain,
    exceeds_key_text_limit,
    words_gain,
)


@dataclass(frozen=True, eq=False)
class JoinSide:
    """What a join's findings say of one of its tables.

    Parameters
    ----------
    table : Table
        With at least the rows that are named below.
    other : str
        The other table's name.
    names : tuple of str
        The key's columns.
    unmatched_rows, unmatched_keys : int
        Rows with a key that matches nothing, and their keys.
    missing_rows : int
        Rows without a full key.
    unmatched, missing : arrays of int
        A few rows of ``table`` of either sort, for examples; each key once.
    """

    table: Table
    other: str
    names: tuple[str, ...]
    unmatched_rows: int
    unmatched_keys: int
    missing_rows: int
    unmatched: Rows
    missing: Rows
    duplicates: DuplicateKeys

    def examples(self, rows: Rows) -> tuple[FindingExample, ...]:
        """The keys of some rows, with their places."""
        return tuple(
            FindingExample(
                format_key(self.table, self.names, int(row)), self.table.source_rows(int(row))[:1]
            )
            for row in rows[:MOST_EXAMPLES]
        )


def join_sides(
    left: Table,
    right: Table,
    pairs: Key,
    key_match: KeyMatch,
    duplicates: tuple[DuplicateKeys, ...],
) -> tuple[JoinSide, JoinSide]:
    """Both sides of a join whose tables and codes are at hand."""
    here, there = zip(*pairs, strict=True)
    return (
        _side(left, right.name, here, 0, key_match, duplicates[0]),
        _side(right, left.name, there, 1, key_match, duplicates[1]),
    )


def _side(
    table: Table,
    other: str,
    names: tuple[str, ...],
    number: int,
    key_match: KeyMatch,
    duplicates: DuplicateKeys,
) -> JoinSide:
    codes, rows = key_match.coding.codes[number], key_match.unmatched[number]
    counts = (key_match.left_counts, key_match.right_counts)[number]
    keyed = codes[rows] >= 0
    alone = rows[keyed]
    return JoinSide(
        table,
        other,
        names,
        len(alone),
        int((~key_match.matched & (counts > 0)).sum()),
        len(rows) - len(alone),
        alone[_first_of_each(codes[alone])],
        rows[~keyed],
        duplicates,
    )


def report_join_keys(
    sides: tuple[JoinSide, JoinSide],
    pairs: Key,
    key_match: KeyMatch,
    match: MatchCounts,
    kind: str = "left",
    explain: bool = True,
) -> tuple[Finding, ...]:
    """All there is to say about the keys of a join.

    Parameters
    ----------
    sides : pair of JoinSide
        The left and the right one.
    key_match : KeyMatch
        Of one row for each distinct key at least.
    kind : str
        The kind of join.
    explain : bool
        Whether to try what looser comparisons would match.
    """
    left, right = (side.table for side in sides)
    findings = list(_type_findings(left, right, pairs, key_match.coding))
    remedy = _gain_remedy(right, key_match, match) if explain and match.left_unmatched else ""
    findings += _unmatched_finding(sides[0], "warning", remedy, explain)
    findings += _unmatched_finding(sides[1], "note", "", explain)
    for side, severity in zip(sides, ("note", "warning"), strict=True):
        findings += _missing_finding(side)
        # Several left rows of one right row are what a many-to-one join is about.
        if severity == "warning" or match.cardinality != "many-to-one":
            findings += _duplicate_findings(side, severity)
    if match.cardinality.endswith("many") and kind not in ONE_SIDED:
        findings.append(_more_rows_finding(left, right, key_match.pairs - match.left_matched))
    return tuple(findings)


def report_key_audit(
    table: Table, key: Sequence[str], coding: KeyCodes, number: int, duplicates: DuplicateKeys
) -> Iterator[Finding]:
    """What there is to say about the key of one table: missing, repeated, in conflict."""
    missing = np.flatnonzero(coding.codes[number] < 0)
    none = np.empty(0, np.int64)
    side = JoinSide(table, "", tuple(key), 0, 0, len(missing), none, missing, duplicates)
    yield from _missing_finding(side)
    yield from _duplicate_findings(side, "warning")


def report_inferred_key(left: Table, right: Table, pairs: Key) -> Finding:
    """Names the key aloud when none was given."""
    return Finding(
        "key-inferred",
        "note",
        len(pairs),
        f"no key given: {left.name} and {right.name} are joined on the columns they share",
        wording(key_setting(pairs)),
        Location(right.name),
    )


def _type_findings(left: Table, right: Table, pairs: Key, coding: KeyCodes) -> Iterator[Finding]:
    for (here, there), column in zip(pairs, coding.key_columns, strict=True):
        types = set(column.types) - {EMPTY}
        if len(types) < 2 or types <= {INTEGER, DECIMAL} or "leading-zeros" in column.ignored:
            continue
        remedy: Text = "give both columns one type before joining"
        if TEXT in types and types & {INTEGER, DECIMAL}:
            remedy = wording(
                "if they differ only in leading zeros: ", Setting("ignore", ("leading-zeros",))
            )
        yield Finding(
            "key-kind",
            "warning",
            1,
            f"key types differ: {here} is {column.types[0]} in {left.name}, {there} is "
            f"{column.types[1]} in {right.name}; compared as text",
            remedy,
            Location(left.name, here),
        )


def _unmatched_finding(
    side: JoinSide, severity: str, remedy: Text, by_key: bool
) -> Iterator[Finding]:
    if not side.unmatched_rows:
        return
    rows, keys = pluralize(side.unmatched_rows, "row"), pluralize(side.unmatched_keys, "key")
    have = agreeing(side.unmatched_rows, "has", "have")
    said = f"{rows} of {side.table.name} ({keys}) {have} no match in {side.other}"
    if not by_key:  # a row may be without a partner though its key is there
        said = f"{rows} of {side.table.name} {have} no matching row in {side.other}"
    yield Finding(
        "key-unmatched",
        severity,
        side.unmatched_rows,
        said,
        remedy,
        Location(side.table.name),
        side.examples(side.unmatched),
    )


def _first_of_each(codes: Codes) -> npt.NDArray[np.int64]:
    """Positions of the first few distinct codes, for examples."""
    seen: dict[int, int] = {}
    for position, code in enumerate(codes[:1000].tolist()):
        seen.setdefault(code, position)
    return np.array(sorted(seen.values()), np.int64)


def _gain_remedy(right: Table, key_match: KeyMatch, match: MatchCounts) -> Text:
    if exceeds_key_text_limit(key_match.coding):
        return wording(
            "run ",
            Command("keys"),
            f" to find out why; join skips that search above {MOST_TEXTS:,} different keys",
        )
    gain = best_normalization_gain(key_match)
    words = words_gain(key_match) if gain is None else None
    if words is not None and words.rows:
        return wording(
            f"{words.rows:,} of {pluralize(match.left_unmatched, 'row')} would match with ",
            Setting("ignore_words", words.words),
            "; with no key collisions",
        )
    if gain is None:
        return wording("no looser comparison (", Setting("ignore"), ") would match any of them")
    collide = "with no key collisions"
    if gain.collisions:
        collide = (
            f"but {pluralize(gain.collisions, 'key')} of {right.name} would become the "
            "same as another"
        )
    return wording(
        f"{gain.rows:,} of {pluralize(match.left_unmatched, 'row')} would match with ",
        Setting("ignore", tuple(gain.ways)),
        f"; {collide}",
    )


def _missing_finding(side: JoinSide) -> Iterator[Finding]:
    if side.missing_rows:
        yield Finding(
            "key-missing",
            "warning",
            side.missing_rows,
            f"{pluralize(side.missing_rows, 'row')} of {side.table.name} with an incomplete key",
            f"fill in {', '.join(side.names)} in the source",
            Location(side.table.name),
            side.examples(side.missing),
        )


def _duplicate_findings(side: JoinSide, severity: str) -> Iterator[Finding]:
    """Several left rows of one key are what most joins are about; several right rows are not."""
    found, name = side.duplicates, side.table.name
    if found.conflicts:
        yield Finding(
            "key-conflict",
            severity,
            found.conflicts,
            f"{pluralize(found.conflicts, 'key')} of {name} on several rows with different values",
            wording(
                "reduce them to one row each: ",
                Command("settle", ("…",), (Setting("key", tuple(map(quote_name, side.names))),)),
            )
            if severity == "warning"
            else "",
            Location(name),
            found.conflict_examples,
        )
    if found.repeats:
        yield Finding(
            "key-repeat",
            "note",
            found.repeats,
            f"{pluralize(found.repeats, 'key')} of {name} on several identical rows",
            wording(
                "remove exact duplicates: ",
                Command("stack", ("…",), (Setting("distinct", True),)),
            ),
            Location(name),
            found.repeat_examples,
        )


def _more_rows_finding(left: Table, right: Table, more: int) -> Finding:
    return Finding(
        "rows-added",
        "warning",
        more,
        f"{pluralize(more, 'row')} added: matching keys occur on several rows of {right.name}",
        wording("to refuse such a join: ", Setting("cardinality", "many-to-one")),
        Location(right.name),
    )
