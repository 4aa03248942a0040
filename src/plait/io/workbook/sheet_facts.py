"""What the reader of workbooks does not give: errors, formulas without a value, shown zeros.

The reader gives a cell with an error, and a formula that was never calculated, as empty, and a
number without its format. Where they stand is read from the sheet itself, an open format
(ECMA-376). Workbooks of other formats than .xlsx do not tell.
"""

from __future__ import annotations

import posixpath
import re
import zipfile
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import IO
from xml.etree import ElementTree

_MAIN = "{http://schemas.openxmlformats.org/spreadsheetml/2006/main}"
_LINK = "{http://schemas.openxmlformats.org/officeDocument/2006/relationships}id"
_MOST_BYTES = 1 << 30
# What shows, without parsing, that a sheet may have such cells: most have none.
_ERROR = b't="e"'
_NO_VALUE = re.compile(rb"(</f>|<f\b[^>]*/>)\s*(<v\s*/>|<v></v>)?\s*</c>")
_ZEROS = re.compile(r"0{2,}")


@dataclass(frozen=True)
class SheetFacts:
    """Cells of a sheet that its values do not tell of.

    Parameters
    ----------
    errors : tuple of (str, str)
        Place and error: ``("F4", "#DIV/0!")``.
    uncalculated : tuple of str
        Places of formulas without a value.
    zeros : mapping of (int, int) to int
        Row and column, from 0, of numbers that are shown with zeros in front, and how many
        digits are shown.
    """

    errors: tuple[tuple[str, str], ...] = ()
    uncalculated: tuple[str, ...] = ()
    zeros: Mapping[tuple[int, int], int] = field(default_factory=dict)


def sheet_facts(path: Path, sheet: str) -> SheetFacts:
    """Read what the values of a sheet do not tell; nothing for other formats than .xlsx."""
    try:
        with zipfile.ZipFile(path) as archive:
            member = _sheet_file(archive, sheet)
            if member is None or archive.getinfo(member).file_size > _MOST_BYTES:
                return SheetFacts()
            styles = _zero_styles(archive)
            data = archive.read(member)
            styled = any(b's="%d"' % number in data for number in styles)
            if _ERROR not in data and not styled and not _NO_VALUE.search(data):
                return SheetFacts()
            with archive.open(member) as file:
                return _facts(file, styles)
    except (zipfile.BadZipFile, KeyError, ValueError, ElementTree.ParseError, OSError):
        return SheetFacts()


def _sheet_file(archive: zipfile.ZipFile, sheet: str) -> str | None:
    book = ElementTree.fromstring(archive.read("xl/workbook.xml"))
    links = ElementTree.fromstring(archive.read("xl/_rels/workbook.xml.rels"))
    targets = {link.get("Id"): link.get("Target", "") for link in links}
    for one in book.iter(f"{_MAIN}sheet"):
        if one.get("name") == sheet:
            target = targets.get(one.get(_LINK), "")
            return posixpath.normpath(posixpath.join("/xl", target)).lstrip("/")
    return None


def _zero_styles(archive: zipfile.ZipFile) -> dict[int, int]:
    """The numbers of the styles that show zeros in front, and how many digits each shows."""
    try:
        root = ElementTree.fromstring(archive.read("xl/styles.xml"))
    except KeyError:
        return {}
    formats = {
        one.get("numFmtId"): one.get("formatCode", "") for one in root.iter(f"{_MAIN}numFmt")
    }
    styles = root.find(f"{_MAIN}cellXfs")
    codes = [] if styles is None else [formats.get(style.get("numFmtId"), "") for style in styles]
    return {number: len(code) for number, code in enumerate(codes) if _ZEROS.fullmatch(code)}


def _facts(file: IO[bytes], styles: Mapping[int, int]) -> SheetFacts:
    errors, uncalculated, zeros = [], [], {}
    for _, cell in ElementTree.iterparse(file):
        if cell.tag != f"{_MAIN}c":
            continue
        place, value = cell.get("r", ""), cell.findtext(f"{_MAIN}v", "")
        if cell.get("t") == "e":
            errors.append((place, value))
        elif not value and cell.find(f"{_MAIN}f") is not None:
            uncalculated.append(place)
        elif cell.get("t", "n") == "n" and value.isdecimal():
            digits = styles.get(int(cell.get("s", "0")), 0)
            if digits > len(value):
                zeros[_position(place)] = digits
        cell.clear()
    return SheetFacts(tuple(errors), tuple(uncalculated), zeros)


def _position(place: str) -> tuple[int, int]:
    """The row and the column of a place, from 0.

    >>> _position("AB7")
    (6, 27)
    """
    letters = place.rstrip("0123456789")
    column = 0
    for letter in letters:
        column = column * 26 + ord(letter) - ord("A") + 1
    return int(place[len(letters) :]) - 1, column - 1
