"""Values of typed files as cells of text, and cells as values."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.base.findings import (
    MOST_EXAMPLES,
    Finding,
    FindingExample,
    Location,
    of_markers,
    pluralize,
)
from plait.core.base.wording import Setting, wording
from plait.core.job.executor import map_ordered
from plait.core.job.spill_columns import build_column
from plait.core.table.provenance import locate_source_rows, make_source_row
from plait.core.table.table import Table
from plait.core.text.cells import empty_to_null, is_text_type, to_text
from plait.core.types.column_type import DATE, DATETIME, DECIMAL, EMPTY, TEXT, TIME, ColumnType
from plait.core.types.inference import (
    guess_column_type,
    infer_column_type,
    parse_column,
    to_arrow_type,
)
from plait.core.types.missing_markers import count_missing_markers
from plait.core.types.value_formats import EXPONENTS, format_for_type, parse_with_format
from plait.io.places.source import OnProgress, RefetchedRow, Source

_PLAIN_DECIMALS = (DECIMAL, EXPONENTS)

_TYPES = {
    bool: pa.bool_(),
    int: pa.int64(),
    float: pa.float64(),
    str: pa.string(),
    dt.date: pa.date32(),
    dt.datetime: pa.timestamp("us"),
    dt.time: pa.time64("us"),
}
_LARGEST = 2**53
#: Digits of a decimal that a 64-bit float gives back, whichever they are.
SURE_DIGITS = 15
_LARGEST_INTEGER = 2**63

Read = Callable[[Source, OnProgress], Table]


@dataclass(frozen=True, eq=False)
class TypedColumns:
    """Columns of a table, the type of each, and the schema that holds them.

    ``declared`` are columns of text by what their source says: there an empty text is one,
    and not a missing cell. ``texts`` are columns of decimals that are given as the texts that
    they stand as, with the type that tells which of them are numbers.
    """

    columns: Mapping[str, pa.ChunkedArray]
    types: Mapping[str, ColumnType]
    schema: pa.Schema
    declared: frozenset[str] = frozenset()
    texts: Mapping[str, pa.DataType] = field(default_factory=dict)


def guess_types(table: Table) -> TypedColumns:
    """Types by a glance at some cells: quick, and wrong where a cell far down is of another kind.

    Converting tells: see ``convert_in_row_groups``.
    """
    columns = {name: table.chunks(name) for name in table.column_names}
    types = {
        name: table.column(name).declared_type or guess_column_type(cells)
        for name, cells in columns.items()
    }
    arrow = {
        name: to_arrow_type(type_, columns[name])
        if type_.family == "decimal"
        else type_.simplest_arrow
        for name, type_ in types.items()
    }
    return _typing(columns, types, arrow, _declared(table))


def infer_types(table: Table) -> TypedColumns:
    """Types decided over all cells."""
    columns = {name: table.chunks(name) for name in table.column_names}
    types = {name: table.column_type(name) for name in columns}
    arrow = {name: to_arrow_type(types[name], cells) for name, cells in columns.items()}
    return _typing(columns, types, arrow, _declared(table))


def _declared(table: Table) -> frozenset[str]:
    """The columns of which the source says that they are text."""
    return frozenset(column.name for column in table.columns if column.declared_type == TEXT)


def _typing(
    columns: Mapping[str, pa.ChunkedArray],
    types: Mapping[str, ColumnType],
    arrow: Mapping[str, pa.DataType | None],
    declared: frozenset[str],
) -> TypedColumns:
    fields = []
    for name, cells in columns.items():
        found = arrow[name] if is_text_type(cells.type) else None
        fields.append((name, found or cells.type))
    return TypedColumns(columns, types, pa.schema(fields), declared)


def with_texts(typing: TypedColumns, names: Iterable[str]) -> TypedColumns:
    """Some columns of decimals, that stand as text in the table, given as these texts."""
    texts = {
        name: typing.schema.field(name).type
        for name in names
        if is_text_type(typing.columns[name].type)
        and typing.types[name] in _PLAIN_DECIMALS
        and pa.types.is_decimal(typing.schema.field(name).type)
    }
    fields = [f.with_type(pa.string()) if f.name in texts else f for f in typing.schema]
    return replace(typing, schema=pa.schema(fields), texts=texts)


def _numbers_as_they_stand(
    cells: pa.ChunkedArray, type_: ColumnType, to: pa.DataType
) -> pa.ChunkedArray:
    """The texts of numbers; nothing where a marker stands for a missing one."""
    return build_column(
        (
            pc.if_else(parse_column(chunk, type_, to).is_valid(), chunk, None).cast(pa.string())
            for chunk in cells.chunks
        ),
        pa.string(),
    )


def convert_in_row_groups(typing: TypedColumns, rows: int, ahead: int = 1) -> Iterator[pa.Table]:
    """The table in groups of so many rows, converted on all cores.

    Raises
    ------
    pyarrow.ArrowInvalid
        When a cell is not of its column's kind.
    """
    total = len(next(iter(typing.columns.values()))) if typing.columns else 0

    def group(start: int) -> pa.Table:
        made = []
        for column in typing.schema:
            cells = typing.columns[column.name].slice(start, rows)
            as_it_is = column.name in typing.declared and cells.type == column.type
            type_ = typing.types[column.name]
            if number := typing.texts.get(column.name):
                made.append(_numbers_as_they_stand(cells, type_, number))
            else:
                made.append(cells if as_it_is else _converted(cells, type_, column.type))
        return pa.Table.from_arrays(made, schema=typing.schema)

    return map_ordered(group, range(0, total, rows), ahead)


def report_missing_markers(
    typing: TypedColumns, names: Iterable[str] | None = None
) -> list[Finding]:
    """Says how many markers for missing were written as missing, in each of some columns."""
    findings = []
    for name in typing.columns if names is None else names:
        if not typing.types[name].allows_missing_markers:
            continue
        marked = count_missing_markers(typing.columns[name])
        if marked:
            count = sum(marked.values())
            keep = wording("to keep them as they are: ", Setting("type", "text", name))
            findings.append(of_markers(name, list(marked), count, Location(column=name), keep))
    return findings


def _converted(cells: pa.ChunkedArray, type_: ColumnType, to: pa.DataType) -> pa.ChunkedArray:
    return build_column((parse_column(chunk, type_, to) for chunk in cells.chunks), to)


def format_value(value: Any) -> str | None:
    """A value as it would be in a text file; ``None`` for nothing.

    >>> [format_value(v) for v in (3.0, 1.5, True, dt.date(2031, 4, 5), "007", None, "")]
    ['3', '1.5', 'true', '2031-04-05', '007', None, None]
    """
    if value is None or value == "":
        return None
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, float):
        return np.format_float_positional(value, trim="-")
    if isinstance(value, dt.datetime):
        return value.isoformat(sep=" ")
    if isinstance(value, dt.date | dt.time):
        return value.isoformat()
    if isinstance(value, dt.timedelta):
        return _clock(value)
    if isinstance(value, bytes):
        return value.hex()
    return str(value)


def _clock(stretch: dt.timedelta) -> str:
    """A stretch of time as a sheet shows it, in hours, minutes and seconds: ``36:00:00``."""
    seconds, small = divmod(abs(stretch), dt.timedelta(seconds=1))
    hours, rest = divmod(seconds, 3600)
    sign = "-" if stretch < dt.timedelta(0) else ""
    part = f".{small.microseconds:06}".rstrip("0") if small else ""
    return f"{sign}{hours}:{rest // 60:02}:{rest % 60:02}{part}"


def column_from_values(values: Sequence[Any]) -> pa.Array:
    """Values as an Arrow array: of the type that all of them have, else of text.

    Parameters
    ----------
    values : sequence
        Whole numbers that came as floats are integers; nothing is ``None`` or an
        empty text.

    Examples
    --------
    >>> column_from_values([3.0, None, 4.0]).type, column_from_values([3.0, 1.5]).type
    (DataType(int64), DataType(double))
    >>> column_from_values([3.0, "x"]).to_pylist()
    ['3', 'x']
    """
    kinds = value_types(values)
    if not kinds:
        return pa.array([None] * len(values), pa.string())
    if kinds <= {int, float} and _are_whole_numbers(values):
        return pa.array([None if _empty(v) else int(v) for v in values], pa.int64())
    if kinds == {int, float} and all(_empty(v) or abs(v) < _LARGEST for v in values):
        kinds = {float}
    if kinds == {dt.date, dt.datetime}:
        return pa.array([_midnight(v) for v in values], pa.timestamp("us"))
    (kind,) = kinds if len(kinds) == 1 else (object,)
    if kind is str:
        return pa.array([v if isinstance(v, str) else None for v in values], pa.string())
    if kind in _TYPES and kind is not int:
        return pa.array([None if _empty(v) else v for v in values], _TYPES[kind])
    return pa.array(map(format_value, values), pa.string())


def value_types(values: Iterable[Any]) -> set[type]:
    """The types of all values that are something."""
    return {type(value) for value in values if not _empty(value)}


def _empty(value: Any) -> bool:
    return value is None or (isinstance(value, str) and not value)


def _are_whole_numbers(values: Sequence[Any]) -> bool:
    return all(
        _empty(v)
        or (isinstance(v, int) and -_LARGEST_INTEGER <= v < _LARGEST_INTEGER)
        or (isinstance(v, float) and v.is_integer() and abs(v) < _LARGEST)
        for v in values
    )


def _midnight(value: Any) -> Any:
    if isinstance(value, dt.datetime) or _empty(value):
        return value or None
    return dt.datetime.combine(value, dt.time())


def decimals_of(column: pa.ChunkedArray, places: int = 0) -> pa.ChunkedArray | None:
    """Numbers of a source that keeps 15 digits, as plain text of decimals.

    Parameters
    ----------
    column : pyarrow.ChunkedArray
        Of floats or integers.
    places : int
        Digits behind the point that each has at least.

    Returns
    -------
    pyarrow.ChunkedArray or None
        ``None`` where a number has more digits, as the outcome of a formula may have.

    Examples
    --------
    >>> decimals_of(pa.chunked_array([[0.1, None, 3.0]])).to_pylist()
    ['0.1', None, '3']
    >>> decimals_of(pa.chunked_array([[0.1, 12.0]]), 2).to_pylist()
    ['0.10', '12.00']
    >>> decimals_of(pa.chunked_array([[0.1 + 0.2]])) is None
    True
    """
    chunks = [
        pa.array(map(format_value, chunk.to_pylist()), pa.string()) for chunk in column.chunks
    ]
    texts = pa.chunked_array(chunks, pa.string())
    digits = pc.utf8_ltrim(pc.replace_substring_regex(texts, "[-.]", ""), "0")
    plain = pc.match_substring_regex(texts, r"^-?[0-9]+(\.[0-9]+)?$")
    if pc.all(plain).as_py() not in (True, None) or _longest(digits) > SURE_DIGITS:
        return None
    if not places:
        return texts
    return pa.chunked_array([_padded(chunk, places) for chunk in texts.chunks], pa.string())


def _longest(texts: pa.ChunkedArray) -> int:
    return pc.max(pc.utf8_length(texts)).as_py() or 0


def _padded(texts: pa.Array, places: int) -> pa.Array:
    """Texts of decimals with zeros behind, until there are so many places."""
    parts = pc.extract_regex(texts, r"^(?P<head>-?[0-9]+)\.?(?P<tail>[0-9]*)$")
    head, tail = pc.struct_field(parts, "head"), pc.struct_field(parts, "tail")
    return pc.binary_join_element_wise(head, pc.utf8_rpad(tail, places, "0"), ".")


def type_of_text_values(cells: pa.ChunkedArray) -> ColumnType:
    """The type of cells that a source gives as text: no number, though a date may stand so."""
    type_ = infer_column_type(cells)
    return type_ if type_ in (DATE, DATETIME, TIME) else TEXT


def number_type(cells: pa.ChunkedArray) -> ColumnType | None:
    """The type of cells that a source gives as numbers with their digits, exponents among them.

    >>> [str(number_type(pa.chunked_array([cells]))) for cells in (["1e3", "2.5"], ["7"])]
    ['decimal:1e3', 'integer']
    """
    type_ = infer_column_type(cells)
    if type_.is_number or type_ == EMPTY:
        return type_ if type_ != EMPTY else None
    form = format_for_type(EXPONENTS)
    try:
        for chunk in cells.chunks:
            parse_with_format(empty_to_null(chunk), form)
    except pa.ArrowInvalid:
        return None  # more digits than numbers have here
    return form.type


def report_mixed_cells(name: str, values: Sequence[Any], table: Table, where: str) -> list[Finding]:
    """A finding when numbers, dates and texts are in one column, as text then."""
    kinds = {"number" if kind in (int, float) else kind.__name__ for kind in value_types(values)}
    if len(kinds) < 2 or kinds == {"date", "datetime"}:
        return []
    texts = [n for n, value in enumerate(values) if isinstance(value, str) and value]
    examples = (
        FindingExample(values[row], table.source_rows(row)) for row in texts[:MOST_EXAMPLES]
    )
    text = ", ".join(sorted({"str": "text", "bool": "true/false"}.get(k, k) for k in kinds))
    return [
        Finding(
            "mixed-cells",
            "note",
            len(texts),
            f"{pluralize(len(texts), 'cell')} of text in column {name!r}, which also holds {text}",
            wording("to have one type: ", Setting("type", "…", name)),
            Location(where, name),
            tuple(examples),
        )
    ]


def column_names_reader(read: Read) -> Callable[[Source], list[str]]:
    """What tells the names of the columns, for a reader that reads the whole."""

    def columns(source: Source) -> list[str]:
        return list(read(source, lambda _: None).column_names)

    return columns


def row_refetcher(read: Read) -> Callable[..., dict[int, RefetchedRow]]:
    """What looks rows up, for a reader that reads the whole."""

    def rows_at(
        source: Source, rows: Sequence[int], keys: Sequence[str] = ()
    ) -> dict[int, RefetchedRow]:
        return refetch_rows(read(source, lambda _: None), rows)

    return rows_at


def refetch_rows(table: Table, rows: Sequence[int]) -> dict[int, RefetchedRow]:
    """The rows of a table that was read whole, by their numbers in the source."""
    _, numbers = locate_source_rows(table.fragments[0], np.arange(table.rows))
    (origin,) = table.fragments[0].origins
    looked: dict[int, RefetchedRow] = {}
    for row in rows:
        at = np.flatnonzero(numbers == row)
        if len(at):
            source_row = make_source_row(origin, row)
            looked[row] = RefetchedRow(
                source_row.line, row_as_text(table, int(at[0])), unit=source_row.unit
            )
    return looked


def row_as_text(table: Table, row: int) -> dict[str, str]:
    """The cells of a row as text, by column."""
    return {
        column.name: to_text(table.cells(column, row, row + 1))[0].as_py() or ""
        for column in table.columns
    }
