"""Writing workbooks (.xlsx): a sheet for each table, every cell in its type."""

from __future__ import annotations

import datetime as dt
import math
import re
import zipfile
from collections.abc import Callable, Mapping, Sequence
from decimal import MAX_PREC, Context, Decimal
from html import unescape
from pathlib import Path
from typing import Any

from plait.core.base.errors import OutputError
from plait.core.base.findings import Finding, pluralize
from plait.core.base.names import unused_name
from plait.core.table.table import Table
from plait.io.cells.conversion import (
    SURE_DIGITS,
    convert_in_row_groups,
    infer_types,
    report_missing_markers,
    with_texts,
)
from plait.io.places.partial_files import scratch_folder

MOST_ROWS, MOST_COLUMNS, MOST_SIGNS = 1_048_576, 16_384, 32_767
_GROUP = 1 << 14
_EXACT = Context(prec=MAX_PREC)
_FORMATS = {
    dt.datetime: "yyyy-mm-dd hh:mm:ss",
    dt.date: "yyyy-mm-dd",
    dt.time: "hh:mm:ss",
}
_OPTIONS = {
    "constant_memory": True,
    "strings_to_numbers": False,
    "strings_to_formulas": False,
    "strings_to_urls": False,
    "default_date_format": _FORMATS[dt.datetime],
}
_FIRST_YEAR = 1900
_WIDEST = 60  # signs of a column: longer texts are wrapped
_LOOKED_AT = 1000  # rows that say how wide a column is
_FILTER_SIGN = 3  # signs that the sign of a filter takes of a heading
_MOST_BYTES = 1 << 20
_MARK = "Written by Plait"


class _Heading:
    """What the format of headings is kept under."""


class _LongText:
    """What the format of texts that are wrapped is kept under."""


OnProgress = Callable[[int], None]


def check_fits(tables: Mapping[str, Table], target: Path) -> None:
    """See that tables fit into sheets, before anything is written.

    Raises
    ------
    OutputError
        When one has more rows or columns than a sheet holds.
    """
    for name, table in tables.items():
        if table.rows + 1 > MOST_ROWS or len(table.columns) > MOST_COLUMNS:
            raise OutputError(
                f"{name} has {table.rows:,} rows and {len(table.columns):,} columns, but a sheet "
                f"holds {MOST_ROWS - 1:,} and {MOST_COLUMNS:,}",
                str(target),
                "write it as .parquet or .csv",
            )


def check_replaced(target: Path, name: str) -> None:
    """See that no sheets of somebody else's workbook would be lost.

    Raises
    ------
    OutputError
        When the workbook that is there was not written by Plait and has other
        sheets than the one that is written.
    """
    try:
        with zipfile.ZipFile(target) as parts:
            if _MARK.encode() in _part(parts, "docProps/custom.xml"):
                return
            found = re.findall(rb'<sheet [^>]*?name="([^"]*)"', _part(parts, "xl/workbook.xml"))
    except (OSError, zipfile.BadZipFile):
        return  # it is no workbook that could hold anything
    sheets = [unescape(f.decode("utf-8", "replace")) for f in found]
    names = [sheet for sheet in sheets if sheet != name]
    if names:
        raise OutputError(
            f"this workbook was not written by Plait, and {pluralize(len(names), 'sheet')} of it "
            f"would be lost: {', '.join(names[:5])}{' …' if len(names) > 5 else ''}",
            str(target),
            "write to another file",
        )


def _part(parts: zipfile.ZipFile, name: str) -> bytes:
    try:
        with parts.open(name) as file:
            return file.read(_MOST_BYTES)
    except KeyError:
        return b""


def write_workbook(
    tables: Mapping[str, Table], target: Path, on_progress: OnProgress = lambda _: None
) -> list[Finding]:
    """Write tables as the sheets of a workbook.

    Parameters
    ----------
    tables : mapping of str to Table
        By the names of their sheets. Text is never taken for a formula, a link or
        a number.
    on_progress : callable
        Told how many rows were written, each time.

    Raises
    ------
    OutputError
        For a text longer than a cell holds; row and column are named.
    """
    import xlsxwriter
    from xlsxwriter.exceptions import FileCreateError

    with scratch_folder() as room:
        try:
            with xlsxwriter.Workbook(str(target), {**_OPTIONS, "tmpdir": str(room)}) as book:
                return _filled(book, tables, on_progress)
        except FileCreateError as error:
            below = error.__context__
            raise below if isinstance(below, OSError) else OSError(str(error)) from None


def _filled(book: Any, tables: Mapping[str, Table], on_progress: OnProgress) -> list[Finding]:
    """Make a sheet of each table."""
    # Or the hour of writing is in it, and the same table gives another file.
    book.set_properties({"created": dt.datetime(2000, 1, 1)})
    book.set_custom_property(_MARK, "yes")
    formats = {kind: book.add_format({"num_format": text}) for kind, text in _FORMATS.items()}
    formats[_Heading] = book.add_format({"bold": True})
    formats[_LongText] = book.add_format({"text_wrap": True, "valign": "top"})
    findings: list[Finding] = []
    taken: list[str] = []
    for name, table in tables.items():
        taken.append(sheet_name(name, taken))
        sheet = book.add_worksheet(taken[-1])
        findings += _fill(sheet, table, formats, on_progress)
    return findings


def sheet_name(name: str, taken: Sequence[str]) -> str:
    """At most 31 signs, none of those that a sheet's name may not have, and no other's."""
    plain = "".join("-" if n in "[]:*?/\\" else n for n in name).strip("'")[:25]
    return unused_name(plain or "sheet", taken)


def _fill(
    sheet: Any, table: Table, formats: Mapping[type, Any], on_progress: OnProgress
) -> list[Finding]:
    sheet.freeze_panes(1, 0)
    for column, name in enumerate(table.column_names):
        _put(sheet, 0, column, name, formats, name, formats[_Heading])
    widths = [len(name) + _FILTER_SIGN for name in table.column_names]
    row, typing = 0, with_texts(infer_types(table), table.column_names)
    for group in convert_in_row_groups(typing, _GROUP):
        columns = (
            map(_sure_number, column.to_pylist()) if name in typing.texts else column.to_pylist()
            for name, column in zip(group.column_names, group.columns, strict=True)
        )
        for cells in zip(*columns, strict=True):
            row += 1
            for column, value in enumerate(cells):
                if value is not None:
                    long = isinstance(value, str) and len(value) > _WIDEST
                    style = formats[_LongText] if long else None
                    _put(sheet, row, column, value, formats, table.column_names[column], style)
                    if row <= _LOOKED_AT:
                        widths[column] = max(widths[column], _signs(value))
        on_progress(group.num_rows)
    for column, width in enumerate(widths):
        sheet.set_column(column, column, min(width, _WIDEST) + 1)
    if table.columns:
        sheet.autofilter(0, 0, row, len(table.columns) - 1)
    return report_missing_markers(typing)


def _signs(value: Any) -> int:
    """How wide a value is shown: the longest of its lines."""
    kind = type(value)
    text = _FORMATS[kind] if kind in _FORMATS else str(value)
    return max(map(len, text.split("\n")))


def _put(
    sheet: Any,
    row: int,
    column: int,
    value: Any,
    formats: Mapping[type, Any],
    name: str,
    style: Any = None,
) -> None:
    if isinstance(value, bool):
        sheet.write_boolean(row, column, value)
    elif isinstance(value, str):
        if len(value) > MOST_SIGNS:
            raise OutputError(
                f"a text of {len(value):,} characters is too long; a workbook cell holds "
                f"{MOST_SIGNS:,}",
                f"row {row:,}, column {name}",
                "write it as .parquet or .csv",
            )
        if value:
            sheet.write_string(row, column, value, style)
    elif type(value) in formats and getattr(value, "year", _FIRST_YEAR) >= _FIRST_YEAR:
        if isinstance(value, dt.datetime) and value.tzinfo is not None:
            value = value.astimezone(dt.UTC).replace(tzinfo=None)
        sheet.write_datetime(row, column, value, formats[type(value)])
    elif _is_number(value):
        sheet.write_number(row, column, float(value))
    else:
        text = format(value, "f") if isinstance(value, Decimal) else str(value)
        sheet.write_string(row, column, text)


def _sure_number(text: str | None) -> Decimal | str | None:
    """The decimal that a text is, where a spreadsheet gives it back; else the text as it stands."""
    number = None if text is None else Decimal(text)
    return number if number is None or _is_number(number) else text


def _is_number(value: Any) -> bool:
    """Whether a spreadsheet, which keeps 15 digits, gives the number back."""
    if isinstance(value, float):
        return math.isfinite(value)
    if isinstance(value, Decimal):
        return len(value.normalize(_EXACT).as_tuple().digits) <= SURE_DIGITS
    return isinstance(value, int) and len(str(abs(value))) <= SURE_DIGITS
