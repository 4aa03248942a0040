"""Join: columns beside columns, on a key, with an account of every row."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass

import numpy as np
import pyarrow as pa

from plait.core.aside import SetAside
from plait.core.coding import code_keys
from plait.core.duplicates import Duplicates, find_duplicates
from plait.core.errors import UsageError
from plait.core.finding import Finding
from plait.core.joinedtable import joined_table
from plait.core.keyfindings import inferred_finding, key_findings
from plait.core.keyspec import Key, KeySpec, check_key, parse_key, shared_key, spelt
from plait.core.ledger import Entry, Line, entry
from plait.core.match import CARDINALITIES, KINDS, Match, Matching, match_keys
from plait.core.names import nearest
from plait.core.refusal import refuse
from plait.core.table import Table


@dataclass(frozen=True, eq=False)
class Joined:
    """The result of one join, or of several one after another.

    Parameters
    ----------
    table : Table
    entries : tuple of Entry
        The ledger, an entry a join.
    matches : tuple of Match
        How the keys matched, in numbers, one a join.
    keys : tuple of Key
        The keys used, pairs of a left and a right name, one a join.
    findings : tuple of Finding
    aside : tuple of SetAside
        Rows of either side that matched nothing.
    """

    table: Table
    entries: tuple[Entry, ...]
    matches: tuple[Match, ...]
    keys: tuple[Key, ...]
    findings: tuple[Finding, ...]
    aside: tuple[SetAside, ...]

    @property
    def match(self) -> Match:
        """The match of the last join."""
        return self.matches[-1]


def join(
    left: Table,
    right: Table,
    key: KeySpec | None = None,
    kind: str = "left",
    cardinality: str | None = None,
    ignore: Iterable[str] = (),
    name: str | None = None,
) -> Joined:
    """Put the columns of two tables beside each other where their keys are equal.

    Parameters
    ----------
    left, right : Table
    key : str, sequence or mapping, optional
        ``"yard,hive"``, or ``"country=Country"`` where the names differ (left =
        right). Without it the columns both tables have are the key.
    kind : {"left", "inner", "right", "full"}
        Which unmatched rows the result keeps.
    cardinality : {"one-to-one", "many-to-one", "one-to-many", "many-to-many"}, optional
        What the match must be, left to right. A join that is many-to-many needs
        it said.
    ignore : iterable of str
        What does not count when keys are compared: ``case``, ``space``,
        ``punctuation``, ``accents``, ``leading-zeros``. Cells stay as they are.
    name : str, optional
        The result's name.

    Returns
    -------
    Joined

    Raises
    ------
    UsageError
        For a key column that is not there, or a word that is not one of those above.
    JoinRefusedError
        When the join is many-to-many unasked, or not of the cardinality given.

    Notes
    -----
    A missing key matches nothing. Left rows keep their order; unmatched right
    rows follow in theirs.

    Examples
    --------
    >>> from plait.core.table import from_columns
    >>> visits = from_columns("visits", {"hive": ["1", "2"], "kg": ["12.50", "9"]})
    >>> hives = from_columns("hives", {"hive": ["1"], "breed": ["Buckfast"]})
    >>> joined = join(visits, hives, key="hive")
    >>> joined.table.to_dict()
    {'hive': ['1', '2'], 'kg': ['12.50', '9'], 'breed': ['Buckfast', None]}
    >>> joined.match.left_unmatched
    1
    """
    _check_word(kind, KINDS, "kind of join")
    if cardinality is not None:
        _check_word(cardinality, CARDINALITIES, "cardinality")
    pairs = check_key(parse_key(key) if key else shared_key(left, right), left, right)
    coding = code_keys([left, right], tuple(zip(*pairs, strict=True)), ignore)
    matching = match_keys(coding)
    match = matching.account(kind)
    duplicates = _duplicates(left, right, pairs, matching)
    findings = key_findings(left, right, pairs, matching, match, duplicates)
    if key is None:
        findings = (inferred_finding(left, right, pairs), *findings)
    refuse(left, right, pairs, matching, match, cardinality, findings)

    table, conflicts = joined_table(left, right, pairs, matching, kind, bool(ignore))
    if name:
        table = table.named(name)
    return Joined(
        table,
        (_ledger(left, right, pairs, matching, match, kind),),
        (match,),
        (pairs,),
        (*findings, *conflicts),
        tuple(_aside(left, right, matching, kind)),
    )


def join_all(
    tables: Sequence[Table],
    keys: Sequence[KeySpec | None] = (None,),
    kind: str = "left",
    cardinality: str | None = None,
    ignore: Iterable[str] = (),
    name: str | None = None,
) -> Joined:
    """Join each further table on to the result so far.

    Parameters
    ----------
    tables : sequence of Table
        At least two.
    keys : sequence of key
        One for all the joins, or one for each.
    kind, cardinality, ignore, name
        As for ``join``; the same for all the joins.

    Returns
    -------
    Joined

    Raises
    ------
    UsageError
        With fewer than two tables, or another number of keys; and as ``join``.
    JoinRefusedError
        As ``join``.
    """
    ignore, keys = tuple(ignore), list(keys) or [None]
    if len(tables) < 2:
        raise UsageError("a join needs two sources or more", remedy="name another source")
    keys = keys * (len(tables) - 1) if len(keys) == 1 else keys
    if len(keys) != len(tables) - 1:
        raise UsageError(
            f"{len(keys)} keys are given for {len(tables) - 1} joins",
            remedy="give --key once for all of them, or once for each further table",
        )
    steps: list[Joined] = []
    table = tables[0]
    for right, key in zip(tables[1:], keys, strict=True):
        steps.append(join(table, right, key, kind, cardinality, ignore))
        table = steps[-1].table
    return Joined(
        table.named(name) if name else table,
        tuple(entry for step in steps for entry in step.entries),
        tuple(match for step in steps for match in step.matches),
        tuple(key for step in steps for key in step.keys),
        tuple(finding for step in steps for finding in step.findings),
        tuple(aside for step in steps for aside in step.aside),
    )


def _check_word(word: str, known: Sequence[str], what: str) -> None:
    if word not in known:
        raise UsageError(
            f"{word!r} is no {what}",
            remedy=nearest(word, known) or f"one of {', '.join(known)}",
        )


def _duplicates(
    left: Table, right: Table, pairs: Key, matching: Matching
) -> tuple[Duplicates, Duplicates]:
    here, there = zip(*pairs, strict=True)
    codes = matching.coding.codes
    return (
        find_duplicates(left, here, codes[0], matching.left_counts),
        find_duplicates(right, there, codes[1], matching.right_counts),
    )


def _ledger(
    left: Table, right: Table, pairs: Key, matching: Matching, match: Match, kind: str
) -> Entry:
    one, two = left.name, right.name
    changes = [
        Line(f"rows of {two} that went beside a row of {one}", -match.right_matched),
        Line(
            f"rows added: their key stands on several rows of {two}",
            matching.pairs - match.left_matched,
        ),
    ]
    if kind in ("inner", "right"):
        changes.append(Line(f"rows of {one} without a match, set aside", -match.left_unmatched))
        changes.append(
            Line(f"rows of {one} with a missing key, set aside", -match.left_missing_key)
        )
    if kind in ("inner", "left"):
        changes.append(Line(f"rows of {two} without a match, set aside", -match.right_unmatched))
        changes.append(
            Line(f"rows of {two} with a missing key, set aside", -match.right_missing_key)
        )
    other = two if two != one else f"{two} (right)"
    return entry(
        f"{kind} join of {one} and {two} on {spelt(pairs)}",
        [(one, match.left_rows), (other, match.right_rows)],
        changes,
        match.output_rows,
    )


def _aside(left: Table, right: Table, matching: Matching, kind: str) -> Iterator[SetAside]:
    for side, table, other, kept in (
        (0, left, right, kind in ("left", "full")),
        (1, right, left, kind in ("right", "full")),
    ):
        rows = matching.unmatched[side]
        if len(rows):
            missing = matching.coding.codes[side][rows] < 0
            reasons = pa.array([f"no match in {other.name}", "key is missing"])
            reason = pa.DictionaryArray.from_arrays(missing.astype(np.int32), reasons)
            yield SetAside(
                f"{table.name}-unmatched",
                table.at(rows),
                reason,
                kept,
            )
