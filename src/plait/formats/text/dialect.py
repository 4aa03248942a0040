"""How a delimited file is written: encoding, delimiter, quotes, and where its header stands."""

from __future__ import annotations

import codecs
import csv
import io
import re
from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from typing import Any

from plait.core.account.errors import SourceError
from plait.core.types.kinds import looks_typed
from plait.formats.cells.headrows import in_two_rows
from plait.formats.places.given import DELIMITERS, Dialect
from plait.formats.text.encoding import byte_order_mark, settled

_LONGEST_CELL = 1 << 30
_SAMPLE_BYTES = 1 << 15
_SAMPLE_RECORDS = 100
_MOST_TITLES = 30
_LEAST_SHARE = 0.9
_LEAST_AGREEMENT = 0.75  # so that a short file with a ragged row is seen for what it is


def find_dialect(head: bytes, given: Dialect, usual: str, where: str) -> Dialect:
    """Find out what is not given, from the first bytes of a file.

    Parameters
    ----------
    head : bytes
        The first part of the file, up to a mebibyte or so.
    given : Dialect
    usual : str
        The delimiter that the file's ending stands for; taken when nothing
        speaks for another.
    where : str
        The file, for errors.

    Returns
    -------
    Dialect
        With nothing left out.

    Raises
    ------
    SourceError
        For an empty file.
    """
    encoding = settled(given.encoding, head)
    text = _text(head[:_SAMPLE_BYTES], encoding)
    if not text.strip():
        raise SourceError("the file is empty", where, "give a file with a header and rows")
    quote = given.quote or _quote(text)
    escape = _escape(text, quote) if given.escape is None else given.escape
    found = replace(given, encoding=encoding, quote=quote, escape=escape)
    if found.delimiter is None:
        found = replace(found, delimiter=_delimiter(text, found, usual))
    if found.header_line is None:
        line, rows = _header_lines(sample_records(text, found))
        found = replace(found, header_line=line, header_rows=rows)
    return found


def _text(head: bytes, encoding: str) -> str:
    """The head as text, without a byte-order mark and a letter that was cut off."""
    marked = byte_order_mark(head)
    decoder = codecs.getincrementaldecoder(encoding)("replace")
    return decoder.decode(head[marked[1] :] if marked else head)


@dataclass(frozen=True)
class Record:
    """A record of a sample: the line it begins on, from 1, and its cells."""

    line: int
    cells: tuple[str, ...]

    @property
    def filled(self) -> int:
        """How many cells are not blank."""
        return sum(bool(cell.strip()) for cell in self.cells)


def sample_records(text: str, dialect: Dialect) -> list[Record]:
    """The first records of a text, blank lines not counted; a last one cut short is left out."""
    lines = io.StringIO(text, newline="")
    reader = csv_reader(lines, **reader_options(dialect))
    records: list[Record] = []
    begin = 0
    try:
        for cells in reader:
            if cells:
                records.append(Record(begin + 1, tuple(cells)))
            begin = reader.line_num
            if len(records) >= _SAMPLE_RECORDS:
                return records
    except csv.Error:
        return records
    return records[:-1] if len(records) > 1 and not text.endswith(("\n", "\r")) else records


def csv_reader(lines: Iterable[str], **options: Any) -> Any:
    """The standard library's reader, for cells of up to a gibibyte."""
    csv.field_size_limit(_LONGEST_CELL)  # for the whole process: the library has no other
    return csv.reader(lines, **options)


def reader_options(dialect: Dialect) -> dict[str, Any]:
    """A dialect as the standard library's ``csv.reader`` takes it."""
    return {
        "delimiter": dialect.delimiter,
        "quotechar": dialect.quote,
        "escapechar": dialect.escape or None,
        "doublequote": not dialect.escape,
    }


def _quote(text: str) -> str:
    """A single quote when all cells of the first line are in such, and no double one is there."""
    if "'" not in text or '"' in text:
        return '"'
    first = next(filter(None, map(str.strip, text.splitlines())), "")
    return "'" if re.fullmatch(r"'[^']*'(?:[,;\t|]'[^']*')*", first) else '"'


def _escape(text: str, quote: str) -> str:
    """A backslash when quotes are behind one, inside a cell, and none is doubled there."""
    if "\\" not in text:
        return ""
    # Where quotes are doubled, the one behind a backslash has another or the cell's end behind it.
    escaped = re.search(rf"[^\\,;\t|\r\n]\\{quote}[^{quote},;\t|\r\n]", text)
    doubled = re.search(rf"[^{quote},;\t|\r\n]{quote}{quote}[^{quote},;\t|\r\n]", text)
    return "\\" if escaped and not doubled else ""


def _delimiter(text: str, dialect: Dialect, usual: str) -> str:
    """The delimiter that gives nearly all first records one number of cells, more than one.

    One that splits the very first record so as well goes before one that does
    not, and then the usual one before others.
    """
    best, best_rank = usual, (False, 0.0)
    for sign in (usual, *(sign for sign in DELIMITERS.values() if sign != usual)):
        records = sample_records(text, replace(dialect, delimiter=sign))
        width, share = _agreement(records)
        first = bool(records) and len(records[0].cells) == width
        titled = first or header_place([record.cells for record in records]) > 0
        rank = (first, share)
        if width > 1 and share >= _LEAST_AGREEMENT and titled and _clearly(rank, best_rank):
            best, best_rank = sign, rank
        if best_rank == (True, 1.0):
            break
    return best


def _clearly(rank: tuple[bool, float], other: tuple[bool, float]) -> bool:
    return rank[0] > other[0] or (rank[0] == other[0] and rank[1] > other[1] + 0.05)


def _agreement(records: Sequence[Record]) -> tuple[int, float]:
    """The commonest number of cells, and the share of the records that have it.

    Records of one cell at the top and the bottom, titles and notes, do not count.
    """
    widths = [len(record.cells) for record in records]
    for end in (0, -1):
        while len(widths) > 1 and widths[end] == 1:
            widths.pop(end)
    if not widths:
        return 0, 0.0
    width, times = Counter(widths).most_common(1)[0]
    return width, times / len(widths)


def _header_lines(records: Sequence[Record]) -> tuple[int, int]:
    """The line of the header: the first record, unless titles are above another; and its rows."""
    if not records:
        return 1, 1
    place, rows = header_rows([record.cells for record in records])
    return records[place].line, rows


def header_rows(records: Sequence[Sequence[str]]) -> tuple[int, int]:
    """Which of the first records the header begins on, and how many it has: one or two.

    >>> body = ["Elm", "4", "5", "6"]
    >>> header_rows([["", "2030", "", ""], ["yard", "Q1", "Q2", "Q3"], body, body])
    (0, 2)
    >>> names = [["yard", "Honey", "", ""], ["", "kg", "jars", "lb"]]
    >>> header_rows([["Harvest", "", "", ""], *names, body])
    (1, 2)
    """
    place = header_place(records)
    for first in (place, place - 1, _below_titles(records)):
        if first >= 0 and len(records) > first + 2:
            top, below, *body = records[first:]
            if in_two_rows(top, below, body):
                return first, 2
    return place, 1


def header_place(records: Sequence[Sequence[str]]) -> int:
    """Which of the first records is the header.

    It is the first, unless that has at most one cell that is not blank and
    below it, under others of that sort, stands one as wide as most, with names
    only: no cell blank, no two alike, none a number or date though nearly all
    cells of some column below it are.

    >>> header_place([["Hives 2031"], ["yard", "hive"], ["A", "1"], ["B", "2"]])
    1
    >>> header_place([["yard", ""], ["A", "1"], ["B", "2"]])
    0
    """
    width = Counter(map(len, records)).most_common(1)[0][0] if records else 0
    place = _below_titles(records)
    if width == 1 or place == 0:
        return 0
    cells, below = records[place], [row for row in records[place + 1 :] if len(row) == width]
    whole = all(map(str.strip, cells)) and len(cells) == len(set(cells)) == width
    return place if whole and _names_above(cells, below) else 0


def _below_titles(records: Sequence[Sequence[str]]) -> int:
    """The first of the records with more than one cell that is not blank; 0 without any."""
    filled = (sum(map(bool, map(str.strip, cells))) for cells in records[:_MOST_TITLES])
    return next((place for place, count in enumerate(filled) if count > 1), 0)


def _names_above(cells: Sequence[str], below: Sequence[Sequence[str]]) -> bool:
    """Whether no cell looks like a number or date though those of some column below do."""
    if any(map(looks_typed, cells)):
        return False
    for column in zip(*below, strict=True):
        filled = [cell for cell in column if cell.strip()]
        if filled and sum(map(looks_typed, filled)) >= _LEAST_SHARE * len(filled):
            return True
    return False
