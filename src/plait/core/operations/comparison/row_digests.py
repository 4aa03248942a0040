"""Digests of the rows of a table, by which most rows of a later one are known to be the same.

Rows are cut into blocks after each row whose own digest ends in some zeros: so the same rows are
cut at the same places, whatever was put in above them or taken away. (Content-defined cuts:
Muthitacharoen, Chen and Mazières, "A Low-bandwidth Network File System", 2001.) Two tables are
compared by the digests of their blocks first, and only the rows of blocks that have no equal are
looked at.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from plait.core.codes.dense_codes import dense_rank, position_in_group
from plait.core.codes.key_codes import Rows
from plait.core.job.executor import map_ordered
from plait.core.operations.comparison.record_pairing import pair_equal_codes
from plait.core.table.fragment import RowNumbers
from plait.core.table.table import Table
from plait.core.text.cells import decoded, to_text
from plait.core.text.words import PIECE, TextBuffers

Words = npt.NDArray[np.uint64]

ROWS_OF_BLOCK = 16  # in the mean: a byte a row is kept, and a changed row costs 16
_STRETCH = 1 << 18  # rows within which blocks are cut, so that stretches are worked on side by side
_AT_ONCE = 1 << 14  # rows whose words stay in the processor's own memory

# The 13th variant of Stafford's mixing functions, as in SplitMix64 (Steele, Lea and Flood, "Fast
# splittable pseudorandom number generators", 2014): each bit of a word decides half of the bits.
_MIXING = (
    (np.uint64(30), np.uint64(0xBF58476D1CE4E5B9)),
    (np.uint64(27), np.uint64(0x94D049BB133111EB)),
)
_LAST_SHIFT = np.uint64(31)
_NONE = np.zeros(0, np.uint64)
_EMPTY = np.uint64(1)  # the word of a cell without a value
_BEGIN, _STEP = np.uint64(0x9E3779B97F4A7C15), np.uint64(0xD6E8FEB86659FD93)


@dataclass(frozen=True, eq=False)
class RowBlocks:
    """The rows of a table in blocks, and 128 bits that tell each block from others.

    Parameters
    ----------
    rows : array of int
        How many rows each block has.
    first, second : array of uint64
        The two halves of the digests.
    """

    rows: npt.NDArray[np.uint32]
    first: Words
    second: Words

    def __len__(self) -> int:
        return len(self.rows)

    def row_numbers(self, blocks: Rows) -> Rows:
        """The rows of some blocks, ascending like these."""
        ends = np.cumsum(self.rows, dtype=np.int64)
        times = self.rows[blocks].astype(np.int64)
        begins: Rows = np.repeat(ends[blocks] - times, times) + position_in_group(times)
        return begins


def digest_rows(table: Table) -> RowBlocks:
    """Cut the rows of a table into blocks, and work out the digest of each.

    Parameters
    ----------
    table : Table
        A missing cell and an empty text are the same: files do not tell them apart.

    Notes
    -----
    Cells of up to seven bytes are taken in as they stand, longer ones as a word of 64 bits. A cell
    that is another one is overlooked once in 2**64 times, and several that are others less often;
    it is no protection from somebody who makes rows in order that they have the same digests.

    Examples
    --------
    >>> from plait.core.table.table import table_from_columns
    >>> may = table_from_columns("may", {"hive": [str(n) for n in range(1000)]})
    >>> june = table_from_columns("june", {"hive": ["new", *(str(n) for n in range(1000))]})
    >>> blocks = digest_rows(may), digest_rows(june)
    >>> gone, added = blocks_without_equal(*blocks)
    >>> 0 in blocks[1].row_numbers(added), len(blocks[0].row_numbers(gone)) < 200
    (True, True)
    """
    digester, stretches = _RowDigester(table), list(table.row_ranges(_STRETCH))
    parts = list(map_ordered(lambda span: _blocks_of_stretch(digester, *span), stretches))
    none = RowBlocks(np.zeros(0, np.uint32), _NONE, _NONE)
    rows, first, second = (
        np.concatenate([getattr(part, name) for part in (none, *parts)])
        for name in ("rows", "first", "second")
    )
    return RowBlocks(rows, first, second)


def blocks_without_equal(old: RowBlocks, new: RowBlocks) -> tuple[Rows, Rows]:
    """The blocks of each that have no equal on the other side, of as many as are on both sides."""
    values, which, _ = dense_rank(np.concatenate([old.first, new.first]))
    here, there = pair_equal_codes(np.split(which.astype(np.int32), [len(old)]), len(values))
    equal = old.second[here] == new.second[there]
    sides = []
    for blocks, paired in ((old, here[equal]), (new, there[equal])):
        alone = np.ones(len(blocks), bool)
        alone[paired] = False
        sides.append(np.flatnonzero(alone))
    return sides[0], sides[1]


def are_rows_of_blocks(table: Table, blocks: RowBlocks, numbers: Rows) -> bool:
    """Whether a table has the rows of some blocks, in their order, and no others."""
    rows = blocks.rows[numbers]
    if int(rows.sum(dtype=np.int64)) != table.rows:
        return False
    digester, stretches = _RowDigester(table), list(table.row_ranges(_STRETCH))
    parts = list(map_ordered(lambda span: digester.digests(*span), stretches))
    first, second = (np.concatenate([_NONE, *(part[half] for part in parts)]) for half in (0, 1))
    made = _blocks_of_rows(first, second, np.cumsum(rows, dtype=np.int64))
    return np.array_equal(made.first, blocks.first[numbers]) and np.array_equal(
        made.second, blocks.second[numbers]
    )


def _blocks_of_stretch(digester: _RowDigester, start: int, stop: int) -> RowBlocks:
    """The blocks of some rows, the last of which ends with them."""
    first, second = digester.digests(start, stop)
    last = (first & np.uint64(ROWS_OF_BLOCK - 1)) == 0
    last[-1:] = True
    return _blocks_of_rows(first, second, np.flatnonzero(last) + 1)


def _blocks_of_rows(first: Words, second: Words, ends: Rows) -> RowBlocks:
    """The blocks of rows of these digests that end there."""
    rows = np.diff(ends, prepend=0)
    if not len(rows):
        return RowBlocks(rows.astype(np.uint32), first, second)
    place = (position_in_group(rows) + 1).view(np.uint64) * _STEP
    return RowBlocks(
        rows.astype(np.uint32),
        np.add.reduceat(_mixed(first + place), ends - rows),
        np.add.reduceat(_mixed(second ^ place), ends - rows),
    )


class _RowDigester:
    """Works out the digests of rows of a table, of stored cells that many rows show once.

    The first half of a digest takes in the digests of the cells one after another, so that rows
    which differ in a single cell have different halves; the second is a polynomial of all that the
    first has been.
    """

    def __init__(self, table: Table) -> None:
        self._table = table
        self._shown: dict[str, tuple[Words, RowNumbers]] = {}
        for column in table.columns:
            (number, name), *more = column.cell_refs
            fragment = table.fragments[number]
            few = 2 * fragment.stored_rows <= table.rows
            if fragment.selection is not None and few and not more:
                stored = [_cell_digests(chunk) for chunk in fragment.columns[name].chunks]
                words = np.concatenate([*stored, [_EMPTY]])  # the last is what -1 shows
                self._shown[column.name] = words, fragment.selection

    def digests(self, start: int, stop: int) -> tuple[Words, Words]:
        """The two halves of the digest of each of some rows."""
        first = np.full(stop - start, _BEGIN)
        second = np.zeros(stop - start, np.uint64)
        for begin in range(start, stop, _AT_ONCE):
            end = min(begin + _AT_ONCE, stop)
            here = slice(begin - start, end - start)
            for column in self._table.columns:
                if column.name in self._shown:
                    stored, selection = self._shown[column.name]
                    words = stored.take(selection[begin:end], mode="wrap")
                else:
                    words = _cell_digests(self._table.cells(column, begin, end))
                _take_in(first[here], second[here], words)
        return first, second


def _cell_digests(cells: pa.Array) -> Words:
    """A word for each cell: up to seven bytes are one as they stand."""
    text = TextBuffers(to_text(decoded(cells)))
    words = text.words(0)
    for piece in range(1, -(-text.longest // PIECE)):
        here = np.flatnonzero(text.lengths > piece * PIECE)
        words[here] = _mixed(words[here]) ^ text.words(piece, here)
    return words


def _take_in(first: Words, second: Words, words: Words) -> None:
    """Have digests take in a word each, in place."""
    words ^= first
    first[:] = _mixed(words)
    second *= _STEP
    second += first


def _mixed(words: Words) -> Any:
    """Words, each bit of which decides half of the bits, in place."""
    for shift, factor in _MIXING:
        words ^= words >> shift
        words *= factor
    words ^= words >> _LAST_SHIFT
    return words
