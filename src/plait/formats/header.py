"""The header of a delimited file: the names as they stand, and names that can be used."""

from __future__ import annotations

import csv
from collections.abc import Sequence
from dataclasses import dataclass

from plait.core.errors import SourceError
from plait.core.finding import MOST_EXAMPLES, Example, Finding, counted
from plait.core.names import distinct_name

_UTF16 = (b"\xff\xfe", b"\xfe\xff")
_UTF8_MARK = b"\xef\xbb\xbf"


@dataclass(frozen=True)
class Header:
    """The first record of a file.

    Parameters
    ----------
    names : tuple of str
        As they stand in the file.
    lines : int
        Lines up to its end, blank ones above it included.
    size : int
        Bytes up to its end.
    """

    names: tuple[str, ...]
    lines: int
    size: int


def read_header(head: bytes, delimiter: str, where: str) -> Header:
    """Take the header from the first bytes of a file.

    Raises
    ------
    SourceError
        When the file is empty, or not UTF-8.
    """
    if head.startswith(_UTF16):
        raise SourceError("the text is UTF-16", where, "save it as UTF-8")
    start = len(_UTF8_MARK) if head.startswith(_UTF8_MARK) else 0
    if not head[start:].strip():
        raise SourceError("the file is empty", where, "give a file with a header and rows")
    lines = _Lines(head, start, where)
    reader = csv.reader(lines, delimiter=delimiter)
    names: list[str] = []
    try:
        while not names:
            names = next(reader)
    except csv.Error as error:
        raise SourceError(f"the header cannot be read: {error}", f"{where}, line 1") from None
    return Header(tuple(names), lines.count, lines.position)


class _Lines:
    """The lines of some bytes, as text, counting what was drawn."""

    def __init__(self, head: bytes, start: int, where: str) -> None:
        self.head, self.position, self.count, self.where = head, start, 0, where
        self.end = b"\n" if b"\n" in head else b"\r"

    def __iter__(self) -> _Lines:
        return self

    def __next__(self) -> str:
        if self.position >= len(self.head):
            raise StopIteration
        found = self.head.find(self.end, self.position)
        stop = len(self.head) if found < 0 else found + 1
        line, self.position, self.count = self.head[self.position : stop], stop, self.count + 1
        try:
            return line.decode()
        except UnicodeDecodeError:
            raise SourceError(
                "the header is not UTF-8", f"{self.where}, line {self.count}", "save it as UTF-8"
            ) from None


def usable_names(names: Sequence[str], where: str) -> tuple[list[str], list[Finding]]:
    """Names without padding, none empty and none twice, and findings about those changed.

    >>> usable_names(["hive", " kg", "", "kg"], "may.csv")[0]
    ['hive', 'kg', 'column 3', 'kg (2)']
    """
    usable: dict[str, None] = {}  # in order, and quick to look into
    changed: dict[str, list[Example]] = {"padded": [], "empty": [], "repeated": []}
    for number, name in enumerate(names, 1):
        wanted = name.strip() or f"column {number}"
        chosen = distinct_name(wanted, usable)
        for kind, happened in (
            ("padded", bool(name.strip()) and name != name.strip()),
            ("empty", not name.strip()),
            ("repeated", chosen != wanted),
        ):
            if happened:
                changed[kind].append(Example(f"column {number}: {name!r} is read as {chosen!r}"))
        usable[chosen] = None
    findings = [
        Finding(
            f"header-{kind}",
            "note" if kind == "padded" else "warning",
            len(examples),
            f"{counted(len(examples), 'header')} {kind}",
            "name the columns in the source",
            where,
            tuple(examples[:MOST_EXAMPLES]),
        )
        for kind, examples in changed.items()
        if examples
    ]
    return list(usable), findings
