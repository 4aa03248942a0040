"""One table to read: its file or address, and which of the tables in that."""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from plait.core.account.errors import SourceError
from plait.core.account.names import shown
from plait.formats.archives.packed import COMPRESSED, inner_ending
from plait.formats.places.address import Address
from plait.formats.places.given import Given

STANDARD_INPUT = "-"


@dataclass(frozen=True)
class Taking:
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
class PassedOver:
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
    given : Given
    passed_over : PassedOver or None
    fault : SourceError or None
        Why there is no table in it to read.
    address : Address or None
        Where it stands when that is no file of this machine.
    bytes : int
        Of what an address leads to, as far as that is known.
    taking : Taking or None
        What is fetched of a table of a database, where that is not all of it.
    """

    name: str
    path: str
    member: str = ""
    part: str = ""
    given: Given = field(default_factory=Given)
    passed_over: PassedOver | None = None
    fault: SourceError | None = None
    address: Address | None = None
    bytes: int = 0
    taking: Taking | None = None

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
        return inner_ending(without_number(self.member) or path)

    @property
    def packed(self) -> bool:
        """Whether the file is compressed."""
        path = self.path if self.address is None else self.address.path
        return Path(path).suffix.lower() in COMPRESSED

    @property
    def far(self) -> bool:
        """Whether it is a file that has to be fetched first."""
        return self.address is not None and self.address.leads_to_file

    @property
    def in_database(self) -> bool:
        """Whether it is a table that a server keeps, or whatever an address of one means."""
        return self.address is not None and not self.address.leads_to_file

    @property
    def where(self) -> str:
        """File, member and part: ``register.xlsx#Hives``."""
        return shown("#".join(filter(None, (self.path, self.member, self.part))))


def without_number(member: str) -> str:
    """A file's name in an archive without the number that tells it from others of that name.

    >>> without_number("may.csv (2)")
    'may.csv'
    """
    return re.sub(r" \([0-9]+\)$", "", member)
