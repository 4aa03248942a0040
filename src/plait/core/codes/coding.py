"""Keys as dense integer codes, shared by all the tables that are compared.

Each key column is coded on its own, with one dictionary for all tables; then
the codes of a composite key are mixed two at a time and made dense again, so
that they never grow past 64 bits. From the codes, uniqueness, repeats, set
comparison and joining follow by counting.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property, partial
from itertools import pairwise
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.account.parallel import ordered_map
from plait.core.codes.dealing import by_hash, deal
from plait.core.codes.loosen import FORM_WAYS, checked_ways, loosened
from plait.core.store.room import rows_at_once
from plait.core.table.table import Table
from plait.core.text.dictionary import MISSING, TextDictionary, smallest_dtype
from plait.core.text.wordtable import Codes, WordTable
from plait.core.types.kinds import MARKERS, NUMBERS, kind_of, plain_number, takes_markers

Counts = npt.NDArray[np.int64]

_DIRECT_SLOTS, _MOST_SLOTS = 1 << 20, 1 << 26
_MANY = 1 << 14
_STEP = 1 << 17
_COUNTED = 1 << 21


@dataclass(frozen=True, eq=False)
class CodedColumn:
    """One key column in all tables.

    Parameters
    ----------
    codes : tuple of int32 arrays, or of shorter integers
        One for each table; -1 where the cell is missing.
    size : int
        Codes go from 0 to ``size - 1``.
    texts : pyarrow.Array
        A text for each code.
    kinds : tuple of str
        The kind of the column in each table.
    ignored : tuple of str
        What did not count when its texts were compared.
    """

    codes: tuple[Codes, ...]
    size: int
    texts: pa.Array
    kinds: tuple[str, ...]
    ignored: tuple[str, ...] = ()


@dataclass(frozen=True, eq=False)
class Coding:
    """The whole key in all tables; ``columns`` are its parts."""

    codes: tuple[Codes, ...]
    size: int
    columns: tuple[CodedColumn, ...]

    def counts(self, table: int) -> Counts:
        """Rows of each key in a table."""
        return count(self.codes[table], self.size)

    @cached_property
    def distinct(self) -> list[Codes]:
        """For each key column its code in each key; -1 for a key that no table has."""
        first = [first_rows(codes, self.size) for codes in self.codes]
        parts = []
        for column in self.columns:
            part = np.full(self.size, -1, np.int32)
            for codes, rows in zip(column.codes, first, strict=True):
                there = np.flatnonzero(rows >= 0)
                part[there] = codes[rows[there]]
            parts.append(part)
        return parts


def code_keys(
    tables: Sequence[Table],
    keys: Sequence[Sequence[str]],
    ignore: Iterable[str] = (),
    missing_match: bool = False,
    followers: int = 0,
) -> Coding:
    """Code the keys of several tables together.

    Parameters
    ----------
    tables : sequence of Table
    keys : sequence of sequence of str
        For each table the names of its key columns, in the same order.
    ignore : iterable of str
        What does not count in a comparison: see ``plait.core.codes.loosen.ALL_WAYS``.
    missing_match : bool
        Take missing cells for equal to one another.
    followers : int
        So many of the last tables have no say in what kind of cells a key holds;
        they take it from the first ones.

    Returns
    -------
    Coding
        A row has code -1 when any part of its key is missing, unless those match.

    Notes
    -----
    Where every table has numbers in a column, ``7`` and ``7.0`` get one code.

    Examples
    --------
    >>> from plait.core.table.table import from_columns
    >>> table = from_columns("t", {"yard": ["A", "A", "B"], "hive": ["1", "1", ""]})
    >>> code_keys([table], [["yard", "hive"]]).codes[0].tolist()
    [0, 0, -1]
    """
    ignore = checked_ways(ignore)
    parts = [
        [table.whole(name) for table, name in zip(tables, names, strict=True)]
        for names in zip(*keys, strict=True)
    ]
    declared = [
        [table.column(name).kind for table, name in zip(tables, names, strict=True)]
        for names in zip(*keys, strict=True)
    ]
    columns = tuple(_code_columns(parts, declared, ignore, followers))
    if missing_match:
        columns = tuple(map(_with_missing, columns))
    codes, size = columns[0].codes, columns[0].size
    for column in columns[1:]:
        codes, size = mix(codes, size, column.codes, column.size)
    return Coding(codes, size, columns if len(columns) == 1 else tuple(map(_compact, columns)))


def _code_columns(
    parts: Sequence[Sequence[pa.ChunkedArray]],
    declared: Sequence[Sequence[str | None]],
    ignore: Sequence[str],
    followers: int,
) -> Iterator[CodedColumn]:
    """Each key column coded, on all cores where there is enough to do."""

    def one(part: tuple[Sequence[pa.ChunkedArray], Sequence[str | None]]) -> CodedColumn:
        return code_column(*part, ignore, followers)

    every = zip(parts, declared, strict=True)
    many = sum(map(len, parts[0])) >= _MANY
    return ordered_map(one, every) if many else map(one, every)


def _compact(column: CodedColumn) -> CodedColumn:
    """The column with codes of as few bytes as hold them: they stay for as long as the tables."""
    dtype = smallest_dtype(column.size)
    codes = tuple(one.astype(dtype, copy=False) for one in column.codes)
    return replace(column, codes=codes)


def code_column(
    tables: Sequence[pa.ChunkedArray],
    declared: Sequence[str | None] = (),
    ignore: Sequence[str] = (),
    followers: int = 0,
) -> CodedColumn:
    """Code one key column of several tables together.

    ``declared`` is what the sources say its cells are; without it the cells tell.
    The last ``followers`` tables have their kinds from the first ones.
    """
    declared = declared or [None] * len(tables)
    dictionary = TextDictionary()
    codes: tuple[Codes, ...] = ()
    sizes = [0]
    for column in tables:
        codes = (*codes, dictionary.encode_all(column))
        sizes.append(len(dictionary))
    texts = dictionary.texts()
    leading = len(tables) - followers
    own = [
        declared[n] or kind_of(pa.chunked_array([_texts_of(codes[n], texts, *sizes[n : n + 2])]))
        for n in range(leading)
    ]
    kinds = tuple(own[number % leading] for number in range(len(tables)))
    codes = tuple(map(partial(_without_markers, texts), codes, kinds))
    asked = tuple(ignore)
    numeric = all(kind in (*NUMBERS, "empty") for kind in kinds)
    if numeric and "decimal" in kinds:
        codes, texts = recode(codes, texts, [plain_number(texts)])
    if numeric:  # the point and the minus of a number are no punctuation
        ignore = [way for way in ignore if way in FORM_WAYS]
    if ignore:
        codes, texts = recode(codes, texts, _loose_forms(texts, ignore, kinds))
    return CodedColumn(codes, len(texts), texts, kinds, asked)


def _with_missing(column: CodedColumn) -> CodedColumn:
    """The column with a code of its own for a missing cell."""
    nothing = np.int32(column.size)
    codes = tuple(np.where(one < 0, nothing, one) for one in column.codes)
    texts = pa.chunked_array([column.texts, pa.nulls(1, column.texts.type)]).combine_chunks()
    return replace(column, codes=codes, size=column.size + 1, texts=texts)


def _loose_forms(texts: pa.Array, ignore: Sequence[str], kinds: Sequence[str]) -> list[pa.Array]:
    """The loose form of each text; for each table, where its kind has to do with it."""
    told = kinds if set(ignore) & set(FORM_WAYS) else kinds[:1]
    return [loosened(texts, ignore, kind) for kind in told]


def _without_markers(texts: pa.Array, codes: Codes, kind: str) -> Codes:
    """The codes, missing where a marker for that is among numbers, dates or times."""
    if not takes_markers(kind):
        return codes
    marks = pc.is_in(texts, pa.array(MARKERS, texts.type)).to_numpy(zero_copy_only=False)
    if not marks.any():
        return codes
    return np.where(by_code(marks, codes, False), np.int32(MISSING), codes)


def _texts_of(codes: Codes, texts: pa.Array, known: int, size: int) -> pa.Array:
    """The texts that are in one table, which added those from ``known`` to ``size``."""
    if not known:
        return texts.slice(0, size)
    present = np.zeros(size + 1, bool)
    present[codes] = True  # missing ones fall on the spare last place
    return texts.filter(pa.array(np.append(present[:size], np.zeros(len(texts) - size, bool))))


def recode(
    codes: tuple[Codes, ...], texts: pa.Array, forms: Sequence[pa.Array]
) -> tuple[tuple[Codes, ...], pa.Array]:
    """Give texts with the same form the same code; the first of them stays as the text.

    Parameters
    ----------
    codes : tuple of int32 arrays
        One for each table.
    texts : pyarrow.Array
        By code.
    forms : sequence of pyarrow.Array
        The form of each text, as each table has it; or once for all tables.
    """
    dictionary = TextDictionary()
    made = [dictionary.encode(one) for one in forms]
    first = np.zeros(len(dictionary), np.int64)
    for to in reversed(made):
        seen = np.flatnonzero(to >= 0)
        first[to[seen[::-1]]] = seen[::-1]
    of_each = made * len(codes) if len(made) == 1 else made
    recoded = (by_code(to, one, MISSING) for to, one in zip(of_each, codes, strict=True))
    return tuple(recoded), texts.take(pa.array(first))


def mix(
    left: Sequence[Codes], left_size: int, right: Sequence[Codes], right_size: int
) -> tuple[tuple[Codes, ...], int]:
    """Dense codes of pairs of codes; -1 where either is.

    >>> a, b = np.array([0, 1, 0], np.int32), np.array([2, 2, -1], np.int32)
    >>> codes, size = mix([a], 2, [b], 3)
    >>> codes[0].tolist(), size
    ([0, 1, -1], 2)
    """
    rows, slots = sum(map(len, left)), left_size * right_size
    if slots <= max(_DIRECT_SLOTS, min(4 * rows, _MOST_SLOTS)):
        return _mix_directly(left, right, slots, right_size)
    if rows <= rows_at_once():
        return _mix_by_hash(left, right, right_size)
    return _mix_dealt(left, right, right_size)


def _pairs(a: Codes, b: Codes, right_size: int) -> npt.NDArray[np.int64]:
    """Each pair of codes as one number, -1 where either is missing."""
    pairs = a.astype(np.int64) * right_size + b
    if a.min(initial=0) < 0 or b.min(initial=0) < 0:
        pairs[(a < 0) | (b < 0)] = MISSING
    return pairs


def _mix_directly(
    left: Sequence[Codes], right: Sequence[Codes], slots: int, right_size: int
) -> tuple[tuple[Codes, ...], int]:
    """Through an array with a slot for every possible pair; a missing pair takes a spare last."""
    seen = np.zeros(slots + 1, bool)

    def mark(step: tuple[Codes, Codes]) -> None:
        seen[_pairs(*step, right_size)] = True

    for one, other in zip(left, right, strict=True):
        for _ in ordered_map(mark, _steps(one, other)):
            pass
    seen[slots] = False
    codes = np.cumsum(seen, dtype=np.int32)
    codes -= np.int32(1)
    size = int(codes[slots]) + 1
    codes[slots] = MISSING
    mixed = tuple(np.empty(len(one), np.int32) for one in left)
    for one, other, made in zip(left, right, mixed, strict=True):

        def look_up(start: int, one: Codes = one, other: Codes = other, made: Codes = made) -> None:
            stop = start + _STEP
            pairs = _pairs(one[start:stop], other[start:stop], right_size)
            codes.take(pairs, out=made[start:stop], mode="wrap")

        for _ in ordered_map(look_up, range(0, len(one), _STEP)):
            pass
    return mixed, size


def _mix_by_hash(
    left: Sequence[Codes], right: Sequence[Codes], right_size: int
) -> tuple[tuple[Codes, ...], int]:
    """Through the word table, where there are too many possible pairs."""
    table = WordTable()
    mixed = []
    for one, other in zip(left, right, strict=True):
        codes = np.full(len(one), MISSING, np.int32)
        for start, step in zip(range(0, len(one), _STEP), _steps(one, other), strict=True):
            pairs = _pairs(*step, right_size)
            there = np.flatnonzero(pairs >= 0)
            codes[start + there] = table.encode((pairs[there] + 1).view(np.uint64))[0]
        mixed.append(codes)
    return tuple(mixed), table.size


def _mix_dealt(
    left: Sequence[Codes], right: Sequence[Codes], right_size: int
) -> tuple[tuple[Codes, ...], int]:
    """The same for very many rows: equal pairs are dealt to one class, each with its own table.

    So the table that is looked into at random stays small, however many pairs there are
    (as in a hash join in parts: DeWitt et al., "Implementation techniques for main memory
    database systems", SIGMOD 1984).
    """
    begins = np.cumsum([0, *map(len, left)])

    def words(at: tuple[int, int]) -> tuple[npt.NDArray[np.int64], npt.NDArray[np.uint64]]:
        table, start = at
        pairs = _pairs(
            left[table][start : start + _STEP], right[table][start : start + _STEP], right_size
        )
        there = np.flatnonzero(pairs >= 0)
        return begins[table] + start + there, (pairs[there] + 1).view(np.uint64)

    spans = [(n, start) for n, one in enumerate(left) for start in range(0, len(one), _STEP)]
    dealt = deal(words, spans, *by_hash(int(begins[-1]), rows_at_once() >> 2))
    codes, size = np.full(int(begins[-1]), MISSING, np.int32), 0
    for rows, of_class, found in ordered_map(_coded_class, dealt.classes()):
        codes[rows] = of_class + np.int32(size)
        size += found
    return tuple(codes[begin:end] for begin, end in pairwise(begins.tolist())), size


def _coded_class(
    one: tuple[npt.NDArray[Any], npt.NDArray[np.uint64]],
) -> tuple[npt.NDArray[Any], Codes, int]:
    """Codes of the words of one class, and how many there are."""
    rows, words = one
    table, codes = WordTable(), np.empty(len(words), np.int32)
    for start in range(0, len(words), _STEP):
        codes[start : start + _STEP] = table.encode(words[start : start + _STEP])[0]
    return rows, codes, table.size


def _steps(one: Codes, other: Codes) -> Iterator[tuple[Codes, Codes]]:
    for start in range(0, len(one), _STEP):
        yield one[start : start + _STEP], other[start : start + _STEP]


def count(codes: Codes, size: int) -> Counts:
    """How often each code stands; -1 is not counted.

    >>> count(np.array([0, 2, 0, -1], np.int32), 3).tolist()
    [2, 0, 1]
    """
    step = max(_COUNTED, size)

    def part(start: int) -> Counts:
        return np.bincount(codes[start : start + step] + np.int32(1), minlength=size + 1)

    total = np.zeros(size + 1, np.int64)
    for counts in ordered_map(part, range(0, len(codes), step)):
        total += counts
    return total[1:]


def rows_by_code(codes: Codes, counts: Counts) -> tuple[npt.NDArray[Any], Counts]:
    """Rows in order of their codes, and where each code's rows begin: a counting sort.

    Parameters
    ----------
    codes : array of int32
        -1 is left out.
    counts : array of int64
        Rows of each code.

    Returns
    -------
    rows : array of int
        Row numbers; those of one code keep their order.
    offsets : array of int64
        ``rows[offsets[c]:offsets[c + 1]]`` have code ``c``.

    Examples
    --------
    >>> rows, offsets = rows_by_code(np.array([1, 0, 1], np.int32), np.array([1, 2]))
    >>> rows.tolist(), offsets.tolist()
    ([1, 0, 2], [0, 1, 3])
    """
    if len(codes) > rows_at_once():
        rows = _dealt_order(codes, len(counts), counts)
    else:
        present = np.flatnonzero(codes >= 0)
        rows = present[stable_order(codes.take(present), len(counts))]
    return rows, np.concatenate([[0], np.cumsum(counts)])


def stable_order(codes: npt.NDArray[Any], size: int) -> npt.NDArray[np.int64]:
    """The order that sorts codes below ``size``, ties as they stand.

    Sixteen bits at a time from the lowest (radix sort, Knuth vol. 3, section
    5.2.5): NumPy sorts 16-bit integers by counting, so this is linear. Very many
    codes are first dealt to classes of neighbouring codes.

    >>> stable_order(np.array([70000, 1, 70000, 0]), 70001).tolist()
    [3, 1, 0, 2]
    """
    if len(codes) > rows_at_once():
        return _dealt_order(codes, size, count(codes, size))
    order = np.argsort((codes & 0xFFFF).astype(np.uint16), kind="stable")
    shift = 16
    while size > 1 << shift:
        digit = ((codes >> shift) & 0xFFFF).astype(np.uint16)
        order = order[np.argsort(digit[order], kind="stable")]
        shift += 16
    return order


def _dealt_order(codes: npt.NDArray[Any], size: int, counts: Counts) -> npt.NDArray[np.int64]:
    """The same, class by class, of codes that are not -1: no more than one is sorted at a time."""
    of_code = ((np.cumsum(counts) - counts) // max(rows_at_once() >> 2, len(codes) >> 15)).astype(
        np.uint16
    )

    def words(start: int) -> tuple[npt.NDArray[np.int64], npt.NDArray[np.uint64]]:
        step = codes[start : start + _STEP]
        there = np.flatnonzero(step >= 0)
        return start + there, step[there].astype(np.uint64)

    spans = range(0, len(codes), _STEP)
    dealt = deal(words, spans, lambda some: of_code[some], int(of_code.max(initial=0)) + 1)
    filled = 0
    for rows in ordered_map(_ordered_class, dealt.classes()):
        dealt.rows[filled : filled + len(rows)] = rows
        filled += len(rows)
    return dealt.rows


def _ordered_class(
    one: tuple[npt.NDArray[np.int64], npt.NDArray[np.uint64]],
) -> npt.NDArray[np.int64]:
    """The rows of one class in order; those of its last code, which may be very many, are so."""
    rows, codes = one
    last = codes == codes.max()
    others = np.flatnonzero(~last)
    if not len(others):
        return rows
    first = int(codes[others].min())
    offset = (codes[others] - np.uint64(first)).astype(np.int64)
    order = others[np.argsort(offset, kind="stable")]
    return np.concatenate([rows[order], rows[last]])


def distinct(
    values: npt.NDArray[Any],
) -> tuple[npt.NDArray[Any], npt.NDArray[np.int64], npt.NDArray[np.int64]]:
    """Distinct numbers in order, for each value which of them it is, and where each first stands.

    >>> values, which, first = distinct(np.array([7, 3, 7]))
    >>> values.tolist(), which.tolist(), first.tolist()
    ([3, 7], [1, 0, 1], [1, 0])
    """
    order = np.argsort(values, kind="stable")
    arranged = values[order]
    new = np.append(True, arranged[1:] != arranged[:-1])[: len(values)]
    which = np.empty(len(values), np.int64)
    which[order] = np.cumsum(new) - 1
    return arranged[new], which, order[new]


def within_each(times: npt.NDArray[Any]) -> npt.NDArray[np.int64]:
    """For groups of so many, one after another, the number of each member in its group.

    >>> within_each(np.array([2, 0, 3])).tolist()
    [0, 1, 0, 1, 2]
    """
    begin: npt.NDArray[np.int64] = np.repeat(np.cumsum(times) - times, times)
    return np.arange(len(begin)) - begin


def first_rows(codes: Codes, size: int) -> npt.NDArray[np.int64]:
    """The first row of each code, -1 for a code without one.

    >>> first_rows(np.array([1, -1, 1], np.int32), 2).tolist()
    [-1, 0]
    """
    first = np.full(size + 1, -1, np.int64)
    first[codes[::-1]] = np.arange(len(codes) - 1, -1, -1)
    return first[:size]


def by_code(values: npt.NDArray[Any], codes: Codes, missing: int | bool) -> npt.NDArray[Any]:
    """The value of each row's code; ``missing`` for code -1.

    >>> by_code(np.array([5, 6]), np.array([1, -1, 0], np.int32), 0).tolist()
    [6, 0, 5]
    """
    values = np.append(values, values.dtype.type(missing))
    made = np.empty(len(codes), values.dtype)

    def fill(start: int) -> None:
        stop = start + _STEP
        values.take(codes[start:stop], out=made[start:stop], mode="wrap")

    for _ in ordered_map(fill, range(0, len(codes), _STEP)):
        pass
    return made
