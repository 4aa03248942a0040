"""Keys as dense codes over all tables compared, and the groups of rows they make.

Each key column is coded on its own, with one dictionary for all tables; then
the codes of a composite key are mixed two at a time and made dense again, so
that they never grow past 64 bits. From the codes, uniqueness, repeats, set
comparison and joining follow by counting.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property, partial
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.base.findings import Finding
from plait.core.codes.dense_codes import (
    Counts,
    combine_codes,
    count_codes,
    first_row_of_each_code,
    gather_by_code,
    rows_grouped_by_code,
)
from plait.core.codes.normalize import FORM_WAYS, Ignored, check_normalizations, normalize_texts
from plait.core.job.current import by_column
from plait.core.table.table import Table
from plait.core.text.cells import is_text_type
from plait.core.text.dictionary import MISSING, TextDictionary, code_dtype
from plait.core.text.hash_table import Codes
from plait.core.types.column_type import DATE, EMPTY, INTEGER, ColumnType
from plait.core.types.inference import infer_column_type, value_texts
from plait.core.types.missing_markers import marker_flags

_MANY = 1 << 14

Rows = npt.NDArray[np.integer[Any]]
Flags = npt.NDArray[np.bool_]


@dataclass(frozen=True, eq=False)
class KeyColumnCodes:
    """One key column in all tables.

    Parameters
    ----------
    codes : tuple of int32 arrays, or of shorter integers
        One for each table; -1 where the cell is missing.
    size : int
        Codes go from 0 to ``size - 1``.
    texts : pyarrow.Array
        A text for each code.
    types : tuple of ColumnType
        The type of the column in each table.
    ignored : tuple of str or IgnoredWords
        What did not count when its texts were compared.
    """

    codes: tuple[Codes, ...]
    size: int
    texts: pa.Array
    types: tuple[ColumnType, ...]
    ignored: tuple[Ignored, ...] = ()


@dataclass(frozen=True, eq=False)
class KeyCodes:
    """The whole key in all tables.

    Parameters
    ----------
    key_columns : tuple of KeyColumnCodes
        Its parts.
    findings : tuple of Finding
        Of pairs of a crosswalk that were not used.
    pair_rows : array of int32, or None
        With a crosswalk: for each row of the first table the row of the crosswalk that its key is
        from, -1 for its own.
    """

    codes: tuple[Codes, ...]
    code_count: int
    key_columns: tuple[KeyColumnCodes, ...]
    findings: tuple[Finding, ...] = ()
    pair_rows: Codes | None = None

    def counts(self, table: int) -> Counts:
        """Rows of each key in a table."""
        return count_codes(self.codes[table], self.code_count)

    @cached_property
    def distinct(self) -> list[Codes]:
        """For each key column its code in each key; -1 for a key that no table has."""
        first = [first_row_of_each_code(codes, self.code_count) for codes in self.codes]
        parts = []
        for column in self.key_columns:
            part = np.full(self.code_count, -1, np.int32)
            for codes, rows in zip(column.codes, first, strict=True):
                there = np.flatnonzero(rows >= 0)
                part[there] = codes[rows[there]]
            parts.append(part)
        return parts


def encode_keys(
    tables: Sequence[Table],
    keys: Sequence[Sequence[str]],
    ignore: Iterable[Ignored] = (),
    missing_match: bool = False,
    followers: int = 0,
) -> KeyCodes:
    """Code the keys of several tables together.

    Parameters
    ----------
    keys : sequence of sequence of str
        For each table the names of its key columns, in the same order.
    ignore : iterable of str
        What does not count in a comparison: see ``plait.core.codes.normalize.ALL_WAYS``.
    missing_match : bool
        Take missing cells for equal to one another.
    followers : int
        So many of the last tables have no say in what type of cells a key holds;
        they take it from the first ones.

    Returns
    -------
    KeyCodes
        A row has code -1 when any part of its key is missing, unless those match.

    Notes
    -----
    Where every table has numbers in a column, ``7`` and ``7.0`` get one code.

    Examples
    --------
    >>> from plait.core.table.table import table_from_columns
    >>> table = table_from_columns("t", {"yard": ["A", "A", "B"], "hive": ["1", "1", ""]})
    >>> encode_keys([table], [["yard", "hive"]]).codes[0].tolist()
    [0, 0, -1]
    """
    ignore = check_normalizations(ignore)
    parts = [
        [table.coded(name) for table, name in zip(tables, names, strict=True)]
        for names in zip(*keys, strict=True)
    ]
    declared = [
        [table.column(name).declared_type for table, name in zip(tables, names, strict=True)]
        for names in zip(*keys, strict=True)
    ]
    columns = tuple(_code_columns(parts, declared, ignore, followers))
    if missing_match:
        columns = tuple(map(_with_missing, columns))
    codes, size = columns[0].codes, columns[0].size
    for column in columns[1:]:
        codes, size = combine_codes(codes, size, column.codes, column.size)
    return KeyCodes(codes, size, columns if len(columns) == 1 else tuple(map(_compact, columns)))


def _code_columns(
    parts: Sequence[Sequence[pa.ChunkedArray]],
    declared: Sequence[Sequence[ColumnType | None]],
    ignore: Sequence[Ignored],
    followers: int,
) -> Iterator[KeyColumnCodes]:
    """Each key column coded, on all cores where there is enough to do."""

    def one(part: tuple[Sequence[pa.ChunkedArray], Sequence[ColumnType | None]]) -> KeyColumnCodes:
        return encode_key_column(*part, ignore, followers)

    every = list(zip(parts, declared, strict=True))
    many = sum(map(len, parts[0])) >= _MANY
    return by_column(one, every) if many else map(one, every)


def _compact(column: KeyColumnCodes) -> KeyColumnCodes:
    """The column with codes of as few bytes as hold them: they stay for as long as the tables."""
    dtype = code_dtype(column.size)
    codes = tuple(code.astype(dtype, copy=False) for code in column.codes)
    return replace(column, codes=codes)


def encode_key_column(
    tables: Sequence[pa.ChunkedArray],
    declared: Sequence[ColumnType | None] = (),
    ignore: Sequence[Ignored] = (),
    followers: int = 0,
) -> KeyColumnCodes:
    """Code one key column of several tables together.

    ``declared`` is what the sources say its cells are; without it the cells tell.
    The last ``followers`` tables have their types from the first ones.
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

    def column_type(number: int) -> ColumnType:
        if not _is_text(tables[number].type):
            return ColumnType.of_arrow(tables[number].type).of_texts
        mine = _texts_added(codes[number], texts, *sizes[number : number + 2])
        return declared[number] or infer_column_type(pa.chunked_array([mine]))

    own = list(map(column_type, range(leading)))
    types = tuple(own[number % leading] for number in range(len(tables)))
    codes = tuple(map(partial(_without_markers, texts), codes, types))
    asked = tuple(ignore)
    native = [not _is_text(column.type) for column in tables]
    if _one_family(types, native) and _can_be_respelt(texts, types):
        codes, texts = merge_codes(codes, texts, _value_forms(texts, codes, types))
    # The point and the minus of a number are no punctuation.
    if all(type_.is_number or type_ == EMPTY for type_ in types):
        ignore = [way for way in ignore if way in FORM_WAYS]
    if ignore:
        codes, texts = merge_codes(codes, texts, _loose_forms(texts, ignore, types))
    return KeyColumnCodes(codes, len(texts), texts, types, asked)


def _is_text(native: pa.DataType) -> bool:
    return is_text_type(native) or pa.types.is_dictionary(native)


def _one_family(types: Sequence[ColumnType], native: Sequence[bool]) -> bool:
    """Whether the values of all tables can be compared as what they are, and not as texts.

    Texts of two written forms, ``5.4.2031`` and ``2031-04-05``, are compared as texts: to take
    them for equal somebody has to ask (``date-form``).
    """
    texts = [(type_, typed) for type_, typed in zip(types, native, strict=True) if type_ != EMPTY]
    if all(type_.is_plain_number for type_, _ in texts):
        return True
    families = {type_.family for type_, _ in texts}
    written = {type_ for type_, typed in texts if not typed}
    return len(families) == 1 and len(written) <= 1 and families != {"text"}


def _can_be_respelt(texts: pa.Array, types: Sequence[ColumnType]) -> bool:
    """Whether one value may have several spellings: whole numbers and plain dates have one."""
    if set(types) <= {INTEGER, EMPTY}:
        return bool(pc.index(texts, pa.scalar("-0", texts.type)).as_py() >= 0)
    return not set(types) <= {DATE, EMPTY}


def _value_forms(
    texts: pa.Array, codes: tuple[Codes, ...], types: Sequence[ColumnType]
) -> list[pa.Array]:
    """For each table, or once for all, each text in the one spelling of its value."""
    filled = set(types) - {EMPTY}
    if len(filled) == 1 or all(type_.is_plain_number for type_ in filled):
        type_ = next((type_ for type_ in types if type_ not in (EMPTY, INTEGER)), types[0])
        return [value_texts(texts, type_)]
    forms = []
    for own, type_ in zip(codes, types, strict=True):
        used = np.zeros(len(texts) + 1, bool)
        used[own] = True  # missing ones fall on the spare last place
        mask = pa.array(used[:-1])
        forms.append(pc.replace_with_mask(texts, mask, value_texts(texts.filter(mask), type_)))
    return forms


def _with_missing(column: KeyColumnCodes) -> KeyColumnCodes:
    """The column with a code of its own for a missing cell."""
    nothing = np.int32(column.size)
    codes = tuple(np.where(code < 0, nothing, code) for code in column.codes)
    texts = pa.chunked_array([column.texts, pa.nulls(1, column.texts.type)]).combine_chunks()
    return replace(column, codes=codes, size=column.size + 1, texts=texts)


def _loose_forms(
    texts: pa.Array, ignore: Sequence[Ignored], types: Sequence[ColumnType]
) -> list[pa.Array]:
    """The loose form of each text; for each table, where its type_ has to do with it."""
    told = types if set(ignore) & set(FORM_WAYS) else types[:1]
    return [normalize_texts(texts, ignore, type_) for type_ in told]


def _without_markers(texts: pa.Array, codes: Codes, type_: ColumnType) -> Codes:
    """The codes, missing where a marker for that is among numbers, dates or times."""
    if not type_.allows_missing_markers:
        return codes
    marks = marker_flags(texts)
    if not marks.any():
        return codes
    return np.where(gather_by_code(marks, codes, False), np.int32(MISSING), codes)


def _texts_added(codes: Codes, texts: pa.Array, known: int, size: int) -> pa.Array:
    """The texts that are in one table, which added those from ``known`` to ``size``."""
    if not known:
        return texts.slice(0, size)
    present = np.zeros(size + 1, bool)
    present[codes] = True  # missing ones fall on the spare last place
    return texts.filter(pa.array(np.append(present[:size], np.zeros(len(texts) - size, bool))))


def merge_codes(
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
    made = [dictionary.encode(form) for form in forms]
    first = np.zeros(len(dictionary), np.int64)
    for to in reversed(made):
        seen = np.flatnonzero(to >= 0)
        first[to[seen[::-1]]] = seen[::-1]
    of_each = made * len(codes) if len(made) == 1 else made
    recoded = (gather_by_code(to, code, MISSING) for to, code in zip(of_each, codes, strict=True))
    return tuple(recoded), texts.take(pa.array(first))


@dataclass(frozen=True, eq=False)
class RowGroups:
    """Rows in groups of one key, the groups in the order in which their keys first stand.

    Parameters
    ----------
    member_rows : array of int
        Row numbers, those of a group one after another and in their order.
    group_of_row : array of int
        For each of them the number of its group.
    offsets : array of int
        Where each group begins in ``rows``, and the end.
    """

    member_rows: Rows
    group_of_row: Rows
    offsets: Rows

    @property
    def size(self) -> int:
        """How many groups there are."""
        return len(self.offsets) - 1

    @property
    def counts(self) -> Rows:
        """Rows of each group."""
        return np.diff(self.offsets)

    def first_row(self, chosen: Flags, rank: Rows | None = None) -> Rows:
        """For each group its row of the least rank among the chosen ones; -1 without any.

        Parameters
        ----------
        chosen : array of bool
            For each of ``rows``.
        rank : array of int, optional
            For each of ``rows``; not below 0. Of equal ranks the first row is taken.

        Examples
        --------
        >>> groups = group_rows(np.array([0, 1, 0]), 2)
        >>> groups.first_row(np.array([True, True, True]), np.array([5, 3, 9])).tolist()
        [2, 1]
        """
        at = np.flatnonzero(chosen)
        if rank is not None and len(at):
            at = at[self._least(at, rank[at])]
        first = np.full(self.size, -1, np.int64)
        first[self.group_of_row[at[::-1]]] = self.member_rows[at[::-1]]
        return first

    def _least(self, rows: Rows, rank: Rows) -> Flags:
        """Which of some rows, in their order, have the least rank of their group."""
        group = self.group_of_row[rows]
        begin = np.flatnonzero(np.append(True, group[1:] != group[:-1]))
        times = np.diff(begin, append=len(rows))
        least: Flags = rank == np.repeat(np.minimum.reduceat(rank, begin), times)
        return least


def group_rows(codes: Rows, size: int) -> RowGroups:
    """Put the rows of each code beside one another; rows of code -1 are in no group.

    >>> groups = group_rows(np.array([1, 0, -1, 1]), 2)
    >>> groups.member_rows.tolist(), groups.group_of_row.tolist(), groups.offsets.tolist()
    ([0, 3, 1], [0, 0, 1], [0, 2, 3])
    """
    first = np.full(size + 1, -1, np.int64)
    first[codes[::-1]] = np.arange(len(codes) - 1, -1, -1)
    standing = np.flatnonzero(first[:size] >= 0)
    inorder = standing[np.argsort(first[standing], kind="stable")]
    to = np.full(size + 1, -1, np.int32)
    to[inorder] = np.arange(len(inorder), dtype=np.int32)
    groups = to[codes]
    rows, offsets = rows_grouped_by_code(groups, count_codes(groups, len(inorder)))
    return RowGroups(rows, groups[rows], offsets)


def group_by_key(coding: KeyCodes) -> RowGroups:
    """The groups of one table's keys."""
    return group_rows(coding.codes[0], coding.code_count)
