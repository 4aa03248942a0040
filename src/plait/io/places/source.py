"""A source: a file or table to read, and what a person says of how it is written.

A module ``reader.py`` in the room of a format does what is said here; ``formats/readers.py``
says which of them reads a source.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Protocol

from plait.core.base.errors import SourceError, UsageError
from plait.core.base.limits import LIMITS, Limits
from plait.core.base.names import printable_path
from plait.core.table.fragment import RowNumbers
from plait.core.table.table import Table
from plait.io.places.address import Address
from plait.io.places.archives import COMPRESSED, uncompressed_ending

DELIMITERS = {"comma": ",", "tab": "\t", "semicolon": ";", "pipe": "|"}

STANDARD_INPUT = "-"

DELIMITED = {".csv": ",", ".txt": ",", ".tsv": "\t", ".tab": "\t"}
WORKBOOKS = (".xlsx", ".xlsm", ".xlsb", ".xls", ".ods")
COLUMNAR = (".parquet", ".arrow", ".feather")
JSON, JSON_LINES = ".json", (".jsonl", ".ndjson")
DATABASES = (".sqlite", ".sqlite3", ".db")
HISTORY = ".history.jsonl"  # beside a plan; in a folder of sources it is none of them
READABLE = (*DELIMITED, *WORKBOOKS, *COLUMNAR, JSON, *JSON_LINES, *DATABASES)
WRITABLE = (
    ".csv", ".tsv", ".tab", ".parquet", ".arrow", ".feather",
    JSON, *JSON_LINES, ".xlsx", *DATABASES,
)  # fmt: skip

OnProgress = Callable[[int], None]


@dataclass(frozen=True)
class Dialect:
    """How a delimited file is written. What is ``None`` is to be found out.

    Parameters
    ----------
    delimiter : str, optional
        One character.
    quote : str, optional
        One character.
    escape : str, optional
        The character that takes the meaning of the next one away; empty when
        quotes in a cell are doubled.
    header_line : int, optional
        The line that the header begins on, from 1.
    header_rows : int, optional
        In how many rows the headings stand.
    """

    encoding: str | None = None
    delimiter: str | None = None
    quote: str | None = None
    escape: str | None = None
    header_line: int | None = None
    header_rows: int | None = None

    @property
    def regular(self) -> bool:
        """Whether quotes are as in RFC 4180."""
        return self.quote == '"' and not self.escape

    def shown(self) -> str:
        """In words: ``windows-1252, semicolon``."""
        names = {i: name for name, i in DELIMITERS.items()}
        said = [
            {"cp1252": "windows-1252"}.get(self.encoding or "", self.encoding or ""),
            names.get(self.delimiter or "", repr(self.delimiter)),
        ]
        said += [f"quote {self.quote}"] if self.quote not in ('"', None) else []
        said += [f"escape {self.escape}"] if self.escape else []
        return ", ".join(said)


def parse_delimiter(word: str) -> str:
    """The character that a word means: itself, or one of the names in ``DELIMITERS``.

    >>> parse_delimiter("semicolon"), parse_delimiter("^")
    (';', '^')
    """
    sign = DELIMITERS.get(word.lower(), "\t" if word == "\\t" else word)
    if len(sign) != 1 or not sign.isascii() or sign in '"\r\n':
        raise UsageError(
            f"{word!r} is not a valid delimiter",
            remedy=f"one character, or {', '.join(DELIMITERS)}",
        )
    return sign


@dataclass(frozen=True)
class ReadOptions:
    """What a person says of how a source is written; the rest is found out.

    Parameters
    ----------
    dialect : Dialect
        Of delimited text; ``header_line`` counts for workbooks too.
    ragged : {"error", "set-aside"}
        What is done with rows of too few or too many cells.
    footer : int
        How many rows at the end are set aside.
    query : str
        What a database is asked for, in its own SQL, in place of a table.
    timeout : int, optional
        Seconds that a database or an address may take.
    merged : {"keep", "fill"}
        Of merged cells of a workbook the first has the value: whether the others get it.
    as_shown : bool
        Whether numbers of a workbook are taken with the zeros in front that are shown.
    """

    dialect: Dialect = field(default_factory=Dialect)
    ragged: str = "error"
    footer: int = 0
    limits: Limits = LIMITS
    query: str = ""
    timeout: int | None = None
    merged: str = "keep"
    as_shown: bool = False


@dataclass(frozen=True)
class FetchSubset:
    """What is fetched of a table of a database, and what stays there.

    Parameters
    ----------
    columns : tuple of str
        Those fetched, in the table's order; empty for all.
    where : object
        The condition on the rows that are fetched, as a tree of ``core.sql``; ``None`` for all.
    """

    columns: tuple[str, ...] = ()
    where: Any = None


@dataclass(frozen=True)
class SkippedFiles:
    """Files of a folder that was named which are not read."""

    folder: str
    names: tuple[str, ...]


@dataclass(frozen=True)
class Source:
    """One table to read.

    Parameters
    ----------
    name : str
        What the table is called.
    path : str
        The file, or the address as it may be shown.
    member : str
        The file within an archive.
    part : str
        The sheet, or the table of a database.
    error : SourceError or None
        Why there is no table in it to read.
    address : Address or None
        Where it stands when that is no file of this machine.
    bytes : int
        Of what an address leads to, as far as that is known.
    subset : FetchSubset or None
        What is fetched of a table of a database, where that is not all of it.
    word : int
        Which of several words named it, from 0.
    """

    name: str
    path: str
    member: str = ""
    part: str = ""
    options: ReadOptions = field(default_factory=ReadOptions)
    passed_over: SkippedFiles | None = None
    error: SourceError | None = None
    address: Address | None = None
    bytes: int = 0
    subset: FetchSubset | None = None
    word: int = 0

    @property
    def size(self) -> int:
        """Bytes, 0 when that is not known."""
        if self.address is not None:
            return self.bytes
        path = Path(self.path)
        return path.stat().st_size if path.is_file() else 0

    @property
    def ending(self) -> str:
        """The ending that says the format."""
        path = self.path if self.address is None else self.address.path
        return uncompressed_ending(strip_member_number(self.member) or path)

    @property
    def packed(self) -> bool:
        """Whether the file is compressed."""
        path = self.path if self.address is None else self.address.path
        return Path(path).suffix.lower() in COMPRESSED

    @property
    def is_remote(self) -> bool:
        """Whether it is a file that has to be fetched first."""
        return self.address is not None and self.address.leads_to_file

    @property
    def in_database(self) -> bool:
        """Whether it is a table that a server keeps, or whatever an address of one means."""
        return self.address is not None and not self.address.leads_to_file

    @property
    def where(self) -> str:
        """File, member and part: ``register.xlsx#Hives``."""
        return printable_path("#".join(filter(None, (self.path, self.member, self.part))))


def strip_member_number(member: str) -> str:
    """A file's name in an archive without the number that tells it from others of that name.

    >>> strip_member_number("may.csv (2)")
    'may.csv'
    """
    return re.sub(r" \([0-9]+\)$", "", member)


@dataclass(frozen=True)
class TableListing:
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
class RefetchedRow:
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

    def tables(self, source: Source) -> TableListing | None:
        """The tables in what a source names; ``None`` where it is one, without a name."""

    def columns(self, source: Source) -> list[str]:
        """The names of the columns, quickly where that can be."""

    def read(self, source: Source, on_progress: OnProgress) -> Table:
        """The whole table; ``on_progress`` is told how many bytes were read, each time."""

    def first(self, source: Source, rows: int) -> Table | None:
        """So many first rows, or all; ``None`` where only the whole can be read."""

    def read_rows(self, source: Source, rows: RowNumbers) -> Table | None:
        """Some rows of a file that Plait wrote; ``None`` where only the whole can be read."""

    def rows_at(
        self, source: Source, rows: Sequence[int], keys: Sequence[str]
    ) -> dict[int, RefetchedRow]:
        """Rows by their numbers from 0, and the keys they have where rows are known by keys."""

    def fingerprint(self, source: Source) -> str:
        """What tells whether the whole is as it was; empty where only its rows tell."""


def unreadable_error(error: OSError, source: Source) -> SourceError:
    """That a source cannot be read, as the system puts it."""
    if isinstance(error, IsADirectoryError):
        return SourceError("this is a folder", source.path, "name a file")
    return SourceError(f"cannot read the file: {error.strerror or error}", source.path)
