"""Evidence: columns beside a key, and how far two records agree in each of them."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from enum import IntEnum
from functools import cached_property
from typing import Literal

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.base.errors import UsageError, attribute_errors_to_option
from plait.core.codes.key_codes import KeyColumnCodes, encode_keys, merge_codes
from plait.core.codes.normalize import FORM_WAYS, Ignored, normalize_texts, rearrange_words
from plait.core.job.executor import available_cores
from plait.core.table.key_spec import check_column, parse_key_columns
from plait.core.table.table import Table
from plait.core.text.hash_table import Codes
from plait.core.types.column_type import EMPTY

Numbers = npt.NDArray[np.int64]
Floats = npt.NDArray[np.float64]
Flags = npt.NDArray[np.bool_]

Kind = Literal["letters", "number", "days", "distance"]

LETTERS_PER_SLIP = 5  # of the longer of two texts, for them to be near
NEAR_NUMBER = 0.01  # of the larger of two numbers
NEAR_DAYS = 7
NEAR_KM = 1.0
_EARTH_KM = 6371.0088  # the mean radius (IUGG)
_AT_ONCE = 500_000
_LATITUDE = re.compile(r"(^|[^a-z])lat(itude)?([^a-z]|$)", re.IGNORECASE)
_LONGITUDE = re.compile(r"(^|[^a-z])(lon|lng|long|longitude)([^a-z]|$)", re.IGNORECASE)


class Level(IntEnum):
    """How far two records agree in a piece of evidence."""

    MISSING = 0  # on either side: tells nothing
    DIFFERENT = 1
    NEAR = 2
    ALIKE = 3  # equal but for what is ignored
    EQUAL = 4


@dataclass(frozen=True, eq=False)
class _Initials:
    """Of each value what is written as an initial, what is not, and what its words begin with."""

    has_any: Flags
    words: pa.Array
    letters: pa.Array
    rest: pa.Array
    begins: pa.Array


@dataclass(frozen=True, eq=False)
class Evidence:
    """One piece of evidence: what each record has of it.

    Parameters
    ----------
    names : tuple of pairs of str
        The left and the right column; two pairs for a place on the earth.
    kind : {"letters", "number", "days", "distance"}
        By what two values are near.
    exact, loose : pair of int32 arrays
        For each record of the left and of the right a code of its value, as it is and without
        what is ignored; -1 where it has none, or several on its rows.
    words : pyarrow.Array
        For letters: of each exact code its words as they stand, without case, accents and signs.
    values : array of float64
        Otherwise: of each exact code its numbers, a column each; NaN where it is none.
    part_of_key : bool
        Whether it is a column of the key.
    """

    names: tuple[tuple[str, str], ...]
    kind: Kind
    exact: tuple[Codes, Codes]
    loose: tuple[Codes, Codes]
    words: pa.Array
    values: Floats
    part_of_key: bool

    @property
    def name(self) -> str:
        """What it is called: the left column, with the right one where that is another."""
        return " and ".join(
            left if left == right else f"{left}={right}" for left, right in self.names
        )

    @property
    def short_name(self) -> str:
        """The left column only."""
        return " and ".join(left for left, _ in self.names)

    @cached_property
    def orders(self) -> tuple[tuple[pa.Array, pa.Array], ...]:
        """The words of the left and of the right in orders that are set against one another.

        As they stand; turned round, since a slip in the first letter puts a word elsewhere in the
        alphabet; and in order, for more than two words.
        """
        words = self.words
        return (
            (words, words),
            (_turned(words), words),
            (normalize_texts(words, ["word-order"]),) * 2,
        )

    @cached_property
    def initials(self) -> _Initials:
        """Of letters: the words of one letter, as in ``J. Penrose``."""
        letters = pc.replace_substring_regex(self.words, r"\b\w\w+\b ?", "")
        rest = pc.replace_substring_regex(self.words, r"\b\w\b ?", "")
        both = pc.and_(pc.not_equal(letters, ""), pc.not_equal(rest, ""))
        has_any = np.asarray(pc.fill_null(both, False))
        begins = pc.replace_substring_regex(self.words, r"(\w)\w*", r"\1")
        return _Initials(has_any, self.words, pc.utf8_rtrim_whitespace(letters), rest, begins)

    @property
    def has_words(self) -> bool:
        """Whether most of its values have words in them: those of codes are not looked up."""
        if self.kind != "letters" or not len(self.words):
            return False
        return bool(pc.mean(pc.match_substring_regex(self.words, r"\p{L}{3}")).as_py() > 0.5)

    @property
    def tells(self) -> bool:
        """Whether any two records could differ in it."""
        present = [codes[codes >= 0] for codes in self.loose]
        both = np.concatenate(present)
        return all(map(len, present)) and bool((both != both[0]).any())


def resolve_evidence(
    spec: Sequence[str], tables: Sequence[Table], key: Sequence[Sequence[str]]
) -> tuple[tuple[tuple[str, str], ...], ...]:
    """The columns of each piece of evidence: those of the key, then those that are named.

    Parameters
    ----------
    spec : sequence of str
        ``COLUMN``, or ``LEFT=RIGHT`` where the names differ.
    key : sequence of sequence of str
        For each table its key columns.

    Raises
    ------
    UsageError
        For a column that is not there, or is named twice.

    Notes
    -----
    A latitude and a longitude that are both named are one piece: a place.
    """
    with attribute_errors_to_option("evidence"):
        named = list(parse_key_columns(list(spec)))
        for pair in named:
            for name, table in zip(pair, (tables[0], tables[-1]), strict=True):
                check_column(name, table)
        parts = list(zip(key[0], key[-1], strict=True))
        for at, pair in enumerate(named):
            if pair in parts or pair in named[:at]:
                where = "part of the key" if pair in parts else "named twice"
                raise UsageError(f"{pair[0]} is {where}", remedy="name it once")
    latitude = next((pair for pair in named if _LATITUDE.search(pair[0])), None)
    longitude = next((pair for pair in named if _LONGITUDE.search(pair[0])), None)
    place = (latitude, longitude) if latitude and longitude else ()
    pieces = [(pair,) for pair in (*parts, *named) if pair not in place]
    return (*pieces, place) if place else tuple(pieces)


def gather_evidence(
    tables: Sequence[Table],
    names: Iterable[tuple[tuple[str, str], ...]],
    keys: Sequence[Codes],
    records: Sequence[Numbers],
    ignore: Sequence[Ignored],
    key_columns: int,
) -> Iterator[Evidence]:
    """What the records of two tables have of each piece of evidence.

    Parameters
    ----------
    tables : sequence of Table
        Two; or one, whose records are set against one another.
    names : iterable of tuples of pairs of str
        As ``resolve_evidence`` gives them.
    keys : sequence of int32 arrays
        For each table the code of the key of each row.
    records : sequence of int64 arrays
        For each table the keys that are its records, in the order in which they are numbered.
    key_columns : int
        How many of the first pieces are parts of the key.
    """
    for number, pairs in enumerate(names):
        sides = [[pair[side] for pair in pairs] for side in range(len(tables))]
        coding = encode_keys(tables, sides)
        loose = _loosened(coding.key_columns, coding.codes, ignore)
        exact_of = [
            _of_records(codes, key, of)
            for codes, key, of in zip(coding.codes, keys, records, strict=True)
        ]
        loose_of = [
            _of_records(codes, key, of) for codes, key, of in zip(loose, keys, records, strict=True)
        ]
        kind, words, values = _measures(coding.key_columns, coding.distinct)
        yield Evidence(
            pairs,
            kind,
            (exact_of[0], exact_of[-1]),
            (loose_of[0], loose_of[-1]),
            words,
            values,
            number < key_columns,
        )


def _loosened(
    columns: Sequence[KeyColumnCodes], codes: tuple[Codes, ...], ignore: Sequence[Ignored]
) -> tuple[Codes, ...]:
    """The codes of a single column without what is ignored; of a place as they are.

    How numbers and dates are written does not count either.
    """
    (column, *more) = columns
    if more:
        return codes
    # The point and the minus of a number are no punctuation.
    numbers = all(type_.is_number or type_ == EMPTY for type_ in column.types)
    ways = FORM_WAYS if numbers else (*ignore, *FORM_WAYS)
    forms = [normalize_texts(column.texts, ways, type_) for type_ in column.types]
    return merge_codes(column.codes, column.texts, forms)[0]


def _of_records(codes: Codes, keys: Codes, records: Numbers) -> Codes:
    """For each record the one code that its rows have; -1 for none, and for several."""
    rows = np.flatnonzero((codes >= 0) & (keys >= 0))
    size = int(keys.max(initial=-1)) + 1
    least, most = np.full(size, np.iinfo(np.int32).max), np.full(size, -1)
    np.minimum.at(least, keys[rows], codes[rows])
    np.maximum.at(most, keys[rows], codes[rows])
    of_key = np.where(least == most, most, -1).astype(np.int32)
    values_of_records: Codes = of_key[records]
    return values_of_records


def _measures(
    columns: Sequence[KeyColumnCodes], distinct: Sequence[Codes]
) -> tuple[Kind, pa.Array, Floats]:
    """By what values are near, and what is measured of each code."""
    none = np.zeros((0, 1))
    if len(columns) > 1:
        parts = [
            _numbers(column)[np.where(part < 0, 0, part)]
            for column, part in zip(columns, distinct, strict=True)
        ]
        return "distance", pa.nulls(0, pa.string()), np.radians(np.stack(parts, axis=1))
    (column,) = columns
    types = [type_ for type_ in column.types if type_ != EMPTY]
    if types and all(type_.is_number for type_ in types):
        return "number", pa.nulls(0, pa.string()), _numbers(column)[:, None]
    if types and all(type_.has_day for type_ in types):
        return "days", pa.nulls(0, pa.string()), _days(column)[:, None]
    spelt = normalize_texts(column.texts, ["accents", "case"])
    apart = pc.replace_substring_regex(spelt, r"[\p{P}\p{S}\p{Z}\s]+", " ")
    return "letters", pc.utf8_trim_whitespace(apart), none


def _numbers(column: KeyColumnCodes) -> Floats:
    """The numbers of a column by code; NaN for what is none."""
    texts = column.texts
    for type_ in column.types:
        texts = normalize_texts(texts, ["number-form"], type_)
    fits = pc.match_substring_regex(texts, r"^[+-]?[0-9]+(\.[0-9]+)?$")
    values = pc.cast(pc.if_else(fits, texts, pa.scalar(None, texts.type)), pa.float64())
    return np.asarray(pc.fill_null(values, np.nan))


def _days(column: KeyColumnCodes) -> Floats:
    """The days of a column by code, from 1970-01-01; NaN for what is no date."""
    texts = column.texts
    for type_ in column.types:
        texts = normalize_texts(texts, ["date-form"], type_)
    fits = pc.match_substring_regex(texts, r"^[0-9]{4}-[0-9]{2}-[0-9]{2}")
    days = pc.utf8_slice_codeunits(texts, 0, 10)
    dates = pc.cast(pc.if_else(fits, days, pa.scalar(None, days.type)), pa.date32())
    numbers = pc.fill_null(pc.cast(pc.cast(dates, pa.int32()), pa.float64()), np.nan)
    return np.asarray(numbers)


def compare_records(evidence: Evidence, left: Numbers, right: Numbers) -> npt.NDArray[np.int8]:
    """The level of agreement of each pair of records."""
    loose = evidence.loose[0][left], evidence.loose[1][right]
    exact = evidence.exact[0][left], evidence.exact[1][right]
    level = np.full(len(left), Level.DIFFERENT, np.int8)
    level[loose[0] == loose[1]] = Level.ALIKE
    level[(exact[0] == exact[1]) & (exact[0] >= 0)] = Level.EQUAL
    level[(loose[0] < 0) | (loose[1] < 0)] = Level.MISSING
    open_ = np.flatnonzero((level == Level.DIFFERENT) & (exact[0] >= 0) & (exact[1] >= 0))
    level[open_[near_values(evidence, exact[0][open_], exact[1][open_])]] = Level.NEAR
    return level


def near_values(evidence: Evidence, left: Codes, right: Codes) -> Flags:
    """Which pairs of values that differ are near.

    Notes
    -----
    Letters: the words in either order, at most one slip apart for each ``LETTERS_PER_SLIP``
    letters (the distance of optimal string alignment), or all words of the one among those of the
    other, an initial standing for any word that begins with it.
    Numbers: at most ``NEAR_NUMBER`` of the larger one apart. Days: at most ``NEAR_DAYS`` apart,
    or two of year, month and day the same, or day and month exchanged. Places: at most
    ``NEAR_KM`` apart on the great circle.
    """
    if evidence.kind == "letters":
        near = _near_letters(evidence, left, right)
        has_any = evidence.initials.has_any
        abbreviated = np.flatnonzero(has_any[left] | has_any[right])
        near[abbreviated] |= _same_with_initials(
            evidence.initials, left[abbreviated], right[abbreviated]
        )
        return near
    left_values, right_values = evidence.values[left], evidence.values[right]
    if evidence.kind == "number":
        largest = np.maximum(np.abs(left_values), np.abs(right_values))
        return np.asarray((np.abs(left_values - right_values) <= NEAR_NUMBER * largest)[:, 0])
    if evidence.kind == "days":
        return _near_days(left_values[:, 0], right_values[:, 0])
    # The haversine formula keeps its digits where two places are close.
    half = np.sin((left_values - right_values) / 2) ** 2
    square = half[:, 0] + np.cos(left_values[:, 0]) * np.cos(right_values[:, 0]) * half[:, 1]
    close: Flags = 2 * _EARTH_KM * np.arcsin(np.sqrt(np.minimum(square, 1.0))) <= NEAR_KM
    return close


def near_matrix(evidence: Evidence, left: Codes, right: Codes) -> Flags:
    """Which of some values is near to which of some others, a row for each of the left."""
    if evidence.kind == "letters":
        from rapidfuzz.distance import OSA
        from rapidfuzz.fuzz import token_set_ratio
        from rapidfuzz.process import cdist

        workers = available_cores()
        near = np.zeros((len(left), len(right)), bool)
        for mine, theirs in evidence.orders:
            texts, others = (
                mine.take(pa.array(left)).to_pylist(),
                theirs.take(pa.array(right)).to_pylist(),
            )
            slips = cdist(texts, others, scorer=OSA.distance, dtype=np.int32, workers=workers)
            longest = np.maximum(_lengths(texts)[:, None], _lengths(others)[None, :])
            near |= slips * LETTERS_PER_SLIP <= longest
        near |= (
            cdist(texts, others, scorer=token_set_ratio, score_cutoff=100, workers=workers) >= 100
        )
        has_any = evidence.initials.has_any
        abbreviated = np.nonzero(has_any[left][:, None] | has_any[right][None, :])
        near[abbreviated] |= _same_with_initials(
            evidence.initials, left[abbreviated[0]], right[abbreviated[1]]
        )
        return near
    all_pairs = np.repeat(left, len(right)), np.tile(right, len(left))
    return near_values(evidence, *all_pairs).reshape(len(left), len(right))


def _near_days(left: Floats, right: Floats) -> Flags:
    both_known = ~(np.isnan(left) | np.isnan(right))
    days = [np.where(both_known, side, 0).astype("i8").astype("M8[D]") for side in (left, right)]
    months = [side.astype("M8[M]") for side in days]
    year = [side.astype("M8[Y]").astype(np.int64) for side in days]
    month = [side.astype(np.int64) % 12 + 1 for side in months]
    day = [(d - m).astype(np.int64) + 1 for d, m in zip(days, months, strict=True)]
    same = [part[0] == part[1] for part in (year, month, day)]
    exchanged = same[0] & (month[0] == day[1]) & (day[0] == month[1])
    close = np.abs(left - right) <= NEAR_DAYS
    near: Flags = both_known & (close | exchanged | (sum(part.astype(int) for part in same) == 2))
    return near


def _turned(words: pa.Array) -> pa.Array:
    """The words of each text from the last to the first."""
    lists = pc.split_pattern(words.cast(pa.string()), " ")
    return rearrange_words(lists, -np.arange(len(lists.flatten())))


def _near_letters(evidence: Evidence, left: Codes, right: Codes) -> Flags:
    from rapidfuzz.distance import OSA
    from rapidfuzz.fuzz import token_set_ratio
    from rapidfuzz.process import cpdist

    near, workers = np.zeros(len(left), bool), available_cores()
    for start in range(0, len(left), _AT_ONCE):
        open_ = np.arange(start, min(start + _AT_ONCE, len(left)))
        for mine, theirs in evidence.orders:
            texts, others = (
                words.take(pa.array(side[open_])).to_pylist()
                for words, side in ((mine, left), (theirs, right))
            )
            slips = cpdist(texts, others, scorer=OSA.distance, dtype=np.int32, workers=workers)
            close = slips * LETTERS_PER_SLIP <= np.maximum(_lengths(texts), _lengths(others))
            near[open_[close]] = True
            open_ = open_[~close]
        texts, others = (
            evidence.words.take(pa.array(side[open_])).to_pylist() for side in (left, right)
        )
        # 100 where all words of the one are among those of the other.
        within = cpdist(texts, others, scorer=token_set_ratio, score_cutoff=100, workers=workers)
        near[open_[within >= 100]] = True
    return near


def _same_with_initials(initials: _Initials, left: Codes, right: Codes) -> Flags:
    """Whether one has words of one letter, and each stands for a word of the other."""
    from rapidfuzz.fuzz import token_set_ratio
    from rapidfuzz.process import cpdist

    def within(words: pa.Array, others: pa.Array) -> Flags:
        texts = words.to_pylist(), others.to_pylist()
        shares = cpdist(*texts, scorer=token_set_ratio, score_cutoff=100, workers=available_cores())
        flags: Flags = shares >= 100
        return flags

    same = np.zeros(len(left), bool)
    for short, long in ((left, right), (right, left)):
        at = np.flatnonzero(initials.has_any[short])
        short_codes, long_codes = pa.array(short[at]), pa.array(long[at])
        same[at] |= within(
            initials.rest.take(short_codes), initials.words.take(long_codes)
        ) & within(initials.letters.take(short_codes), initials.begins.take(long_codes))
    return same


def _lengths(texts: Sequence[str]) -> Numbers:
    return np.fromiter(map(len, texts), np.int64, len(texts))
