"""A join whose left rows stream past, while the right table stays in memory.

It gives what ``plait.core.verbs.join`` gives, for the plain case: an exact comparison
with a right table whose key is unique. What that case is not, and what turns
out otherwise only further down, ends in ``NotStreamableError``, and the join is
made in memory.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from plait.core.account.finding import Finding
from plait.core.account.ledger import Entry
from plait.core.account.parallel import InTurn
from plait.core.codes.coding import CodedColumn, Coding
from plait.core.codes.counting import by_code, count, first_rows
from plait.core.codes.groups import Rows
from plait.core.codes.keyindex import KeyIndex
from plait.core.keys.duplicates import Duplicates, FirstCells, summed
from plait.core.keys.match import ONE_SIDED, Match, Matching
from plait.core.table.keyspec import Key
from plait.core.table.strand import Origin, Strand, arrow_rows
from plait.core.table.table import Column, Table
from plait.core.text.wordtable import Codes
from plait.core.types.forms import base
from plait.core.types.kinds import NUMBERS, kind_of, likely_kind, marked_missing, takes_markers
from plait.core.unmatched.keyfindings import Side, first_of_each, inferred_finding, key_findings
from plait.core.verbs.joining.account import join_ledger, unmatched_reasons
from plait.core.verbs.joining.trap import trap_findings

STREAMED_KINDS = ("left", "inner", "semi", "anti")
_EXAMPLE_ROWS = 2000
_MOST_KEPT = 50_000
_MOST_LOST = 1000
_COUNTED_TOGETHER = 1 << 21
_NEXT_TO_NONE = 0.05


class NotStreamableError(Exception):
    """The join has to be made in memory."""


@dataclass(frozen=True, eq=False)
class Looked:
    """A stretch of left rows whose keys were looked up.

    Parameters
    ----------
    columns : list of pyarrow.Array
    codes : array of int32
        Of the keys: -1 for missing, -2 for those that the right table lacks.
    partner : array of int32
        The right row of each, -1 for none.
    lost : array of int
        The rows that are listed apart.
    gone : list of pyarrow.Array
        Their cells.
    """

    columns: list[pa.Array]
    codes: Codes
    partner: Codes
    lost: Rows
    gone: list[pa.Array]


@dataclass(frozen=True, eq=False)
class Passed:
    """A stretch of left rows with their partners.

    Parameters
    ----------
    start : int
        The number of the first row of the result, from 0.
    columns : list of pyarrow.Array
        The left cells of the rows that the result has.
    partner : array of int, or None
        The right row of each, -1 for none.
    lost : list of pyarrow.Array
        The left cells of the rows that match nothing.
    lost_rows : array of int
        Their row numbers, from 0.
    lost_missing : array of bool
        Which of them have no full key.
    """

    start: int
    columns: list[pa.Array]
    partner: Codes | None
    lost: list[pa.Array]
    lost_rows: Rows
    lost_missing: npt.NDArray[np.bool_]


@dataclass(frozen=True, eq=False)
class Streamed:
    """What is to be said when all rows have passed."""

    entry: Entry
    match: Match
    findings: tuple[Finding, ...]
    right_lost: Rows


class StreamJoin:
    """Joins stretches of left rows with a right table.

    Parameters
    ----------
    left : Table
        Its name, path and columns; without rows.
    right : Table
    pairs : Key
    kind : str
        One of ``STREAMED_KINDS``.
    asked : bool
        Whether the key was given.

    Raises
    ------
    NotStreamableError
        When the right key is not unique, or both tables have another column.
    """

    def __init__(self, left: Table, right: Table, pairs: Key, kind: str, asked: bool) -> None:
        self.left, self.right, self.pairs, self.kind = left, right, pairs, kind
        self._asked = asked
        here, there = zip(*pairs, strict=True)
        self._key = [left.column_names.index(name) for name in here]
        self._taken = [name for name in right.column_names if name not in there]
        if kind not in STREAMED_KINDS or set(self._taken) & set(left.column_names):
            raise NotStreamableError
        self._index = KeyIndex(right, there)
        self._right_counts = count(self._index.codes, self._index.known)
        self._check_right(there)
        partner = first_rows(self._index.codes, self._index.known).astype(np.int32)
        self._partner = np.append(partner, np.int32(-1))  # the last for what is not there
        self._cells = {} if kind in ONE_SIDED else self._near()
        self._counts = np.zeros(self._index.known, np.int64)
        self._waiting: list[Codes] = []
        self._rows = self._out = 0
        self._lost: list[tuple[list[pa.Array], Rows, Codes]] = []
        self._unkeyed: list[tuple[list[pa.Array], Rows, Codes]] = []
        others = [n for n in range(len(left.columns)) if n not in self._key]
        self._first, self._comparing = FirstCells(len(others)), InTurn()
        self._others = others
        self._kept: list[tuple[list[pa.Array], Rows, Codes]] = []
        self._wanted = np.zeros(1, bool)

    def _check_right(self, names: Sequence[str]) -> None:
        """See that the plain comparison holds as far as the right side tells."""
        if (self._right_counts > 1).any():
            raise NotStreamableError
        for number, name in enumerate(names):
            texts = pa.chunked_array([self._index.own_texts(number)])
            kind = self.right.column(name).kind or kind_of(texts)
            if base(kind) == "decimal" or (takes_markers(kind) and marked_missing(texts)):
                raise NotStreamableError

    def _near(self) -> dict[str, pa.Array]:
        near = self.right.strands[0].near(self._taken) if len(self.right.strands) == 1 else None
        if near is None or near.index is not None:
            raise NotStreamableError
        stored = {name: self.right.column(name).parts[0][1] for name in self._taken}
        return {name: near.stored[stored[name]].chunk(0) for name in self._taken}

    @property
    def right_codes(self) -> Codes:
        """The code of each right row's key, -1 where it is missing."""
        return self._index.codes

    @property
    def reasons(self) -> tuple[str, str]:
        """Why a left row is listed apart: as it is, and without a full key."""
        if self.kind == "anti":
            return f"matches in {self.right.name}", ""
        return unmatched_reasons(self.right)

    @property
    def column_names(self) -> tuple[str, ...]:
        """Of the result."""
        return (*self.left.column_names, *self._cells)

    def look_up(self, columns: list[pa.Array]) -> Looked:
        """Look up the keys of a stretch of left rows. May be done for several at once."""
        codes = self._index.find([columns[number] for number in self._key])
        partner = self._partner.take(np.maximum(codes, -1), mode="wrap")
        lost = np.flatnonzero(partner >= 0 if self.kind == "anti" else partner < 0)
        return Looked(columns, codes, partner, lost, _taken(columns, lost))

    def take(self, looked: Looked) -> Passed:
        """Take a stretch of left rows into the account; they come in their order."""
        columns, partner = looked.columns, looked.partner
        cells = [columns[number] for number in self._key]
        if not self._rows:
            self._check_left(cells)
        codes = self._index.taken_in(cells, looked.codes)
        self._note_counts(codes)
        rows = np.arange(self._rows, self._rows + len(codes))
        self._note_examples(columns, rows, codes)
        self._note_lost(columns, rows, codes, partner)
        start, kept = self._out, self._kept_of(partner)
        shown = columns if kept is None else _taken(columns, kept)
        if kept is not None:
            partner = partner[kept]
        self._rows += len(codes)
        self._out += len(partner)
        missing = codes[looked.lost] < 0
        return Passed(start, shown, partner, looked.gone, rows[looked.lost], missing)

    def _kept_of(self, partner: Codes) -> Rows | None:
        """Which rows of a stretch the result has; ``None`` for all."""
        if self.kind == "left":
            return None
        return np.flatnonzero(partner < 0 if self.kind == "anti" else partner >= 0)

    def batch(self, passed: Passed) -> pa.RecordBatch:
        """The rows of the result. May be called for several stretches at once."""
        columns = passed.columns
        if self._cells:
            assert passed.partner is not None
            at = arrow_rows(passed.partner)
            columns = [*columns, *(cells.take(at) for cells in self._cells.values())]
        return pa.RecordBatch.from_arrays(columns, names=self.column_names)

    def _check_left(self, cells: Sequence[pa.Array]) -> None:
        for column in cells:
            if base(likely_kind(pa.chunked_array([column]))) == "decimal":
                raise NotStreamableError

    def _note_counts(self, codes: Codes) -> None:
        self._waiting.append(codes)
        if sum(map(len, self._waiting)) >= _COUNTED_TOGETHER:
            self._count()

    def _count(self) -> None:
        """Count the keys of some stretches together: each counting costs as much as there are."""
        codes = np.concatenate([np.empty(0, np.int32), *self._waiting])
        self._waiting = []
        counts = count(codes, self._index.size)
        counts[: len(self._counts)] += self._counts
        self._counts = counts

    def _note_examples(self, columns: list[pa.Array], rows: Rows, codes: Codes) -> None:
        """Mark keys whose rows differ, and keep the rows of some keys for examples."""
        others = [columns[number] for number in self._others]
        self._comparing.ask(self._first.take, others, codes, self._index.size)
        if self._rows < _EXAMPLE_ROWS:
            self._want(codes[: _EXAMPLE_ROWS - self._rows])
        if sum(len(kept) for _, kept, _ in self._kept) > _MOST_KEPT:
            return
        last = len(self._wanted) - 1
        some = np.flatnonzero(self._wanted[np.where((codes < 0) | (codes > last), last, codes)])
        self._kept.append((_taken(columns, some), rows[some], codes[some]))

    def _want(self, codes: Codes) -> None:
        """Rows of these keys are kept; the last place stays free, for other codes."""
        wanted = np.zeros(self._index.size + 1, bool)
        wanted[: len(self._wanted) - 1] = self._wanted[:-1]
        wanted[codes] = True
        wanted[-1] = False
        self._wanted = wanted

    def _note_lost(self, columns: list[pa.Array], rows: Rows, codes: Codes, partner: Codes) -> None:
        """Keep the first rows without a match, and without a key, for examples."""
        for flags, held in (
            ((partner < 0) & (codes >= 0), self._lost),
            (codes < 0, self._unkeyed),
        ):
            room = _MOST_LOST - sum(len(kept) for _, kept, _ in held)
            some = np.flatnonzero(flags)[:room] if room else rows[:0]
            if len(some):
                held.append((_taken(columns, some), rows[some], codes[some]))

    def finish(self) -> Streamed:
        """The account, once all rows have passed.

        Raises
        ------
        NotStreamableError
            When some cell further down has shown that keys must be compared
            otherwise, or that rows must be compared cell by cell.
        """
        if not self._rows:
            raise NotStreamableError
        self._count()
        self._comparing.wait()
        self._index.note_known(self._counts)
        kinds = self._kinds()
        self._first.make_room(self._index.size)
        if self._first.open_keys(self._counts).any():
            raise NotStreamableError
        matching = self._matching(kinds)
        match = matching.account(self.kind, (self._rows, self.right.rows))
        sides = self._left_side(match, matching), self._right_side(match, matching)
        findings = () if self._asked else (inferred_finding(self.left, self.right, self.pairs),)
        found = key_findings(sides, self.pairs, matching, match, self.kind)
        share = match.left_matched / max(match.left_matched + match.left_unmatched, 1)
        if share <= _NEXT_TO_NONE and match.left_unmatched:
            raise NotStreamableError  # the columns are searched for the keys
        traps = trap_findings(self.left, self.right, self.pairs, matching, match)
        entry = join_ledger(self.left, self.right, self.pairs, matching, match, self.kind)
        unmatched = self._counts[: self._index.known] == 0
        lost = np.flatnonzero(by_code(unmatched, self._index.codes, True))
        return Streamed(entry, match, (*findings, *found, *traps), lost)

    def _kinds(self) -> list[tuple[str, str]]:
        """What the key columns of both sides hold, over all cells."""
        found = []
        for number, (_, there) in enumerate(self.pairs):
            met = pa.chunked_array([self._index.texts_met(number)])
            own = pa.chunked_array([self._index.own_texts(number)])
            left, right = kind_of(met), self.right.column(there).kind or kind_of(own)
            both = {left, right}
            if (both <= set(NUMBERS) and "decimal" in both) or (
                takes_markers(left) and marked_missing(met)
            ):
                raise NotStreamableError
            found.append((left, right))
        return found

    def _matching(self, kinds: Sequence[tuple[str, str]]) -> Matching:
        """A matching of each distinct left key once, with the true counts."""
        index = self._index
        standing = np.flatnonzero(self._counts > 0).astype(np.int32)
        known = standing[standing < index.known]
        columns = []
        for number, kind in enumerate(kinds):
            parts = index.parts[number][self._partner[known]]
            left = np.concatenate([parts, index.met(number)])
            texts = index.texts(number)
            columns.append(CodedColumn((left, index.parts[number]), len(texts), texts, kind))
        coding = Coding((standing, index.codes), index.size, tuple(columns))
        right = np.zeros(index.size, np.int64)
        right[: index.known] = self._right_counts
        none = np.empty(0, np.int64)
        return Matching(coding, self._counts, right, int(self._counts @ right), (none, none))

    def _left_side(self, match: Match, matching: Matching) -> Side:
        names = tuple(here for here, _ in self.pairs)
        groups = (self._kept, self._lost, self._unkeyed)
        table, codes = self._small([part for group in groups for part in group])
        edges = np.cumsum([0, *(sum(len(rows) for _, rows, _ in group) for group in groups)])
        kept, lost, unkeyed = (np.arange(edges[n], edges[n + 1]) for n in range(3))
        conflict = self._first.differs[: len(self._counts)]
        duplicates = summed(
            table.at(kept),
            names,
            codes[kept],
            self._counts,
            conflict & (self._counts > 1),
        )
        return Side(
            table,
            self.right.name,
            names,
            match.left_unmatched,
            int(((self._counts > 0) & (matching.right_counts == 0)).sum()),
            match.left_missing_key,
            lost[first_of_each(codes[lost])],
            unkeyed,
            duplicates,
        )

    def _right_side(self, match: Match, matching: Matching) -> Side:
        names = tuple(there for _, there in self.pairs)
        codes = self._index.codes
        lost = np.flatnonzero(by_code(self._counts == 0, codes, False))
        nothing = Duplicates(0, 0, 0, 0)
        unmatched = int(((self._counts == 0) & (matching.right_counts > 0)).sum())
        missing = np.flatnonzero(codes < 0)
        return Side(
            self.right,
            self.left.name,
            names,
            match.right_unmatched,
            unmatched,
            match.right_missing_key,
            lost[:_MOST_LOST],
            missing,
            nothing,
        )

    def _small(self, parts: Sequence[tuple[list[pa.Array], Rows, Codes]]) -> tuple[Table, Codes]:
        """Some left rows as a table that knows where they stand."""
        rows = np.concatenate([np.empty(0, np.int64), *(rows for _, rows, _ in parts)])
        codes = np.concatenate([np.empty(0, np.int32), *(codes for _, _, codes in parts)])
        names = self.left.column_names
        stored = {
            name: pa.chunked_array([cells[number] for cells, _, _ in parts], pa.string())
            for number, name in enumerate(names)
        }
        origin = Origin(self.left.name, self.left.path, len(rows), rows)
        columns = tuple(Column(name, ((0, name),)) for name in names)
        strand = Strand(self.left.name, stored, (origin,))
        return Table(self.left.name, columns, (strand,), len(rows)), codes


def _taken(columns: Sequence[pa.Array], rows: Rows) -> list[pa.Array]:
    at = pa.array(rows)
    return [column.take(at) for column in columns]
