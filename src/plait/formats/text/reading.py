"""Reading CSV and its kin: every cell as the text that is there."""

from __future__ import annotations

import io
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import IO

import pyarrow as pa

from plait.core.account.errors import SourceError
from plait.core.account.finding import Finding
from plait.core.account.limits import LIMITS, Limits
from plait.core.account.parallel import ordered_map
from plait.core.store.crew import crew
from plait.core.store.shelf import Shelf
from plait.core.table.headings import usable_names
from plait.core.table.lines import LINE, Steps, joined
from plait.core.table.table import Table, from_columns
from plait.formats.cells.footer import footer_finding, without_last
from plait.formats.cells.header import Header, read_header, title_finding
from plait.formats.cells.headrows import header_rows_finding
from plait.formats.places.given import Dialect
from plait.formats.text.dialect import csv_reader, find_dialect
from plait.formats.text.encoding import UTF8, byte_order_mark, recoded
from plait.formats.text.parsing import Part, Shape, parse
from plait.formats.text.ragged import Ragged, are_notes, without_ragged
from plait.formats.text.ranges import records_of, shared_out
from plait.formats.text.records import BLOCK_BYTES, Block, blocks
from plait.formats.text.streams import Pieces, ReadAhead, requoted

_HEAD_BYTES = 1 << 20

Tick = Callable[[int], None]


class NotUtf8Error(SourceError):
    """Text that was taken for UTF-8 and is not; ``ascii_above`` tells whether all above it is."""

    ascii_above = False


def read_delimited(
    stream: IO[bytes],
    name: str,
    path: str,
    usual: str,
    given: Dialect = Dialect(),  # noqa: B008 (frozen)
    ragged: str = "error",
    footer: int = 0,
    tick: Tick = lambda _: None,
    limits: Limits = LIMITS,
) -> Table:
    """Read a delimited text file with a header.

    Parameters
    ----------
    stream : binary file
    name : str
        The table's name.
    path : str
        The file, for errors and lineage.
    usual : str
        The delimiter that the file's ending stands for.
    given : Dialect
        What is known of how the file is written; the rest is found out.
    ragged : {"error", "set-aside"}
        What is done with rows of too few or too many cells.
    footer : int
        How many rows at the end are set aside.
    tick : callable
        Told how many bytes were read, each time.
    limits : Limits

    Returns
    -------
    Table
        All cells text; an empty cell is an empty text. Blank lines are passed
        over, except where there is one column only: there they are empty cells.

    Raises
    ------
    SourceError
        For an empty file, a row with too few or too many cells, bytes that are
        not in the encoding, a NUL byte, a quote that never closes; the line is
        named.
    """
    strict = ragged == "error" and not footer
    opened = _opened(stream, path, usual, given, strict, tick, limits)
    table = _whole(opened, name, path, footer)
    findings = (*opened.findings, *table.findings, *footer_finding(table, path))
    return replace(table, findings=findings, written=opened.written)


@dataclass(frozen=True, eq=False)
class Batches:
    """A delimited text file as it is read.

    Parameters
    ----------
    names : tuple of str
    parts : iterator of Part
        Stretches of rows, all cells text.
    findings : tuple of Finding
        About how the file is written.
    written : str
        That in words.
    """

    names: tuple[str, ...]
    parts: Iterator[Part]
    findings: tuple[Finding, ...]
    written: str


class NotRegularError(Exception):
    """A row that does not fit, in a file that is read a stretch at a time."""


def read_batches(
    stream: IO[bytes],
    path: str,
    usual: str,
    given: Dialect = Dialect(),  # noqa: B008 (frozen)
    tick: Tick = lambda _: None,
    limits: Limits = LIMITS,
) -> Batches:
    """Begin to read a delimited text file a stretch of rows at a time.

    Parameters
    ----------
    stream, path, usual, given, tick, limits
        As for ``read_delimited``.

    Raises
    ------
    SourceError
        As ``read_delimited``, here or while the parts are drawn.
    NotRegularError
        While they are drawn, for notes below the table: only the whole file tells
        what they are.
    """
    opened = _opened(stream, path, usual, given, True, tick, limits, shared=False)

    def regular_parts() -> Iterator[Part]:
        for part in opened.parts:
            if part.ragged:
                raise NotRegularError
            yield part

    return Batches(opened.names, regular_parts(), opened.findings, opened.written)


@dataclass(frozen=True, eq=False)
class _Opened:
    names: tuple[str, ...]
    parts: Iterator[Part]
    findings: tuple[Finding, ...]
    written: str


def _opened(
    stream: IO[bytes],
    path: str,
    usual: str,
    given: Dialect,
    strict: bool,
    tick: Tick,
    limits: Limits,
    shared: bool = True,
) -> _Opened:
    """Find out how the file is written, read its header, and begin to parse it."""
    text, rest, header, names, found, dialect = _headed(
        stream, path, usual, given, tick, limits.columns
    )
    assert dialect.delimiter
    rows, line = dialect.header_rows or 1, dialect.header_line or 1
    said = (
        *_dialect_finding(dialect, usual, path),
        *title_finding(header.above, path),
        *header_rows_finding(header.names, rows, line, path),
        *found,
    )
    shape = Shape(tuple(names), dialect.delimiter, strict)
    here, parts = crew() if shared else None, None
    if here is not None and isinstance(text, ReadAhead):
        unread = text.left + len(rest)
        records = records_of(stream, unread, header.lines, shape, limits.record)
        parts = shared_out(records, path, here, tick) if records else None
    if parts is None:
        cut = blocks(text, rest, dialect.delimiter, path, tick, header.lines, limits.record)
        parts = ordered_map(partial(parse, shape=shape), cut)
    return _Opened(tuple(names), _in_order(parts, shape, path), said, dialect.shown())


def record_blocks(
    stream: IO[bytes],
    path: str,
    usual: str,
    given: Dialect = Dialect(),  # noqa: B008 (frozen)
) -> tuple[list[str], str, Iterator[tuple[bytes, int, int]]]:
    """The column names, the delimiter, and the blocks of whole records that follow the header.

    Parameters
    ----------
    stream, path, usual, given
        As for ``read_delimited``.

    Returns
    -------
    names : list of str
    delimiter : str
    blocks : iterator of (bytes, int, int)
        UTF-8 text with RFC 4180 quotes, how many records it has, and how many
        lines are above it.
    """
    text, rest, header, names, _, dialect = _headed(stream, path, usual, given, lambda _: None)
    assert dialect.delimiter
    delimiter = dialect.delimiter
    shape = Shape(tuple(names), delimiter, False)

    def counted_blocks() -> Iterator[tuple[bytes, int, int]]:
        for block in blocks(text, rest, delimiter, path, lambda _: None, header.lines):
            data = bytes(block.data)
            part = parse(block, shape)
            yield data, part.rows + len(part.ragged), block.lines

    return names, delimiter, counted_blocks()


def _headed(
    stream: IO[bytes],
    path: str,
    usual: str,
    given: Dialect,
    tick: Tick,
    most: int = LIMITS.columns,
) -> tuple[IO[bytes], bytes, Header, list[str], tuple[Finding, ...], Dialect]:
    """The text behind the header, what of it has been read, the header and the dialect."""
    head = _head_of(stream)
    tick(len(head))
    dialect = find_dialect(head, given, usual, path)
    marked = byte_order_mark(head)
    text: IO[bytes] = ReadAhead(head[marked[1] :] if marked else head, stream)  # type: ignore[assignment]
    if dialect.encoding != UTF8:
        text = Pieces(recoded(text, dialect.encoding or UTF8, path))  # type: ignore[assignment]
    if not dialect.regular:
        text = Pieces(requoted(text, dialect, path))  # type: ignore[assignment, arg-type]
    assert dialect.delimiter and dialect.header_line
    head = _head_of(text)
    rows = dialect.header_rows or 1
    header = read_header(head, dialect.delimiter, path, dialect.header_line, rows)
    if header.size == len(head) == _HEAD_BYTES:
        raise SourceError(
            "the header is longer than a mebibyte", path, "check that this is a text table"
        )
    names, findings = usable_names(header.names, path, header.lines + 1, most)
    return text, head[header.size :], header, names, tuple(findings), dialect


def _head_of(stream: IO[bytes]) -> bytes:
    """The first part of a stream, all of it that there is up to a mebibyte."""
    head = b""
    most = min(BLOCK_BYTES, _HEAD_BYTES)
    while len(head) < most and (more := stream.read(most - len(head))):
        head += more
    return head


def _whole(opened: _Opened, name: str, path: str, footer: int) -> Table:
    """All parts of a file as a table."""
    table, odd = gathered(opened.parts, opened.names, name, path)
    table = without_last(without_ragged(table, odd, _notes(odd, table.rows)), footer)
    if not table.rows:
        none = Finding("no-rows", "warning", 0, "the file has a header but no rows", where=path)
        table = replace(table, findings=(*table.findings, none))
    return table


def gathered(
    parts: Iterable[Part], names: Sequence[str], name: str, path: str
) -> tuple[Table, list[Ragged]]:
    """The rows of some parts of a file that fit, as a table, and those that do not."""
    shelf, odd, lines = Shelf(names), list[Ragged](), list[Steps | None]()
    rows = 0
    for part in parts:
        odd += part.ragged
        if part.columns:
            shelf.put(part.columns)
        if part.rows or part.ragged:
            lines.append(part.lines and (part.lines[0] + rows, part.lines[1]))
            rows += part.rows + len(part.ragged)
    table = from_columns(name, shelf.columns([pa.string()] * len(names)), path)
    known = [each for each in lines if each is not None]
    return table.with_lines(joined(LINE, known) if len(known) == len(lines) else None), odd


def _notes(odd: Sequence[Ragged], rows: int) -> int:
    """How many of the ragged rows, the last of all, are notes below the table."""
    total = rows + len(odd)
    count = 0
    while count < len(odd) and odd[-1 - count].row == total - 1 - count:
        count += 1
    while count and not are_notes(odd[len(odd) - count :]):
        count -= 1
    return count


def _dialect_finding(dialect: Dialect, usual: str, path: str) -> tuple[Finding, ...]:
    if dialect.encoding == UTF8 and dialect.delimiter == usual and dialect.regular:
        return ()
    return (
        Finding(
            "dialect-found",
            "note",
            1,
            f"read as {dialect.shown()}",
            "if this is wrong, set: --encoding, --delimiter, --quote, --escape",
            path,
        ),
    )


def _in_order(parts: Iterator[Part], shape: Shape, path: str) -> Iterator[Part]:
    """The parsed blocks of a file; ragged rows numbered over all."""
    pending: list[Ragged] = []
    fault: Block | None = None
    rows, ascii_above = 0, True
    for part in parts:
        if part.fault is not None and not part.ragged:
            raise _fault(part.fault, shape, path, ascii_above)
        if part.ragged and shape.strict:
            pending += part.ragged
            fault = fault or part.fault
        last = max((row.row for row in part.ragged), default=-1)
        followed = part.rows + len(part.ragged) - 1 > last
        if fault is not None and (followed or not are_notes(pending)):
            raise _fault(fault, shape, path, ascii_above)
        ascii_above = ascii_above and part.ascii
        yield replace(
            part,
            ragged=tuple(replace(row, row=rows + row.row) for row in part.ragged),
            fault=None,
        )
        rows += part.rows + len(part.ragged)


def _fault(block: Block, shape: Shape, path: str, ascii_above: bool) -> SourceError:
    """What is wrong with a block that could not be parsed, and on which line."""
    text, lines = bytes(block.data).decode("utf-8", "surrogateescape"), block.lines
    reader = csv_reader(io.StringIO(text, newline=""), delimiter=shape.delimiter)
    begin = 0
    for row in reader:
        for number, cell in enumerate(row, 1):
            if any("\udc80" <= sign <= "\udcff" for sign in cell):
                error = _not_utf8(f"{path}, line {lines + begin + 1:,}", number, shape.names)
                error.ascii_above = ascii_above and _only_escaped(text)
                return error
        if row and len(row) != len(shape.names):
            return _ragged(f"{path}, line {lines + begin + 1:,}", row, shape.names)
        begin = reader.line_num
    return SourceError("cannot read the text as a table", f"{path}, after line {lines:,}")


def _only_escaped(text: str) -> bool:
    """Whether what is not ASCII is not UTF-8 either."""
    return all("\udc80" <= sign <= "\udcff" for sign in set(text) if sign > "\x7f")


def _not_utf8(where: str, number: int, names: Sequence[str]) -> NotUtf8Error:
    column = f", column {names[number - 1]}" if number <= len(names) else ""
    return NotUtf8Error(
        "the text is not UTF-8",
        where + column,
        "name its encoding: --encoding windows-1252",
    )


def _ragged(where: str, row: Sequence[str], names: Sequence[str]) -> SourceError:
    start = ", ".join(row)[:60]
    return SourceError(
        f"this row has {len(row)} cells, but the header has {len(names)}: {start}",
        where,
        "fix the row in the source (quote any cell that contains the delimiter), or "
        "set such rows aside: --ragged set-aside",
    )
