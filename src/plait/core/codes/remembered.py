"""Columns that were coded once, for whoever looks at them again in the same job."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass

import pyarrow as pa

from plait.core.text.wordtable import Codes


@dataclass(frozen=True, eq=False)
class Remembered:
    """A column and its codes.

    Parameters
    ----------
    column : pyarrow.ChunkedArray
    codes : array of int32
        -1 where a cell is missing or empty.
    texts : pyarrow.Array
        By code, in the order in which they come.
    """

    column: pa.ChunkedArray
    codes: Codes
    texts: pa.Array


_KEPT: ContextVar[dict[int, Remembered] | None] = ContextVar("kept", default=None)


@contextmanager
def remembering() -> Iterator[None]:
    """Keep what columns were coded to, for all that is done within.

    >>> column = pa.chunked_array([["a", "b", "a"]])
    >>> with remembering():
    ...     remember(column, np.array([0, 1, 0], np.int32), pa.array(["a", "b"]))
    ...     recalled(column).texts.to_pylist()
    ['a', 'b']
    >>> recalled(column) is None
    True
    """
    token = _KEPT.set({})
    try:
        yield
    finally:
        _KEPT.reset(token)


def remember(column: pa.ChunkedArray, codes: Codes, texts: pa.Array) -> None:
    """Keep the codes of a column, where they are kept at all."""
    kept = _KEPT.get()
    if kept is not None:
        kept[id(column)] = Remembered(column, codes, texts)


def recalled(column: pa.ChunkedArray) -> Remembered | None:
    """What that very column was coded to, if that was kept."""
    return (_KEPT.get() or {}).get(id(column))
