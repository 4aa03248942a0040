"""Sheets of workbooks as tables."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

from plait.core.base.errors import SourceError
from plait.core.base.findings import MOST_EXAMPLES, Finding, FindingExample, Location, pluralize
from plait.core.base.limits import LIMITS, Limits
from plait.core.base.wording import Setting, wording
from plait.core.table.arrow_columns import clean_headings
from plait.core.table.fragment import RowNumbers
from plait.core.table.source_lines import SHEET_ROW, Lines, steps
from plait.core.table.table import Table, table_from_columns
from plait.core.types.column_type import DECIMAL, ColumnType
from plait.io.cells.conversion import (
    column_from_values,
    column_names_reader,
    decimals_of,
    format_value,
    report_mixed_cells,
    row_refetcher,
    type_of_text_values,
)
from plait.io.cells.head_and_foot import (
    Span,
    drop_last_rows,
    join_heading_rows,
    report_joined_headings,
    report_title_lines,
    report_total_row,
)
from plait.io.delimited.dialect import find_header_rows
from plait.io.delimited.parse import MOST_NOTES, RaggedRow, is_footnote_block, report_ragged_rows
from plait.io.places.archives import check_archive_size
from plait.io.places.fetch import open_plain_file, source_checksum
from plait.io.places.source import OnProgress, Source, TableListing
from plait.io.workbook.outline import sheet_outline
from plait.io.workbook.sheet_facts import SheetFacts, sheet_facts

_SAMPLE_ROWS = 200

fingerprint = source_checksum


@contextmanager
def _opened(path: Path, where: str, limits: Limits) -> Iterator[Any]:
    import python_calamine

    check_archive_size(path, where, limits)
    sheet_outline(path, where, limits.cells)
    book = python_calamine.CalamineWorkbook.from_path(str(path))
    try:
        yield book
    finally:
        book.close()


def _first_line(error: BaseException) -> str:
    return (str(error) or type(error).__name__).splitlines()[0][:200]


def sheet_names(path: Path, where: str, limits: Limits = LIMITS) -> tuple[list[str], list[str]]:
    """The names of the sheets that are shown and not empty, and of those that are hidden.

    Raises
    ------
    SourceError
        When it is no workbook.
    """
    check_archive_size(path, where, limits)
    sheets = sheet_outline(path, where, limits.cells)
    shown = [sheet for sheet in sheets if sheet.shown]
    if len(shown) > 1:
        shown = [s for s in shown if s.rows]
    return [one.name for one in shown], [one.name for one in sheets if not one.shown]


def read_sheet(
    path: Path,
    sheet: str,
    name: str,
    where: str,
    header: tuple[int | None, int | None] = (None, None),
    footer: int = 0,
    limits: Limits = LIMITS,
    merged_cells: str = "keep",
    as_shown: bool = False,
) -> Table:
    """Read a sheet of a workbook.

    Parameters
    ----------
    name : str
        The table's name.
    where : str
        The file and sheet, for errors and lineage.
    header : pair of int, optional
        The row of the sheet that the header begins on, from 1, and how many rows it has;
        found if not given.
    footer : int
        How many rows at the end are set aside.
    merged_cells : {"keep", "fill"}
        Of cells that are merged downwards the first has the value: leave the others empty, or
        give them the same.
    as_shown : bool
        Take numbers that are shown with zeros in front as the text that is shown.

    Returns
    -------
    Table
        From the first cell that is used to the last. A column has the type that
        all of its cells have, or is text; blank rows are passed over.

    Raises
    ------
    SourceError
        When there is no such sheet, or it is empty.
    """
    with _opened(path, where, limits) as book:
        try:
            found = book.get_sheet_by_name(sheet)
            rows, start = found.to_python(skip_empty_area=True), found.start or (0, 0)
            merged = getattr(found, "merged_cell_ranges", None) or []
        except BaseException as error:
            if isinstance(error, KeyboardInterrupt | SystemExit | MemoryError):
                raise
            raise SourceError(f"cannot read the sheet: {_first_line(error)}", where) from None
    facts = sheet_facts(path, sheet)
    if as_shown:
        _show_zeros(rows, facts, start)
    lines = [n for n, row in enumerate(rows, start[0] + 1) if any(cell != "" for cell in row)]
    filled = [rows[line - start[0] - 1] for line in lines]
    if not filled:
        raise SourceError("the sheet is empty", where, "name a sheet with a header and rows")
    place, deep = _header_rows(filled, lines, header, where)
    above = [" ".join(filter(None, map(format_value, row))) for row in filled[:place]]
    headings, body = _texts(filled[place : place + deep]), filled[place + deep :]
    below = _merged_below(rows, body, merged, start)
    if merged_cells == "fill":
        for (number, column), value in below.items():
            rows[number][column] = value
    names = join_heading_rows(headings, _spans(rows, filled[place : place + deep], merged, start))
    line, following = lines[place], next(iter(lines[place + deep :]), None)
    notes = _notes(body)
    sheet_rows = Lines(SHEET_ROW, *steps(np.array(lines[place + deep :], np.int64)))
    table = _table(names, body[: len(body) - len(notes)], name, where, following, sheet_rows)
    table = report_ragged_rows(table, notes, len(notes))
    findings = (
        *report_title_lines(above, where),
        *report_joined_headings(names, deep, line, where),
        *_hidden_finding(path, sheet, where, limits),
        *table.findings,
        *_merged_finding(below if merged_cells == "keep" else {}, names, where),
        *_fact_findings(facts, as_shown, table, where),
    )
    table = drop_last_rows(replace(table, findings=findings), footer)
    return replace(table, findings=(*table.findings, *report_total_row(table, where)))


def _hidden_finding(path: Path, sheet: str, where: str, limits: Limits) -> list[Finding]:
    """That the workbook has sheets which are not shown, and so are not read unasked."""
    hidden = [
        one.name for one in sheet_outline(path, where, limits.cells) if one.rows and not one.shown
    ]
    if not hidden or sheet in hidden:
        return []
    text = f"{pluralize(len(hidden), 'hidden sheet')} not read: {', '.join(hidden)}"
    remedy = f"to read a hidden sheet, add its name to the file: #{hidden[0]}"
    return [Finding("sheet-hidden", "note", len(hidden), text, remedy, Location(where))]


def _show_zeros(rows: list[list[Any]], facts: SheetFacts, start: tuple[int, int]) -> None:
    for (row, column), digits in facts.zeros.items():
        number, at = row - start[0], column - start[1]
        if 0 <= number < len(rows) and 0 <= at < len(rows[number]):
            rows[number][at] = str(format_value(rows[number][at])).zfill(digits)


def _merged_below(
    rows: Sequence[Sequence[Any]],
    body: Sequence[Sequence[Any]],
    merged: Sequence[Any],
    start: tuple[int, int],
) -> dict[tuple[int, int], Any]:
    """Empty cells below the first of merged ones, in rows that hold something, and its value."""
    ours = {id(row) for row in body}
    found = {}
    for first, last in merged:
        top, left = first[0] - start[0], first[1] - start[1]
        if last[0] == first[0] or not 0 <= top < len(rows) or not 0 <= left < len(rows[top]):
            continue
        for number in range(top + 1, min(last[0] - start[0] + 1, len(rows))):
            if id(rows[number]) in ours and id(rows[top]) in ours:
                found[number, left] = rows[top][left]
    return found


def _merged_finding(
    below: Mapping[tuple[int, int], Any], names: Sequence[str], where: str
) -> list[Finding]:
    if not below:
        return []
    columns = sorted({names[column] for _, column in below if column < len(names)})
    return [
        Finding(
            "cells-merged",
            "warning",
            len(below),
            f"{pluralize(len(below), 'cell')} of {', '.join(columns)} merged with the cell above "
            "are empty: only the first of merged cells has a value",
            wording("to give all of them its value: ", Setting("merged", "fill")),
            Location(where),
        )
    ]


def _fact_findings(
    facts: SheetFacts, as_shown: bool, table: Table, where: str
) -> Iterator[Finding]:
    """Errors, formulas that were never calculated, and zeros that only the sheet shows."""
    if facts.errors:
        yield Finding(
            "cell-error",
            "warning",
            len(facts.errors),
            f"{pluralize(len(facts.errors), 'cell')} with a spreadsheet error read as missing",
            "fix the formulas in the workbook",
            Location(where),
            tuple(
                FindingExample(f"{place}: {error}") for place, error in facts.errors[:MOST_EXAMPLES]
            ),
        )
    if facts.uncalculated:
        empty = [name for name in table.column_names if table.chunks(name).null_count == table.rows]
        count = len(facts.uncalculated)
        yield Finding(
            "formula-uncalculated",
            "error" if empty else "warning",
            count,
            f"{pluralize(count, 'formula')} never calculated, read as missing"
            + (f"; nothing else is in {', '.join(empty)}" if empty else ""),
            "open the workbook in a spreadsheet program, which calculates them, and save it",
            Location(where),
            tuple(map(FindingExample, facts.uncalculated[:MOST_EXAMPLES])),
        )
    if facts.zeros and not as_shown:
        yield Finding(
            "zeros-shown",
            "warning",
            len(facts.zeros),
            f"{pluralize(len(facts.zeros), 'number')} shown with zeros in front, which only their "
            "format has: 42 shown as 00042",
            wording("to read them as displayed: ", Setting("as_shown", True)),
            Location(where),
        )


def _notes(body: Sequence[Sequence[Any]]) -> list[RaggedRow]:
    """Rows at the end that hold words in their first cell and nothing else: notes."""
    ragged_rows: list[RaggedRow] = []
    for number in range(len(body) - 1, max(0, len(body) - MOST_NOTES - 1), -1):
        first, *others = body[number]
        note = RaggedRow(number, 1, format_value(first) or "")
        if not others or any(cell != "" for cell in others) or not is_footnote_block([note]):
            break
        ragged_rows.append(note)
    return ragged_rows[::-1]


def _texts(rows: Sequence[Sequence[Any]]) -> list[list[str]]:
    return [[format_value(cell) or "" for cell in row] for row in rows]


def _spans(
    rows: Sequence[Sequence[Any]],
    headings: Sequence[Sequence[Any]],
    merged: Sequence[Any],
    start: tuple[int, int],
) -> list[list[Span]] | None:
    """For each row of headings the columns of its merged cells; nothing where none has any."""
    spans = []
    for heading in headings:
        row = start[0] + next(n for n, r in enumerate(rows) if r is heading)
        spans.append(
            [
                (first[1] - start[1], last[1] - start[1])
                for first, last in merged
                if first[0] <= row <= last[0]
            ]
        )
    return spans if any(spans[:-1]) else None


def _header_rows(
    filled: Sequence[Sequence[Any]],
    lines: Sequence[int],
    header: tuple[int | None, int | None],
    where: str,
) -> tuple[int, int]:
    """Which of the rows that are not blank the header begins on, and how many it has."""
    given, deep = header
    if given is None:
        return find_header_rows(_texts(filled[:_SAMPLE_ROWS]))
    if given not in lines:
        raise SourceError(
            f"row {given} of the sheet is blank",
            where,
            wording("name another: ", Setting("header_line", "N")),
        )
    place = lines.index(given)
    return place, min(deep or 1, len(filled) - place)


def _table(
    header: Sequence[str],
    body: Sequence[Sequence[Any]],
    name: str,
    where: str,
    following: int | None,
    sheet_rows: Lines,
) -> Table:
    columns = list(zip(*body, strict=False)) if body else [()] * len(header)
    kept = [
        n for n, cells in enumerate(columns) if header[n].strip() or any(c != "" for c in cells)
    ]
    names, findings = clean_headings([header[n] for n in kept], where, following)
    stored: dict[str, Any] = {}
    decimals: dict[str, ColumnType | None] = {}
    for column, number in zip(names, kept, strict=True):
        cells = stored[column] = column_from_values(columns[number])
        if pa.types.is_floating(cells.type):
            # A sheet keeps 15 digits, and shows these: decimals, and no nearest doubles of them.
            texts = decimals_of(pa.chunked_array([cells]))
            if texts is not None:
                stored[column], decimals[column] = texts, DECIMAL
    table = table_from_columns(name, stored, where).with_lines(sheet_rows)
    for column, number in zip(names, kept, strict=True):
        findings += report_mixed_cells(column, columns[number], table, where)
    if not body:
        findings.append(
            Finding("no-rows", "warning", 0, "a header and no rows", where=Location(where))
        )
    types: dict[str, ColumnType | None] = {
        column: type_of_text_values(pa.chunked_array([stored[column]]))
        for column, number in zip(names, kept, strict=True)
        if columns[number] and all(isinstance(cell, str) for cell in columns[number])
    }
    return replace(table.with_types({**types, **decimals}), findings=tuple(findings))


def tables(source: Source) -> TableListing:
    """The sheets, the hidden ones apart."""
    with open_plain_file(source) as file:
        shown, hidden = sheet_names(file, source.where, source.options.limits)
    return TableListing(tuple(shown), tuple(hidden), "sheet")


def read(source: Source, on_progress: OnProgress) -> Table:
    """The cells of a sheet."""
    read_options = source.options
    lines = read_options.dialect.header_line, read_options.dialect.header_rows
    with open_plain_file(source) as file:
        table = read_sheet(
            file,
            source.part,
            source.name,
            source.where,
            lines,
            read_options.footer,
            read_options.limits,
            read_options.merged,
            read_options.as_shown,
        )
    on_progress(source.size)
    return replace(table, read_as="a sheet of a workbook")


def read_rows(source: Source, rows: RowNumbers) -> None:
    """Only the whole can be read."""


def first(source: Source, rows: int) -> None:
    """A sheet has to be read whole."""


columns = column_names_reader(read)
rows_at = row_refetcher(read)
