"""Reading CSV and its kin: every cell as the text that is there."""

from __future__ import annotations

import io
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import IO

import pyarrow as pa

from plait.core.base.errors import SourceError
from plait.core.base.findings import Finding, Location
from plait.core.base.limits import LIMITS, Limits
from plait.core.base.wording import Setting, wording
from plait.core.job.current import current_job
from plait.core.job.executor import map_ordered
from plait.core.job.spill_columns import ColumnBuilder
from plait.core.table.arrow_columns import clean_headings
from plait.core.table.source_lines import LINE, Steps, joined
from plait.core.table.table import Table, table_from_columns
from plait.io.cells.head_and_foot import (
    Header,
    drop_last_rows,
    read_header,
    report_joined_headings,
    report_title_lines,
    report_total_row,
)
from plait.io.delimited.blocks import (
    BLOCK_BYTES,
    ChunkStream,
    PrefixedStream,
    RecordBlock,
    normalize_quoting,
    split_into_blocks,
)
from plait.io.delimited.dialect import (
    UTF8,
    byte_order_mark,
    csv_reader,
    find_dialect,
    transcode_to_utf8,
)
from plait.io.delimited.parallel_read import locate_records, read_with_workers
from plait.io.delimited.parse import (
    DelimitedSchema,
    ParsedBlock,
    RaggedRow,
    is_footnote_block,
    parse_block,
    report_ragged_rows,
)
from plait.io.places.source import Dialect

_HEAD_BYTES = 1 << 20

OnProgress = Callable[[int], None]


class NotUtf8Error(SourceError):
    """Text that was taken for UTF-8 and is not; ``ascii_above`` tells whether all above it is."""

    ascii_above = False


def read_delimited(
    stream: IO[bytes],
    name: str,
    path: str,
    usual: str,
    dialect: Dialect = Dialect(),  # noqa: B008 (frozen)
    ragged: str = "error",
    footer: int = 0,
    on_progress: OnProgress = lambda _: None,
    limits: Limits = LIMITS,
) -> Table:
    """Read a delimited text file with a header.

    Parameters
    ----------
    name : str
        The table's name.
    path : str
        The file, for errors and lineage.
    usual : str
        The delimiter that the file's ending stands for.
    dialect : Dialect
        What is known of how the file is written; the rest is found out.
    ragged : {"error", "set-aside"}
        What is done with rows of too few or too many cells.
    footer : int
        How many rows at the end are set aside.
    on_progress : callable
        Told how many bytes were read, each time.

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
    opened = _opened(stream, path, usual, dialect, strict, on_progress, limits)
    table = _read_all_parts(opened, name, path, footer)
    findings = (*opened.findings, *table.findings, *report_total_row(table, path))
    return replace(table, findings=findings, read_as=opened.written)


@dataclass(frozen=True, eq=False)
class DelimitedBatches:
    """A delimited text file as it is read.

    Parameters
    ----------
    parts : iterator of ParsedBlock
        Stretches of rows, all cells text.
    findings : tuple of Finding
        About how the file is written.
    written : str
        That in words.
    """

    names: tuple[str, ...]
    parts: Iterator[ParsedBlock]
    findings: tuple[Finding, ...]
    written: str


class IrregularRowError(Exception):
    """A row that does not fit, in a file that is read a stretch at a time."""


def read_batches(
    stream: IO[bytes],
    path: str,
    usual: str,
    dialect: Dialect = Dialect(),  # noqa: B008 (frozen)
    on_progress: OnProgress = lambda _: None,
    limits: Limits = LIMITS,
) -> DelimitedBatches:
    """Begin to read a delimited text file a stretch of rows at a time.

    Parameters
    ----------
    stream, path, usual, given, on_progress, limits
        As for ``read_delimited``.

    Raises
    ------
    SourceError
        As ``read_delimited``, here or while the parts are drawn.
    IrregularRowError
        While they are drawn, for notes below the table: only the whole file tells
        what they are.
    """
    opened = _opened(stream, path, usual, dialect, True, on_progress, limits, shared=False)

    def regular_parts() -> Iterator[ParsedBlock]:
        for part in opened.parts:
            if part.ragged:
                raise IrregularRowError
            yield part

    return DelimitedBatches(opened.names, regular_parts(), opened.findings, opened.written)


@dataclass(frozen=True, eq=False)
class _Opened:
    names: tuple[str, ...]
    parts: Iterator[ParsedBlock]
    findings: tuple[Finding, ...]
    written: str


def _opened(
    stream: IO[bytes],
    path: str,
    usual: str,
    given: Dialect,
    strict: bool,
    on_progress: OnProgress,
    limits: Limits,
    shared: bool = True,
) -> _Opened:
    """Find out how the file is written, read its header, and begin to parse it."""
    text, rest, header, names, found, dialect = open_headed(
        stream, path, usual, given, on_progress, limits.columns
    )
    assert dialect.delimiter
    rows, line = dialect.header_rows or 1, dialect.header_line or 1
    findings = (
        *_dialect_finding(dialect, usual, path),
        *report_title_lines(header.above, path),
        *report_joined_headings(header.names, rows, line, path),
        *found,
    )
    shape = DelimitedSchema(tuple(names), dialect.delimiter, strict)
    here, parts = current_job().workers if shared else None, None
    if here is not None and isinstance(text, PrefixedStream):
        unread = text.left + len(rest)
        records = locate_records(stream, unread, header.lines, shape, limits.record)
        parts = read_with_workers(records, path, here, on_progress) if records else None
    if parts is None:
        cut = split_into_blocks(
            text, rest, dialect.delimiter, path, on_progress, header.lines, limits.record
        )
        parts = map_ordered(partial(parse_block, shape=shape), cut)
    return _Opened(tuple(names), _in_order(parts, shape, path), findings, dialect.shown())


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
    blocks : iterator of (bytes, int, int)
        UTF-8 text with RFC 4180 quotes, how many records it has, and how many
        lines are above it.
    """
    text, rest, header, names, _, dialect = open_headed(stream, path, usual, given, lambda _: None)
    assert dialect.delimiter
    delimiter = dialect.delimiter
    shape = DelimitedSchema(tuple(names), delimiter, False)

    def counted_blocks() -> Iterator[tuple[bytes, int, int]]:
        for block in split_into_blocks(text, rest, delimiter, path, lambda _: None, header.lines):
            data = bytes(block.data)
            part = parse_block(block, shape)
            yield data, part.rows + len(part.ragged), block.lines

    return names, delimiter, counted_blocks()


def open_headed(
    stream: IO[bytes],
    path: str,
    usual: str,
    given: Dialect,
    on_progress: OnProgress,
    most: int = LIMITS.columns,
) -> tuple[IO[bytes], bytes, Header, list[str], tuple[Finding, ...], Dialect]:
    """The text behind the header, what of it has been read, the header and the dialect."""
    head = _read_head(stream)
    on_progress(len(head))
    dialect = find_dialect(head, given, usual, path)
    marked = byte_order_mark(head)
    text: IO[bytes] = PrefixedStream(head[marked[1] :] if marked else head, stream)  # type: ignore[assignment]
    if dialect.encoding != UTF8:
        text = ChunkStream(transcode_to_utf8(text, dialect.encoding or UTF8, path))  # type: ignore[assignment]
    if not dialect.regular:
        text = ChunkStream(normalize_quoting(text, dialect, path))  # type: ignore[assignment, arg-type]
    assert dialect.delimiter and dialect.header_line
    head = _read_head(text)
    rows = dialect.header_rows or 1
    header = read_header(head, dialect.delimiter, path, dialect.header_line, rows)
    if header.size == len(head) == _HEAD_BYTES:
        raise SourceError(
            "the header is longer than a mebibyte", path, "check that this is a text table"
        )
    names, findings = clean_headings(header.names, path, header.lines + 1, most)
    return text, head[header.size :], header, names, tuple(findings), dialect


def _read_head(stream: IO[bytes]) -> bytes:
    """The first part of a stream, all of it that there is up to a mebibyte."""
    head = b""
    most = min(BLOCK_BYTES, _HEAD_BYTES)
    while len(head) < most and (more := stream.read(most - len(head))):
        head += more
    return head


def _read_all_parts(opened: _Opened, name: str, path: str, footer: int) -> Table:
    """All parts of a file as a table."""
    table, odd = gathered(opened.parts, opened.names, name, path)
    table = drop_last_rows(report_ragged_rows(table, odd, _notes(odd, table.rows)), footer)
    if not table.rows:
        none = Finding(
            "no-rows", "warning", 0, "the file has a header but no rows", where=Location(path)
        )
        table = replace(table, findings=(*table.findings, none))
    return table


def gathered(
    parts: Iterable[ParsedBlock], names: Sequence[str], name: str, path: str
) -> tuple[Table, list[RaggedRow]]:
    """The rows of some parts of a file that fit, as a table, and those that do not."""
    shelf, odd, lines = ColumnBuilder(names), list[RaggedRow](), list[Steps | None]()
    rows = 0
    for part in parts:
        odd += part.ragged
        if part.columns:
            shelf.append(part.columns)
        if part.rows or part.ragged:
            lines.append(part.lines and (part.lines[0] + rows, part.lines[1]))
            rows += part.rows + len(part.ragged)
    table = table_from_columns(name, shelf.finish([pa.string()] * len(names)), path)
    known = [line for line in lines if line is not None]
    return table.with_lines(joined(LINE, known) if len(known) == len(lines) else None), odd


def _notes(odd: Sequence[RaggedRow], rows: int) -> int:
    """How many of the ragged rows, the last of all, are notes below the table."""
    total = rows + len(odd)
    count = 0
    while count < len(odd) and odd[-1 - count].row == total - 1 - count:
        count += 1
    while count and not is_footnote_block(odd[len(odd) - count :]):
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
            wording(
                "if this is wrong, set: ",
                Setting("encoding"),
                ", ",
                Setting("delimiter"),
                ", ",
                Setting("quote"),
                ", ",
                Setting("escape"),
            ),
            Location(path),
        ),
    )


def _in_order(
    parts: Iterator[ParsedBlock], shape: DelimitedSchema, path: str
) -> Iterator[ParsedBlock]:
    """The parsed blocks of a file; ragged rows numbered over all."""
    pending: list[RaggedRow] = []
    fault: RecordBlock | None = None
    rows, ascii_above = 0, True
    for part in parts:
        if part.fault is not None and not part.ragged:
            raise _fault(part.fault, shape, path, ascii_above)
        if part.ragged and shape.strict:
            pending += part.ragged
            fault = fault or part.fault
        last = max((row.row for row in part.ragged), default=-1)
        followed = part.rows + len(part.ragged) - 1 > last
        if fault is not None and (followed or not is_footnote_block(pending)):
            raise _fault(fault, shape, path, ascii_above)
        ascii_above = ascii_above and part.ascii
        yield replace(
            part,
            ragged=tuple(replace(row, row=rows + row.row) for row in part.ragged),
            fault=None,
        )
        rows += part.rows + len(part.ragged)


def _fault(block: RecordBlock, shape: DelimitedSchema, path: str, ascii_above: bool) -> SourceError:
    """What is wrong with a block that could not be parsed, and on which line."""
    text, lines = bytes(block.data).decode("utf-8", "surrogateescape"), block.lines
    reader = csv_reader(io.StringIO(text, newline=""), delimiter=shape.delimiter)
    begin = 0
    for row in reader:
        for number, cell in enumerate(row, 1):
            if any("\udc80" <= c <= "\udcff" for c in cell):
                error = _not_utf8(f"{path}, line {lines + begin + 1:,}", number, shape.names)
                error.ascii_above = ascii_above and _only_escaped(text)
                return error
        if row and len(row) != len(shape.names):
            return _ragged(f"{path}, line {lines + begin + 1:,}", row, shape.names)
        begin = reader.line_num
    return SourceError("cannot read the text as a table", f"{path}, after line {lines:,}")


def _only_escaped(text: str) -> bool:
    """Whether what is not ASCII is not UTF-8 either."""
    return all("\udc80" <= t <= "\udcff" for t in set(text) if t > "\x7f")


def _not_utf8(where: str, number: int, names: Sequence[str]) -> NotUtf8Error:
    column = f", column {names[number - 1]}" if number <= len(names) else ""
    return NotUtf8Error(
        "the text is not UTF-8",
        where + column,
        wording("name its encoding: ", Setting("encoding", "windows-1252")),
    )


def _ragged(where: str, row: Sequence[str], names: Sequence[str]) -> SourceError:
    start = ", ".join(row)[:60]
    return SourceError(
        f"this row has {len(row)} cells, but the header has {len(names)}: {start}",
        where,
        wording(
            "fix the row in the source (quote any cell that contains the delimiter), or "
            "set such rows aside: ",
            Setting("ragged", "set-aside"),
        ),
    )
