"""Encoding, delimiter and quotes of a delimited file.

UTF-8 is read as it is; any other encoding is turned into UTF-8 on the way, so
that all that follows sees one encoding only.
"""

from __future__ import annotations

import codecs
import csv
import io
import re
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from typing import IO, Any

from plait.core.base.errors import SourceError, UsageError
from plait.core.base.wording import Setting, wording
from plait.core.types.inference import looks_like_value
from plait.io.cells.head_and_foot import is_two_row_heading
from plait.io.places.source import DELIMITERS, Dialect

UTF8 = "utf-8"
_MARKS = (
    (codecs.BOM_UTF8, UTF8),
    (codecs.BOM_UTF32_LE, "utf-32-le"),
    (codecs.BOM_UTF32_BE, "utf-32-be"),
    (codecs.BOM_UTF16_LE, "utf-16-le"),
    (codecs.BOM_UTF16_BE, "utf-16-be"),
)
_STEP = 1 << 20
# Known by name as if they were encodings; they change text into other text.
_NO_TEXT = (
    *("idna", "punycode", "undefined", "unicode_escape", "raw_unicode_escape"),
    *("unicode-escape", "raw-unicode-escape", "base64", "bz2", "hex", "quopri", "rot13"),
    *("uu", "zlib"),
)
# Bytes that stand for nothing in Windows-1252; Latin-1 gives every byte a meaning.
_NOT_1252 = frozenset(b"\x81\x8d\x8f\x90\x9d")

_LONGEST_CELL = 1 << 30
_SAMPLE_BYTES = 1 << 15
_SAMPLE_RECORDS = 100
_MOST_TITLES = 30
_LEAST_SHARE = 0.9
_LEAST_AGREEMENT = 0.75  # so that a short file with a ragged row is seen for what it is


def byte_order_mark(head: bytes) -> tuple[str, int] | None:
    """The encoding that a byte-order mark names, and the mark's length.

    >>> byte_order_mark(b"\\xff\\xfea\\0")
    ('utf-16-le', 2)
    """
    for mark, encoding in _MARKS:
        if head.startswith(mark):
            return encoding, len(mark)
    return None


def guess_encoding(head: bytes) -> str:
    """The encoding of a text by its first bytes.

    A byte-order mark decides; then whether every other byte is zero, as in the
    UTF-16 of most languages of Europe; then whether the bytes are UTF-8. What is
    none of these is taken for Windows-1252, or Latin-1 if it has bytes that
    Windows-1252 lacks.

    >>> guess_encoding("größe".encode()), guess_encoding("größe".encode("cp1252"))
    ('utf-8', 'cp1252')
    """
    marked = byte_order_mark(head)
    if marked:
        return marked[0]
    if len(head) > 3 and (zeros := head.count(0)) > len(head) // 4:
        wide = "utf-32" if zeros > len(head) * 5 // 8 else "utf-16"
        return f"{wide}-be" if head[0] == 0 else f"{wide}-le"
    if is_utf8_prefix(head) or _mostly_utf8(head):
        return UTF8
    return "latin-1" if _NOT_1252 & set(head) else "cp1252"


def is_utf8_prefix(head: bytes) -> bool:
    """Whether the bytes are UTF-8, be it cut off within a letter."""
    try:
        codecs.getincrementaldecoder(UTF8)().decode(head)
    except UnicodeDecodeError:
        return False
    return True


def _mostly_utf8(head: bytes) -> bool:
    """Whether letters of several bytes outnumber the bytes at fault: a broken file in UTF-8."""
    text = head.decode(UTF8, "replace")
    faults = text.count("\ufffd")
    return len(text) - len(text.encode("ascii", "ignore")) > 2 * faults


def checked_encoding(name: str) -> str:
    """The encoding's name as Python knows it.

    Raises
    ------
    UsageError
        For a name that is none.

    Examples
    --------
    >>> checked_encoding("Windows-1252"), checked_encoding("UTF8")
    ('cp1252', 'utf-8')
    """
    try:
        text = codecs.lookup(name).name
        is_text = text not in _NO_TEXT and codecs.getincrementaldecoder(text)().decode(b"") == ""
    except (LookupError, ValueError, TypeError, AssertionError, AttributeError):
        is_text = False
    if not is_text:
        raise UsageError(
            f"unknown encoding {name!r}", remedy="such as utf-8, utf-16, windows-1252, latin-1"
        )
    return text


def choose_encoding(encoding: str | None, head: bytes) -> str:
    """The encoding to read with: what is given, and which of two where that leaves it open.

    >>> choose_encoding("utf-16", b"a\\0b\\0"), choose_encoding("utf-16", b"\\xfe\\xff\\0a")
    ('utf-16-le', 'utf-16-be')
    """
    if encoding not in ("utf-16", "utf-32"):
        return encoding or guess_encoding(head)
    text = guess_encoding(head)
    return text if text.startswith(encoding) else f"{encoding}-le"


def transcode_to_utf8(stream: IO[bytes], encoding: str, where: str) -> Iterator[bytes]:
    """A binary stream in some encoding as pieces of UTF-8.

    Parameters
    ----------
    stream : binary file
        Behind its byte-order mark.
    where : str
        The file, for errors.
    """
    decoder = codecs.getincrementaldecoder(encoding)()
    lines, data = 0, b"-"
    while data:
        data = stream.read(_STEP)
        try:
            text = decoder.decode(data, final=not data)
        except UnicodeDecodeError as error:
            line = lines + data.count(b"\n", 0, error.start) + 1
            raise SourceError(
                f"the file is not encoded as {encoding}",
                f"{where}, line {line:,}",
                wording("set the encoding, for example: ", Setting("encoding", "windows-1252")),
            ) from None
        lines += text.count("\n")
        yield text.encode(UTF8, "surrogatepass")


def find_dialect(head: bytes, dialect: Dialect, usual: str, where: str) -> Dialect:
    """Find out what is not given, from the first bytes of a file.

    Parameters
    ----------
    head : bytes
        The first part of the file, up to a mebibyte or so.
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
    encoding = choose_encoding(dialect.encoding, head)
    text = _text(head[:_SAMPLE_BYTES], encoding)
    if not text.strip():
        raise SourceError("the file is empty", where, "give a file with a header and rows")
    quote = dialect.quote or _quote(text)
    escape = _escape(text, quote) if dialect.escape is None else dialect.escape
    found = replace(dialect, encoding=encoding, quote=quote, escape=escape)
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
class SampleRecord:
    """A record of a sample: the line it begins on, from 1, and its cells."""

    line: int
    cells: tuple[str, ...]

    @property
    def filled(self) -> int:
        """How many cells are not blank."""
        return sum(bool(cell.strip()) for cell in self.cells)


def sample_records(text: str, dialect: Dialect) -> list[SampleRecord]:
    """The first records of a text, blank lines not counted; a last one cut short is left out."""
    lines = io.StringIO(text, newline="")
    reader = csv_reader(lines, **reader_options(dialect))
    records: list[SampleRecord] = []
    begin = 0
    try:
        for cells in reader:
            if cells:
                records.append(SampleRecord(begin + 1, tuple(cells)))
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
    for sign in (usual, *(v for v in DELIMITERS.values() if v != usual)):
        records = sample_records(text, replace(dialect, delimiter=sign))
        width, share = _agreement(records)
        first = bool(records) and len(records[0].cells) == width
        titled = first or find_header([record.cells for record in records]) > 0
        rank = (first, share)
        if width > 1 and share >= _LEAST_AGREEMENT and titled and _clearly(rank, best_rank):
            best, best_rank = sign, rank
        if best_rank == (True, 1.0):
            break
    return best


def _clearly(rank: tuple[bool, float], other: tuple[bool, float]) -> bool:
    return rank[0] > other[0] or (rank[0] == other[0] and rank[1] > other[1] + 0.05)


def _agreement(records: Sequence[SampleRecord]) -> tuple[int, float]:
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


def _header_lines(records: Sequence[SampleRecord]) -> tuple[int, int]:
    """The line of the header: the first record, unless titles are above another; and its rows."""
    if not records:
        return 1, 1
    place, rows = find_header_rows([record.cells for record in records])
    return records[place].line, rows


def find_header_rows(records: Sequence[Sequence[str]]) -> tuple[int, int]:
    """Which of the first records the header begins on, and how many it has: one or two.

    >>> body = ["Elm", "4", "5", "6"]
    >>> find_header_rows([["", "2030", "", ""], ["yard", "Q1", "Q2", "Q3"], body, body])
    (0, 2)
    >>> names = [["yard", "Honey", "", ""], ["", "kg", "jars", "lb"]]
    >>> find_header_rows([["Harvest", "", "", ""], *names, body])
    (1, 2)
    """
    header = find_header(records)
    for first in (header, header - 1, _below_titles(records)):
        if first >= 0 and len(records) > first + 2:
            top, below, *body = records[first:]
            if is_two_row_heading(top, below, body):
                return first, 2
    return header, 1


def find_header(records: Sequence[Sequence[str]]) -> int:
    """Which of the first records is the header.

    It is the first, unless that has at most one cell that is not blank and
    below it, under others of that sort, stands one as wide as most, with names
    only: no cell blank, no two alike, none a number or date though nearly all
    cells of some column below it are.

    >>> find_header([["Hives 2031"], ["yard", "hive"], ["A", "1"], ["B", "2"]])
    1
    >>> find_header([["yard", ""], ["A", "1"], ["B", "2"]])
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
    if any(map(looks_like_value, cells)):
        return False
    for column in zip(*below, strict=True):
        filled = [cell for cell in column if cell.strip()]
        if filled and sum(map(looks_like_value, filled)) >= _LEAST_SHARE * len(filled):
            return True
    return False
