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

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.account.finding import Finding
from plait.core.codes.counting import Counts, by_code, count, first_rows
from plait.core.codes.loosen import FORM_WAYS, checked_ways, loosened
from plait.core.codes.mixing import mix
from plait.core.store.room import by_column
from plait.core.table.table import Table
from plait.core.text.cells import is_text
from plait.core.text.dictionary import MISSING, TextDictionary, smallest_dtype
from plait.core.text.wordtable import Codes
from plait.core.types.forms import base
from plait.core.types.kinds import (
    MARKERS,
    NUMBERS,
    kind_of,
    takes_markers,
    typed_kind,
    value_texts,
)

_MANY = 1 << 14


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
    """The whole key in all tables; ``columns`` are its parts, ``findings`` of pairs not used."""

    codes: tuple[Codes, ...]
    size: int
    columns: tuple[CodedColumn, ...]
    findings: tuple[Finding, ...] = ()

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
        [table.coded(name) for table, name in zip(tables, names, strict=True)]
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

    every = list(zip(parts, declared, strict=True))
    many = sum(map(len, parts[0])) >= _MANY
    return by_column(one, every) if many else map(one, every)


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

    def kind(number: int) -> str:
        if not _is_text(tables[number].type):
            return typed_kind(tables[number].type)
        mine = _texts_of(codes[number], texts, *sizes[number : number + 2])
        return declared[number] or kind_of(pa.chunked_array([mine]))

    own = list(map(kind, range(leading)))
    kinds = tuple(own[number % leading] for number in range(len(tables)))
    codes = tuple(map(partial(_without_markers, texts), codes, kinds))
    asked = tuple(ignore)
    native = [not _is_text(column.type) for column in tables]
    if _one_family(kinds, native) and _can_be_respelt(texts, kinds):
        codes, texts = recode(codes, texts, _value_forms(texts, codes, kinds))
    # The point and the minus of a number are no punctuation.
    if all(base(kind) in (*NUMBERS, "empty") for kind in kinds):
        ignore = [way for way in ignore if way in FORM_WAYS]
    if ignore:
        codes, texts = recode(codes, texts, _loose_forms(texts, ignore, kinds))
    return CodedColumn(codes, len(texts), texts, kinds, asked)


def _is_text(kind: pa.DataType) -> bool:
    return is_text(kind) or pa.types.is_dictionary(kind)


def _one_family(kinds: Sequence[str], native: Sequence[bool]) -> bool:
    """Whether the values of all tables can be compared as what they are, and not as texts.

    Texts of two written forms, ``5.4.2031`` and ``2031-04-05``, are compared as texts: to take
    them for equal somebody has to ask (``date-form``).
    """
    told = [(kind, typed) for kind, typed in zip(kinds, native, strict=True) if kind != "empty"]
    if all(kind in NUMBERS for kind, _ in told):
        return True
    families = {base(kind) for kind, _ in told}
    written = {kind for kind, typed in told if not typed}
    return len(families) == 1 and len(written) <= 1 and families != {"text"}


def _can_be_respelt(texts: pa.Array, kinds: Sequence[str]) -> bool:
    """Whether one value may have several spellings: whole numbers and plain dates have one."""
    if set(kinds) <= {"integer", "empty"}:
        return bool(pc.index(texts, pa.scalar("-0", texts.type)).as_py() >= 0)
    return not set(kinds) <= {"date", "empty"}


def _value_forms(texts: pa.Array, codes: tuple[Codes, ...], kinds: Sequence[str]) -> list[pa.Array]:
    """For each table, or once for all, each text in the one spelling of its value."""
    if len(set(kinds) - {"empty"}) == 1 or all(kind in (*NUMBERS, "empty") for kind in kinds):
        kind = next((kind for kind in kinds if kind not in ("empty", "integer")), kinds[0])
        return [value_texts(texts, kind)]
    forms = []
    for own, kind in zip(codes, kinds, strict=True):
        used = np.zeros(len(texts) + 1, bool)
        used[own] = True  # missing ones fall on the spare last place
        mask = pa.array(used[:-1])
        forms.append(pc.replace_with_mask(texts, mask, value_texts(texts.filter(mask), kind)))
    return forms


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
