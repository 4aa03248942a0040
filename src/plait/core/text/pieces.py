"""Columns in pieces, as files are read: put together, or gone through in steps of one size."""

from __future__ import annotations

from collections.abc import Iterator

import pyarrow as pa

from plait.core.store.shelf import in_one_piece

_SHORT_ROWS, _SHORT_BYTES = 1 << 12, 1 << 20


def one_array(column: pa.ChunkedArray) -> pa.Array:
    """A column in one piece, without a copy where it is in one piece already."""
    if column.num_chunks == 1:
        return column.chunk(0)
    return in_one_piece(column)


def steps(column: pa.ChunkedArray, rows: int) -> Iterator[pa.Array]:
    """The cells of a column, up to so many at a time, in order.

    Long pieces are cut, without a copy. Short ones are put together: what is
    done for a hundred cells often takes as long as for a thousand.

    >>> column = pa.chunked_array([["a"], ["b"], ["c"] * 5000])
    >>> [len(step) for step in steps(column, 4000)]
    [2, 4000, 1000]
    """
    short: list[pa.Array] = []
    held = 0
    for chunk in column.chunks:
        is_short = len(chunk) < _SHORT_ROWS and chunk.nbytes < _SHORT_BYTES
        if short and not (is_short and held + len(chunk) <= rows):
            yield one_array(pa.chunked_array(short))
            short, held = [], 0
        if is_short:
            short.append(chunk)
            held += len(chunk)
        else:
            yield from (chunk.slice(at, rows) for at in range(0, len(chunk), rows))
    if short:
        yield one_array(pa.chunked_array(short))
