"""Types and markers for missing that a person declares for columns."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from decimal import Decimal

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.base.errors import SourceError, UsageError
from plait.core.base.findings import Finding, Location, agreeing, pluralize
from plait.core.base.names import suggest_name
from plait.core.base.wording import Setting, wording
from plait.core.job.spill_columns import build_column
from plait.core.profiling.profile import count_values
from plait.core.table.key_spec import Pairs, check_column, parse_assignments
from plait.core.table.set_aside import set_rows_aside
from plait.core.table.table import Table, make_cell_examples
from plait.core.text.cells import empty_to_null, is_text_type, to_text
from plait.core.text.decimals import MOST_DIGITS
from plait.core.types.column_type import BOOLEAN, DATETIME, DECIMAL, INTEGER, TEXT, ColumnType
from plait.core.types.exact_numbers import parse_decimals, unify_numbers
from plait.core.types.inference import infer_column_type
from plait.core.types.missing_markers import markers_to_null
from plait.core.types.near_types import PLAIN, find_near_format
from plait.core.types.value_formats import FORMS, declarable_type, format_for_type

UNFIT = ("error", "missing", "set-aside")
_PATTERNS = {
    INTEGER: r"^[+-]?[0-9]{1,38}$",
    DECIMAL: r"^[+-]?([0-9]+\.?[0-9]*|\.[0-9]+)([eE][+-]?[0-9]+)?$",
    BOOLEAN: r"(?i)^(true|false|yes|no|y|n|t|f|1|0)$",
}
_PLAIN_NUMBER = r"^-?(0|[1-9][0-9]*)(\.[0-9]+)?$"
_TRUE = ("true", "yes", "y", "t", "1")


def parse_type_assignments(specs: Pairs) -> dict[str, str]:
    """Column and type from ``COLUMN=date:%d.%m.%Y`` texts, or a mapping.

    Raises
    ------
    UsageError
        For a type that there is not; the nearest is offered.

    Examples
    --------
    >>> parse_type_assignments(["seen=date:%d.%m.%Y", "id=text"])
    {'seen': 'date:%d.%m.%Y', 'id': 'text'}
    """
    types = parse_assignments(specs, "type")
    for type_ in types.values():
        declarable_type(type_)
    return types


def apply_missing_markers(table: Table, markers: Iterable[str]) -> Table:
    """The table, with cells that are one of the markers missing.

    >>> from plait.core.table.table import table_from_columns
    >>> apply_missing_markers(table_from_columns("t", {"a": ["7", "n/k"]}), ["n/k"]).to_dict()
    {'a': ['7', None]}
    """
    markers = list(markers)
    total = 0
    for column in table.columns:
        cells = table.chunks(column.name)
        if not is_text_type(cells.type):
            continue
        known = pa.array(markers, cells.type)
        marked = [pc.is_in(chunk, known) for chunk in cells.chunks]
        count = sum(pc.sum(m).as_py() or 0 for m in marked)
        if count:
            nothing = pa.scalar(None, cells.type)
            chunks = (
                pc.if_else(one, nothing, chunk)
                for one, chunk in zip(marked, cells.chunks, strict=True)
            )
            table = table.replace_column(
                column.name, build_column(chunks, cells.type), column.declared_type
            )
            total += count
    if not total:
        return table
    finding = Finding(
        "marker-missing",
        "note",
        total,
        f"{pluralize(total, 'cell')} with {', '.join(map(repr, markers))} read as "
        "missing, as declared",
        where=Location(table.name),
    )
    return replace(table, findings=(*table.findings, finding))


def apply_declared_types(
    tables: Sequence[Table], missing: Sequence[str], type: Pairs, unfit: str
) -> list[Table]:
    """The extracts of a source with the markers for missing and the types that it is said to have.

    A column needs to be in one of them only.

    Raises
    ------
    UsageError
        For a type that is none, or a column that none of the tables has.
    SourceError
        As ``retype_columns``.

    Examples
    --------
    >>> from plait.core.table.table import table_from_columns
    >>> may = table_from_columns("may", {"id": ["7"]})
    >>> june = table_from_columns("june", {"n": ["-"]})
    >>> [one.to_dict() for one in apply_declared_types([may, june], ["-"], {"id": "text"}, "error")]
    [{'id': ['7']}, {'n': [None]}]
    """
    types = parse_type_assignments(type)
    for column in types:
        if not any(table.has_column(column) for table in tables):
            check_column(column, tables[0])
    marked = [apply_missing_markers(table, missing) if missing else table for table in tables]
    return [retype_columns(table, types, unfit) for table in marked]


def retype_columns(table: Table, types: Mapping[str, str], unfit: str = "error") -> Table:
    """The table with columns of the types given.

    Parameters
    ----------
    types : mapping of str to str
        Column to type, as ``date:%d.%m.%Y``; columns that the table lacks do not
        count.
    unfit : {"error", "missing", "set-aside"}
        What is done with a cell that does not fit.

    Returns
    -------
    Table
        With a finding for each column that had such cells; their rows in
        ``aside`` if they were set aside.

    Raises
    ------
    SourceError
        For the first cell that does not fit, unless another is asked for.
    UsageError
        When a date could be written in several ways and the type does not say.
    """
    if unfit not in UNFIT:
        raise UsageError(
            f"{unfit!r} is nothing to do with unfit cells", remedy=suggest_name(unfit, UNFIT)
        )
    before, out = table, np.zeros(table.rows, bool)
    findings = []
    for name, text in types.items():
        type_ = declarable_type(text)
        if not table.has_column(name) or type_ == TEXT == table.column(name).declared_type:
            continue
        cells = table.chunks(name)
        if type_ != TEXT and is_text_type(cells.type):
            cells = markers_to_null(cells)
        made, declared = _converted(cells, type_, name, table)
        bad = _unfit(cells, made)
        if bad.any():
            finding = _finding(table, name, type_, cells, np.flatnonzero(bad), unfit)
            findings.append(finding)
            out |= bad
        table = table.replace_column(name, made, declared)
    table = replace(table, findings=(*table.findings, *findings))
    if unfit != "set-aside" or not out.any():
        return table
    return set_rows_aside(
        table,
        out,
        "unfit",
        "a cell does not fit its type",
        "rows with a cell that does not fit its type",
        shown=before,
    )


def _converted(
    cells: pa.ChunkedArray, wanted: ColumnType, name: str, table: Table
) -> tuple[pa.ChunkedArray, ColumnType]:
    """The cells in the type, missing where they do not fit, and the column's type then."""
    if wanted == TEXT:
        # An empty cell of a text file is a missing one, whatever its column is called.
        return build_column(
            (empty_to_null(to_text(chunk)) for chunk in cells.chunks), pa.string()
        ), TEXT
    if not is_text_type(cells.type):
        cells = build_column((to_text(chunk) for chunk in cells.chunks), pa.string())
    if wanted == DECIMAL and infer_column_type(cells) in (INTEGER, DECIMAL):
        return cells, DECIMAL  # they stand as they should: 12.50 stays 12.50
    if wanted in PLAIN:
        wanted = _found_form(cells, wanted, name, table)
    if not cells.num_chunks:
        return pa.chunked_array([], pa.string()), wanted.plain
    return build_column(
        _fitting(empty_to_null(chunk), wanted) for chunk in cells.chunks
    ), wanted.plain


def _found_form(cells: pa.ChunkedArray, wanted: ColumnType, name: str, table: Table) -> ColumnType:
    """The one way in which all cells, or else most of them, are written."""
    if wanted == DATETIME and infer_column_type(cells) == wanted:
        return _iso_form(cells)
    tally = count_values([cells])
    near_format = find_near_format(tally.texts, tally.counts, [wanted.family])
    if near_format is None:
        return wanted
    if near_format.rivals:
        forms = (near_format.form, *near_format.rivals)
        raise UsageError(
            f"the cells of {name!r} fit {len(forms)} formats: {', '.join(map(str, forms))}",
            table.name,
            wording("choose one: ", Setting("type", str(forms[0]), name)),
        )
    return near_format.form


def _iso_form(cells: pa.ChunkedArray) -> ColumnType:
    first = next((v for v in cells.slice(0, 1000).to_pylist() if v), "")
    between = "T" if "T" in first else " "
    clock = "%H:%M" + (":%S" if first.count(":") == 2 else "") + (".%f" if "." in first else "")
    return ColumnType("datetime", f"%Y-%m-%d{between}{clock}")


def _fitting(cells: pa.Array, wanted: ColumnType) -> pa.Array:
    """Cells in a type, missing where they do not fit."""
    pattern = _PATTERNS.get(wanted)
    form = None if pattern else PLAIN.get(wanted) or FORMS.get(wanted) or format_for_type(wanted)
    fits = pc.match_substring_regex(cells, pattern or form.pattern)  # type: ignore[union-attr]
    cells = pc.if_else(fits, cells, pa.scalar(None, cells.type))
    if form is not None:
        return form.read(cells)  # decimals as plain text, with all their digits
    if wanted == BOOLEAN:
        lower = pc.utf8_lower(cells)
        return pc.if_else(pc.is_valid(cells), pc.is_in(lower, pa.array(_TRUE)), None)
    if wanted == INTEGER:
        return _parse_integers(pc.utf8_ltrim(cells, "+"))
    return _plain_decimals(cells)


def _parse_integers(cells: pa.Array) -> pa.Array:
    """Texts of whole numbers as integers, missing where 64 bits do not hold them."""
    decimals = parse_decimals(cells)
    low, high, one = unify_numbers([pa.scalar(-(2**63)), pa.scalar(2**63 - 1), decimals])
    within = pc.and_(pc.greater_equal(one, low), pc.less_equal(one, high))
    return pc.if_else(within, decimals, pa.scalar(None, decimals.type)).cast(pa.int64())


def _plain_decimals(cells: pa.Array) -> pa.Array:
    """Numbers as they stand; only those with a plus, an exponent or spare zeros in front anew."""
    odd = pc.fill_null(pc.invert(pc.match_substring_regex(cells, _PLAIN_NUMBER)), False)
    if not pc.any(odd).as_py():
        return cells
    made = [_plain_decimal(text) for text in cells.filter(odd).to_pylist()]
    return pc.replace_with_mask(cells, odd, pa.array(made, cells.type))


def _plain_decimal(text: str) -> str | None:
    number = Decimal(text)
    if abs(number.adjusted()) > MOST_DIGITS:
        return None
    plain = format(number, "f")
    return plain.removeprefix("-") if not number else plain


def _unfit(before: pa.ChunkedArray, after: pa.ChunkedArray) -> np.ndarray:
    """Rows on which a cell was there before and is missing now."""
    there = [pc.fill_null(pc.not_equal(to_text(chunk), ""), False) for chunk in before.chunks]
    present = pa.chunked_array(there, pa.bool_()).to_numpy()
    lost: np.ndarray = present & after.is_null().to_numpy()
    return lost


def _finding(
    table: Table,
    name: str,
    wanted: ColumnType,
    cells: pa.ChunkedArray,
    rows: np.ndarray,
    unfit: str,
) -> Finding:
    examples = make_cell_examples(table, cells, rows)
    text = (
        f"{pluralize(len(rows), 'cell')} of {name!r} "
        f"{agreeing(len(rows), 'does', 'do')} not fit type {wanted}"
    )
    if unfit == "error":
        raise SourceError(
            f"{text}; the first is {examples[0].text}",
            f"{next(map(str, examples[0].places), table.name)}, column {name}",
            wording(
                "set such rows aside: ",
                Setting("unfit", "set-aside"),
                "; or make the cells missing: ",
                Setting("unfit", "missing"),
            ),
        )
    if unfit == "set-aside":
        done = agreeing(len(rows), "its row is set aside", "their rows are set aside")
    else:
        done = agreeing(len(rows), "it is missing", "they are missing")
    where = Location(table.name, name)
    return Finding("cell-unfit", "warning", len(rows), f"{text}; {done}", "", where, examples)
