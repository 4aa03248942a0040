"""The header of a delimited file: the names as they stand, and names that can be used."""

from __future__ import annotations

import csv
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import islice

from plait.core.account.errors import SourceError
from plait.core.account.finding import MOST_EXAMPLES, Example, Finding, agreeing, counted
from plait.formats.cells.headrows import joined


@dataclass(frozen=True)
class Header:
    """The first record of a file, and what is above it.

    Parameters
    ----------
    names : tuple of str
        As they are in the file.
    lines : int
        Lines up to its end, those above it included.
    size : int
        Bytes up to its end.
    above : tuple of str
        The lines above that are not blank.
    """

    names: tuple[str, ...]
    lines: int
    size: int
    above: tuple[str, ...] = ()


def read_header(head: bytes, delimiter: str, where: str, line: int = 1, rows: int = 1) -> Header:
    """Take the header from the first bytes of a file.

    Parameters
    ----------
    head : bytes
        UTF-8, without a byte-order mark.
    delimiter : str
    where : str
        The file, for errors.
    line : int
        The line that it begins on, from 1; blank ones are passed over.
    rows : int
        In how many rows the headings stand.

    Raises
    ------
    SourceError
        When there is no such line, or it is not UTF-8 or does not end.
    """
    lines = _Lines(head, where)
    above = [text.strip() for text in islice(lines, line - 1)]
    reader = csv.reader(lines, delimiter=delimiter)
    above_each: list[list[str]] = []
    try:
        while len(above_each) < rows:
            above_each += filter(None, [next(reader)])
    except StopIteration:
        raise SourceError(
            "no header found", f"{where}, line {line:,}", "give a file with a header and rows"
        ) from None
    except csv.Error as error:
        said = (
            "a carriage return occurs in the middle of a line"
            if "new-line" in str(error)
            else error
        )
        raise SourceError(
            f"cannot read the header: {said}",
            f"{where}, line {line}",
            "use one line ending throughout, or quote the cell that contains it",
        ) from None
    width = max(map(len, above_each))
    names = [cells + [""] * (width - len(cells)) for cells in above_each]
    named = joined(names) if rows > 1 else names[0]
    return Header(tuple(named), lines.count, lines.position, tuple(filter(None, above)))


class _Lines:
    """The lines of some bytes, as text, counting what was drawn."""

    def __init__(self, head: bytes, where: str) -> None:
        self.head, self.position, self.count, self.where = head, 0, 0, where
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
                "the header is not UTF-8",
                f"{self.where}, line {self.count}",
                "name its encoding: --encoding windows-1252",
            ) from None


def title_finding(above: Sequence[str], where: str) -> list[Finding]:
    """What is to be said when lines are above the header."""
    if not above:
        return []
    were = agreeing(len(above), "was", "were")
    return [
        Finding(
            "title-lines",
            "note",
            len(above),
            f"{counted(len(above), 'line')} above the header {were} skipped",
            "if the header is on another line: --header-line N",
            where,
            tuple(Example(line) for line in above[:MOST_EXAMPLES]),
        )
    ]
