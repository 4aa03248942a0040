"""Text cells as 64-bit words, several cells at a time.

A word holds up to seven bytes of a cell in its upper bytes and, in its lowest,
how many and one more. So a word is never zero, two pieces are equal exactly
when their words are, and a lowest byte above eight is free to mark other words.
"""

from __future__ import annotations

from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

Words = npt.NDArray[np.uint64]

PIECE = 7
MARK, DATE = np.uint64(0xFF), np.uint64(0xF0)
DATE_BYTES = 10
NUMBER, SHORTEST_NUMBER, LONGEST_NUMBER = np.uint64(0xE0), 8, 14
_ONE, _EIGHT = np.uint64(1), np.uint64(8)
# Of the eight bytes of a word: the two that are hyphens in a date, and something for each byte.
_HYPHENS = np.uint64(0xFF0000FF00000000)
_EACH_HYPHEN, _ZEROS = (np.uint64(sign * 0x0101010101010101) for sign in b"-0")
_TO_TEN, _TOPS = (np.uint64(byte * 0x0101010101010101) for byte in (0x76, 0x80))
# Of each byte: half of it; what is left of , - . / without the last two bits; something for none.
_HALVES, _SIGNS, _BUT_TWO_BITS, _SEVEN_BITS, _NO_SIGN = (
    np.uint64(byte * 0x0101010101010101) for byte in (0x0F, 0x1C, 0xFC, 0x7F, 0x3A)
)
_PAIRS = (
    (np.uint64(4), np.uint64(0x00FF00FF00FF00FF)),
    (np.uint64(8), np.uint64(0x0000FFFF0000FFFF)),
    (np.uint64(16), np.uint64(0x00000000FFFFFFFF)),
)


class TextBuffers:
    """Offsets and bytes of an Arrow text array, without a copy.

    Parameters
    ----------
    array : pyarrow.StringArray or pyarrow.LargeStringArray
        Missing cells read as empty.

    Attributes
    ----------
    starts : array of int
        Where each cell begins in the array's buffer.
    data : array of uint8
        The bytes of all cells, one after another.
    """

    def __init__(self, array: pa.Array) -> None:
        array = _plainly_missing(array)
        wide = pa.types.is_large_string(array.type)
        _, offsets, data = array.buffers()
        dtype = np.int64 if wide else np.int32
        if offsets is None or not len(array):
            offsets_of: npt.NDArray[Any] = np.zeros(len(array) + 1, dtype)
        else:
            offsets_of = np.frombuffer(offsets, dtype)[array.offset : array.offset + len(array) + 1]
        self._array, self._offsets = array, offsets_of
        self.starts = offsets_of[:-1]
        begin, end = (int(offsets_of[0]), int(offsets_of[-1])) if len(array) else (0, 0)
        self.data = np.frombuffer(data, np.uint8)[begin:end] if end else np.empty(0, np.uint8)
        self._begin = begin
        self._buffer = _at_least_a_word(data)
        self._loads = _from_every_byte(self._buffer)
        self._aligned = np.frombuffer(self._buffer, "<u8", len(memoryview(self._buffer)) // 8)

    @cached_property
    def lengths(self) -> npt.NDArray[Any]:
        """Bytes of each cell."""
        return _without_missing(self._array, np.diff(self._offsets))

    @cached_property
    def non_digits(self) -> set[int]:
        """The bytes that are no digits: a minus, a point, and -1 for any other.

        >>> TextBuffers(pa.array(["7", "-1"])).non_digits == {ord("-")}
        True
        """
        nonzero = np.count_nonzero(self.data - np.uint8(ord("0")) > 9)
        counts = {sign: np.count_nonzero(self.data == sign) for sign in b"-." if nonzero}
        found = {sign for sign, count in counts.items() if count}
        return found if sum(counts.values()) == nonzero else {*found, -1}

    @cached_property
    def longest(self) -> int:
        """The greatest length."""
        return int(self.lengths.max(initial=0))

    @cached_property
    def _shortest(self) -> int:
        return int(self.lengths.min(initial=self.longest))

    def words(self, piece: int, rows: npt.NDArray[np.int64] | None = None) -> Words:
        """The word of the ``piece``-th seven bytes of the cells at ``rows`` (of all, if None)."""
        if rows is None and self.longest == self._shortest:
            return self._words_of_one_length(piece)
        starts = self.starts if rows is None else self.starts.take(rows)
        lengths = self.lengths if rows is None else self.lengths.take(rows)
        if piece:
            starts, lengths = starts + piece * PIECE, lengths - piece * PIECE
        kept = lengths if self.longest <= PIECE else np.clip(lengths, 0, PIECE)
        loaded = self._load(starts)
        sizes = kept.astype(np.uint64)
        shift = _EIGHT - sizes
        shift *= _EIGHT
        loaded <<= shift
        sizes += _ONE
        loaded |= sizes
        return loaded

    def _words_of_one_length(self, piece: int) -> Words:
        """The same where all cells are equally long, and so are at equal distances."""
        kept = min(max(self.longest - piece * PIECE, 0), PIECE)
        if not kept:
            return np.full(len(self.lengths), 1, np.uint64)
        loaded = self._load_of_one_length(piece * PIECE)
        loaded <<= np.uint64(64 - 8 * kept)
        loaded |= np.uint64(kept + 1)
        return loaded

    def _load_of_one_length(self, place: int) -> Words:
        """Eight bytes from a place of each cell, where all cells are equally long."""
        begin = int(self.starts[0]) + place
        whole = (len(self._loads) - 1 - begin) // self.longest + 1
        whole = max(0, min(len(self.starts), whole))
        loaded = np.empty(len(self.starts), np.uint64)
        loaded[:whole] = np.ndarray(
            (whole,), "<u8", self._buffer, offset=begin, strides=(self.longest,)
        )
        loaded[whole:] = self._load(self.starts[whole:] + place)
        return loaded

    def dates(self, rows: npt.NDArray[np.int64] | None = None) -> Words:
        """A word for each cell that is written as a date, ``2031-04-05``; zero for any other.

        Asked for cells of ten bytes only. Of the digits half a byte each says which they are;
        so eight fit in a word, and the lowest byte is still free for a mark.

        >>> words = TextBuffers(pa.array(["2031-04-05", "2031-04-5x"])).dates()
        >>> hex(words[0]), words[1]
        ('0x5040000010300f2', np.uint64(0))
        """
        if rows is None and self.longest == self._shortest:
            first, last = self._load_of_one_length(0), self._load_of_one_length(2)
        else:
            starts = self.starts if rows is None else self.starts.take(rows)
            first, last = self._load(starts), self._load(starts + 2)
        others = (first & _HYPHENS) != (_HYPHENS & _EACH_HYPHEN)
        first &= ~_HYPHENS
        last >>= np.uint64(48)
        first |= (last & np.uint64(0xFF)) << np.uint64(32)
        first |= (last >> np.uint64(8)) << np.uint64(56)
        first ^= _ZEROS
        others |= ((first | (first + _TO_TEN)) & _TOPS) != 0
        first |= DATE
        first[others] = 0
        return first

    def numbers(self, rows: npt.NDArray[np.int64] | None = None) -> Words:
        """A word for each cell of nothing but digits and the signs , - . /; zero for any other.

        Asked for cells of eight to fourteen bytes only: half a byte says which sign each is.

        >>> words = TextBuffers(pa.array(["-1234.50", "1234567x", "99/123456789"])).numbers()
        >>> [hex(word) for word in words.tolist()]
        ['0x5e4321daaaaaae0', '0x0', '0x54321f99aa9876e0']
        """
        starts = self.starts if rows is None else self.starts.take(rows)
        lengths = self.lengths if rows is None else self.lengths.take(rows)
        if rows is None and self.longest == self._shortest > SHORTEST_NUMBER:
            first, rest = self._load_of_one_length(0), self._load_of_one_length(8)
        else:
            first, rest = self._load(starts), self._load(starts + 8)
        # Those of the last eight bytes that are the cell's: shifted by 64 bits, none is left.
        behind = np.uint64(8) * (16 - lengths).astype(np.uint64)
        mine = (~np.uint64(0)) >> behind
        others = _other_signs(first) != 0
        others |= (_other_signs(rest) & mine) != 0
        rest = (rest & mine) | (_NO_SIGN & ~mine)
        words = (_half_bytes(first) << np.uint64(32)) | NUMBER
        words |= (_half_bytes(rest) & np.uint64(0xFFFFFF)) << np.uint64(8)
        words[others] = 0
        return words

    def byte(
        self, place: int, rows: npt.NDArray[np.int64] | slice = slice(None)
    ) -> npt.NDArray[np.uint8]:
        """The byte at a place of each cell, the last at -1; zero where there is none."""
        starts, lengths = self.starts[rows], self.lengths[rows]
        if not len(self.data):
            return np.zeros(len(lengths), np.uint8)
        within = starts + ((place if place >= 0 else lengths + place) - self._begin)
        bytes_: npt.NDArray[np.uint8] = self.data.take(within, mode="clip")
        bytes_[lengths < (place + 1 if place >= 0 else -place)] = 0
        return bytes_

    def _load(self, starts: npt.NDArray[Any]) -> Words:
        """Eight bytes from each start; near the end of the bytes, those there are.

        Put together of the two aligned words that they are in: to take words from where they
        are not aligned costs three times as much.
        """
        starts = starts.astype(np.int64)
        at = starts >> 3
        loaded: Words = self._aligned.take(at, mode="clip")
        at += 1
        above = self._aligned.take(at, mode="clip")
        bits = (starts & 7).view(np.uint64) << np.uint64(3)
        loaded >>= bits
        above <<= np.uint64(64) - bits  # by 64 bits: nothing is left
        loaded |= above
        if len(starts) and int(at.max()) >= len(self._aligned):
            self._load_last(loaded, starts)
        return loaded

    def _load_last(self, words: Words, starts: npt.NDArray[np.int64]) -> None:
        """The same for those that are not followed by a whole aligned word."""
        rows = np.flatnonzero(starts >= 8 * len(self._aligned) - 8)
        last = len(self._loads) - 1
        behind = np.clip(starts[rows] - last, 0, 7).astype(np.uint64)
        words[rows] = self._loads[np.minimum(starts[rows], last)] >> (behind << np.uint64(3))


def _other_signs(words: Words) -> Words:
    """The upper bits of bytes that are neither digits nor one of ``, - . /``."""
    marked = words ^ _ZEROS
    no_digit = ((marked & _SEVEN_BITS) + _TO_TEN) | marked
    apart = (marked ^ _SIGNS) & _BUT_TWO_BITS
    no_sign = ((apart & _SEVEN_BITS) + _SEVEN_BITS) | apart
    other: Words = no_digit & no_sign & _TOPS
    return other


def _half_bytes(words: Words) -> Words:
    """The lower halves of the bytes, put together."""
    words = words & _HALVES
    for shift, kept in _PAIRS:
        words |= words >> shift
        words &= kept
    return words


def _plainly_missing(array: pa.Array) -> pa.Array:
    """The array without bytes under missing cells, which Arrow allows and sometimes leaves."""
    if not array.null_count:
        return array
    kept = pc.binary_length(array)
    told = int(pc.sum(kept).as_py() or 0)
    _, offsets, _ = array.buffers()
    dtype = np.int64 if pa.types.is_large_string(array.type) else np.int32
    ends = np.frombuffer(offsets, dtype)[[array.offset, array.offset + len(array)]]
    return array if ends[1] - ends[0] == told else pc.fill_null(array, "")


def _without_missing(array: pa.Array, lengths: npt.NDArray[Any]) -> npt.NDArray[Any]:
    """A missing cell may have bytes of its own under Arrow's rules; they do not count."""
    if not array.null_count:
        return lengths
    return np.where(array.is_valid().to_numpy(zero_copy_only=False), lengths, 0)


def _at_least_a_word(data: pa.Buffer | None) -> pa.Buffer | bytes:
    """The bytes, or if there are less than eight, with zeros behind them."""
    if data is not None and data.size >= 8:
        return data
    return (bytes(data) if data is not None else b"").ljust(8, b"\0")


def _from_every_byte(data: pa.Buffer | bytes) -> Words:
    """Eight bytes from every byte position on, as an unaligned view."""
    return np.ndarray((len(memoryview(data)) - 7,), dtype="<u8", buffer=data, strides=(1,))
