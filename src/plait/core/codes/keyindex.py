"""The keys of one table held ready, and those of other rows looked up a stretch at a time."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from plait.core.table.table import Table
from plait.core.text.cells import as_text
from plait.core.text.dictionary import MISSING, UNKNOWN, TextDictionary
from plait.core.text.wordtable import Codes, WordTable

_DIRECT_SLOTS = 1 << 24

Counts = npt.NDArray[np.int64]


class KnownPairs:
    """Dense codes of the pairs of codes that are in a table.

    They are looked up directly where there is room for a slot for each possible
    pair, else through the word table. Looking up changes nothing.

    Examples
    --------
    >>> left, right = np.array([0, 1, 0], np.int32), np.array([2, 2, 2], np.int32)
    >>> pairs = KnownPairs(left, 2, right, 3)
    >>> pairs.codes.tolist(), pairs.size
    ([0, 1, 0], 2)
    >>> pairs.find(np.array([1, 1, -1], np.int32), np.array([2, 0, 0], np.int32)).tolist()
    [1, -2, -1]
    """

    def __init__(self, left: Codes, left_size: int, right: Codes, right_size: int) -> None:
        self._words, self._right_size = WordTable(), right_size
        self._direct: Codes | None = None
        there = np.flatnonzero((left >= 0) & (right >= 0))
        self.codes = np.full(len(left), MISSING, np.int32)
        self.codes[there] = self._words.encode(pair_words(left[there], right[there]))[0]
        self.size = self._words.size
        if left_size * right_size <= _DIRECT_SLOTS:
            self._direct = np.full(left_size * right_size + 1, UNKNOWN, np.int32)
            slots = left[there].astype(np.int64) * right_size + right[there]
            self._direct[slots] = self.codes[there]

    def find(self, left: Codes, right: Codes) -> Codes:
        """Codes of the pairs, -1 where either is, -2 for others that the table lacks."""
        lacking = (left < 0) | (right < 0)
        if self._direct is not None:
            slots = left.astype(np.int64)
            slots *= self._right_size
            slots += right
            slots[lacking] = -1
            codes: Codes = self._direct.take(slots, mode="wrap")
        else:
            codes = self._words.find(pair_words(left, right))
            codes[codes < 0] = UNKNOWN
            codes[lacking] = UNKNOWN
        codes[(left == MISSING) | (right == MISSING)] = MISSING
        return codes


def pair_words(left: Codes, right: Codes) -> npt.NDArray[np.uint64]:
    """Each pair of codes as one word; those below zero give words that mean nothing."""
    words = left.astype(np.uint64) + np.uint64(1) << np.uint64(32)
    return words | right.astype(np.uint32)


class KeyIndex:
    """The keys of a table, and codes for those of other rows that come by.

    Parameters
    ----------
    table : Table
    names : sequence of str
        Its key columns.

    Attributes
    ----------
    codes : array of int32
        The code of each row's key, -1 where it is missing.
    known : int
        Codes below it are in the table; those from it on were met in other rows.
    size : int
        All codes so far are below it.
    parts : list of int32 arrays
        For each key column the codes of the table's rows.

    Examples
    --------
    >>> from plait.core.table.table import from_columns
    >>> table = from_columns("t", {"yard": ["A", "B"], "hive": ["1", "2"]})
    >>> index = KeyIndex(table, ["yard", "hive"])
    >>> cells = [pa.array(["B", "A", ""]), pa.array(["2", "9", "1"])]
    >>> index.find(cells).tolist(), index.taken_in(cells, index.find(cells)).tolist()
    ([1, -2, -1], [1, 2, -1])
    """

    def __init__(self, table: Table, names: Sequence[str]) -> None:
        self._dictionaries = [TextDictionary() for _ in names]
        self.parts = [
            dictionary.encode_all(table.whole(name))
            for dictionary, name in zip(self._dictionaries, names, strict=True)
        ]
        self._sizes = [len(dictionary) for dictionary in self._dictionaries]
        self._pairs: list[KnownPairs] = []
        codes, size = self.parts[0], self._sizes[0]
        for part, part_size in zip(self.parts[1:], self._sizes[1:], strict=True):
            pairs = KnownPairs(codes, size, part, part_size)
            self._pairs.append(pairs)
            codes, size = pairs.codes, pairs.size
        self.codes, self.known, self.size = codes, size, size
        # What the table does not hold is kept apart, so that looking up may go on meanwhile.
        self._others = [TextDictionary() for _ in names]
        self._met_words = [WordTable() for _ in names]
        self._met: list[list[Codes]] = [[] for _ in names]
        self._seen = [np.zeros(size, bool) for size in self._sizes]

    def find(self, cells: Sequence[pa.Array]) -> Codes:
        """Codes of keys, -1 where a part is missing, -2 for keys that the table lacks.

        Changes nothing: stretches of rows may be looked up side by side.
        """
        codes = self._dictionaries[0].find(cells[0])
        for number, pairs in enumerate(self._pairs, 1):
            codes = pairs.find(codes, self._dictionaries[number].find(cells[number]))
        return codes

    def taken_in(self, cells: Sequence[pa.Array], codes: Codes) -> Codes:
        """The codes that ``find`` gave, with codes for the keys that the table lacks."""
        self._note_incomplete(cells, codes)
        rows = np.flatnonzero(codes == UNKNOWN)
        if not len(rows):
            return codes
        parts = self._parts_of([column.take(pa.array(rows)) for column in cells])
        own, new = self._met_words[0].encode(parts[0].astype(np.uint64) + np.uint64(1))
        for table, part in zip(self._met_words[1:], parts[1:], strict=True):
            own, new = table.encode(pair_words(own, part))
        for met, part in zip(self._met, parts, strict=True):
            met.append(part[new])
        self.size += len(new)
        codes = codes.copy()
        codes[rows] = own + np.int32(self.known)
        return codes

    def _parts_of(self, cells: Sequence[pa.Array]) -> list[Codes]:
        """The codes of each part: those of the table, and behind them those met elsewhere."""
        made = []
        for number, column in enumerate(cells):
            part = self._dictionaries[number].find(column)
            other = np.flatnonzero(part == UNKNOWN)
            if len(other):
                found = self._others[number].encode(as_text(column.take(pa.array(other))))
                part[other] = found + np.int32(self._sizes[number])
            made.append(part)
        return made

    def _note_incomplete(self, cells: Sequence[pa.Array], codes: Codes) -> None:
        """A part may stand where another is missing; its text counts for the column's kind."""
        rows = np.flatnonzero(codes == MISSING) if len(cells) > 1 else codes[:0]
        if len(rows):
            parts = self._parts_of([column.take(pa.array(rows)) for column in cells])
            for number, part in enumerate(parts):
                self._note(number, part)

    def _note(self, number: int, part: Codes) -> None:
        """Mark texts of a key column that stood in rows that came by."""
        size = self._sizes[number] + len(self._others[number])
        if size > len(self._seen[number]):
            more = np.zeros(size - len(self._seen[number]), bool)
            self._seen[number] = np.append(self._seen[number], more)
        self._seen[number][part[part >= 0]] = True

    def note_known(self, counts: Counts) -> None:
        """Mark the texts of the keys that came by; ``counts`` are rows by code."""
        rows = np.flatnonzero(np.append(counts[: self.known] > 0, False)[self.codes])
        for number, part in enumerate(self.parts):
            self._note(number, part[rows])
            self._note(number, self.met(number))

    def met(self, number: int) -> Codes:
        """For each key that the table lacks the code of its part in a key column."""
        return np.concatenate([np.empty(0, np.int32), *self._met[number]])

    def texts(self, number: int) -> pa.Array:
        """The distinct texts of a key column, those of the table first."""
        both = self._dictionaries[number].texts(), self._others[number].texts()
        wide = any(pa.types.is_large_string(one.type) for one in both)
        kind = pa.large_string() if wide else pa.string()
        return pa.chunked_array([one.cast(kind) for one in both], kind).combine_chunks()

    def own_texts(self, number: int) -> pa.Array:
        """Those that are in the table."""
        return self._dictionaries[number].texts()

    def texts_met(self, number: int) -> pa.Array:
        """Those that stood in rows that came by."""
        texts = self.texts(number)
        seen = self._seen[number]
        return texts.filter(pa.array(np.append(seen, np.zeros(len(texts) - len(seen), bool))))
