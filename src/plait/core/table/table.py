"""The table: named columns of equal length over fragments.

A table does not copy cells about. It holds *fragments*: stored columns, with an
index that says which stored row each row of the table shows. Taking rows out,
joining and setting aside only make new indexes; cells are gathered when they
are written, a batch at a time. The indexes are at the same time the lineage:
through them every cell is traced to its source and row.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from html import escape
from itertools import accumulate, pairwise
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.base.errors import UsageError
from plait.core.base.findings import (
    MOST_EXAMPLES,
    Finding,
    FindingExample,
    Location,
    SourceRow,
    of_markers,
    pluralize,
)
from plait.core.base.ledger import ListingKey
from plait.core.base.names import unused_name
from plait.core.job.spill_columns import ColumnBuilder, build_column
from plait.core.table.arrow_columns import clean_headings, flatten_nested_column
from plait.core.table.fragment import Fragment, FragmentSlice, RowNumbers, SourceOrigin
from plait.core.table.provenance import (
    Provenance,
    ProvenanceTerm,
    SourceColumns,
    coalesce_provenance,
    describe_source_rows,
    locate_source_row,
    source_columns,
    union_provenance,
)
from plait.core.table.source_lines import Lines
from plait.core.text.cells import decoded, is_text_type, to_text
from plait.core.types.column_type import TEXT, ColumnType
from plait.core.types.inference import (
    infer_column_type,
    parse_column,
    to_arrow_type,
)

MOST_ROWS = 5
_WIDTH = 80
_CELL = 24

BATCH_ROWS = 1 << 16
_LARGEST = 1 << 17


def preview_text(name: str, rows: int, columns: Mapping[str, Sequence[object]], every: int) -> str:
    """A table in a few lines: what it is called, its size, its first rows.

    Parameters
    ----------
    rows : int
        How many it has.
    columns : mapping of str to sequence
        The cells of its first rows.
    every : int
        How many columns it has; those that there is no room for are counted.

    Examples
    --------
    >>> print(preview_text("hives", 160, {"Yard": ["ALD", None], "Hive": ["007", "9"]}, 2))
    hives: 160 rows, 2 columns
    Yard       Hive
    ALD        007
    (missing)  9
    … 158 more rows
    """
    lines = [f"{name}: {pluralize(rows, 'row')}, {pluralize(every, 'column')}"]
    shown = {head: [_cell(head), *map(_cell, cells)] for head, cells in columns.items()}
    widths = {head: max(map(len, cells)) for head, cells in shown.items()}
    room: list[str] = []
    used = 0
    for head in shown:
        used += widths[head] + 2
        if used > _WIDTH and room:
            break
        room.append(head)
    for row in zip(*(shown[head] for head in room), strict=True):
        cells = (cell.ljust(widths[head]) for head, cell in zip(room, row, strict=True))
        lines.append("  ".join(cells).rstrip())
    listed = max(map(len, columns.values()), default=0)
    more = [pluralize(rows - listed, "more row")] if rows > listed else []
    more += [pluralize(every - len(room), "more column")] if every > len(room) else []
    return "\n".join([*lines, f"… {', '.join(more)}"] if more else lines)


def preview_html(name: str, rows: int, columns: Mapping[str, Sequence[object]], every: int) -> str:
    """The same as an HTML table, for a notebook."""
    heads = "".join(f"<th>{escape(_cell(head))}</th>" for head in columns)
    body = "".join(
        "<tr>" + "".join(f"<td>{escape(_cell(cell))}</td>" for cell in row) + "</tr>"
        for row in zip(*columns.values(), strict=True)
    )
    text = f"{escape(name)}: {pluralize(rows, 'row')}, {pluralize(every, 'column')}"
    return f"<table><caption>{text}</caption><tr>{heads}</tr>{body}</table>"


def _cell(value: object) -> str:
    text = "(missing)" if value is None or value == "" else str(value)
    text = " ".join(text.split()) if text.strip() else repr(text)
    return text if len(text) <= _CELL else f"{text[: _CELL - 1]}…"


@dataclass(frozen=True)
class Column:
    """A column of a table: its name and where its cells stand.

    ``parts`` are pairs of a fragment's number and a stored column's name. A cell
    is that of the first part that has one there. ``declared_type`` is what the source says
    its cells are, as in ``plait.core.types.inference``; without it the cells tell. ``leaves``
    are the stored cells that its cells were made of; without them ``parts`` tell.
    ``open_forms`` are ways to read its cells of which those of some source prove none: it is
    text then, and nothing may order it.
    """

    name: str
    cell_refs: tuple[tuple[int, str], ...]
    declared_type: ColumnType | None = None
    provenance: Provenance | None = None
    open_forms: tuple[ColumnType, ...] = ()

    def with_fragment_offset(self, fragments: int) -> Column:
        """The column in a table that has so many fragments before those of this one."""
        parts = tuple((number + fragments, stored) for number, stored in self.cell_refs)
        terms = (
            None
            if self.provenance is None
            else tuple(p.with_fragment_offset(fragments) for p in self.provenance)
        )
        return replace(self, cell_refs=parts, provenance=terms)


@dataclass(frozen=True, eq=False, repr=False)
class Table:
    """Named columns of equal length, with the lineage of every row.

    Parameters
    ----------
    name : str
        How messages and origin columns call it.
    columns : tuple of Column
        In order; names are unique.
    fragments : tuple of Fragment
        At least one.
    rows : int
        How many rows it has.
    findings : tuple of Finding
        What was found when it was read.
    set_aside : tuple of SetAside
        Rows that were left out when it was read.
    read_as : str
        How the source is written, in words: ``utf-8, comma``.
    rows_in_database : tuple of RowsLeftInDatabase
        Rows that were left where they are.
    columns_in_database : frozenset of str
        Columns that were left where they are, since they are dropped anyway.
    """

    name: str
    columns: tuple[Column, ...]
    fragments: tuple[Fragment, ...]
    rows: int
    findings: tuple[Finding, ...] = field(default=())
    set_aside: tuple[SetAside, ...] = field(default=())
    read_as: str = ""
    rows_in_database: tuple[RowsLeftInDatabase, ...] = ()
    columns_in_database: frozenset[str] = frozenset()
    _types: dict[str, ColumnType] = field(default_factory=dict, init=False, repr=False)

    @cached_property
    def column_names(self) -> tuple[str, ...]:
        """The names of the columns, in order."""
        return tuple(self._positions)

    @property
    def path(self) -> str:
        """The file that it was read from, with its part; nothing for one made otherwise."""
        origins = self.fragments[0].origins if len(self.fragments) == 1 else ()
        return origins[0].path if len(origins) == 1 else ""

    def has_column(self, name: str) -> bool:
        """Whether there is a column of that name."""
        return name in self._positions

    def column(self, name: str) -> Column:
        """The column of that name; ``KeyError`` when there is none."""
        return self.columns[self._positions[name]]

    @cached_property
    def _positions(self) -> dict[str, int]:
        return {column.name: position for position, column in enumerate(self.columns)}

    def column_type(self, name: str) -> ColumnType:
        """What the cells of a column are: as its source says, or as all of them tell.

        >>> table_from_columns("t", {"a": ["7", "12"]}).column_type("a").family
        'integer'
        """
        if name not in self._types:
            self._types[name] = self.column(name).declared_type or infer_column_type(
                self.chunks(name)
            )
        return self._types[name]

    def cells(self, column: Column, start: int, stop: int) -> pa.Array:
        """The cells of a column on rows ``start`` to ``stop``, as one Arrow array."""
        shown = {
            number: self.fragments[number].slice(start, stop) for number, _ in column.cell_refs
        }
        return decoded(self._cells(column, shown))

    def _cells(self, column: Column, shown: Mapping[int, FragmentSlice]) -> pa.Array:
        pieces = [shown[fragment].cells(name) for fragment, name in column.cell_refs]
        if len(pieces) == 1:
            return pieces[0]
        if len({piece.type for piece in pieces}) > 1:
            pieces = [to_text(piece) for piece in pieces]
        return pc.coalesce(*pieces)

    def batch(self, start: int, stop: int) -> pa.RecordBatch:
        """Rows ``start`` to ``stop`` with all columns; text may be stored as codes there."""
        shown = {n: fragment.slice(start, stop) for n, fragment in enumerate(self.fragments)}
        arrays = [self._cells(column, shown) for column in self.columns]
        return pa.RecordBatch.from_arrays(arrays, names=self.column_names)

    def row_ranges(self, rows: int = BATCH_ROWS) -> Iterator[tuple[int, int]]:
        """Start and stop of each batch of that many rows."""
        for start in range(0, self.rows, rows):
            yield start, min(start + rows, self.rows)

    def chunk_ranges(self) -> list[tuple[int, int]]:
        """Start and stop of batches that follow the stored pieces, where rows are in order."""
        first = self.fragments[0]
        if first.selection is not None or not first.columns:
            return list(self.row_ranges())
        edges = [0, *accumulate(map(len, next(iter(first.columns.values())).chunks))]
        return [
            (start + begin, min(start + begin + _LARGEST, stop))
            for start, stop in pairwise(edges)
            for begin in range(0, stop - start, _LARGEST)
        ]

    def stored_chunks(self, name: str) -> pa.ChunkedArray | None:
        """The stored column that a column shows as it stands, row for row; ``None`` for others.

        Text may be stored as codes into a dictionary: who looks at it that way need not decode it.
        """
        (strand, stored), *more = self.column(name).cell_refs
        fragment = self.fragments[strand]
        return fragment.columns[stored] if not more and fragment.selection is None else None

    def chunks(self, name: str) -> pa.ChunkedArray:
        """One column over all rows. How its cells are stored does not show: text is text."""
        column, stored = self.column(name), self.stored_chunks(name)
        if stored is not None:
            if not pa.types.is_dictionary(stored.type):
                return stored
            return build_column(map(decoded, stored.chunks), stored.type.value_type)
        if not self.rows:
            return pa.chunked_array([pa.array([], pa.string())])
        return build_column(self.cells(column, start, stop) for start, stop in self.row_ranges())

    def coded(self, name: str) -> pa.ChunkedArray:
        """One column over all rows, text as codes into a dictionary where it is stored so."""
        stored = self.stored_chunks(name)
        return self.chunks(name) if stored is None else stored

    def take(self, rows: RowNumbers) -> Table:
        """A table of these rows, in this order; -1 gives a row without cells.

        >>> import numpy as np
        >>> table = table_from_columns("t", {"a": ["x", "y", "z"]})
        >>> table.take(np.array([2, 0])).to_dict()
        {'a': ['z', 'x']}
        """
        fragments = tuple(fragment.take(rows) for fragment in self.fragments)
        return replace(self, fragments=fragments, rows=len(rows))

    def rename(self, names: Mapping[str, str]) -> Table:
        """The same table with columns renamed, old name to new."""
        columns = (
            replace(column, name=names.get(column.name, column.name)) for column in self.columns
        )
        return replace(self, columns=tuple(columns))

    def project(self, names: Iterable[str]) -> Table:
        """The table with these columns only, in its own order."""
        wanted = {self._positions[name] for name in names if name in self._positions}
        return replace(self, columns=tuple(self.columns[position] for position in sorted(wanted)))

    def provenance(self, name: str) -> Provenance:
        """The stored cells that the cells of a column were made of, row for row."""
        column = self.column(name)
        if column.provenance is not None:
            return column.provenance
        found: Provenance = ()
        for fragment, stored in column.cell_refs:
            origins = (o for o in self.fragments[fragment].origins if isinstance(o, SourceOrigin))
            came = tuple((origin.name, stored) for origin in origins)
            found = coalesce_provenance(found, (ProvenanceTerm(fragment, came),) if came else ())
        return found

    def source_columns(self, name: str) -> SourceColumns:
        """The sources and their columns that the cells of a column were made from.

        >>> hives = table_from_columns("hives", {"breed": ["Carnica"]})
        >>> hives.rename({"breed": "Breed"}).source_columns("Breed")
        (('hives', 'breed'),)
        """
        return source_columns(self.provenance(name))

    def combined_provenance(self, names: Iterable[str]) -> Provenance:
        """The stored cells that those of several columns were made of."""
        return union_provenance(self.provenance(name) for name in names)

    def extend(self, name: str, cells: pa.ChunkedArray, come: Iterable[str] = ()) -> Table:
        """The table with one more column, last, of cells that come from no source.

        ``come`` names the columns that they were worked out from.

        Raises
        ------
        UsageError
            When there is a column of that name.
        """
        if name in self.column_names:
            raise UsageError(f"column {name!r} already exists", self.name, "choose another name")
        fragment = Fragment("made", {name: cells}, ())
        column = Column(
            name, ((len(self.fragments), name),), provenance=self.combined_provenance(come)
        )
        return replace(self, columns=(*self.columns, column), fragments=(*self.fragments, fragment))

    def replace_column(
        self,
        name: str,
        cells: pa.ChunkedArray,
        type_: ColumnType | None = None,
        come: Iterable[str] | None = None,
    ) -> Table:
        """The table with other cells in a column; rows are traced as before.

        ``come`` names the columns that they were worked out from, if not this one.
        """
        fragment = Fragment("made", {name: cells}, ())
        part = ((len(self.fragments), name),)
        terms = self.combined_provenance([name] if come is None else come)
        columns = tuple(
            replace(column, cell_refs=part, declared_type=type_, provenance=terms)
            if column.name == name
            else column
            for column in self.columns
        )
        return replace(self, columns=columns, fragments=(*self.fragments, fragment))

    def gather_column(self, name: str, rows: RowNumbers) -> tuple[Column, tuple[Fragment, ...]]:
        """A column with the cells that other rows have, and fragments of its own for it.

        Parameters
        ----------
        rows : array of int
            For each row of the result the row whose cell it has, -1 for none.
        """
        column, terms = self.column(name), self.provenance(name)
        used = [number for number, _ in column.cell_refs]
        used += [number for leaf in terms for number in leaf.fragments]
        to = {number: place for place, number in enumerate(dict.fromkeys(used))}
        parts = tuple((to[number], stored) for number, stored in column.cell_refs)
        moved = replace(
            column, cell_refs=parts, provenance=tuple(term.with_fragments(to) for term in terms)
        )
        return moved, tuple(self.fragments[number].take(rows) for number in to)

    def with_gathered_column(self, name: str, rows: RowNumbers) -> Table:
        """The table with the cells of a column that other rows have; -1 shows none."""
        made, fragments = self.gather_column(name, rows)
        made = made.with_fragment_offset(len(self.fragments))
        columns = tuple(made if column.name == name else column for column in self.columns)
        return replace(self, columns=columns, fragments=(*self.fragments, *fragments))

    def with_types(self, types: Mapping[str, ColumnType | None]) -> Table:
        """The table, with what the source says the cells of some columns are."""
        columns = tuple(
            replace(column, declared_type=types.get(column.name, column.declared_type))
            for column in self.columns
        )
        return replace(self, columns=columns)

    def with_open_forms(self, name: str, forms: tuple[ColumnType, ...]) -> Table:
        """The table with a column that stays text, as nothing proves which form its cells have."""
        opened = replace(self.column(name), declared_type=TEXT, open_forms=forms)
        columns = tuple(opened if column.name == name else column for column in self.columns)
        return replace(self, columns=columns)

    def with_name(self, name: str) -> Table:
        """The same table under another name."""
        return replace(self, name=name)

    def to_dict(self) -> dict[str, list[Any]]:
        """All cells, as lists by column name; of a declared type where a column has one."""
        return {name: self.typed(name).to_pylist() for name in self.column_names}

    def typed(self, name: str) -> pa.ChunkedArray:
        """A column in the type that its source, or the step that made it, declares.

        >>> table = table_from_columns("t", {"kg": ["12.50", ""]})
        >>> table = table.with_types({"kg": ColumnType("decimal")})
        >>> table.typed("kg").to_pylist()
        [Decimal('12.50'), None]
        """
        cells, declared = self.chunks(name), self.column(name).declared_type
        if declared is None or not is_text_type(cells.type):
            return cells
        to = to_arrow_type(declared, cells)
        try:
            return (
                cells
                if to == cells.type
                else build_column((parse_column(chunk, declared, to) for chunk in cells.chunks), to)
            )
        except (pa.ArrowInvalid, pa.ArrowNotImplementedError):
            # The declaration is of a source that does not keep to it.
            return cells

    def describe_source_rows(self) -> tuple[pa.ChunkedArray, pa.ChunkedArray]:
        """For each row the name of its source, and its place there: ``line 12``, or its key."""
        column_builder = ColumnBuilder(("names", "numbers"))
        for start, stop in self.row_ranges() if self.rows else [(0, 0)]:
            some = self.take(np.arange(start, stop))
            column_builder.append(describe_source_rows(some.fragments, some.rows))
        names, numbers = column_builder.finish().values()
        return names, numbers

    @classmethod
    def from_arrow(cls, data: Any, name: str = "table", path: str = "") -> Table:
        """A table of Arrow columns: those of a file, or those that a program has.

        Parameters
        ----------
        name, path : str
            What it is called, and where it came from.

        Returns
        -------
        Table
            Columns keep their types. A structure is a column for each of its fields,
            named ``outer.inner``; lists are JSON text, bytes hexadecimal.

        Examples
        --------
        >>> Table.from_arrow(pa.table({"hive": ["007"], "kg": [12.5]}), "visits").to_dict()
        {'hive': ['007'], 'kg': [12.5]}
        """
        stored = pa.table(data)
        pairs = [
            pair
            for head, column in zip(stored.column_names, stored.columns, strict=True)
            for pair in flatten_nested_column(head, column)
        ]
        heads, findings = clean_headings([head for head, _ in pairs], path)
        columns = dict(zip(heads, (column for _, column in pairs), strict=True))
        # Text of a typed source is text, whatever is in it; a column of nothing is of no type.
        untyped = {
            name
            for name, one in zip(stored.column_names, stored.columns, strict=True)
            if pa.types.is_null(one.type)
        }
        declared = {
            head: TEXT if is_text_type(one.type) and written not in untyped else None
            for (head, one), (written, _) in zip(columns.items(), pairs, strict=True)
        }
        table = table_from_columns(name, columns, path).with_types(declared)
        return replace(table, findings=(*findings, *_not_numbers(stored, path)))

    def to_arrow(self) -> pa.Table:
        """All columns as an Arrow table, with the cells as they are; what is stored is not copied.

        >>> table_from_columns("hives", {"hive": ["007"]}).to_arrow().column("hive").to_pylist()
        ['007']
        """
        if not self.columns:
            return pa.table({})
        return pa.table([self.typed(name) for name in self.column_names], list(self.column_names))

    def __arrow_c_stream__(self, requested_schema: object = None) -> object:
        """The columns, by the Arrow stream interface, for any library that takes it."""
        return self.to_arrow().__arrow_c_stream__(requested_schema)

    def __len__(self) -> int:
        return self.rows

    def __bool__(self) -> bool:
        return True  # a table without rows is one all the same

    def __repr__(self) -> str:
        return preview_text(self.name, self.rows, self._first_rows(), len(self.columns))

    def _repr_html_(self) -> str:
        return preview_html(self.name, self.rows, self._first_rows(), len(self.columns))

    def _first_rows(self) -> dict[str, list[Any]]:
        few = self.batch(0, min(self.rows, MOST_ROWS))
        return dict(
            zip(self.column_names, (column.to_pylist() for column in few.columns), strict=True)
        )

    def with_lines(self, lines: Lines | None) -> Table:
        """A table that was just read, its rows known by the lines that they begin on."""
        return self._with_origin(lines=lines)

    def with_row_numbers(self, rows: RowNumbers) -> Table:
        """A table that was just read, of which these are the numbers of its rows in the source."""
        return self._with_origin(row_numbers=rows)

    def _with_origin(self, **changes: Any) -> Table:
        """The table with some of what its only source says of its rows anew."""
        (origin,) = self.fragments[0].origins
        assert isinstance(origin, SourceOrigin)
        fragment = replace(self.fragments[0], origins=(replace(origin, **changes),))
        return replace(self, fragments=(fragment, *self.fragments[1:]))

    def source_rows(self, row: int) -> tuple[SourceRow, ...]:
        """The source rows that a row of this table shows, one for each fragment that has one."""
        found = (locate_source_row(fragment, row) for fragment in self.fragments)
        return tuple(dict.fromkeys(f for f in found if f is not None))


@dataclass(frozen=True)
class RowsLeftInDatabase:
    """Rows that stay in a database because the plan does not want them: how many, and which."""

    rows: int
    cause: str


@dataclass(frozen=True, eq=False)
class SetAside:
    """Rows of one table that are listed apart, with their reasons.

    Parameters
    ----------
    kind : str
        What they are, in a word: ``unmatched``. With the table's name it names their file.
    table : Table
        The rows, with their cells as they were.
    reason : pyarrow.Array or ChunkedArray
        For each row its reason, as text.
    in_result : bool
        Whether these rows are in the result all the same, as the unmatched
        left rows of a left join do.
    cause : str
        What the ledger says of them: ``rows with a missing key``.
    """

    kind: str
    table: Table
    reason: pa.Array | pa.ChunkedArray
    in_result: bool
    cause: str = ""

    cells_only = False

    @property
    def source(self) -> str:
        """The table that they are of."""
        return self.table.name

    @property
    def name(self) -> str:
        """Names the file they are written to."""
        return f"{self.source}-{self.kind}"

    @property
    def listing(self) -> ListingKey:
        """What a line of the ledger calls the list."""
        return ListingKey(self.source, self.kind)

    @property
    def rows(self) -> int:
        """How many."""
        return self.table.rows

    def listed(self) -> Table:
        """The rows with ``reason``, ``source`` and ``place`` in front of their cells.

        ``place`` is what who opens the source goes by: ``line 12``, ``sheet row 12``, a key, or
        ``row 12`` where there are only rows. A row that several sources went into has their
        names and places joined by ``+``.
        """
        table = self.table
        names, places = table.describe_source_rows()
        made = {"reason": self.reason, "source": names, "place": places}
        stored = {
            unused_name(name, table.column_names): cells
            if isinstance(cells, pa.ChunkedArray)
            else pa.chunked_array([cells])
            for name, cells in made.items()
        }
        front = tuple(Column(name, ((len(table.fragments), name),)) for name in stored)
        fragments = (*table.fragments, Fragment("set aside", stored, ()))
        return Table(self.name, front + table.columns, fragments, table.rows)


def table_from_columns(name: str, columns: Mapping[str, Any], path: str = "") -> Table:
    """Make a table from lists or Arrow arrays of equal length.

    Parameters
    ----------
    name : str
        The table's name.
    columns : mapping of str to list, pyarrow.Array or pyarrow.ChunkedArray
        Lists hold text or ``None``.
    path : str
        Where the cells came from.

    Examples
    --------
    >>> table_from_columns("hives", {"hive": ["1", "2"]}).rows
    2
    """
    stored = {key: _chunked(values) for key, values in columns.items()}
    rows = len(next(iter(stored.values()))) if stored else 0
    fragment = Fragment(name, stored, (SourceOrigin(name, path, rows),))
    return Table(name, tuple(Column(key, ((0, key),)) for key in stored), (fragment,), rows)


def _not_numbers(stored: pa.Table, path: str) -> Iterator[Finding]:
    """How many floats of each column are not a number, and so are missing."""
    for name, column in zip(stored.column_names, stored.columns, strict=True):
        if not pa.types.is_floating(column.type):
            continue
        count = pc.sum(pc.is_nan(column)).as_py() or 0
        if count:
            yield of_markers(name, ["NaN"], count, Location(path, name))


def _chunked(values: Any) -> pa.ChunkedArray:
    if isinstance(values, pa.ChunkedArray):
        return values
    if isinstance(values, pa.Array):
        return pa.chunked_array([values])
    return pa.chunked_array([pa.array(values, pa.string())])


def make_cell_examples(
    table: Table, cells: pa.ChunkedArray, rows: RowNumbers
) -> tuple[FindingExample, ...]:
    """The first few of some rows' cells in a column, with their places."""
    return tuple(
        FindingExample(repr(cells[row].as_py()), table.source_rows(row)[:1])
        for row in rows[:MOST_EXAMPLES].tolist()
    )
