"""Stack: rows under rows, by column name or by position."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.aggregation.series import report_series
from plait.core.base.errors import UsageError, attribute_errors_to_option
from plait.core.base.findings import MOST_EXAMPLES, Finding, FindingExample, Location, pluralize
from plait.core.base.ledger import LedgerLine, make_entry
from plait.core.base.wording import Setting, wording
from plait.core.codes.dense_codes import combine_codes, first_row_of_each_code
from plait.core.job.spill_columns import build_column
from plait.core.lineage.source_labels import (
    add_source_column,
    make_label_column,
    parse_label_templates,
)
from plait.core.operations.result import Result
from plait.core.profiling.ambiguous_formats import borrowed_forms
from plait.core.profiling.schemas import (
    apply_headings_by_position,
    merge_folded_headings,
    merge_renamed_columns,
    name_of_extracts,
    report_heading_differences,
)
from plait.core.profiling.type_findings import find_type_disagreements
from plait.core.table.fragment import (
    DerivedOrigin,
    Fragment,
    RowNumbers,
    RowOrigin,
    row_number_dtype,
)
from plait.core.table.key_spec import Several
from plait.core.table.provenance import (
    DISCRIMINATOR_PREFIX,
    Provenance,
    source_columns,
    union_provenance,
)
from plait.core.table.table import Column, SetAside, Table
from plait.core.text.cells import repeat_cell, to_text
from plait.core.text.dictionary import TextDictionary
from plait.core.types.column_type import TEXT, ColumnType
from plait.core.types.inference import value_texts

WAYS = ("name", "position")
_WHICH = f"{DISCRIMINATOR_PREFIX}table"


def stack(
    tables: Sequence[Table],
    label: Mapping[str, str] | Iterable[str] = (),
    distinct: bool = False,
    number: str | None = None,
    same: Several = (),
    fold_headers: bool = False,
    by: str = "name",
    origin: str | None = None,
    name: str = "stack",
) -> Result:
    """Put the rows of tables under one another, column by column name.

    Parameters
    ----------
    tables : sequence of Table
        The first sets the order of the columns; new ones follow as they come.
    label : mapping of str to str, or texts ``COLUMN={stem}``
        Columns to add, last, with a text for each source: ``{file}``, ``{stem}``,
        ``{folder}`` and ``{sheet}`` are filled in.
    distinct : bool
        Leave out rows equal to an earlier one in every column of the sources.
    number : str, optional
        A column to add that numbers the rows of the result from 1.
    same : mapping of str to str or sequence of str, or texts ``NEW=OLD,OLD``
        New name to old names of columns that are the same.
    fold_headers : bool
        Take headers that differ in case, spaces and punctuation only for the same.
    by : {"name", "position"}
        Take columns of one name for the same, or the first for the first.
    origin : str, optional
        A column to add with the name of the table each row came from.
    name : str
        The result's name.

    Returns
    -------
    Result
        A column that a table lacks is missing on its rows.

    Raises
    ------
    UsageError
        With no table, a label or number column that is there already, or by
        position with tables of different widths.

    Examples
    --------
    >>> from plait.core.table.table import table_from_columns
    >>> may = table_from_columns("may", {"hive": ["1"], "kg": ["12.50"]}, "may.csv")
    >>> june = table_from_columns("june", {"kg": ["9"], "hive": ["007"]}, "june.csv")
    >>> stack([may, june], label=["month={stem}"]).table.to_dict()
    {'hive': ['1', '007'], 'kg': ['12.50', '9'], 'month': ['may', 'june']}
    """
    if not tables:
        raise UsageError("there is nothing to stack", remedy="name at least one source")
    if by not in WAYS:
        raise UsageError(f"tables are stacked by {' or '.join(WAYS)}, not by {by!r}")
    with attribute_errors_to_option("same"):
        tables = merge_renamed_columns(tables, same)
    tables = merge_folded_headings(tables) if fold_headers else tables
    findings: list[Finding] = []
    if by == "position":
        tables, findings = apply_headings_by_position(tables)
    table = concatenate_tables(tables, name)
    for column, forms, finding in borrowed_forms(tables, table.column_names):
        table = table.with_open_forms(column, forms)
        findings.append(finding)
    coming = [(t.name, t.rows) for t in tables]
    findings += [*report_heading_differences(tables), *find_type_disagreements(tables)]
    findings += report_series(tables, name_of_extracts(tables))
    aside: tuple[SetAside, ...] = ()
    if distinct:
        kept = _first_of_equal(table)
        repeats = _repeats(table, kept)
        aside = (repeats,) if repeats.rows else ()
        findings += [_repeat_finding(repeats)] if repeats.rows else []
        table = add_label_columns(table, parse_label_templates(label))
        table = table.take(np.flatnonzero(kept == np.arange(len(kept))))
    else:
        table = add_label_columns(table, parse_label_templates(label))
    with attribute_errors_to_option("number"):
        table = table.extend(number, _numbers(table.rows)) if number else table
    with attribute_errors_to_option("origin"):
        table = add_source_column(table, origin) if origin else table
    left_out = [
        LedgerLine("exact repeats of an earlier row, set aside", -listing.rows, listing.listing)
        for listing in aside
    ]
    sources = f"{len(tables)} sources" if len(tables) > 1 else "1 source"
    account = make_entry(f"stack of {sources}", coming, left_out, table.rows)
    return Result("stack", table, (account,), tuple(findings), aside)


def concatenate_tables(tables: Sequence[Table], name: str) -> Table:
    """All rows of all tables; fragment by fragment, so that every row keeps its lineage."""
    tables = [_in_single_parts(table) for table in tables]
    every = list(dict.fromkeys(column for table in tables for column in table.column_names))
    depth = max(len(table.fragments) for table in tables)
    fragments = tuple(_strand(tables, every, number, name) for number in range(depth))
    made = [_joint_leaves(column, tables, depth) for column in every]
    if any(
        term.where_equal and term.where_equal[-1][0] == depth for terms in made for term in terms
    ):
        fragments = (*fragments, _which_table(tables))
    columns = tuple(
        Column(
            column,
            tuple(
                (n, column) for n, fragment in enumerate(fragments) if column in fragment.columns
            ),
            _joint_type(column, tables),
            provenance=terms,
        )
        for column, terms in zip(every, made, strict=True)
    )
    return Table(name, columns, fragments, sum(table.rows for table in tables))


def _in_single_parts(table: Table) -> Table:
    """The table with every column in one fragment: cells of several are put together."""
    for column in table.columns:
        if len(column.cell_refs) > 1:
            table = table.replace_column(
                column.name, table.chunks(column.name), column.declared_type
            )
    return table


def _joint_leaves(column: str, tables: Sequence[Table], which: int) -> Provenance:
    """What the cells were made of in each table; fragment ``which`` tells the tables apart."""
    every = [table.provenance(column) if table.has_column(column) else () for table in tables]
    there = [terms for terms in every if terms]
    if len({tuple(term.fragment for term in terms) for terms in there}) <= 1 and not any(
        term.where_equal or term.where_absent or len(terms) > 1 for terms in there for term in terms
    ):
        came = source_columns(union_provenance(there))
        return tuple(replace(term, source_columns=came) for term in there[0]) if there else ()
    return tuple(
        term.restricted_to_value(which, _WHICH, number)
        for number, terms in enumerate(every)
        for term in terms
    )


def _which_table(tables: Sequence[Table]) -> Fragment:
    """The number of the table that each row came from."""
    rows = [table.rows for table in tables]
    numbers = np.repeat(np.arange(len(tables), dtype=np.int32), rows)
    return Fragment("made", {_WHICH: pa.chunked_array([numbers])}, ())


def _joint_type(column: str, tables: Sequence[Table]) -> ColumnType | None:
    """What all sources say the cells are; text, where one says so and another something else."""
    types = {table.column(column).declared_type for table in tables if table.has_column(column)}
    return types.pop() if len(types) == 1 else TEXT if TEXT in types else None


def _strand(tables: Sequence[Table], every: Sequence[str], number: int, name: str) -> Fragment:
    """The fragments of that number of all tables, one after another."""
    present = [table for table in tables if number < len(table.fragments)]
    stored = {}
    for column in every:
        parts = [_stored_part(table, column, number) for table in present]
        if any(part is not None for part in parts):
            sizes = [table.fragments[number].stored_rows for table in present]
            stored[column] = _end_to_end(parts, sizes)
    every_key = (key for table in present for key in table.fragments[number].columns)
    for key in dict.fromkeys(key for key in every_key if key.startswith(DISCRIMINATOR_PREFIX)):
        parts = [table.fragments[number].columns.get(key) for table in present]
        stored[key] = _end_to_end(parts, [table.fragments[number].stored_rows for table in present])
    origins = tuple(origin for table in present for origin in _origins(table.fragments[number]))
    if all(isinstance(o, DerivedOrigin) for o in origins):
        origins = ()
    beside = all(table.fragments[number].cells_only for table in present)
    return Fragment(name, stored, origins, _joint_index(tables, number), beside)


def _origins(fragment: Fragment) -> tuple[RowOrigin, ...]:
    """The origins of all stored rows, also of those that are in no source."""
    return fragment.origins or (DerivedOrigin(fragment.stored_rows),)


def _stored_part(table: Table, column: str, number: int) -> pa.ChunkedArray | None:
    if not table.has_column(column):
        return None
    for fragment, stored in table.column(column).cell_refs:
        if fragment == number:
            return table.fragments[fragment].columns[stored]
    return None


def _end_to_end(parts: Sequence[pa.ChunkedArray | None], sizes: Sequence[int]) -> pa.ChunkedArray:
    kinds = {part.type for part in parts if part is not None}
    kind = kinds.pop() if len(kinds) == 1 else pa.string()
    chunks: list[pa.Array] = []
    for part, rows in zip(parts, sizes, strict=True):
        if part is None:
            chunks += repeat_cell(None, rows, kind)
        else:
            chunks += [chunk if chunk.type == kind else to_text(chunk) for chunk in part.chunks]
    return pa.chunked_array(chunks, kind)


def _joint_index(tables: Sequence[Table], number: int) -> RowNumbers | None:
    """Where each row of the result is in the joint fragment; ``None`` if all are in order."""
    if all(len(t.fragments) > number and t.fragments[number].selection is None for t in tables):
        return None
    parts, begin = [], 0
    dtype = row_number_dtype(sum(table.rows for table in tables))
    for table in tables:
        if number >= len(table.fragments):
            parts.append(np.full(table.rows, -1, dtype))
            continue
        fragment = table.fragments[number]
        index = np.arange(table.rows) if fragment.selection is None else fragment.selection
        parts.append(np.where(index < 0, -1, index + begin).astype(dtype))
        begin += fragment.stored_rows
    return np.concatenate(parts)


def add_label_columns(table: Table, labels: Mapping[str, str]) -> Table:
    """The table with columns, last, that say which source each row came from."""
    for column, template in labels.items():
        if column in table.column_names:
            raise UsageError(
                f"there is a column {column!r} already",
                remedy=wording("choose another name for ", Setting("label")),
            )
        strand = table.fragments[0]
        stored = {**strand.columns, column: make_label_column(template, strand.origins)}
        fragment = Fragment(strand.name, stored, strand.origins, strand.selection)
        columns = (*table.columns, Column(column, ((0, column),), provenance=()))
        table = replace(table, columns=columns, fragments=(fragment, *table.fragments[1:]))
    return table


def _numbers(rows: int) -> pa.ChunkedArray:
    return pa.chunked_array([pa.array(np.arange(1, rows + 1))])


def _first_of_equal(table: Table) -> npt.NDArray[np.int64]:
    """For each row the first row that is equal to it in every column that a source has."""
    codes = np.zeros(table.rows, np.int32)
    size = 1
    for name in table.column_names:
        if not table.source_columns(name):
            continue
        dictionary, values = TextDictionary(), TextDictionary()
        cells = dictionary.encode_all(table.coded(name))
        # By value; a marker for missing is no other marker, and no empty cell.
        to = values.encode(value_texts(dictionary.texts(), table.column_type(name)))
        cells = np.append(to, np.int32(-1))[cells] + np.int32(1)  # missing equals missing
        (codes,), size = combine_codes([codes], size, [cells], len(values) + 1)
    return first_row_of_each_code(codes, size)[codes]


def _repeats(table: Table, first: npt.NDArray[np.int64]) -> SetAside:
    rows = np.flatnonzero(first != np.arange(len(first)))
    names, places = table.take(first[rows]).describe_source_rows()
    said = (
        pc.binary_join_element_wise(
            "exact repeat of",
            name,
            chunk,
            " ",
        )
        for name, chunk in zip(names.chunks, places.chunks, strict=True)
    )
    reason = build_column(said, pa.string())
    return SetAside("repeats", table.take(rows), reason, False)


def _repeat_finding(repeats: SetAside) -> Finding:
    examples = []
    for row in range(min(repeats.rows, MOST_EXAMPLES)):
        examples.append(
            FindingExample(repeats.reason[row].as_py(), repeats.table.source_rows(row)[:1])
        )
    return Finding(
        "row-repeat",
        "note",
        repeats.rows,
        f"{pluralize(repeats.rows, 'row')} identical to an earlier row left out",
        where=Location(repeats.table.name),
        examples=tuple(examples),
    )
