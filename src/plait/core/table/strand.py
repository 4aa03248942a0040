"""Strands: stored columns, and which stored row each row of a table shows.

The rows of a strand are in sources, or in pools: rows of an earlier table
that were brought together.
"""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from itertools import pairwise
from typing import Any, Generic, Protocol, TypeAlias, TypeVar

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.account.parallel import ordered_map
from plait.core.table.lines import Lines
from plait.core.text.cells import as_text, is_text
from plait.core.text.dictionary import coded
from plait.core.text.pieces import one_array

Index = npt.NDArray[np.integer[Any]]

_SPARSE = 16
_ESCAPED = r"[\x00-\x1f\x22\x5c]"  # what JSON has a sign before


@dataclass(frozen=True, eq=False)
class Known:
    """A primary key, by which the rows of a source are known.

    Parameters
    ----------
    key : tuple of str
        Its columns.
    columns : mapping of str to pyarrow.ChunkedArray
        All that were read, a cell for each row of the source; nothing here is copied.
    """

    key: tuple[str, ...]
    columns: Mapping[str, pa.ChunkedArray]

    def said(self, rows: Index) -> pa.Array:
        """The keys of some rows, from 0, as a person reads them: ``yard=A,hive=7``.

        >>> ids = pa.chunked_array([pa.array([7, 12])])
        >>> Known(("id",), {"id": ids}).said(np.array([1, 0])).to_pylist()
        ['id=12', 'id=7']
        """
        cells = [as_text(gather(self.columns[name], rows)) for name in self.key]
        texts = [pc.fill_null(cell.cast(pa.string()), "") for cell in cells]
        pairs = [
            pc.binary_join_element_wise(pa.scalar(name), text, "=")
            for name, text in zip(self.key, texts, strict=True)
        ]
        return pc.binary_join_element_wise(*pairs, ",")

    def texts(self, rows: Index) -> pa.Array:
        """The keys of some rows as they are kept: lists of texts, in JSON.

        >>> both = pa.chunked_array([["A"]]), pa.chunked_array([pa.array([7])])
        >>> known = Known(("yard", "hive"), dict(zip(("yard", "hive"), both)))
        >>> known.texts(np.array([0])).to_pylist()
        ['["A", "7"]']
        """
        cells = [_json_texts(gather(self.columns[name], rows)) for name in self.key]
        return pc.binary_join_element_wise("[", pc.binary_join_element_wise(*cells, ", "), "]", "")


def _json_texts(cells: pa.Array) -> pa.Array:
    """Cells as texts of JSON; a key may hold a NaN, which is missing."""
    text = as_text(cells).cast(pa.string())
    if is_text(cells.type) and pc.any(pc.match_substring_regex(text, _ESCAPED)).as_py():
        return pa.array([json.dumps(one, ensure_ascii=False) for one in text.to_pylist()])
    return pc.fill_null(pc.binary_join_element_wise('"', text, '"', ""), "null")


@dataclass(frozen=True)
class Origin:
    """A source whose rows stand, one after another, in a strand.

    ``numbers`` are the row numbers they have in the source, from 0, where those
    are not 0, 1, 2, …: some rows were left out when it was read. ``known`` says by
    which key its rows are known, where they are not known by their numbers, and
    ``lines`` on which lines they begin, where the source has lines.
    """

    name: str
    path: str
    rows: int
    numbers: Index | None = field(default=None, compare=False, repr=False)
    known: Known | None = field(default=None, compare=False, repr=False)
    lines: Lines | None = field(default=None, compare=False, repr=False)


class Named(Protocol):
    """What a pool says of the table that its rows are of."""

    @property
    def name(self) -> str:
        """How messages call it."""


Earlier = TypeVar("Earlier", bound=Named)


@dataclass(frozen=True, eq=False)
class Pool(Generic[Earlier]):
    """Rows of an earlier table that were brought together, as the origin of rows made of them.

    Parameters
    ----------
    table : Table
        The earlier one.
    members, offsets : array of int
        ``members[offsets[n]:offsets[n + 1]]`` are its rows that went into row ``n``.
    """

    table: Earlier
    members: Index
    offsets: Index
    path: str = ""

    @property
    def rows(self) -> int:
        """How many rows were made."""
        return len(self.offsets) - 1

    @property
    def name(self) -> str:
        """The earlier table's."""
        return self.table.name


@dataclass(frozen=True)
class Made:
    """Rows of a strand that are in no source: Plait made them, beside those of other origins."""

    rows: int
    name: str = ""
    path: str = ""


AnyOrigin: TypeAlias = Origin | Pool[Any] | Made


@dataclass(frozen=True, eq=False)
class Strand:
    """Stored columns, and which stored row each row of the table shows.

    Parameters
    ----------
    name : str
        The table these rows came from, as a person knows it.
    stored : mapping of str to pyarrow.ChunkedArray
        The cells, all of one length.
    origins : tuple of Origin or Pool
        The sources of the stored rows, in order; their rows add up to that length.
        Rows that were made of several others have a pool instead. A strand that
        Plait made itself, of labels or numbers, has none.
    index : array of int, optional
        For each row of the table a stored row, or -1 where this strand has none.
        Without it, row ``i`` shows stored row ``i``.
    beside : bool
        Whether its rows went into single cells only, and not into rows as wholes.
    """

    name: str
    stored: Mapping[str, pa.ChunkedArray]
    origins: tuple[AnyOrigin, ...]
    index: Index | None = None
    beside: bool = False

    @property
    def has_sources(self) -> bool:
        """Whether some of its rows are in a source, and are shown as rows."""
        return not self.beside and any(isinstance(origin, Origin) for origin in self.origins)

    @property
    def stored_rows(self) -> int:
        """How many rows are stored, shown or not."""
        if self.stored:
            return len(next(iter(self.stored.values())))
        return sum(origin.rows for origin in self.origins)

    def at(self, rows: Index) -> Strand:
        """The strand of a table that shows these rows of the present one; -1 shows nothing."""
        if self.index is None:
            return replace(self, index=rows)
        if not len(self.index):
            return replace(self, index=np.full(len(rows), -1, rows.dtype))
        taken = self.index.take(rows, mode="clip")
        taken[rows < 0] = -1
        return replace(self, index=taken)

    def between(self, start: int, stop: int) -> Shown:
        """What rows ``start`` to ``stop`` of the table show."""
        index = None if self.index is None else self.index[start:stop]
        return Shown(self.stored, start, stop, index)

    def near(self, names: Sequence[str]) -> Strand:
        """The same strand with these columns so that rows are quickly taken in any order."""

        def nearer(name: str) -> pa.ChunkedArray:
            column = self.stored[name]
            codes = coded(column)
            return pa.chunked_array([one_array(column) if codes is None else codes])

        made = zip(names, ordered_map(nearer, names), strict=True)
        return replace(self, stored={**self.stored, **dict(made)})


@dataclass(frozen=True, eq=False)
class Shown:
    """A stretch of rows of one strand; what its columns have in common is worked out once."""

    stored: Mapping[str, pa.ChunkedArray]
    start: int
    stop: int
    index: Index | None

    def cells(self, name: str) -> pa.Array:
        """The cells of a stored column."""
        column = self.stored[name]
        if self.index is None:
            return one_array(column.slice(self.start, self.stop - self.start))
        if column.num_chunks == 1:
            return pc.take(column.chunk(0), self._rows, boundscheck=False)
        return gather(column, self.index)

    @cached_property
    def _rows(self) -> pa.Array:
        assert self.index is not None
        return arrow_rows(self.index)


def gather(column: pa.ChunkedArray, index: Index) -> pa.Array:
    """The cells at ``index``, missing where it is -1.

    Only the stretch between the lowest and the highest row is put in one
    piece, so an ascending index over a column in many pieces costs no more
    than the rows it takes. A few rows far apart are taken from their pieces.
    """
    if not len(index):
        return pa.array([], column.type)
    if column.num_chunks > 1 and int(index.max()) - int(index.min()) > _SPARSE * len(index):
        return _gather_apart(column, index)
    there = index[index >= 0]
    if not len(there):
        return pa.nulls(len(index), column.type)
    lowest = int(there.min())
    near = _stretch(column, lowest, int(there.max()))
    rows = arrow_rows(np.where(index < 0, -1, index - lowest))
    return pc.take(near, rows, boundscheck=False)


def arrow_rows(index: Index) -> pa.Array:
    """Row numbers as Arrow takes them: missing where they are -1."""
    absent = index < 0
    return pa.array(index, mask=absent if absent.any() else None)


def _gather_apart(column: pa.ChunkedArray, index: Index) -> pa.Array:
    """The same, piece by piece."""
    ends = np.cumsum([len(chunk) for chunk in column.chunks])
    piece = np.searchsorted(ends, index, side="right")
    piece[index < 0] = -1
    order = np.argsort(piece, kind="stable")
    edges = np.searchsorted(piece[order], np.arange(-1, column.num_chunks + 1))
    taken = []
    for number, (begin, end) in enumerate(pairwise(edges.tolist()), -1):
        rows = order[begin:end]
        if number < 0:
            taken.append(pa.nulls(len(rows), column.type))
        else:
            within = index[rows] - (int(ends[number]) - len(column.chunk(number)))
            taken.append(column.chunk(number).take(pa.array(within)))
    if (order[1:] > order[:-1]).all():
        return one_array(pa.chunked_array(taken, column.type))
    back = np.empty(len(order), np.int64)
    back[order] = np.arange(len(order))
    return one_array(pa.chunked_array(taken, column.type)).take(pa.array(back))


def _stretch(column: pa.ChunkedArray, lowest: int, highest: int) -> pa.Array:
    return one_array(column.slice(lowest, highest - lowest + 1))


def rows_dtype(rows: int) -> type[np.signedinteger[Any]]:
    """The smallest integer that numbers so many rows.

    >>> rows_dtype(10).__name__, rows_dtype(2**31).__name__
    ('int32', 'int64')
    """
    return np.int32 if rows < 2**31 else np.int64
