"""The rows that a join makes, and its ledger."""

from __future__ import annotations

from collections.abc import Container, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from plait.core.base.findings import Finding, FindingExample, Location, pluralize
from plait.core.base.ledger import KEY_MISSING, LedgerEntry, LedgerLine, ListingKey, make_entry
from plait.core.base.names import unused_name
from plait.core.base.wording import Setting, wording
from plait.core.codes.key_codes import KeyCodes, Rows
from plait.core.keys.conflicts import (
    NONE,
    CellConflicts,
    ColumnDifference,
    ConflictingColumn,
    MissingMarkers,
    compare_joined_columns,
    list_cell_conflicts,
)
from plait.core.keys.match import ONE_SIDED, KeyMatch, MatchCounts, join_rows, semi_join_rows
from plait.core.operations.nearest_join import NearestSpec
from plait.core.table.columns import nonmissing_mask, take_scattered_rows
from plait.core.table.key_spec import Key, format_key_option
from plait.core.table.provenance import Provenance, coalesce_provenance
from plait.core.table.table import Column, SetAside, Table
from plait.core.text.cells import constant_text
from plait.core.text.hash_table import Codes
from plait.core.types.column_type import DECIMAL

_LEFT, _RIGHT = Setting("prefer", "left"), Setting("prefer", "right")
_PREFER = wording("to use one side and fill its gaps from the other: ", _LEFT, " or ", _RIGHT)
Shown = tuple[FindingExample, ...]


@dataclass(frozen=True, eq=False)
class JoinedRows:
    """The result, what was found about columns of both tables, and where they differ.

    ``respelt`` is how many rows matched on keys that the tables spell differently.
    """

    table: Table
    findings: tuple[Finding, ...]
    conflicts: CellConflicts | None
    respelt: int = 0


def build_join_result(
    left: Table,
    right: Table,
    pairs: Key,
    key_match: KeyMatch,
    kind: str,
    loose: bool,
    prefer: str | None = None,
    apart: Container[str] = (),
) -> JoinedRows:
    """The result, and findings about columns that both tables have.

    Parameters
    ----------
    loose : bool
        Whether equal keys may be spelt differently.
    prefer : {"left", "right"}, optional
        Whose cells to take where both tables have a column; the other's fill its
        empty ones. Without it both columns are kept if they differ anywhere.
    apart : container of str
        Columns of the right that are no other column of the left, whatever
        their name.
    """
    rows = _side_by_side(left, right, key_match, kind)
    made = _Columns(left, right, pairs, rows, kind, prefer, apart)
    for name, column in rows.theirs.items():
        same_key = name in made.paired
        compared = not same_key or loose or _respelt(key_match.coding, pairs, name)
        made.take(name, column, compared)
    return made.result()


@dataclass(frozen=True, eq=False)
class _Rows:
    """The rows of both tables side by side, and the right table's columns among them."""

    both: Table
    theirs: dict[str, Column]
    shift: int
    left: npt.NDArray[Any] | None
    right: npt.NDArray[Any]


def _side_by_side(left: Table, right: Table, key_match: KeyMatch, kind: str) -> _Rows:
    left_rows, right_rows = join_rows(key_match, kind)
    here = left if left_rows is None else left.take(left_rows)
    there = take_scattered_rows(right, right_rows)
    shift = len(here.fragments)
    theirs = {
        one.name: replace(one, provenance=there.provenance(one.name)).with_fragment_offset(shift)
        for one in there.columns
    }
    ours = tuple(
        replace(column, provenance=here.provenance(column.name)) for column in here.columns
    )
    table = Table(left.name, ours, here.fragments + there.fragments, len(right_rows))
    return _Rows(table, theirs, shift, left_rows, right_rows)


class _Columns:
    """The columns of the result as the right table's are taken in, one after another.

    A right column without a twin on the left is a column more. One that equals its twin
    wherever both have a row is left out, and fills the twin's rows from the right. One
    that differs is merged into it if one side is preferred, and else kept beside it.
    """

    def __init__(
        self,
        left: Table,
        right: Table,
        pairs: Key,
        rows: _Rows,
        kind: str,
        prefer: str | None,
        apart: Container[str],
    ) -> None:
        self._left, self._right, self._rows = left, right, rows
        self._both, self._prefer, self._apart = rows.both, prefer, apart
        self._from_right = kind in ("right", "full")
        self._ours = set(rows.both.column_names)
        self._key = [left_name for left_name, _ in pairs]
        self._columns = {column.name: column for column in rows.both.columns}
        self._findings: list[Finding] = []
        self._differing: list[ConflictingColumn] = []
        self._respelt = np.zeros(len(rows.right), bool)
        self.paired = {right_name: left_name for left_name, right_name in pairs}

    def take(self, name: str, column: Column, compared: bool) -> None:
        """Take a right column in; ``compared`` says whether its cells may differ at all."""
        twin = self.paired.get(name, name)
        if self._has_no_twin(name, twin):
            if name in self._columns:
                name = unused_name(f"{self._right.name}.{name}", self._columns)
            self._columns[name] = column
            return
        marked = MissingMarkers(self._left, twin, self._right, name)
        difference = self._difference(twin, column, marked) if compared else NONE
        if difference.none:
            if self._from_right:
                self._columns[twin] = _followed(self._columns[twin], column)
        elif self._prefer and name not in self.paired:
            self._merge(name, column, difference, marked)
        else:
            self._keep(name, twin, column, difference)

    def result(self) -> JoinedRows:
        """The table, and what was found."""
        named = tuple(replace(column, name=name) for name, column in self._columns.items())
        name = f"{self._left.name}+{self._right.name}"
        table = replace(self._both, columns=named, name=name)
        keyed = self._rows.both.with_name(name)
        shift, found, right = self._rows.shift, self._differing, self._right.name
        conflicts = list_cell_conflicts(keyed, shift, self._key, found, right) if found else None
        respelt = int(self._respelt.sum())
        return JoinedRows(table, tuple(self._findings), conflicts, respelt)

    def _has_no_twin(self, name: str, twin: str) -> bool:
        other = name not in self.paired and name not in self._ours
        return twin not in self._columns or name in self._apart or other

    def _difference(self, twin: str, column: Column, marked: MissingMarkers) -> ColumnDifference:
        rows = self._rows
        return compare_joined_columns(
            self._both, self._columns[twin], column, rows.left, rows.right, marked
        )

    def _merge(
        self, name: str, column: Column, difference: ColumnDifference, marked: MissingMarkers
    ) -> None:
        """Take the cells of the preferred side, and the other's where it has none."""
        self._list(name, name, column, difference)
        pair = (self._columns[name], marked.here), (column, marked.there)
        ordered = pair if self._prefer == "left" else pair[::-1]
        self._columns[name], self._both = _preferring(self._both, ordered, name)
        finding_examples = difference.shown(self._rows.both, self._key)
        self._findings += _preferred_findings(
            self._left, self._right, name, str(self._prefer), difference, finding_examples
        )

    def _keep(self, name: str, twin: str, column: Column, difference: ColumnDifference) -> None:
        """Keep the column beside its twin, under a name of its own."""
        finding_examples = difference.shown(self._rows.both, self._key)
        kept = unused_name(f"{self._right.name}.{name}", self._columns)
        self._columns[kept] = column
        tables = self._left, self._right
        if name in self.paired:
            self._respelt[difference.rows] = True
            self._findings.append(
                _respelt_finding(self._right, name, kept, difference, finding_examples)
            )
        elif difference.of_something_else:
            self._findings.append(_other_finding(*tables, name, kept, difference, finding_examples))
        elif len(difference.rows):
            self._list(name, twin, column, difference)
            self._findings.append(
                _conflict_finding(*tables, name, kept, difference, finding_examples)
            )

    def _list(self, name: str, twin: str, column: Column, difference: ColumnDifference) -> None:
        """Have the cells that differ listed."""
        if len(difference.rows):
            ours = self._rows.both.column(twin)
            self._differing.append(ConflictingColumn(name, ours, column, difference.rows))


def _followed(column: Column, then: Column) -> Column:
    """The first column's cells, and where it has none those of the other."""
    terms = coalesce_provenance(column.provenance or (), then.provenance or ())
    return replace(column, cell_refs=column.cell_refs + then.cell_refs, provenance=terms)


def _preferring(
    table: Table, pair: Sequence[tuple[Column, bool]], name: str
) -> tuple[Column, Table]:
    """The cells of the first column, and where it has no value those of the second.

    Each column comes with whether markers for missing are no value in it. Where
    neither has one, the cell of the first stands as it is, and that of the second on rows of
    which the first has none.
    """
    there = [np.zeros(table.rows, bool) for _ in pair]
    for span in table.row_ranges():
        for flags, (column, marked) in zip(there, pair, strict=True):
            flags[slice(*span)] = nonmissing_mask(table.cells(column, *span), marked)
    rows, (first, second) = np.arange(table.rows), (one for one, _ in pair)
    from_second = ~there[0] & (there[1] | ~_shown_mask(table, first))
    fragments = table.fragments
    parts: tuple[tuple[int, str], ...] = ()
    terms: Provenance = ()
    for column, taken in ((first, ~from_second), (second, from_second)):
        only = replace(table, columns=(replace(column, name=name),))
        moved, own = only.gather_column(name, np.where(taken, rows, -1))
        moved = moved.with_fragment_offset(len(fragments))
        parts, terms, fragments = (
            parts + moved.cell_refs,
            terms + (moved.provenance or ()),
            fragments + own,
        )
    declared = first.declared_type if first.declared_type == second.declared_type else None
    return Column(name, parts, declared, provenance=terms), replace(table, fragments=fragments)


def _shown_mask(table: Table, column: Column) -> npt.NDArray[np.bool_]:
    """The rows on which a column has a row of its source, and not only no cell."""
    shown = np.zeros(table.rows, bool)
    for number, _ in column.cell_refs:
        index = table.fragments[number].selection
        shown |= np.ones(table.rows, bool) if index is None else index >= 0
    return shown


def _respelt(coding: KeyCodes, pairs: Key, right_name: str) -> bool:
    """Whether equal keys may be spelt differently in this column: 7 and 7.0."""
    number = [right for _, right in pairs].index(right_name)
    types = coding.key_columns[number].types
    return all(type_.is_plain_number for type_ in types) and DECIMAL in types


def _respelt_finding(
    right: Table, name: str, kept: str, difference: ColumnDifference, shown: Shown
) -> Finding:
    return Finding(
        "key-respelt",
        "note",
        len(difference.rows),
        f"{pluralize(len(difference.rows), 'row')} matched on a key that {right.name} "
        f"spells differently; that spelling is kept as {kept}",
        where=Location(right.name, name),
        examples=shown,
    )


def _conflict_finding(
    left: Table, right: Table, name: str, kept: str, difference: ColumnDifference, shown: Shown
) -> Finding:
    return Finding(
        "source-conflict",
        "warning",
        len(difference.rows),
        f"{pluralize(len(difference.rows), 'matched row')} with different values for "
        f"{name} in {left.name} and {right.name}; those of {right.name} are kept as "
        f"{kept}",
        _PREFER,
        Location(right.name, name),
        shown,
    )


def _other_finding(
    left: Table, right: Table, name: str, kept: str, difference: ColumnDifference, shown: Shown
) -> Finding:
    share = 100 * len(difference.rows) / max(difference.on_both, 1)
    renamed = Setting("rename", f"{right.name} {name}", kept)
    return Finding(
        "source-conflict",
        "warning",
        len(difference.rows),
        f"{share:.0f} % of {pluralize(difference.on_both, 'matched row')} with a value "
        f"on both sides differ in {name}: it seems to mean different things in "
        f"{left.name} and {right.name}. Those of {right.name} are kept as {kept}; "
        "the rows are not listed",
        wording("to leave it out: ", Setting("take"), "; to name it: ", renamed),
        Location(right.name, name),
        shown,
    )


def _preferred_findings(
    left: Table, right: Table, name: str, prefer: str, difference: ColumnDifference, shown: Shown
) -> Iterable[Finding]:
    taken, other = (left, right) if prefer == "left" else (right, left)
    where = Location(right.name, name)
    if len(difference.rows):
        yield Finding(
            "source-conflict",
            "note",
            len(difference.rows),
            f"{left.name} and {right.name} give different values for {name} on "
            f"{pluralize(len(difference.rows), 'matched row')}; those of {taken.name} are taken",
            "",
            where,
            shown,
        )
    filled = difference.only_right if prefer == "left" else difference.only_left
    if filled:
        yield Finding(
            "cells-filled",
            "note",
            filled,
            f"{pluralize(filled, 'empty cell')} of {name} in {taken.name} filled from {other.name}",
            where=where,
        )


def _operation(left: Table, right: Table, names: Key, kind: str, near: NearestSpec | None) -> str:
    """The join in a few words."""
    on = f" on {format_key_option(names)}" if names else ""
    text = f"{kind} join of {left.name} and {right.name}{on}"
    if near is None:
        return text
    return f"{text}, nearest {format_key_option(((near.left, near.right),))} {near.direction}"


def make_join_entry(
    left: Table,
    right: Table,
    names: Key,
    key_match: KeyMatch,
    match: MatchCounts,
    kind: str,
    near: NearestSpec | None = None,
) -> LedgerEntry:
    """The account of a join, from its numbers."""
    operation = _operation(left, right, names, kind, near)
    if match.matched_by is not None:
        operation += f": matched {match.matched_by}"
    one, two = left.name, right.name
    other = two if two != one else f"{two} (right)"
    inputs = [(one, match.left_rows), (other, match.right_rows)]
    if kind in ONE_SIDED:
        return make_entry(
            operation, inputs, _one_sided_lines(one, two, match, kind), match.output_rows
        )
    changes = [
        LedgerLine(
            f"rows of {two} matched to a row of {one}",
            -match.right_matched,
            stands_in="matched in",
        ),
        LedgerLine(
            f"rows added: their key is on several rows of {two}",
            key_match.pairs - match.left_matched,
        ),
    ]
    if kind in ("inner", "right", "cross"):
        changes += _lines_of_unmatched(one, match.left_unmatched, match.left_missing_key)
    if kind in ("inner", "left", "cross"):
        changes += _lines_of_unmatched(two, match.right_unmatched, match.right_missing_key)
    return make_entry(operation, inputs, changes, match.output_rows)


def _one_sided_lines(one: str, two: str, match: MatchCounts, kind: str) -> list[LedgerLine]:
    lookup = f"rows of {two}, used for lookup only"
    lines = [LedgerLine(lookup, -match.right_rows, stands_in="matched in")]
    if kind == "anti":
        text, listing = f"rows of {one} that match, set aside", ListingKey(one, "matched")
        return [*lines, LedgerLine(text, -match.left_matched, listing)]
    return [*lines, *_lines_of_unmatched(one, match.left_unmatched, match.left_missing_key)]


def _lines_of_unmatched(name: str, unmatched: int, missing: int) -> Iterator[LedgerLine]:
    listing = ListingKey(name, "unmatched")
    yield LedgerLine(f"rows of {name} without a match, set aside", -unmatched, listing)
    listing = replace(listing, reason=KEY_MISSING)
    yield LedgerLine(f"rows of {name} with a missing key, set aside", -missing, listing)


def set_join_rows_aside(
    left: Table, right: Table, key_match: KeyMatch, kind: str
) -> Iterator[SetAside]:
    """The rows of both tables that a join leaves out, or that match nothing."""
    if kind == "anti":
        rows = semi_join_rows(key_match, "semi")
        if len(rows):
            reason = constant_text(f"matches in {right.name}", len(rows))
            yield SetAside("matched", left.take(rows), reason, False)
        return
    for side, table, other in ((0, left, right), (1, right, left)):
        rows, codes = key_match.unmatched[side], key_match.coding.codes[side]
        yield from _unmatched(table, other, rows, codes, kind, side == 0)


def _unmatched(
    table: Table, other: Table, rows: Rows, codes: Codes, kind: str, is_left: bool
) -> Iterator[SetAside]:
    """The rows of a table that match nothing, if there are any."""
    if len(rows) and (is_left or kind not in ONE_SIDED):
        kept = kind == "full" or kind == ("left" if is_left else "right")
        why = pa.array([f"no match in {other.name}", KEY_MISSING])
        reason = pa.DictionaryArray.from_arrays((codes[rows] < 0).astype(np.int32), why)
        yield SetAside("unmatched", table.take(rows), reason, kept)
