"""Keys on several rows of a table: identical or in conflict, and what would tell them apart."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.base.findings import MOST_EXAMPLES, FindingExample, SourceRow, pluralize
from plait.core.codes.dense_codes import (
    Counts,
    combine_codes,
    count_codes,
    first_row_of_each_code,
    gather_by_code,
)
from plait.core.codes.key_codes import KeyCodes, encode_key_column
from plait.core.job.executor import available_cores, map_ordered
from plait.core.table.table import BATCH_ROWS, Column, Table
from plait.core.text.cells import to_text
from plait.core.text.hash_table import Codes
from plait.core.text.words import MARK, PIECE, TextBuffers, Words

_MOST_SAID = 3

Flags = npt.NDArray[np.bool_]

_SAMPLE_KEYS = 20_000
_MOST_TRIED = 30


@dataclass(frozen=True, eq=False)
class DuplicateKeys:
    """What the keys on several rows of one table look like.

    Parameters
    ----------
    keys : int
        Keys on more than one row; ``repeats`` of them have equal rows only,
        ``conflicts`` have rows that differ.
    rows : int
        Rows that these keys are on.
    repeat_examples, conflict_examples : tuple of FindingExample
        The key, and for a conflict the first cell that differs.
    """

    keys: int
    rows: int
    repeats: int
    conflicts: int
    repeat_examples: tuple[FindingExample, ...] = ()
    conflict_examples: tuple[FindingExample, ...] = ()


def find_duplicate_keys(
    table: Table, key: Sequence[str], codes: Codes, counts: Counts
) -> DuplicateKeys:
    """Split the keys on several rows into repeats and conflicts.

    Parameters
    ----------
    key : sequence of str
        The key's columns; the others are compared.
    codes : array of int32
        The code of each row's key, -1 where it is missing.
    counts : array of int64
        Rows of each code.

    Notes
    -----
    Each row is compared with the first row of its key, a column at a time and
    narrow columns first; a key once found in conflict is not looked at again.
    """
    repeated = counts > 1
    if not repeated.any():
        return DuplicateKeys(0, 0, 0, 0)
    conflict = np.zeros(len(counts), bool)
    rest, codes_left = table, codes
    for column in _narrow_first(table, key):
        undecided = repeated & ~conflict
        rows = int(counts[undecided].sum())
        if not rows:
            break
        if 2 * rows < rest.rows:
            rest, codes_left = _rows_of_keys(undecided, rest, codes_left)
        conflict |= keys_in_conflict_mask(rest, column, codes_left, len(counts))
    return _summed(table, key, codes, counts, conflict)


def find_conflicting_columns(
    table: Table, key: Sequence[str], codes: Codes, counts: Counts
) -> tuple[DuplicateKeys, dict[str, int]]:
    """As ``find_duplicate_keys``, and in which columns the conflicts are: column to keys.

    Every column is gone through to its end, so this takes longer.
    """
    repeated = counts > 1
    if not repeated.any():
        return DuplicateKeys(0, 0, 0, 0), {}
    rows = int(counts[repeated].sum())
    rest, left = (table, codes) if 2 * rows >= table.rows else _rows_of_keys(repeated, table, codes)
    conflict, columns = np.zeros(len(counts), bool), {}
    for column in table.columns:
        if column.name in key:
            continue
        differs = keys_in_conflict_mask(rest, column, left, len(counts))
        if differs.any():
            columns[column.name] = int(differs.sum())
            conflict |= differs
    return _summed(table, key, codes, counts, conflict), columns


def _summed(
    table: Table, key: Sequence[str], codes: Codes, counts: Counts, conflict: Flags
) -> DuplicateKeys:
    """The account, from which keys are in conflict; ``table`` and ``codes`` give the examples."""
    repeated = counts > 1
    keys, conflicts = int(repeated.sum()), int(conflict.sum())
    return DuplicateKeys(
        keys,
        int(counts[repeated].sum()),
        keys - conflicts,
        conflicts,
        _examples(table, key, codes, repeated & ~conflict, differing=False),
        _examples(table, key, codes, conflict, differing=True),
    )


def _rows_of_keys(keys: Flags, table: Table, codes: Codes) -> tuple[Table, Codes]:
    """The rows of these keys, and their codes."""
    rows = np.flatnonzero(gather_by_code(keys, codes, False))
    return table.take(rows), codes[rows]


def _narrow_first(table: Table, key: Sequence[str]) -> list[Column]:
    def width(column: Column) -> int:
        fragment, name = column.cell_refs[0]
        return int(table.fragments[fragment].columns[name].nbytes)

    return sorted((column for column in table.columns if column.name not in key), key=width)


def keys_in_conflict_mask(table: Table, column: Column, codes: Codes, size: int) -> Flags:
    """Which keys have different cells in a column.

    Parameters
    ----------
    codes : array of int32
        The code of each row's key, -1 where it is missing.
    size : int
        Codes are below it.

    Returns
    -------
    array of bool
        By code.

    Notes
    -----
    The rows are gone through in as many parts as there are cores. Each part
    keeps for every key the mark of the first cell it met; a cell with another
    mark, in the same part or a later one, differs. Equal marks of cells too
    long to be their own mark are compared cell by cell.
    """
    differs = np.zeros(size + 1, bool)  # shared by the parts, which only ever set it
    heads = list(
        map_ordered(lambda spans: _part(table, column, codes, differs, spans), _shares(table))
    )
    differs, head = differs[:size], heads[0][:size]
    for other in heads[1:]:
        differs |= (head != 0) & (other[:size] != 0) & (head != other[:size])
        head = np.where(head == 0, other[:size], head)
    open_keys = ~differs & (head & MARK == MARK)
    if open_keys.any():
        differs |= _conflicting_exactly(table, column, codes, open_keys)
    return differs


def _shares(table: Table) -> list[list[tuple[int, int]]]:
    """The table's batches, dealt out to as many parts as there are cores."""
    spans = table.chunk_ranges()
    parts = min(available_cores(), max(1, len(spans)))
    return [spans[number::parts] for number in range(parts)]


def _part(
    table: Table, column: Column, codes: Codes, differs: Flags, spans: Sequence[tuple[int, int]]
) -> Words:
    """Go through some batches: set the keys that differ, return each key's first mark."""
    head = np.zeros(len(differs), np.uint64)
    for start, stop in spans:
        code, rows = codes[start:stop].astype(np.intp), None
        known_to_differ = differs.take(code, mode="wrap")
        if 2 * np.count_nonzero(known_to_differ) > len(code):
            rows = np.flatnonzero(~known_to_differ)
            code = code.take(rows)
        marks = _marks(TextBuffers(to_text(table.cells(column, start, stop))), rows)
        known = head.take(code, mode="wrap")
        new = np.flatnonzero(known == 0)
        if len(new):
            head[code[new]] = marks[new]
            known[new] = head[code[new]]
        differs[code[known != marks]] = True
    return head


def _marks(cells: TextBuffers, rows: npt.NDArray[np.int64] | None) -> Words:
    """A word for each cell: different words, different cells. Short cells: and the reverse."""
    marks = cells.words(0, rows)
    if cells.longest <= PIECE:
        return marks
    lengths = cells.lengths if rows is None else cells.lengths.take(rows)
    longer = np.flatnonzero(lengths > PIECE)
    marks[longer] |= MARK
    piece = 1
    while len(longer):
        mixed = (marks[longer] ^ (marks[longer] >> np.uint64(29))) * np.uint64(0xBF58476D1CE4E5B9)
        more = cells.words(piece, longer if rows is None else rows.take(longer))
        marks[longer] = (mixed ^ more) | MARK
        piece += 1
        longer = longer[lengths[longer] > piece * PIECE]
    return marks


def _conflicting_exactly(table: Table, column: Column, codes: Codes, keys: Flags) -> Flags:
    """The same for some keys, by comparing each cell with the first of its key."""
    differs = np.zeros(len(keys), bool)
    rows = np.flatnonzero(gather_by_code(keys, codes, False))
    first = first_row_of_each_code(codes, len(keys))
    for start in range(0, len(rows), BATCH_ROWS):
        some = rows[start : start + BATCH_ROWS]
        here = pc.fill_null(_column_at(table, column, some), "")
        there = pc.fill_null(_column_at(table, column, first[codes[some]]), "")
        unequal = pc.not_equal(here, there).to_numpy(zero_copy_only=False)
        differs[codes[some[unequal]]] = True
    return differs


def _column_at(table: Table, column: Column, rows: npt.NDArray[np.int64]) -> pa.Array:
    taken = table.take(rows)
    return to_text(taken.cells(column, 0, len(rows)))


def first_flagged_codes(flags: Flags, codes: Codes) -> list[int]:
    """A few of the flagged codes, in the order in which they first stand."""
    found: dict[int, None] = {}
    for start in range(0, len(codes), BATCH_ROWS):
        code = codes[start : start + BATCH_ROWS]
        found.update(dict.fromkeys(code[gather_by_code(flags, code, False)].tolist()))
        if len(found) >= MOST_EXAMPLES:
            break
    return list(found)[:MOST_EXAMPLES]


def _examples(
    table: Table, key: Sequence[str], codes: Codes, flags: Flags, differing: bool
) -> tuple[FindingExample, ...]:
    if not flags.any():
        return ()
    some = first_flagged_codes(flags, codes)
    return tuple(_example(table, key, np.flatnonzero(codes == code), differing) for code in some)


def _example(
    table: Table, key: Sequence[str], rows: npt.NDArray[np.int64], differing: bool
) -> FindingExample:
    """A key, where it stands, and how the first row that differs does so."""
    rows = rows[:1000]
    taken, other = table.take(rows), min(1, len(rows) - 1)
    texts: list[str] = []
    for name in table.column_names if differing else ():
        values = [] if name in key else [format_cell(v) for v in taken.chunks(name).to_pylist()]
        odd = [number for number, value in enumerate(values) if value != values[0]]
        if odd:
            other = odd[0] if not texts else other
            if values[other] != values[0]:
                texts.append(f"{name} {values[0]} / {values[other]}")
    text = format_key(table, key, int(rows[0])) + _first_differences(texts)
    return FindingExample(text, _places(table, int(rows[0])) + _places(table, int(rows[other])))


def _first_differences(said: Sequence[str]) -> str:
    """The first few differences, side by side."""
    shown, more = said[:_MOST_SAID], len(said) - _MOST_SAID
    rest = f"; and {pluralize(more, 'more column')}" if more > 0 else ""
    return f": {'; '.join(shown)}{rest}" if said else ""


def _places(table: Table, row: int) -> tuple[SourceRow, ...]:
    return table.source_rows(row)[:1]


def format_cell(value: object) -> str:
    """A cell as messages show it."""
    return "(missing)" if value is None or value == "" else str(value)


def format_key(table: Table, key: Sequence[str], row: int) -> str:
    """The key of a row, as messages show it: ``yard Y1, hive 7``."""
    cells = ((name, table.cells(table.column(name), row, row + 1)[0].as_py()) for name in key)
    return ", ".join(f"{name} {format_cell(cell)}" for name, cell in cells)


@dataclass(frozen=True)
class UniquenessGap:
    """What is between a key and being unique.

    Parameters
    ----------
    in_the_way : int
        Rows beyond the first of each key.
    with_column : tuple of (str, int)
        Columns that would make it unique, or nearly, together with it, and how
        many rows would be in the way then; best first.
    """

    in_the_way: int
    with_column: tuple[tuple[str, int], ...]

    @property
    def complete(self) -> tuple[str, ...]:
        """Columns each of which would make the key unique."""
        return tuple(name for name, rows in self.with_column if not rows)


def find_uniqueness_gap(
    table: Table, key: Sequence[str], coding: KeyCodes, counts: Counts
) -> UniquenessGap | None:
    """Look for a further column that tells rows of one key apart.

    Returns
    -------
    UniquenessGap or None
        ``None`` when the key is unique.

    Notes
    -----
    A column that fails on the rows of some keys fails on all of them, so the
    columns are tried on up to 20,000 keys first, and the best three on the rest.
    """
    repeated = np.flatnonzero(counts > 1)
    if not len(repeated):
        return None
    others = [name for name in table.column_names if name not in key][:_MOST_TRIED]
    sample = repeated[:: max(1, len(repeated) // _SAMPLE_KEYS)]
    if len(sample) < len(repeated):
        tried = _in_the_way(table, coding, sample, others)
        others = [name for name, _ in tried[:3]]
    found = _in_the_way(table, coding, repeated, others)
    excess = int((counts[repeated] - 1).sum())
    return UniquenessGap(excess, tuple(f for f in found[:3] if 2 * f[1] <= excess))


def _in_the_way(
    table: Table, coding: KeyCodes, some: Counts, others: Sequence[str]
) -> list[tuple[str, int]]:
    wanted = np.zeros(coding.code_count, bool)
    wanted[some] = True
    rows = np.flatnonzero(gather_by_code(wanted, coding.codes[0], False))
    taken, codes = table.take(rows), coding.codes[0][rows]
    found = []
    for name in others:
        column = encode_key_column([taken.chunks(name)])
        # A missing cell tells no row apart.
        cells = np.where(column.codes[0] < 0, np.int32(column.size), column.codes[0])
        (both,), size = combine_codes([codes], coding.code_count, [cells], column.size + 1)
        found.append((name, len(rows) - int((count_codes(both, size) > 0).sum())))
    return sorted(found, key=lambda f: f[1])
