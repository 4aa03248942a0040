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
from plait.core.table.table import Table
from plait.core.text.cells import to_text
from plait.core.text.words import PIECE, TextBuffers

Words = npt.NDArray[np.uint64]

ROWS_OF_BLOCK = 32  # in the mean: half a byte a row is kept, and a changed row costs 32
_STRETCH = 1 << 18  # rows within which blocks are cut, so that stretches are worked on side by side
_AT_ONCE = 1 << 14  # rows whose words stay in the processor's own memory

# The 13th variant of Stafford's mixing functions, as in SplitMix64 (Steele, Lea and Flood, "Fast
# splittable pseudorandom number generators", 2014): each bit of a word decides half of the bits.
_MIXING = (
    (np.uint64(30), np.uint64(0xBF58476D1CE4E5B9)),
    (np.uint64(27), np.uint64(0x94D049BB133111EB)),
)
_LAST_SHIFT = np.uint64(31)
# On words that go on with a cell: else cells that share a text otherwise would have the same words.
_CONTINUED = np.uint64(0x80)
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
    A digest says of two blocks whether they are equal, to one of 2**128; it is no protection
    from somebody who makes rows in order that they have the same.

    Examples
    --------
    >>> from plait.core.table.table import table_from_columns
    >>> may = table_from_columns("may", {"hive": [str(n) for n in range(1000)]})
    >>> june = table_from_columns("june", {"hive": ["new", *(str(n) for n in range(1000))]})
    >>> old, new = rows_without_equal(digest_rows(may), digest_rows(june))
    >>> 0 in new, len(old) < 200
    (True, True)
    """
    stretches = list(table.row_ranges(_STRETCH))
    parts = list(map_ordered(lambda span: _blocks_of_stretch(table, *span), stretches))
    none = RowBlocks(np.zeros(0, np.uint32), np.zeros(0, np.uint64), np.zeros(0, np.uint64))
    rows, first, second = (
        np.concatenate([getattr(part, name) for part in (none, *parts)])
        for name in ("rows", "first", "second")
    )
    return RowBlocks(rows, first, second)


def rows_without_equal(old: RowBlocks, new: RowBlocks) -> tuple[Rows, Rows]:
    """The rows of blocks that have no equal on the other side, of as many as are on both sides."""
    alone = _blocks_without_equal(old, new)
    return old.row_numbers(alone[0]), new.row_numbers(alone[1])


def has_blocks_without_equal(table: Table, old: RowBlocks, new: RowBlocks) -> bool:
    """Whether a table has the rows of the old blocks that have no equal, and no others."""
    (alone, _) = _blocks_without_equal(old, new)
    rows = old.rows[alone]
    if int(rows.sum()) != table.rows:
        return False
    ends = np.cumsum(rows, dtype=np.int64)
    blocks = _blocks_of_rows(*_digests_of_rows(table, 0, table.rows), ends)
    return all(
        np.array_equal(getattr(blocks, half), getattr(old, half)[alone])
        for half in ("first", "second")
    )


def _blocks_without_equal(old: RowBlocks, new: RowBlocks) -> tuple[Rows, Rows]:
    size = len(old)
    _, halves, _ = dense_rank(np.concatenate([old.first, new.first]))
    _, others, _ = dense_rank(np.concatenate([old.second, new.second]))
    codes, which, _ = dense_rank(halves * (len(others) + 1) + others)
    equal = pair_equal_codes(np.split(which.astype(np.int32), [size]), len(codes))
    apart = []
    for blocks, paired in zip((old, new), equal, strict=True):
        alone = np.ones(len(blocks), bool)
        alone[paired] = False
        apart.append(np.flatnonzero(alone))
    return apart[0], apart[1]


def _blocks_of_stretch(table: Table, start: int, stop: int) -> RowBlocks:
    """The blocks of some rows, the last of which ends with them."""
    first, second = _digests_of_rows(table, start, stop)
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


def _digests_of_rows(table: Table, start: int, stop: int) -> tuple[Words, Words]:
    """The two halves of the digest of each of some rows."""
    first, second = np.empty(stop - start, np.uint64), np.empty(stop - start, np.uint64)
    for begin in range(start, stop, _AT_ONCE):
        end = min(begin + _AT_ONCE, stop)
        cells = [table.cells(column, begin, end) for column in table.columns]
        here = slice(begin - start, end - start)
        first[here], second[here] = _digests(cells, end - begin)
    return first, second


def _digests(cells: list[pa.Array], rows: int) -> tuple[Words, Words]:
    """The same, of cells.

    Every word of a cell is mixed into the first half, so that rows which differ in a single word
    have different halves; the second is a polynomial of all that the first has been.
    """
    first = np.full(rows, _BEGIN)
    second = np.zeros(rows, np.uint64)
    for column in cells:
        text = TextBuffers(to_text(column))
        _take_in(first, second, text.words(0))
        for piece in range(1, -(-text.longest // PIECE)):
            here = np.flatnonzero(text.lengths > piece * PIECE)
            ahead, behind = first[here], second[here]
            _take_in(ahead, behind, text.words(piece, here) | _CONTINUED)
            first[here], second[here] = ahead, behind
    return first, second


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
