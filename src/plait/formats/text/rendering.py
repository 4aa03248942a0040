"""Rows as the bytes of a delimited text file."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv

from plait.core.text.cells import as_text, has_clock, is_text
from plait.formats.text.spare import Spare

_ROWS_AT_ONCE = 1 << 12  # rendered in the processor's own memory
_LEAST_ROOM, _MOST_ROOM = 1 << 20, 1 << 27
_WIDTHS = (  # characters that hardly a value has more of
    (pa.types.is_integer, 20),
    (pa.types.is_floating, 24),
    (pa.types.is_date, 12),
    (pa.types.is_boolean, 5),
    (pa.types.is_decimal, 90),
)

_SPARE: Spare[npt.NDArray[np.uint8]] = Spare(lambda size: np.empty(size, np.uint8), 16)


@dataclass(frozen=True)
class Rendered:
    """Rows as bytes; ``buffer`` is the memory they are in, where that may be used again."""

    data: Any
    buffer: npt.NDArray[np.uint8] | None = None

    def release(self) -> None:
        """Give the memory back; the bytes are gone then."""
        if self.buffer is not None:
            _SPARE.give(self.buffer)


def render(batch: pa.RecordBatch, delimiter: str) -> Rendered:
    """The rows as bytes; by the fast way, which takes no cell that must be quoted, if it can.

    >>> cells = pa.RecordBatch.from_pydict({"yard": ["A, north", None], "hive": [1, 2]})
    >>> bytes(render(cells, ",").data)
    b'"A, north",1\\n,2\\n'
    """
    if batch.num_columns == 1:
        return Rendered(quoted(batch, delimiter))
    if any(has_clock(column.type) for column in batch.columns):
        columns = [as_text(one) if has_clock(one.type) else one for one in batch.columns]
        batch = pa.RecordBatch.from_arrays(columns, names=batch.schema.names)
    try:
        return _unquoted(batch, delimiter)
    except pa.ArrowInvalid:
        return Rendered(quoted(batch, delimiter))


def _unquoted(batch: pa.RecordBatch, delimiter: str) -> Rendered:
    """The rows, in memory used before where it can be told how much they need.

    Raises
    ------
    pyarrow.ArrowInvalid
        When a cell must be quoted.
    """
    options = pa.csv.WriteOptions(
        include_header=False, batch_size=_ROWS_AT_ONCE, delimiter=delimiter, quoting_style="none"
    )
    room = sum(_room(column) for column in batch.columns)
    if 0 < room <= _MOST_ROOM:
        buffer = _SPARE.take(max(_LEAST_ROOM, 1 << room.bit_length()))
        writer = pa.FixedSizeBufferWriter(pa.py_buffer(buffer))
        try:
            pa.csv.write_csv(batch, writer, options)
            return Rendered(buffer.data[: writer.tell()], buffer)
        except pa.ArrowInvalid:
            _SPARE.give(buffer)
            raise
        except OSError:  # there are longer values than thought: it takes more room
            _SPARE.give(buffer)
    sink = pa.BufferOutputStream()
    pa.csv.write_csv(batch, sink, options)
    return Rendered(sink.getvalue())


def _room(column: pa.Array) -> int:
    """How many bytes the cells hardly ever take more than, with what is behind each."""
    rows = len(column)
    if is_text(column.type):
        return int(column.nbytes) + rows
    if pa.types.is_dictionary(column.type) and is_text(column.type.value_type):
        longest = pc.max(pc.binary_length(column.dictionary)).as_py() or 0
        return rows * (longest + 1)
    widths = (width for is_one, width in _WIDTHS if is_one(column.type))
    return rows * (next(widths, _MOST_ROOM) + 1)


def quoted(batch: pa.RecordBatch, delimiter: str) -> Any:
    """The rows as bytes, those cells quoted that must be."""
    cells = [_quote(as_text(column), delimiter) for column in batch.columns]
    if len(cells) == 1:  # an empty line would be read as no row
        cells[0] = pc.if_else(pc.equal(cells[0], ""), '""', cells[0])
    cells[-1] = pc.binary_join_element_wise(cells[-1], "\n", "")
    lines = pc.binary_join_element_wise(*cells, delimiter)
    return _bytes(lines)


def _bytes(lines: pa.Array) -> Any:
    """All the text of an array, end to end."""
    _, offsets, data = lines.buffers()
    wide = pa.types.is_large_string(lines.type)
    ends = np.frombuffer(offsets, np.int64 if wide else np.int32)
    start, stop = int(ends[lines.offset]), int(ends[lines.offset + len(lines)])
    return data.slice(start, stop - start)


def _quote(cells: pa.Array, delimiter: str) -> pa.Array:
    cells = pc.fill_null(cells, "")
    needed = pc.match_substring_regex(cells, f'["\r\n{delimiter}]')
    if not pc.any(needed).as_py():
        return cells
    doubled = pc.replace_substring(cells, '"', '""')
    return pc.if_else(needed, pc.binary_join_element_wise('"', doubled, '"', ""), cells)
