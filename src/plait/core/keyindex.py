"""The keys of one table held ready, and those of another looked up a stretch at a time."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from plait.core.dictionary import MISSING, TextDictionary
from plait.core.table import Table
from plait.core.wordtable import Codes, WordTable

_DIRECT_SLOTS = 1 << 24

Flags = npt.NDArray[np.bool_]


class PairCodes:
    """Dense codes of pairs of codes; those of the first table come first.

    Pairs of codes that both stand in the first table are looked up directly where
    there is room for a slot each; all others through the word table.
    """

    def __init__(self, left: Codes, left_size: int, right: Codes, right_size: int) -> None:
        self._words = WordTable()
        self._sizes = left_size, right_size
        self._direct: Codes | None = None
        self.first = self._look_up(left, right)
        self.known = self._words.size
        if left_size * right_size <= _DIRECT_SLOTS:
            self._direct = np.full(left_size * right_size + 1, MISSING, np.int32)
            there = self.first >= 0
            self._direct[left[there].astype(np.int64) * right_size + right[there]] = self.first[
                there
            ]

    def encode(self, left: Codes, right: Codes) -> tuple[Codes, npt.NDArray[np.int64]]:
        """Codes of the pairs, -1 where either is; and positions of pairs not seen before."""
        if self._direct is None:
            before = self._words.size
            codes = self._look_up(left, right)
            return codes, self._new(codes, before)
        left_size, right_size = self._sizes
        inside = (left >= 0) & (right >= 0) & (left < left_size) & (right < right_size)
        slots = np.where(inside, left.astype(np.int64) * right_size + right, -1)
        codes = self._direct.take(slots, mode="wrap")
        rest = np.flatnonzero((codes < 0) & (left >= 0) & (right >= 0))
        if not len(rest):
            return codes, rest
        before = self._words.size
        found = self._look_up(left[rest], right[rest])
        codes[rest] = found
        return codes, rest[self._new(found, before)]

    def _look_up(self, left: Codes, right: Codes) -> Codes:
        codes = np.full(len(left), MISSING, np.int32)
        there = np.flatnonzero((left >= 0) & (right >= 0))
        words = left[there].astype(np.uint64) + np.uint64(1) << np.uint64(32)
        words |= right[there].astype(np.uint64)
        codes[there] = self._words.encode(words)[0]
        return codes

    @staticmethod
    def _new(codes: Codes, before: int) -> npt.NDArray[np.int64]:
        """A position of each code that was given out since, in their order."""
        at = np.flatnonzero(codes >= before)
        first = np.full(int(codes.max(initial=before - 1)) + 1 - before, -1, np.int64)
        first[codes[at[::-1]] - before] = at[::-1]
        return first


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
        Codes below it stand in the table; those above were met later.
    parts : list of int32 arrays
        For each key column the codes of the table's rows.

    Examples
    --------
    >>> from plait.core.table import from_columns
    >>> table = from_columns("t", {"yard": ["A", "B"], "hive": ["1", "2"]})
    >>> index = KeyIndex(table, ["yard", "hive"])
    >>> index.encode([pa.array(["B", "A", ""]), pa.array(["2", "9", "1"])]).tolist(), index.known
    ([1, 2, -1], 2)
    """

    def __init__(self, table: Table, names: Sequence[str]) -> None:
        self._dictionaries = [TextDictionary() for _ in names]
        self.parts = [
            dictionary.encode_all(table.whole(name))
            for dictionary, name in zip(self._dictionaries, names, strict=True)
        ]
        self._sizes = [len(dictionary) for dictionary in self._dictionaries]
        self._seen = [np.zeros(size, bool) for size in self._sizes]
        self._pairs: list[PairCodes] = []
        codes, size = self.parts[0], self._sizes[0]
        for part, part_size in zip(self.parts[1:], self._sizes[1:], strict=True):
            pairs = PairCodes(codes, size, part, part_size)
            self._pairs.append(pairs)
            codes, size = pairs.first, pairs.known
        self.codes, self.known, self.size = codes, size, size
        self._met: list[list[Codes]] = [[] for _ in names]

    def encode(self, cells: Sequence[pa.Array]) -> Codes:
        """Codes of the keys of some rows, taking in those not met before."""
        parts = [
            dictionary.encode(column)
            for dictionary, column in zip(self._dictionaries, cells, strict=True)
        ]
        codes = parts[0]
        new = np.flatnonzero(codes >= self.size) if not self._pairs else codes[:0]
        if len(new):
            new = PairCodes._new(codes, self.size)
        for pairs, part in zip(self._pairs, parts[1:], strict=True):
            codes, new = pairs.encode(codes, part)
        for met, part in zip(self._met, parts, strict=True):
            met.append(part[new])
        self.size += len(new)
        if self._pairs and len(lost := np.flatnonzero(codes < 0)):
            for number, part in enumerate(parts):  # a part may stand where another is missing
                self._note(number, part[lost])
        return codes

    def _note(self, number: int, part: Codes) -> None:
        """Mark texts of a key column that stood in rows that came by."""
        short = len(self._dictionaries[number]) - len(self._seen[number])
        if short > 0:
            self._seen[number] = np.append(self._seen[number], np.zeros(short, bool))
        self._seen[number][part[part >= 0]] = True

    def note_known(self, counts: npt.NDArray[np.int64]) -> None:
        """Mark the texts of the keys that came by; ``counts`` are rows by code."""
        rows = np.flatnonzero(np.append(counts[: self.known] > 0, False)[self.codes])
        for number, part in enumerate(self.parts):
            self._note(number, part[rows])
            self._note(number, self.met(number))

    def met(self, number: int) -> Codes:
        """For each key that is not in the table the code of its part in a key column."""
        return np.concatenate([np.empty(0, np.int32), *self._met[number]])

    def texts(self, number: int) -> pa.Array:
        """The distinct texts of a key column, those of the table first."""
        return self._dictionaries[number].texts()

    def own_texts(self, number: int) -> pa.Array:
        """Those that stand in the table."""
        return self.texts(number).slice(0, self._sizes[number])

    def texts_met(self, number: int) -> pa.Array:
        """Those that stood in rows that came by."""
        texts = self.texts(number)
        return texts.filter(pa.array(self._seen[number][: len(texts)]))
