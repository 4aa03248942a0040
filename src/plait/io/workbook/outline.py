"""The sheets of a workbook and how far they reach, found out by a process of its own.

A few changed bytes, or one stray cell far out, make a sheet of billions of
cells; whoever reads it then runs out of memory and ends. So that is tried first
where nothing is lost, with little memory.
"""

from __future__ import annotations

import json
import re
import subprocess
import sys
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

from plait.core.base.errors import SourceError
from plait.core.base.limits import LIMITS, LimitExceededError
from plait.core.base.names import printable_path

_HEAD_BYTES = 512
_WORKBOOKS = (b"PK", b"\xd0\xcf\x11\xe0")  # zip archives; the older format's container
_MOST_MEMORY, _LEAST_MEMORY, _MEMORY_A_BYTE = 4 << 30, 1 << 30, 2000
_LEAST_SECONDS, _SECONDS_A_MEBIBYTE = 60, 10
_LEAST_WORK = 8  # seconds of the processor's, which do not depend on what else it does
_LOOK = """
import json, sys
try:
    import resource
    resource.setrlimit(resource.RLIMIT_AS, (int(sys.argv[2]),) * 2)
    resource.setrlimit(resource.RLIMIT_CPU, (int(sys.argv[3]),) * 2)
except (ImportError, ValueError):
    pass
import python_calamine
book = python_calamine.CalamineWorkbook.from_path(sys.argv[1])
found = []
for one in book.sheets_metadata:
    if str(one.typ).endswith(".WorkSheet"):
        sheet = book.get_sheet_by_name(one.name)
        found.append((one.name, str(one.visible).endswith(".Visible"), sheet.height, sheet.width))
print(json.dumps(found))
"""


@dataclass(frozen=True)
class Sheet:
    """A sheet: its name, whether it is shown, the rows and columns that are used."""

    name: str
    shown: bool
    rows: int
    columns: int


# What the library says, and what that means to who made the file.
_MEANINGS = (
    (
        r"EOCD|[Ii]nvalid [Zz]ip|zip archive",
        "the end of the file is missing: it is incomplete or damaged",
    ),
    (r"Cfb error|Invalid OLE", "not a workbook of the older kind (.xls), or damaged"),
    (r"[Ff]ile not found|not found in archive", "an archive, but not a workbook"),
)


def _in_words(fault: str) -> str:
    """What is wrong with a workbook; as the library puts it where it is not known."""
    return next((said for pattern, said in _MEANINGS if re.search(pattern, fault)), fault)


def sheet_outline(path: Path, where: str, most: int = LIMITS.cells) -> tuple[Sheet, ...]:
    """The sheets of a workbook.

    Raises
    ------
    SourceError
        When it is no workbook, or a sheet reaches so far that it cannot be read.
    """
    _check_is_workbook(path, where)
    size = path.stat()
    sheets, fault = _looked(str(path), size.st_mtime_ns, size.st_size)
    if fault:
        raise SourceError(
            f"cannot read the workbook: {_in_words(fault)}",
            where,
            "open it in a spreadsheet program and save it again, without a password",
        )
    for sheet in sheets:
        if sheet.rows * sheet.columns > most:
            raise LimitExceededError(
                "cells",
                f"sheet {sheet.name!r} reaches over {sheet.rows:,} rows and {sheet.columns:,} "
                "columns, perhaps for a stray cell far out",
                where,
            )
    return sheets


def _check_is_workbook(path: Path, where: str) -> None:
    """Check that a file is what its ending says, by how it begins.

    Raises
    ------
    SourceError
    """
    with path.open("rb") as file:
        head = file.read(_HEAD_BYTES)
    if head.startswith(_WORKBOOKS) or not head:
        return
    if re.match(rb"\s*(\xef\xbb\xbf)?\s*<", head):
        raise SourceError(
            "this is a page of HTML or XML with the ending of a workbook",
            where,
            "open it in a spreadsheet program and save it as .xlsx",
        )
    if b"\0" not in head:
        raise SourceError(
            "this is text with the ending of a workbook",
            where,
            f"if it is delimited text, rename it: {printable_path(path.with_suffix('.csv').name)}",
        )


@lru_cache(maxsize=64)
def _looked(path: str, changed: int, size: int) -> tuple[tuple[Sheet, ...], str]:
    """The sheets, or what is wrong."""
    work = _LEAST_WORK + _SECONDS_A_MEBIBYTE * (size >> 20)
    seconds = _LEAST_SECONDS + _SECONDS_A_MEBIBYTE * (size >> 20)
    memory = min(_MOST_MEMORY, _LEAST_MEMORY + _MEMORY_A_BYTE * size)
    try:
        ended = subprocess.run(
            [sys.executable, "-c", _LOOK, path, str(memory), str(work)],
            capture_output=True,
            text=True,
            timeout=seconds,
            stdin=subprocess.DEVNULL,
        )
    except subprocess.TimeoutExpired:
        return (), f"reading takes longer than {seconds} seconds"
    if ended.returncode == 0:
        return tuple(Sheet(*load) for load in json.loads(ended.stdout)), ""
    if "CalamineError" in ended.stderr or "Error:" in ended.stderr:
        return (), ended.stderr.strip().splitlines()[-1].partition(": ")[2][
            :200
        ] or "the file is damaged"
    return (), "the file is damaged, or a sheet needs far more memory or time than its size allows"
