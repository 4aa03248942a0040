"""Columns that are put together piece by piece: in memory, or in a scratch file.

What is in a file is mapped, in the Arrow IPC format: the cells stand there as Arrow computes
with them, so nothing is read or unpacked before it is looked at.
"""

from __future__ import annotations

import tempfile
from collections.abc import Callable, Iterable, Sequence
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from plait.core.base.errors import scratch_full_error
from plait.core.job.current import current_job
from plait.core.job.mapped_files import map_open_file

_BYTE = 8
_STEP = 1 << 18


class ColumnBuilder:
    """Columns of equal length, to which rows are added.

    Examples
    --------
    >>> shelf = ColumnBuilder(["hive"])
    >>> shelf.append([pa.array(["1"])])
    >>> shelf.append([pa.array(["2", "3"])])
    >>> shelf.finish()["hive"].to_pylist()
    ['1', '2', '3']
    """

    def __init__(self, names: Sequence[str]) -> None:
        self._names = list(names)
        self._waiting: list[list[pa.Array]] = []
        self._schema: pa.Schema | None = None
        self._file: Any = None
        self._writer: Any = None
        self._done: list[pa.RecordBatch] = []

    def append(self, arrays: Sequence[pa.Array]) -> None:
        """Add rows: an array for each column.

        Raises
        ------
        ScratchError
            When the scratch file cannot be written.
        """
        self._waiting.append(list(arrays))
        memory_budget = current_job().memory
        if memory_budget is not None and memory_budget.exceeds_expectation:
            memory_budget.start_spilling()
        if memory_budget is not None and memory_budget.must_spill:
            self._write(memory_budget.folder)

    def finish(self, types: Sequence[pa.DataType] | None = None) -> dict[str, pa.ChunkedArray]:
        """The columns; with ``types``, which a column without rows has too."""
        pieces = self.finish_chunks()
        return {
            name: _column([piece[n] for piece in pieces], types[n] if types else None)
            for n, name in enumerate(self._names)
        }

    def finish_chunks(self) -> list[list[pa.Array]]:
        """The rows as they were added, an array for each column."""
        self._finish()
        return [batch.columns for batch in self._done] + self._waiting

    def _write(self, folder: Any) -> None:
        try:
            for arrays in self._waiting:
                batch = pa.RecordBatch.from_arrays(arrays, names=self._names)
                if self._schema is not None and batch.schema != self._schema:
                    self._finish()
                if self._writer is None:
                    self._schema = batch.schema
                    self._file = tempfile.TemporaryFile(dir=folder, buffering=0)  # noqa: SIM115
                    self._writer = pa.ipc.new_stream(self._file, batch.schema)
                self._writer.write_batch(batch)
        except OSError as error:
            raise scratch_full_error(folder, error.strerror or str(error)) from None
        self._waiting = []

    def _finish(self) -> None:
        """Map what was written."""
        if self._writer is None:
            return
        self._writer.close()
        with self._file as file:
            size = file.tell()
            buffer = map_open_file(file.fileno(), size)
        self._done += list(pa.ipc.open_stream(pa.BufferReader(buffer)))
        self._file = self._writer = self._schema = None


def _column(pieces: list[pa.Array], kind: pa.DataType | None) -> pa.ChunkedArray:
    """Pieces as one column; decimals of the width that all of them have room in."""
    kinds = {piece.type for piece in pieces}
    if len(kinds) > 1 and all(map(pa.types.is_decimal, kinds)):
        widest = max(kinds, key=lambda k: k.bit_width)
        pieces = [piece.cast(widest) for piece in pieces]
    return pa.chunked_array(pieces, kind)


def build_column(pieces: Iterable[pa.Array], kind: pa.DataType | None = None) -> pa.ChunkedArray:
    """Arrays one after another as a column.

    >>> build_column([pa.array(["a"]), pa.array(["b"])]).to_pylist()
    ['a', 'b']
    """
    if current_job().memory is None:
        return pa.chunked_array(list(pieces), kind)
    column_builder = ColumnBuilder([""])
    for piece in pieces:
        column_builder.append([piece])
    return column_builder.finish(None if kind is None else [kind])[""]


def build_chunks(pieces: Iterable[pa.Array]) -> list[pa.Array]:
    """Arrays of several types, kept as they are.

    >>> [piece.type for piece in build_chunks([pa.array([1]), pa.array(["a"])])]
    [DataType(int64), DataType(string)]
    """
    column_builder = ColumnBuilder([""])
    for piece in pieces:
        column_builder.append([piece])
    return [piece for (piece,) in column_builder.finish_chunks()]


def apply_in_batches(function: Callable[..., pa.Array], *arrays: Any) -> pa.Array:
    """What a function makes of arrays cell by cell, a step at a time where they are large.

    >>> apply_in_batches(lambda cells: cells.fill_null(0), pa.array([1, None])).to_pylist()
    [1, 0]
    """
    rows = len(arrays[0])
    if current_job().spilling is None or rows <= _STEP:
        return function(*arrays)
    return combine_column_chunks(
        build_column(
            function(*(array[start : start + _STEP] for array in arrays))
            for start in range(0, rows, _STEP)
        )
    )


def fill_in_batches(
    made: npt.NDArray[Any], function: Callable[..., npt.NDArray[Any]], *arrays: Any
) -> npt.NDArray[Any]:
    """Fill an array with what a function makes of others, a step at a time.

    So no more of them is looked at in one go than there is room for.

    >>> left, right = np.array([1, 2]), np.array([3, 4])
    >>> fill_in_batches(np.empty(2, int), lambda a, b: a + b, left, right).tolist()
    [4, 6]
    """
    for start in range(0, len(made), _STEP):
        stop = start + _STEP
        made[start:stop] = function(*(array[start:stop] for array in arrays))
    return made


def combine_column_chunks(column: pa.ChunkedArray) -> pa.Array:
    """A column in one array; a large one stands in arrays of NumPy's, which may be in a file."""
    here, kind = current_job().spilling, column.type
    large = here is not None and column.nbytes >= here.min_spill_bytes
    if large and (pa.types.is_string(kind) or pa.types.is_large_string(kind)):
        return _texts(column)
    if large and pa.types.is_primitive(kind) and kind.bit_width >= _BYTE:
        return _numbers(column)
    if column.nbytes >= 2**31 and kind == pa.string():
        column = column.cast(pa.large_string())
    return column.combine_chunks()


def _numbers(column: pa.ChunkedArray) -> pa.Array:
    width = column.type.bit_width // _BYTE
    data, byte = np.empty(len(column) * width, np.uint8), 0
    for chunk in column.chunks:
        size = len(chunk) * width
        if size:
            stored = np.frombuffer(chunk.buffers()[1], np.uint8, size, chunk.offset * width)
            data[byte : byte + size] = stored
        byte += size
    return pa.Array.from_buffers(column.type, len(column), [_present(column), pa.py_buffer(data)])


def _present(column: pa.ChunkedArray) -> pa.Buffer | None:
    """Which cells are there, as Arrow says it."""
    if not column.null_count:
        return None
    valid = [chunk.is_valid() for chunk in column.chunks]
    return pa.chunked_array(valid, pa.bool_()).combine_chunks().buffers()[1]


def _texts(column: pa.ChunkedArray) -> pa.Array:
    rows, wide = len(column), pa.types.is_large_string(column.type) or column.nbytes >= 2**31
    offsets = np.zeros(rows + 1, np.int64 if wide else np.int32)
    size = sum(map(_text_bytes, column.chunks))
    data = np.empty(size, np.uint8)
    row, byte = 0, 0
    for chunk in column.chunks:
        begin, ends, bytes_ = _buffers(chunk)
        stop = row + len(chunk)
        offsets[row + 1 : stop + 1] = ends - begin + byte
        data[byte : byte + len(bytes_)] = bytes_
        row, byte = stop, byte + len(bytes_)
    kind = pa.large_string() if wide else pa.string()
    buffers = [_present(column), pa.py_buffer(offsets), pa.py_buffer(data)]
    return pa.Array.from_buffers(kind, rows, buffers)


def _buffers(chunk: pa.Array) -> tuple[int, Any, Any]:
    """Where the bytes of a piece begin, where each cell ends, and the bytes."""
    if not len(chunk):
        return 0, np.empty(0, np.int64), np.empty(0, np.uint8)
    wide = pa.types.is_large_string(chunk.type)
    kind = np.dtype(np.int64 if wide else np.int32)
    _, offsets, data = chunk.buffers()
    all_offsets = np.frombuffer(offsets, kind, len(chunk) + 1, chunk.offset * kind.itemsize)
    begin, end = int(all_offsets[0]), int(all_offsets[-1])
    bytes_ = np.frombuffer(data, np.uint8)[begin:end] if end > begin else np.empty(0, np.uint8)
    return begin, all_offsets[1:], bytes_


def _text_bytes(chunk: pa.Array) -> int:
    return len(_buffers(chunk)[2])
