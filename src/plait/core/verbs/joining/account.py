"""The account of a join: its ledger, and the rows that it sets aside."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
import pyarrow as pa

from plait.core.account.ledger import Entry, Line, entry
from plait.core.codes.groups import Rows
from plait.core.keys.match import ONE_SIDED, Match, Matching, kept_rows
from plait.core.table.keyspec import Key, spelt
from plait.core.table.table import SetAside, Table
from plait.core.text.cells import the_same
from plait.core.text.wordtable import Codes
from plait.core.verbs.joining.nearest import Nearest


def _operation(left: Table, right: Table, names: Key, kind: str, near: Nearest | None) -> str:
    """The join in a few words."""
    on = f" on {spelt(names)}" if names else ""
    said = f"{kind} join of {left.name} and {right.name}{on}"
    if near is None:
        return said
    pair = spelt(((near.left, near.right),))
    return f"{said}, nearest {pair} {near.direction}"


def join_ledger(
    left: Table,
    right: Table,
    names: Key,
    matching: Matching,
    match: Match,
    kind: str,
    near: Nearest | None = None,
) -> Entry:
    """The account of a join, from its numbers."""
    operation = _operation(left, right, names, kind, near)
    one, two = left.name, right.name
    other = two if two != one else f"{two} (right)"
    inputs = [(one, match.left_rows), (other, match.right_rows)]
    if kind in ONE_SIDED:
        return entry(operation, inputs, _one_sided_lines(one, two, match, kind), match.output_rows)
    changes = [
        Line(f"rows of {two} matched to a row of {one}", -match.right_matched),
        Line(
            f"rows added: their key is on several rows of {two}",
            matching.pairs - match.left_matched,
        ),
    ]
    if kind in ("inner", "right", "cross"):
        changes.append(Line(f"rows of {one} without a match, set aside", -match.left_unmatched))
        changes.append(
            Line(f"rows of {one} with a missing key, set aside", -match.left_missing_key)
        )
    if kind in ("inner", "left", "cross"):
        changes.append(Line(f"rows of {two} without a match, set aside", -match.right_unmatched))
        changes.append(
            Line(f"rows of {two} with a missing key, set aside", -match.right_missing_key)
        )
    return entry(operation, inputs, changes, match.output_rows)


def _one_sided_lines(one: str, two: str, match: Match, kind: str) -> list[Line]:
    lines = [Line(f"rows of {two}, used for lookup only", -match.right_rows)]
    if kind == "anti":
        return [*lines, Line(f"rows of {one} that match, set aside", -match.left_matched)]
    return [
        *lines,
        Line(f"rows of {one} without a match, set aside", -match.left_unmatched),
        Line(f"rows of {one} with a missing key, set aside", -match.left_missing_key),
    ]


def set_aside(left: Table, right: Table, matching: Matching, kind: str) -> Iterator[SetAside]:
    """The rows of both tables that a join leaves out, or that match nothing."""
    if kind == "anti":
        rows = kept_rows(matching, "semi")
        if len(rows):
            reason = the_same(f"matches in {right.name}", len(rows))
            yield SetAside(f"{left.name}-matched", left.at(rows), reason, False)
        return
    for side, table, other in ((0, left, right), (1, right, left)):
        rows, codes = matching.unmatched[side], matching.coding.codes[side]
        yield from _unmatched(table, other, rows, codes, kind, side == 0)


def _unmatched(
    table: Table, other: Table, rows: Rows, codes: Codes, kind: str, is_left: bool
) -> Iterator[SetAside]:
    """The rows of a table that match nothing, if there are any."""
    if len(rows) and (is_left or kind not in ONE_SIDED):
        kept = kind == "full" or kind == ("left" if is_left else "right")
        why = pa.array([f"no match in {other.name}", "key is missing"])
        reason = pa.DictionaryArray.from_arrays((codes[rows] < 0).astype(np.int32), why)
        yield SetAside(f"{table.name}-unmatched", table.at(rows), reason, kept)
