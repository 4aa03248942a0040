"""What a column holds: its distinct values, how often each stands, and what follows."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.codes.dense_codes import (
    Counts,
    count_codes,
    count_few_codes,
    first_row_of_each_code,
    gather_by_code,
)
from plait.core.text.cells import is_text_type, to_text
from plait.core.text.decimals import scaled_int64, to_arithmetic_type
from plait.core.text.dictionary import TextDictionary
from plait.core.text.hash_table import Codes
from plait.core.types.column_type import TEXT, ColumnType
from plait.core.types.exact_numbers import to_float
from plait.core.types.inference import (
    infer_column_type,
    matching_formats,
    parse_column,
    to_arrow_type,
    value_texts,
)
from plait.core.types.missing_markers import MARKERS, marker_flags
from plait.core.types.near_types import (
    MixedDateFormats,
    NearType,
    find_mixed_date_formats,
    find_near_type,
)

MOST_COMMON = 5
_SPARSE = 8
_LONGER_THAN_NEEDED = r"[eE]|\.[0-9]*0$|\.$|^-0$"  # 1e3, 7.50, 7., -0
BINS = 16
_MIDDLE = 0.5


@dataclass(frozen=True, eq=False)
class ValueCounts:
    """The distinct texts of a column over several tables, and how often each stands in all.

    Parameters
    ----------
    texts : pyarrow.Array
        Each text once.
    counts : int64 array
        The rows of each text, of all tables together.
    missing : tuple of int
        For each table the rows on which the cell is missing.
    codes : tuple of int32 arrays or None
        For each table the place in ``texts`` of each row's cell, -1 where it is
        missing; ``None`` for a table without the column.
    declared_type : ColumnType, optional
        The type that the sources say.
    """

    texts: pa.Array
    counts: Counts
    missing: tuple[int, ...]
    codes: tuple[Codes | None, ...]
    declared_type: ColumnType | None

    def unify_values(self, type_: ColumnType) -> tuple[Codes, npt.NDArray[np.int64]]:
        """For each text the number of its value in a type, and for each value its first text."""
        if type_ not in self._unified:
            self._unified[type_] = _unify_values(self.texts, type_)
        return self._unified[type_]

    @cached_property
    def _unified(self) -> dict[ColumnType, tuple[Codes, npt.NDArray[np.int64]]]:
        return {}

    def values_of_table(self, number: int) -> tuple[npt.NDArray[np.int64], Counts]:
        """The places in ``texts`` of what one table has, in order, and how often each stands.

        It takes room for these only: a count of every text for each of thousands of tables would
        take room by the square of their number.

        >>> counted = count_values([pa.chunked_array([["a", "b"]]), pa.chunked_array([["b", "b"]])])
        >>> [part.tolist() for part in counted.values_of_table(1)]
        [[1], [2]]
        """
        codes = self.codes[number]
        if codes is None:
            return np.zeros(0, np.int64), np.zeros(0, np.int64)
        if len(self.codes) == 1 or len(codes) * _SPARSE >= len(self.texts):
            counts = self.counts if len(self.codes) == 1 else count_codes(codes, len(self.texts))
            there = np.flatnonzero(counts)
            return there, counts[there]
        return count_few_codes(codes)


@dataclass(frozen=True)
class Histogram:
    """How values lie between the smallest and the largest: rows in stretches of equal width."""

    rows: tuple[int, ...]


@dataclass(frozen=True)
class ColumnProfile:
    """What a column holds.

    Parameters
    ----------
    kind : ColumnType
        As all its cells tell, or as the source says.
    rows, missing, distinct : int
        A well-known marker in a column that is not of text counts as missing.
    shortest, longest : int
        Signs of the shortest and the longest text; 0 when there is none.
    smallest, middle, largest : str
        Values in order of the type, as text; empty when there is none.
    commonest : tuple of (str, int)
        The commonest values and their rows.
    markers : tuple of (str, int)
        Well-known markers for missing, and their rows.
    spread : Histogram or None
        For numbers, dates and times.
    forms : tuple of ColumnType
        Ways to read the cells of which nothing proves one.
    nearly : NearType or None
        The form that all cells but a few of a text column are written in.
    mixed : MixedDateFormats or None
        Forms of dates that a text column mixes.
    """

    kind: ColumnType
    rows: int
    missing: int
    distinct: int
    shortest: int
    longest: int
    smallest: str
    middle: str
    largest: str
    commonest: tuple[tuple[str, int], ...]
    markers: tuple[tuple[str, int], ...]
    spread: Histogram | None
    forms: tuple[ColumnType, ...]
    nearly: NearType | None = None
    mixed: MixedDateFormats | None = None


def count_values(
    columns: Sequence[pa.ChunkedArray | None], declared: ColumnType | None = None
) -> ValueCounts:
    """Count the distinct cells of a column that several tables have; ``None`` where one lacks it.

    >>> tally = count_values([pa.chunked_array([["a", "b", "a", ""]])])
    >>> tally.texts.to_pylist(), tally.counts.tolist(), tally.missing
    (['a', 'b'], [2, 1], (1,))
    """
    dictionary = TextDictionary()
    coded = _coded(dictionary, [None if column is None else _texts(column) for column in columns])
    there = [codes for codes in coded if codes is not None]
    codes = there[0] if len(there) == 1 else np.concatenate([np.zeros(0, np.int32), *there])
    counts = count_codes(codes, len(dictionary))
    missing = tuple(0 if codes is None else int(np.count_nonzero(codes < 0)) for codes in coded)
    return ValueCounts(dictionary.texts(), counts, missing, tuple(coded), declared)


def tally_by_value(tally: ValueCounts, type_: ColumnType) -> ValueCounts:
    """The tally with one text for each value, the first: ``7.0`` and ``7.00`` are one number.

    >>> tally = count_values([pa.chunked_array([["7.0", "8", "7.00"]])])
    >>> merged = tally_by_value(tally, ColumnType("decimal"))
    >>> merged.texts.to_pylist(), merged.counts.tolist()
    (['7.0', '8'], [2, 1])
    """
    to, first = tally.unify_values(type_)
    if len(first) == len(to):
        return tally
    counts = np.bincount(to, tally.counts, len(first)).astype(np.int64)
    spare = np.append(to, np.int32(-1))
    codes = tuple(None if code is None else spare[code] for code in tally.codes)
    return ValueCounts(
        tally.texts.take(pa.array(first)), counts, tally.missing, codes, tally.declared_type
    )


def _unify_values(texts: pa.Array, type_: ColumnType) -> tuple[Codes, npt.NDArray[np.int64]]:
    """For each distinct text the number of its value, and for each value its first text."""
    if type_.is_plain_number and is_text_type(texts.type):
        return _unify_numbers(texts, type_)
    values = value_texts(texts, type_)
    every = np.arange(len(texts))
    return (every.astype(np.int32), every) if values is texts else _first_of_equal(values, every)


def _unify_numbers(texts: pa.Array, type_: ColumnType) -> tuple[Codes, npt.NDArray[np.int64]]:
    """The same of numbers: only those that can be spelt more shortly have equals among the rest."""
    long = np.flatnonzero(
        pc.match_substring_regex(texts, _LONGER_THAN_NEEDED).to_numpy(zero_copy_only=False)
    )
    spelt = value_texts(texts.take(pa.array(long)), type_)
    others = pc.is_in(texts, spelt).to_numpy(zero_copy_only=False)
    others[long] = True
    rows = np.flatnonzero(others)
    spellings = texts.take(pa.array(rows))
    mask = np.zeros(len(rows), bool)
    mask[np.searchsorted(rows, long)] = True
    return _first_of_equal(pc.replace_with_mask(spellings, pa.array(mask), spelt), rows, len(texts))


def _first_of_equal(
    values: pa.Array, rows: npt.NDArray[np.int64], size: int | None = None
) -> tuple[Codes, npt.NDArray[np.int64]]:
    """The numbers of values of which only those at some rows have equals, as they come."""
    dictionary = TextDictionary()
    codes = dictionary.encode(values)
    first = np.arange(len(rows) if size is None else size)
    first[rows] = rows[first_row_of_each_code(codes, len(dictionary))[codes]]
    begins = first == np.arange(len(first))
    to: Codes = (np.cumsum(begins) - 1)[first].astype(np.int32)
    return to, np.flatnonzero(begins)


def counts_of_selected_rows(tally: ValueCounts, index: npt.NDArray[Any]) -> ValueCounts:
    """The tally of a column that shows some rows of another, -1 for none: counted from codes.

    >>> tally = count_values([pa.chunked_array([["a", "b", ""]])])
    >>> found = counts_of_selected_rows(tally, np.array([1, 1, 2, -1]))
    >>> found.texts.to_pylist(), found.counts.tolist(), found.missing
    (['a', 'b'], [0, 2], (2,))
    """
    (stored,) = tally.codes
    assert stored is not None
    codes: Codes = gather_by_code(stored, index, -1)
    counts = count_codes(codes, len(tally.texts))
    missing = len(codes) - int(counts.sum())
    return ValueCounts(tally.texts, counts, (missing,), (codes,), tally.declared_type)


def _coded(
    dictionary: TextDictionary, columns: Sequence[pa.ChunkedArray | None]
) -> list[Codes | None]:
    """The codes of each column; many short columns are coded as one."""
    there = [column for column in columns if column is not None]
    if len({one.type for one in there}) != 1:
        return [None if one is None else dictionary.encode_all(one) for one in columns]
    chunks = [chunk for t in there for chunk in t.chunks]
    codes = dictionary.encode_all(pa.chunked_array(chunks, there[0].type))
    ends = np.cumsum([len(one) for one in there])
    parts = iter(np.split(codes, ends[:-1]))
    return [None if c is None else next(parts) for c in columns]


def _texts(column: pa.ChunkedArray) -> pa.ChunkedArray:
    if pa.types.is_dictionary(column.type):
        return column
    chunks = [to_text(chunk) for chunk in column.chunks]
    return pa.chunked_array(chunks, chunks[0].type if chunks else pa.string())


def profile_column(
    tally: ValueCounts, number: int | None = None, doubts: bool = True
) -> ColumnProfile:
    """What the column holds in all tables of a tally, or in one.

    Parameters
    ----------
    number : int, optional
        Of the table.
    doubts : bool
        Whether to look what a column of text nearly is, or might be.

    Examples
    --------
    >>> found = profile_column(count_values([pa.chunked_array([["7", "12", "7", "NA"]])]))
    >>> found.kind.family, found.distinct, found.smallest, found.largest, found.markers
    ('integer', 2, '7', '12', (('NA', 1),))
    """
    if number is None:
        there, missing = np.flatnonzero(tally.counts), sum(tally.missing)
        times = tally.counts[there]
    else:
        missing = tally.missing[number]
        there, times = tally.values_of_table(number)
    texts = tally.texts if len(there) == len(tally.texts) else tally.texts.take(pa.array(there))
    column = pa.chunked_array([texts], tally.texts.type)
    type_ = tally.declared_type or infer_column_type(column)
    doubts = doubts and type_ == TEXT and tally.declared_type is None
    forms = matching_formats(column) if doubts else []
    markers = _markers(texts, times)
    whole = texts is tally.texts
    to, first = tally.unify_values(type_) if whole else _unify_values(texts, type_)
    if len(first) < len(to):
        texts, times = texts.take(pa.array(first)), np.bincount(to, times).astype(np.int64)
    values, weights, shown = _values(texts, times, type_)
    lengths = pc.utf8_length(shown)
    order = argsort_values(values)
    ordered = [shown[n].as_py() for n in _landmarks(order, weights)]
    smallest, middle, largest = ordered or ("", "", "")
    return ColumnProfile(
        type_,
        int(times.sum()) + missing,
        missing + int(times.sum() - weights.sum()),
        len(shown),
        pc.min(lengths).as_py() or 0,
        pc.max(lengths).as_py() or 0,
        smallest,
        middle,
        largest,
        _commonest(shown, weights),
        markers,
        _spread(values, weights, type_),
        tuple(form.type for form in forms)
        if len(forms) > 1 or any(f.assumes for f in forms)
        else (),
        *(_nearly(texts, times) if doubts and not forms else ()),
    )


def _nearly(texts: pa.Array, times: Counts) -> tuple[NearType | None, MixedDateFormats | None]:
    """What a text column nearly is: one form but for a few cells, or several forms."""
    marked = marker_flags(texts)
    texts, times = texts.filter(pa.array(~marked)), times[~marked]
    mixed = find_mixed_date_formats(texts, times)
    return None if mixed else find_near_type(texts, times), mixed


def _values(texts: pa.Array, times: Counts, type_: ColumnType) -> tuple[pa.Array, Counts, pa.Array]:
    """Distinct values in their type, their rows, and their texts; markers for missing left out."""
    made, kept = distinct_typed_values(texts, type_)
    return (
        (made, times, texts) if len(made) == len(texts) else (made, times[kept], texts.take(kept))
    )


def distinct_typed_values(
    texts: pa.Array, type_: ColumnType
) -> tuple[pa.Array, npt.NDArray[np.int64]]:
    """Distinct texts in their type, markers for missing left out; and the places of the others."""
    try:
        to = to_arrow_type(type_, pa.chunked_array([texts], texts.type))
        made = parse_column(texts, type_, to)
    except pa.ArrowInvalid:  # floats of a typed source, written with exponents or infinite
        made = pc.cast(texts, pa.float64())
    if not made.null_count:
        return made, np.arange(len(texts))
    there = np.flatnonzero(made.is_valid().to_numpy(zero_copy_only=False))
    return made.take(pa.array(there)), there


def argsort_values(values: pa.Array) -> npt.NDArray[np.int64]:
    """The places of values from the smallest to the largest."""
    whole = scaled_int64(values)
    if whole is None and not values.null_count and pa.types.is_integer(values.type):
        whole = values.to_numpy()
    if whole is not None:  # which sorts several times as fast
        return np.argsort(whole, kind="stable")
    order: npt.NDArray[np.int64] = pc.array_sort_indices(values).to_numpy().astype(np.int64)
    return order


def _landmarks(order: npt.NDArray[np.int64], weights: Counts) -> list[int]:
    """The places of the smallest, the middle and the largest value."""
    if not len(order):
        return []
    reached = np.cumsum(weights[order])
    middle = int(np.searchsorted(reached, reached[-1] * _MIDDLE))
    return [int(order[0]), int(order[min(middle, len(order) - 1)]), int(order[-1])]


def _commonest(texts: pa.Array, times: Counts) -> tuple[tuple[str, int], ...]:
    if len(times) > MOST_COMMON:
        some = np.argpartition(-times, MOST_COMMON)[:MOST_COMMON]
    else:
        some = np.arange(len(times))
    some = some[np.argsort(-times[some], kind="stable")]
    return tuple((texts[int(n)].as_py(), int(times[n])) for n in some)


def _markers(texts: pa.Array, times: Counts) -> tuple[tuple[str, int], ...]:
    marked = marker_flags(texts)
    rows = np.flatnonzero(marked)
    found = dict(zip(texts.take(pa.array(rows)).to_pylist(), times[rows].tolist(), strict=True))
    return tuple((marker, found[marker]) for marker in MARKERS if marker in found)


def to_numeric_axis(values: pa.Array) -> npt.NDArray[np.float64] | None:
    """Numbers, dates and times on one line; ``None`` for anything else."""
    kind: Any = values.type
    if pa.types.is_date(kind):
        values = values.cast(pa.int32())
    elif pa.types.is_timestamp(kind) or pa.types.is_time(kind):
        values = values.cast(pa.int64(), safe=False)
    elif not (pa.types.is_integer(kind) or pa.types.is_floating(kind) or pa.types.is_decimal(kind)):
        return None
    numbers: npt.NDArray[np.float64] = to_float(to_arithmetic_type(values)).to_numpy(
        zero_copy_only=False
    )
    return numbers


def _spread(values: pa.Array, weights: Counts, type_: ColumnType) -> Histogram | None:
    found = assign_bins(values, type_)
    if found is None:
        return None
    place, bins = found
    inside = place >= 0
    rows = np.bincount(place[inside], weights=weights[inside], minlength=bins)
    return Histogram(tuple(int(n) for n in rows))


def assign_bins(values: pa.Array, type_: ColumnType) -> tuple[npt.NDArray[np.int64], int] | None:
    """The stretch of the spread that each value is in, and how many stretches there are.

    What is not finite is in none: -1. ``None`` where the values do not lie on a line.
    """
    numbers = None if type_.family in ("text", "boolean", "empty") else to_numeric_axis(values)
    if numbers is None or not len(numbers):
        return None
    finite = np.isfinite(numbers)
    low, high = (numbers[finite].min(), numbers[finite].max()) if finite.any() else (0.0, 0.0)
    width = high - low
    if not width or not np.isfinite(width):
        return np.zeros(len(numbers), np.int64), 1
    bins = BINS
    if type_.family in ("integer", "date") and width < BINS:
        bins = int(width) + 1  # or stretches without a whole number in them would stand empty
    place = np.full(len(numbers), -1, np.int64)
    place[finite] = np.minimum((numbers[finite] - low) / width * bins, bins - 1)
    return place, bins
