"""What each kind of file or database can be asked for: one protocol for all of them.

A module ``reader.py`` in the room of a format does what is said here; ``formats/readers.py``
says which of them reads a source.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Protocol

from plait.core.account.errors import SourceError
from plait.core.table.table import Table
from plait.formats.places.source import Source

Tick = Callable[[int], None]


@dataclass(frozen=True)
class Tables:
    """The tables in a file or database.

    Parameters
    ----------
    names : tuple of str
        Those that are read when none is named.
    hidden : tuple of str
        Those that are read only when they are named.
    called : str
        What one is: ``sheet``, ``table``.
    others : bool
        Whether what is not listed here can be named too.
    also : mapping of str to str
        Other names that some of them have, to the listed ones.
    """

    names: tuple[str, ...]
    hidden: tuple[str, ...] = ()
    called: str = "table"
    others: bool = False
    also: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class Looked:
    """A row of a source looked up again.

    Parameters
    ----------
    line : int or None
        The line that it begins on, or its row of the sheet, where there are any.
    cells : mapping of str to str
        By column.
    sum : int or None
        What tells whether it is as it was, where its source has no checksum.
    unit : str
        What ``line`` counts: ``line`` or ``sheet row``.
    """

    line: int | None
    cells: Mapping[str, str] = field(default_factory=dict)
    sum: int | None = None
    unit: str = "line"


class Reader(Protocol):
    """Reads sources of one kind. Every function raises ``SourceError`` for what it cannot read."""

    def tables(self, source: Source) -> Tables | None:
        """The tables in what a source names; ``None`` where it is one, without a name."""

    def columns(self, source: Source) -> list[str]:
        """The names of the columns, quickly where that can be."""

    def read(self, source: Source, tick: Tick) -> Table:
        """The whole table; ``tick`` is told how many bytes were read, each time."""

    def first(self, source: Source, rows: int) -> Table | None:
        """So many first rows, or all; ``None`` where only the whole can be read."""

    def rows_at(
        self, source: Source, rows: Sequence[int], keys: Sequence[str]
    ) -> dict[int, Looked]:
        """Rows by their numbers from 0, and the keys they have where rows are known by keys."""

    def fingerprint(self, source: Source) -> str:
        """What tells whether the whole is as it was; empty where only its rows tell."""


def said_of(error: OSError, source: Source) -> SourceError:
    """That a source cannot be read, as the system puts it."""
    if isinstance(error, IsADirectoryError):
        return SourceError("this is a folder", source.path, "name a file")
    return SourceError(f"cannot read the file: {error.strerror or error}", source.path)
