"""Strands: stored columns, and which stored row each row of a table shows.

The rows of a fragment are in sources, or in pools: rows of an earlier table
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

from plait.core.job.executor import map_ordered
from plait.core.table.source_lines import Lines
from plait.core.text.cells import combine_chunks, is_text_type, to_text
from plait.core.text.dictionary import dictionary_encode

RowNumbers = npt.NDArray[np.integer[Any]]

_SPARSE = 16
_ESCAPED = r"[\x00-\x1f\x22\x5c]"  # what JSON has a sign before


@dataclass(frozen=True, eq=False)
class PrimaryKeyCells:
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

    def format_keys(self, rows: RowNumbers) -> pa.Array:
        """The keys of some rows, from 0, as a person reads them: ``yard=A,hive=7``.

        >>> ids = pa.chunked_array([pa.array([7, 12])])
        >>> PrimaryKeyCells(("id",), {"id": ids}).format_keys(np.array([1, 0])).to_pylist()
        ['id=12', 'id=7']
        """
        cells = [to_text(gather_cells(self.columns[name], rows)) for name in self.key]
        texts = [pc.fill_null(cell.cast(pa.string()), "") for cell in cells]
        pairs = [
            pc.binary_join_element_wise(pa.scalar(name), text, "=")
            for name, text in zip(self.key, texts, strict=True)
        ]
        return pc.binary_join_element_wise(*pairs, ",")

    def to_json_texts(self, rows: RowNumbers) -> pa.Array:
        """The keys of some rows as they are kept: lists of texts, in JSON.

        >>> both = pa.chunked_array([["A"]]), pa.chunked_array([pa.array([7])])
        >>> known = PrimaryKeyCells(("yard", "hive"), dict(zip(("yard", "hive"), both)))
        >>> known.to_json_texts(np.array([0])).to_pylist()
        ['["A", "7"]']
        """
        cells = [_json_texts(gather_cells(self.columns[name], rows)) for name in self.key]
        return pc.binary_join_element_wise("[", pc.binary_join_element_wise(*cells, ", "), "]", "")


def _json_texts(cells: pa.Array) -> pa.Array:
    """Cells as texts of JSON; a key may hold a NaN, which is missing."""
    text = to_text(cells).cast(pa.string())
    if is_text_type(cells.type) and pc.any(pc.match_substring_regex(text, _ESCAPED)).as_py():
        return pa.array([json.dumps(t, ensure_ascii=False) for t in text.to_pylist()])
    return pc.fill_null(pc.binary_join_element_wise('"', text, '"', ""), "null")


@dataclass(frozen=True)
class SourceOrigin:
    """A source whose rows stand, one after another, in a fragment.

    ``numbers`` are the row numbers they have in the source, from 0, where those
    are not 0, 1, 2, …: some rows were left out when it was read. ``known`` says by
    which key its rows are known, where they are not known by their numbers, and
    ``lines`` on which lines they begin, where the source has lines.
    """

    name: str
    path: str
    rows: int
    row_numbers: RowNumbers | None = field(default=None, compare=False, repr=False)
    primary_key: PrimaryKeyCells | None = field(default=None, compare=False, repr=False)
    lines: Lines | None = field(default=None, compare=False, repr=False)


class HasName(Protocol):
    """What a pool says of the table that its rows are of."""

    @property
    def name(self) -> str:
        """How messages call it."""


Earlier = TypeVar("Earlier", bound=HasName)


@dataclass(frozen=True, eq=False)
class GroupOrigin(Generic[Earlier]):
    """Rows of an earlier table that were brought together, as the origin of rows made of them.

    Parameters
    ----------
    input_table : Table
        The earlier one.
    member_rows, group_offsets : array of int
        ``members[offsets[n]:offsets[n + 1]]`` are its rows that went into row ``n``.
    """

    input_table: Earlier
    member_rows: RowNumbers
    group_offsets: RowNumbers
    path: str = ""

    @property
    def rows(self) -> int:
        """How many rows were made."""
        return len(self.group_offsets) - 1

    @property
    def name(self) -> str:
        """The earlier table's."""
        return self.input_table.name


@dataclass(frozen=True)
class DerivedOrigin:
    """Rows of a fragment that are in no source: Plait made them, beside those of other origins."""

    rows: int
    name: str = ""
    path: str = ""


RowOrigin: TypeAlias = SourceOrigin | GroupOrigin[Any] | DerivedOrigin


@dataclass(frozen=True, eq=False)
class Fragment:
    """Stored columns, and which stored row each row of the table shows.

    Parameters
    ----------
    name : str
        The table these rows came from, as a person knows it.
    columns : mapping of str to pyarrow.ChunkedArray
        The cells, all of one length.
    origins : tuple of SourceOrigin or GroupOrigin
        The sources of the stored rows, in order; their rows add up to that length.
        Rows that were made of several others have a pool instead. A fragment that
        Plait made itself, of labels or numbers, has none.
    selection : array of int, optional
        For each row of the table a stored row, or -1 where this fragment has none.
        Without it, row ``i`` shows stored row ``i``.
    cells_only : bool
        Whether its rows went into single cells only, and not into rows as wholes.
    """

    name: str
    columns: Mapping[str, pa.ChunkedArray]
    origins: tuple[RowOrigin, ...]
    selection: RowNumbers | None = None
    cells_only: bool = False

    @property
    def shows_source_rows(self) -> bool:
        """Whether some of its rows are in a source, and are shown as rows."""
        return not self.cells_only and any(
            isinstance(origin, SourceOrigin) for origin in self.origins
        )

    @property
    def stored_rows(self) -> int:
        """How many rows are stored, shown or not."""
        if self.columns:
            return len(next(iter(self.columns.values())))
        return sum(origin.rows for origin in self.origins)

    def take(self, rows: RowNumbers) -> Fragment:
        """The fragment of a table that shows these rows of the present one; -1 shows nothing."""
        if self.selection is None:
            return replace(self, selection=rows)
        if not len(self.selection):
            return replace(self, selection=np.full(len(rows), -1, rows.dtype))
        taken = self.selection.take(rows, mode="clip")
        taken[rows < 0] = -1
        return replace(self, selection=taken)

    def slice(self, start: int, stop: int) -> FragmentSlice:
        """What rows ``start`` to ``stop`` of the table show."""
        index = None if self.selection is None else self.selection[start:stop]
        return FragmentSlice(self.columns, start, stop, index)

    def prepared_for_gather(self, names: Sequence[str]) -> Fragment:
        """The same fragment with these columns so that rows are quickly taken in any order."""

        def nearer(name: str) -> pa.ChunkedArray:
            column = self.columns[name]
            codes = dictionary_encode(column)
            return pa.chunked_array([combine_chunks(column) if codes is None else codes])

        made = zip(names, map_ordered(nearer, names), strict=True)
        return replace(self, columns={**self.columns, **dict(made)})


@dataclass(frozen=True, eq=False)
class FragmentSlice:
    """A stretch of rows of one fragment; what its columns have in common is worked out once."""

    stored: Mapping[str, pa.ChunkedArray]
    start: int
    stop: int
    index: RowNumbers | None

    def cells(self, name: str) -> pa.Array:
        """The cells of a stored column."""
        column = self.stored[name]
        if self.index is None:
            return combine_chunks(column.slice(self.start, self.stop - self.start))
        if column.num_chunks == 1:
            return pc.take(column.chunk(0), self._rows, boundscheck=False)
        return gather_cells(column, self.index)

    @cached_property
    def _rows(self) -> pa.Array:
        assert self.index is not None
        return to_take_indices(self.index)


def gather_cells(column: pa.ChunkedArray, index: RowNumbers) -> pa.Array:
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
    rows = to_take_indices(np.where(index < 0, -1, index - lowest))
    return pc.take(near, rows, boundscheck=False)


def to_take_indices(index: RowNumbers) -> pa.Array:
    """Row numbers as Arrow takes them: missing where they are -1."""
    absent = index < 0
    return pa.array(index, mask=absent if absent.any() else None)


def _gather_apart(column: pa.ChunkedArray, index: RowNumbers) -> pa.Array:
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
        return combine_chunks(pa.chunked_array(taken, column.type))
    back = np.empty(len(order), np.int64)
    back[order] = np.arange(len(order))
    return combine_chunks(pa.chunked_array(taken, column.type)).take(pa.array(back))


def _stretch(column: pa.ChunkedArray, lowest: int, highest: int) -> pa.Array:
    return combine_chunks(column.slice(lowest, highest - lowest + 1))


def row_number_dtype(rows: int) -> type[np.signedinteger[Any]]:
    """The smallest integer that numbers so many rows.

    >>> row_number_dtype(10).__name__, row_number_dtype(2**31).__name__
    ('int32', 'int64')
    """
    return np.int32 if rows < 2**31 else np.int64
