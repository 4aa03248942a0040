"""Small files of every format, made for the tests."""

from __future__ import annotations

import bz2
import datetime as dt
import gzip
import json
import lzma
import sqlite3
import zipfile
from contextlib import closing, nullcontext
from pathlib import Path

import pyarrow as pa
import pyarrow.feather
import pyarrow.parquet
import xlsxwriter

HIVES = {
    "hive": [3, 4],
    "kg": [1.5, None],
    "seen": [dt.date(2031, 4, 5), dt.date(2031, 4, 6)],
    "id": ["007", "08"],
    "calm": [True, False],
}


def workbook(
    path: Path, sheets: dict[str, list[list[object]]], hidden: tuple[str, ...] = ()
) -> None:
    """A workbook whose tables start in B3."""
    with xlsxwriter.Workbook(str(path)) as book:
        date = book.add_format({"num_format": "yyyy-mm-dd"})
        for name, rows in sheets.items():
            sheet = book.add_worksheet(name)
            if name in hidden:
                sheet.hide()
            for number, row in enumerate(rows, 2):
                for column, value in enumerate(row, 1):
                    if isinstance(value, dt.date):
                        sheet.write_datetime(number, column, value, date)
                    elif isinstance(value, str) and value.startswith("="):
                        sheet.write_formula(number, column, value, None, "#DIV/0!")
                    elif value is not None:
                        sheet.write(number, column, value)


def rows_of_hives() -> list[list[object]]:
    """The hives as rows, the header first."""
    return [list(HIVES), *map(list, zip(*HIVES.values(), strict=True))]


def open_sheet(path: Path) -> None:
    """A minimal .ods file (OpenDocument 1.2) with a sheet of two columns."""
    cells = [["hive", "kg"], ["A", "1.5"], ["B", ""]]
    rows = "".join(
        "<table:table-row>"
        + "".join(
            '<table:table-cell office:value-type="string">'
            f"<text:p>{cell}</text:p></table:table-cell>"
            for cell in row
        )
        + "</table:table-row>"
        for row in cells
    )
    names = " ".join(
        f'xmlns:{name}="urn:oasis:names:tc:opendocument:xmlns:{name}:1.0"'
        for name in ("office", "table", "text")
    )
    content = (
        f'<?xml version="1.0"?><office:document-content {names} office:version="1.2"><office:body>'
        f'<office:spreadsheet><table:table table:name="Hives">{rows}</table:table>'
        "</office:spreadsheet></office:body></office:document-content>"
    )
    with zipfile.ZipFile(path, "w") as archive:
        archive.writestr("mimetype", "application/vnd.oasis.opendocument.spreadsheet")
        archive.writestr("content.xml", content)
        archive.writestr("META-INF/manifest.xml", "<manifest/>")


def arrow_table() -> pa.Table:
    """The hives with their types."""
    return pa.table(HIVES)


def every_format(folder: Path) -> dict[str, Path]:
    """The hives in every format that has types."""
    paths = {e: folder / f"hives.{e}" for e in ("parquet", "arrow", "jsonl", "json", "xlsx", "db")}
    pa.parquet.write_table(arrow_table(), paths["parquet"])
    pa.feather.write_feather(arrow_table(), paths["arrow"])
    records = [
        {**record, "seen": record["seen"].isoformat()} for record in arrow_table().to_pylist()
    ]
    paths["jsonl"].write_text("\n".join(map(json.dumps, records)))
    paths["json"].write_text(json.dumps(records))
    workbook(paths["xlsx"], {"Hives": rows_of_hives()})
    with closing(sqlite3.connect(paths["db"])) as base, base:
        base.execute("CREATE TABLE hives (hive INTEGER, kg REAL, seen TEXT, id TEXT, calm INTEGER)")
        base.executemany("INSERT INTO hives VALUES (:hive, :kg, :seen, :id, :calm)", records)
    return paths


PACKERS = {
    "gz": gzip.compress,
    "bz2": bz2.compress,
    "xz": lzma.compress,
    "zst": lambda data: pa.compress(data, "zstd", asbytes=True),
}


class Quiet:
    """The phases of a job that nobody watches."""

    def phase(self, name: str, total: float | None = None):
        return nullcontext(lambda _: None)
