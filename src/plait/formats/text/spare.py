"""Buffers that were used and may be filled again: new memory costs more time than filling it."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable
from contextlib import suppress
from typing import Any, Generic, TypeVar

Buffer = TypeVar("Buffer", bound=Any)


class Spare(Generic[Buffer]):
    """A few buffers to be filled again; threads may share it.

    Parameters
    ----------
    make : callable
        Makes a buffer of so many bytes.
    most : int
        How many are kept.

    Examples
    --------
    >>> spare = Spare(bytearray, 2)
    >>> buffer = spare.take(8)
    >>> spare.give(buffer)
    >>> spare.take(8) is buffer
    True
    """

    def __init__(self, make: Callable[[int], Buffer], most: int) -> None:
        self._make = make
        self._kept: deque[Buffer] = deque(maxlen=most)

    def take(self, size: int) -> Buffer:
        """A buffer of so many bytes, of any content."""
        while self._kept:
            with suppress(IndexError):  # another thread took it
                buffer = self._kept.pop()
                if len(buffer) == size:
                    return buffer
        return self._make(size)

    def give(self, buffer: Buffer) -> None:
        """Have a buffer filled again; whoever gives it looks at it no more."""
        self._kept.append(buffer)
