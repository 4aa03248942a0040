"""Keys that stand on more than one row: repeats, whose rows are equal, and conflicts."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.coding import Counts, first_rows
from plait.core.finding import MOST_EXAMPLES, Example, Place
from plait.core.parallel import cores, ordered_map
from plait.core.table import BATCH_ROWS, Column, Table
from plait.core.text import as_text
from plait.core.words import PIECE, Cells, Words
from plait.core.wordtable import Codes

Flags = npt.NDArray[np.bool_]

_LONG = np.uint64(1 << 63)  # no word of a short cell has this bit


@dataclass(frozen=True, eq=False)
class Duplicates:
    """What the keys on several rows of one table look like.

    Parameters
    ----------
    keys : int
        Keys on more than one row; ``repeats`` of them have equal rows only,
        ``conflicts`` have rows that differ.
    rows : int
        Rows that these keys stand on.
    repeat_examples, conflict_examples : tuple of Example
        The key, and for a conflict the first cell that differs.
    """

    keys: int
    rows: int
    repeats: int
    conflicts: int
    repeat_examples: tuple[Example, ...] = ()
    conflict_examples: tuple[Example, ...] = ()


def find_duplicates(table: Table, key: Sequence[str], codes: Codes, counts: Counts) -> Duplicates:
    """Split the keys on several rows into repeats and conflicts.

    Parameters
    ----------
    table : Table
    key : sequence of str
        The key's columns; the others are compared.
    codes : array of int32
        The code of each row's key, -1 where it is missing.
    counts : array of int64
        Rows of each code.

    Returns
    -------
    Duplicates

    Notes
    -----
    Each row is compared with the first row of its key, a column at a time and
    narrow columns first; a key once found in conflict is not looked at again.
    """
    repeated = counts > 1
    keys = int(repeated.sum())
    if not keys:
        return Duplicates(0, 0, 0, 0)
    conflict = np.zeros(len(counts), bool)
    undecided, codes_left = _rows_of(repeated, table, codes)
    for column in _narrow_first(table, key):
        if not undecided.rows:
            break
        conflict |= conflicting(undecided, column, codes_left, len(counts))
        undecided, codes_left = _rows_of(repeated & ~conflict, undecided, codes_left)
    conflicts = int(conflict.sum())
    return Duplicates(
        keys,
        int(counts[repeated].sum()),
        keys - conflicts,
        conflicts,
        _examples(table, key, codes, repeated & ~conflict),
        _examples(table, key, codes, conflict),
    )


def _rows_of(keys: Flags, table: Table, codes: Codes) -> tuple[Table, Codes]:
    """The rows of these keys, and their codes; all rows where that would be most of them."""
    rows = np.flatnonzero(np.append(keys, False)[codes])
    if 2 * len(rows) > len(codes):
        return table, codes
    return table.at(rows), codes[rows]


def _narrow_first(table: Table, key: Sequence[str]) -> list[Column]:
    def width(column: Column) -> int:
        strand, name = column.parts[0]
        return int(table.strands[strand].stored[name].nbytes)

    return sorted((column for column in table.columns if column.name not in key), key=width)


def conflicting(table: Table, column: Column, codes: Codes, size: int) -> Flags:
    """Which keys have different cells in a column.

    Parameters
    ----------
    table : Table
    column : Column
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
    parts = list(ordered_map(lambda span: _part(table, column, codes, size, span), _spans(table)))
    head, differs = parts[0].head, parts[0].differs
    for part in parts[1:]:
        differs |= part.differs | ((head != 0) & (part.head != 0) & (head != part.head))
        head = np.where(head == 0, part.head, head)
    open_keys = ~differs & (head >= _LONG)
    if open_keys.any():
        differs |= _conflicting_exactly(table, column, codes, open_keys)
    return differs


@dataclass(frozen=True, eq=False)
class _Part:
    head: Words
    differs: Flags


def _spans(table: Table) -> list[tuple[int, int]]:
    """As many stretches of rows as there are cores, each a whole number of batches."""
    batches = -(-table.rows // BATCH_ROWS)
    edges = [batches * part // cores() * BATCH_ROWS for part in range(cores())]
    return list(zip(edges, [*edges[1:], table.rows], strict=True))


def _part(table: Table, column: Column, codes: Codes, size: int, span: tuple[int, int]) -> _Part:
    head, differs = np.zeros(size + 1, np.uint64), np.zeros(size + 1, bool)
    for start in range(*span, BATCH_ROWS):
        stop = min(start + BATCH_ROWS, span[1])
        code = codes[start:stop]
        marks = _marks(Cells(as_text(table.cells(column, start, stop))))
        known = head[code]
        new = np.flatnonzero(known == 0)
        if len(new):
            head[code[new]] = marks[new]
            known[new] = head[code[new]]
        differs[code[known != marks]] = True
    return _Part(head[:size], differs[:size])


def _marks(cells: Cells) -> Words:
    """A word for each cell: different words, different cells. Short cells: and the reverse."""
    marks = cells.words(0)
    if cells.longest <= PIECE:
        return marks
    longer = np.flatnonzero(cells.lengths > PIECE)
    marks[longer] |= _LONG
    piece = 1
    while len(longer):
        mixed = (marks[longer] ^ (marks[longer] >> np.uint64(29))) * np.uint64(0xBF58476D1CE4E5B9)
        marks[longer] = (mixed ^ cells.words(piece, longer)) | _LONG
        piece += 1
        longer = longer[cells.lengths[longer] > piece * PIECE]
    return marks


def _conflicting_exactly(table: Table, column: Column, codes: Codes, keys: Flags) -> Flags:
    """The same for some keys, by comparing each cell with the first of its key."""
    differs = np.zeros(len(keys), bool)
    rows = np.flatnonzero(np.append(keys, False)[codes])
    first = first_rows(codes, len(keys))
    for start in range(0, len(rows), BATCH_ROWS):
        some = rows[start : start + BATCH_ROWS]
        here = pc.fill_null(_column_at(table, column, some), "")
        there = pc.fill_null(_column_at(table, column, first[codes[some]]), "")
        unequal = pc.not_equal(here, there).to_numpy(zero_copy_only=False)
        differs[codes[some[unequal]]] = True
    return differs


def _column_at(table: Table, column: Column, rows: npt.NDArray[np.int64]) -> pa.Array:
    taken = table.at(rows)
    return as_text(taken.cells(column, 0, len(rows)))


def first_few(flags: Flags, codes: Codes) -> list[int]:
    """A few of the flagged codes, in the order in which they first stand."""
    found: dict[int, None] = {}
    flags = np.append(flags, False)
    for start in range(0, len(codes), BATCH_ROWS):
        code = codes[start : start + BATCH_ROWS]
        found.update(dict.fromkeys(code[flags[code]].tolist()))
        if len(found) >= MOST_EXAMPLES:
            break
    return list(found)[:MOST_EXAMPLES]


def _examples(table: Table, key: Sequence[str], codes: Codes, flags: Flags) -> tuple[Example, ...]:
    if not flags.any():
        return ()
    some = first_few(flags, codes)
    return tuple(_example(table, key, np.flatnonzero(codes == code)) for code in some)


def _example(table: Table, key: Sequence[str], rows: npt.NDArray[np.int64]) -> Example:
    rows = rows[:1000]
    taken = table.at(rows)
    cells = {name: [as_shown(v) for v in values] for name, values in taken.to_dict().items()}
    text = key_text(table, key, int(rows[0]))
    other = 1
    for name, values in cells.items():
        differing = [i for i, value in enumerate(values) if value != values[0]]
        if differing and name not in key:
            other = differing[0]
            text += f": {name} {values[0]} / {values[other]}"
            break
    return Example(text, _places(table, int(rows[0])) + _places(table, int(rows[other])))


def _places(table: Table, row: int) -> tuple[Place, ...]:
    return table.places(row)[:1]


def as_shown(value: object) -> str:
    """A cell as messages show it."""
    return "(missing)" if value is None or value == "" else str(value)


def key_text(table: Table, key: Sequence[str], row: int) -> str:
    """The key of a row, as messages show it: ``yard Y1, hive 7``."""
    one = table.at(np.array([row]))
    return ", ".join(f"{name} {as_shown(one.whole(name)[0].as_py())}" for name in key)
