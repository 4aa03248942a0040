"""The distinct values of columns, and sketches that estimate what two sets share."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from plait.core.codes.dense_codes import Counts, dense_rank
from plait.core.codes.normalize import SAME_WORDS, normalize_texts
from plait.core.profiling.candidate_keys import LONGEST_CELL, CandidateKeys, key_implausibilities
from plait.core.profiling.profile import ColumnProfile, ValueCounts, to_numeric_axis
from plait.core.table.table import Table
from plait.core.text.dictionary import TextDictionary
from plait.core.text.hash_table import Codes
from plait.core.types.column_type import INTEGER, TEXT, ColumnType, Family
from plait.core.types.inference import canonical_number_text, parse_column, to_arrow_type
from plait.core.types.missing_markers import marker_flags

MOST_COLUMNS = 60
MOST_LOOSENED = 50_000
_LIKELY_KEYS = 2
_DENSE = 0.9
_SOME, _PLACES = 500, 12
_MIDDLE = (0.05, 0.95)
_PLAIN = "^[A-Za-z1-9][A-Za-z0-9]*$"
_WHOLE, _MOSTLY = r"^[0-9]{1,15}$", 0.8
_CLASSES = (("0", "9"), ("A", "Z"), ("a", "z"))

Numbers = npt.NDArray[np.int64]

SKETCH = 256
_SPREAD = np.uint32(0x9E3779B1)


@dataclass(frozen=True, eq=False)
class ProfiledTable:
    """A table, with what is known of its columns.

    Parameters
    ----------
    tallies : mapping of str to ValueCounts
        Each of one table.
    """

    table: Table
    tallies: Mapping[str, ValueCounts]
    profiles: Mapping[str, ColumnProfile]
    keys: CandidateKeys


@dataclass(frozen=True, eq=False)
class ValueSet:
    """A column as a set of values.

    Parameters
    ----------
    table : int
        Which of the tables it is of.
    codes : int32 array
        The values, as codes of the dictionary of all columns, each once.
    rows : int64 array
        The rows of each.
    of_text : int32 array
        The code of each text of the column's tally, -1 where it means missing: by it
        the codes of rows are found.
    row_codes : int32 array
        For each row the place of its cell among the texts.
    span : float
        How many values could stand there: the whole numbers or days over which nine in ten
        are spread; of texts those with signs of the same kinds at each place.
    low : float or None
        About the least number or day.
    """

    table: int
    name: str
    family: Family
    codes: Codes
    rows: Counts
    of_text: Codes
    row_codes: Codes
    span: float
    low: float | None

    @property
    def dense(self) -> bool:
        """Whether nearly all numbers between the least and the greatest stand there."""
        return self.low is not None and len(self.codes) >= _DENSE * self.span

    def by_row(self) -> Codes:
        """For each row the code of its value; -1 where it is missing."""
        return np.append(self.of_text, np.int32(-1))[self.row_codes]


def likely_key_columns(side: ProfiledTable) -> frozenset[str]:
    """The columns of a table's likely keys of several columns; none where one alone is a key."""
    likely = side.keys.keys[:_LIKELY_KEYS]
    if any(len(key.columns) == 1 for key in likely):
        return frozenset()
    return frozenset(name for key in likely if not key.by_chance for name in key.columns)


class ValueDictionary:
    """One code for each value of all columns: numbers of equal value have the same.

    Parameters
    ----------
    loose : bool
        Whether texts that differ only in what ``--ignore`` can leave out have one too.
    """

    def __init__(self, loose: bool = False) -> None:
        self.loose = loose
        self._codes = TextDictionary()

    def loosely(self) -> ValueDictionary:
        """The same codes, for texts without what can be left out of them."""
        value_dictionary = ValueDictionary(loose=True)
        value_dictionary._codes = self._codes
        return value_dictionary

    def __len__(self) -> int:
        return len(self._codes)

    def encode(self, texts: pa.Array) -> Codes:
        """The codes of texts, taking in new ones."""
        return self._codes.encode(texts)

    def find(self, texts: pa.Array) -> Codes:
        """The codes of texts, -1 for those that no column has."""
        return self._codes.find(texts)

    def values(self, number: int, side: ProfiledTable, name: str) -> ValueSet:
        """The values of a column of a table."""
        tally, profile = side.tallies[name], side.profiles[name]
        spelt = _spelt(tally.texts, profile.kind, self.loose)
        of_text = self.encode(spelt).copy()
        if profile.kind.allows_missing_markers and profile.markers:
            of_text[marker_flags(tally.texts)] = -1
        of_text[tally.counts == 0] = -1
        there = of_text >= 0
        codes, rows = of_text[there], tally.counts[there]
        if self.loose or profile.kind == INTEGER:
            codes, rows = _once(codes, rows)
        (row_codes,) = tally.codes
        assert row_codes is not None
        span, low = _span(tally.texts, spelt, profile.kind)
        return ValueSet(
            number, name, profile.kind.family, codes, rows, of_text, row_codes, span, low
        )


def _spelt(texts: pa.Array, type_: ColumnType, loose: bool) -> pa.Array:
    if type_ == INTEGER:
        return canonical_number_text(texts)
    if not loose:
        return texts
    if type_ == TEXT and pa.compute.all(pa.compute.match_substring_regex(texts, _PLAIN)).as_py():
        return pa.compute.utf8_lower(texts)  # nothing but case can be left out of these
    return normalize_texts(texts, SAME_WORDS, type_)


def _once(codes: Codes, rows: Counts) -> tuple[Codes, Counts]:
    """Each code once, with the rows of all its spellings."""
    found, inverse, _ = dense_rank(codes)
    if len(found) == len(codes):
        return codes, rows
    return found, np.bincount(inverse, weights=rows).astype(np.int64)


def _span(texts: pa.Array, spelt: pa.Array, type_: ColumnType) -> tuple[float, float | None]:
    if not len(texts) or type_.family not in ("integer", "date", "text"):
        return _possible_texts(texts), None
    if type_.family == "text":
        digits = pa.compute.match_substring_regex(spelt, _WHOLE)
        if digits.true_count < _MOSTLY * len(spelt):
            return _possible_texts(spelt), None
        numbers: Any = pa.compute.cast(spelt.filter(digits), pa.float64())
    else:
        column = parse_column(
            texts, type_, to_arrow_type(type_, pa.chunked_array([texts], texts.type))
        )
        numbers = column.drop_null()
    found = to_numeric_axis(numbers)
    if found is None or not len(found):
        return 0.0, None
    low, high = np.quantile(found, _MIDDLE)  # one slip of the pen must not widen it
    return float((high - low) / (_MIDDLE[1] - _MIDDLE[0]) + 1), float(low)


def _possible_texts(texts: pa.Array) -> float:
    some = texts.take(pa.array(np.linspace(0, len(texts) - 1, min(len(texts), _SOME)).astype(int)))
    signs = np.array(some.to_pylist() or [""], f"U{_PLACES}").view(np.uint32).reshape(-1, _PLACES)
    possible = np.zeros(_PLACES)
    for low, high in _CLASSES:
        possible += ((signs >= ord(low)) & (signs <= ord(high))).any(axis=0) * (
            ord(high) - ord(low) + 1
        )
    return float(np.prod(np.maximum(possible, 1.0)))


def joinable_columns(side: ProfiledTable, loose: bool = False) -> list[str]:
    """The columns that may be part of a key: no decimals, truths or long texts.

    With ``loose`` only those of not too many values to be loosened.
    """
    weights = key_implausibilities(side.profiles)
    names = [
        name
        for name, column in side.profiles.items()
        if _may_join(column) and (not loose or column.distinct <= MOST_LOOSENED)
    ]
    return sorted(names, key=weights.__getitem__)[:MOST_COLUMNS]


def _may_join(column: ColumnProfile) -> bool:
    whole = column.kind.family not in ("decimal", "boolean", "empty")
    return whole and column.distinct > 0 and column.longest <= 2 * LONGEST_CELL


def build_value_sets(
    sides: Sequence[ProfiledTable], dictionary: ValueDictionary, value_sets: Sequence[ValueSet] = ()
) -> list[ValueSet]:
    """The values of all columns that may be part of a key; whole numbers as they are known."""
    numbers = {
        (value_set.table, value_set.name): value_set
        for value_set in value_sets
        if value_set.family == "integer"
    }
    return [
        numbers.get((number, name)) or dictionary.values(number, side, name)
        for number, side in enumerate(sides)
        for name in joinable_columns(side, dictionary.loose)
    ]


def min_hash_sketch(codes: Codes) -> Codes:
    """The up to 256 values whose hash is least: the same ones in every column that has them.

    The bottom-k sketch of Broder ("On the resemblance and containment of documents", 1997).
    """
    if len(codes) <= SKETCH:
        return codes
    hashes = codes.astype(np.uint32) * _SPREAD
    chosen: Codes = codes[np.argpartition(hashes, SKETCH)[:SKETCH]]
    return chosen


def estimate_containment(columns: Sequence[ValueSet], size: int) -> npt.NDArray[np.float64]:
    """For each column the share of its sketch that stands in each other one.

    Parameters
    ----------
    size : int
        How many codes there are.

    Returns
    -------
    float64 array, (columns, columns)
        Row: the column whose values are looked for. Exact for columns of up to 256 values.

    Notes
    -----
    The sketches of all columns are looked up in one column at a time, so the work
    grows with the number of all values, and only the looking up with the pairs.
    """
    sketches = [min_hash_sketch(c.codes) for c in columns]
    lengths = np.array([max(len(sketch), 1) for sketch in sketches])
    begins = np.concatenate([[0], np.cumsum([len(s) for s in sketches])])
    every = np.concatenate([*sketches, np.zeros(1, np.int32)])  # one more, so that sums end there
    found = np.zeros((len(columns), len(columns)))
    standing = np.zeros(size + 1, bool)
    for number, column in enumerate(columns):
        standing[column.codes] = True
        sums = np.concatenate([[0], np.cumsum(standing[every])])
        found[:, number] = (sums[begins[1:]] - sums[begins[:-1]]) / lengths
        standing[column.codes] = False
    return found
