"""Cells of a workbook that show an error instead of a value, as ``#DIV/0!``.

The reader of workbooks gives them as empty; where they stand is read from the
sheet itself, an open format (ECMA-376). Workbooks of other formats than .xlsx
do not tell.
"""

from __future__ import annotations

import posixpath
import zipfile
from collections.abc import Sequence
from pathlib import Path
from typing import IO
from xml.etree import ElementTree

from plait.core.account.finding import MOST_EXAMPLES, Example, Finding, counted

_MAIN = "{http://schemas.openxmlformats.org/spreadsheetml/2006/main}"
_LINK = "{http://schemas.openxmlformats.org/officeDocument/2006/relationships}id"
_MOST_BYTES = 1 << 30


def error_cells(path: Path, sheet: str) -> list[tuple[str, str]]:
    """Place and error of each such cell: ``[("F4", "#DIV/0!")]``."""
    try:
        with zipfile.ZipFile(path) as archive:
            member = _sheet_file(archive, sheet)
            if member is None or archive.getinfo(member).file_size > _MOST_BYTES:
                return []
            if b't="e"' not in archive.read(member):
                return []
            with archive.open(member) as file:
                return _errors(file)
    except (zipfile.BadZipFile, KeyError, ElementTree.ParseError, OSError):
        return []


def _sheet_file(archive: zipfile.ZipFile, sheet: str) -> str | None:
    book = ElementTree.fromstring(archive.read("xl/workbook.xml"))
    links = ElementTree.fromstring(archive.read("xl/_rels/workbook.xml.rels"))
    targets = {link.get("Id"): link.get("Target", "") for link in links}
    for one in book.iter(f"{_MAIN}sheet"):
        if one.get("name") == sheet:
            target = targets.get(one.get(_LINK), "")
            return posixpath.normpath(posixpath.join("/xl", target)).lstrip("/")
    return None


def _errors(file: IO[bytes]) -> list[tuple[str, str]]:
    found = []
    for _, element in ElementTree.iterparse(file):
        if element.tag == f"{_MAIN}c":
            if element.get("t") == "e":
                found.append((element.get("r", ""), element.findtext(f"{_MAIN}v", "")))
            element.clear()
    return found


def error_finding(cells: Sequence[tuple[str, str]], where: str) -> list[Finding]:
    """What is to be said about them."""
    if not cells:
        return []
    return [
        Finding(
            "cell-error",
            "warning",
            len(cells),
            f"{counted(len(cells), 'cell')} with an error instead of a value are missing",
            "put the formulas right in the workbook",
            where,
            tuple(Example(f"{place}: {error}") for place, error in cells[:MOST_EXAMPLES]),
        )
    ]
