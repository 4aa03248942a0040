"""What writing tables into any server has in common: where they go, and what they never take."""

from __future__ import annotations

import secrets
from abc import ABC, abstractmethod
from collections.abc import Sequence
from typing import Any, ClassVar, Protocol

from plait.core.account.errors import OutputError
from plait.core.account.finding import Finding
from plait.core.account.names import nearest
from plait.core.table.table import Table
from plait.formats.places.address import Address
from plait.formats.places.reader import Tick
from plait.formats.places.target import How, TableTarget

Sources = Sequence[tuple[Address, str]]


class Tables(Protocol):
    """Tables that are written into a database, of which nobody finds any before the end."""

    @abstractmethod
    def check(self, name: str, append: bool, sources: Sources = ()) -> None:
        """See that a table can be written, before any work is done for it.

        Raises
        ------
        OutputError
        """

    @abstractmethod
    def add(self, table: Table, name: str, tick: Tick, how: How) -> list[Finding]:
        """Write one table more.

        Raises
        ------
        OutputError
        """

    @abstractmethod
    def stated(self) -> dict[str, Any]:
        """What tells later whether it was made."""

    @abstractmethod
    def commit(self) -> None:
        """Let the new tables take their places, all at once.

        Raises
        ------
        OutputError
            When that cannot be; nothing has changed then.
        """

    @abstractmethod
    def rollback(self) -> None:
        """Leave everything as it was."""


class Into(Tables, ABC):
    """What writing them into any server has in common.

    Parameters
    ----------
    address : Address
    replace : bool
        Whether tables that are there may be replaced.
    """

    scheme: ClassVar[str]
    called: ClassVar[str]  # what tables are in: a schema, a database

    def __init__(self, address: Address, replace: bool = False) -> None:
        self._address, self._replace = address, replace
        self._token = secrets.token_hex(4)

    @abstractmethod
    def _schemas(self) -> list[str]:
        """What tables may be in."""

    @abstractmethod
    def _usual(self) -> str | None:
        """What they are in where none is named."""

    @abstractmethod
    def _identity(self, name: str) -> tuple[Any, ...] | None:
        """What tells a table from all others, however its server is reached."""

    def _where(self, name: str) -> str:
        return str(TableTarget(self._address, name))

    def _place(self, name: str, there_is: bool = False) -> tuple[str, str]:
        """The schema and the table of a name; in that of a table that there is a point may be.

        Raises
        ------
        OutputError
        """
        head, point, tail = name.partition(".")
        there = self._schemas() if point and tail else []
        if there and (head in there or not there_is):
            if head not in there:
                raise OutputError(
                    f"no {self.called} {head!r}",
                    self._address.shown,
                    nearest(head, there) or "create it first, or name only the table",
                )
            return head, tail
        usual = self._usual()
        if usual is None:
            raise OutputError(
                f"no {self.called} is named, and none is usual there",
                self._address.shown,
                f"write #{self.called}.table",
            )
        return usual, name

    def _check_sources(self, name: str, sources: Sources) -> None:
        """See that a table is none of those that are read.

        Raises
        ------
        OutputError
        """
        mine = self._identity(name)
        for address, table in sources if mine else ():
            if address.scheme == self.scheme and table and self._other(address, table) == mine:
                raise OutputError(
                    "this table is a source, and sources are never written to",
                    self._where(name),
                    "write to another table",
                )

    def _other(self, address: Address, table: str) -> tuple[Any, ...] | None:
        """What tells a table at another address from all others."""
        other: Into = self if address == self._address else type(self)(address)
        try:
            return other._identity(table)
        finally:
            if other is not self:
                other.rollback()

    def _refuse_taken(self, table: str, name: str) -> None:
        """Raise where a table is there that may not be replaced.

        Raises
        ------
        OutputError
        """
        if not self._replace:
            raise OutputError(
                f"the table {table} already exists",
                self._where(name),
                "choose another name, replace just this table: --replace, or add rows to it: "
                "--append",
            )
