"""A table of a database as the place that a result goes to."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from urllib.parse import unquote

from plait.core.account.errors import UsageError
from plait.core.table.table import Table
from plait.formats.places.address import Address, is_address


@dataclass(frozen=True)
class TableTarget:
    """A table that a server keeps.

    Parameters
    ----------
    address : Address
    table : str
        With its schema where it is not in the usual one: ``sales.season``.
    """

    address: Address
    table: str

    def __str__(self) -> str:
        return f"{self.address.shown}#{self.table}"

    @property
    def stem(self) -> str:
        """What a result is called that goes there."""
        return self.table.rpartition(".")[2]

    def beside(self, name: str) -> TableTarget:
        """Another table of the same schema."""
        schema, point, _ = self.table.rpartition(".")
        return TableTarget(self.address, f"{schema}{point}{name}")


@dataclass(frozen=True)
class How:
    """How a table is written into a database.

    Parameters
    ----------
    append : bool
        Whether its rows are added to those of a table that is there.
    key : tuple of str
        Columns that are known to be unique together.
    comments : mapping of str to str
        What columns mean.
    title : str
        What the table is.
    within : mapping of str to Table
        Further tables of the same new file.
    """

    append: bool = False
    key: tuple[str, ...] = ()
    comments: Mapping[str, str] = field(default_factory=dict)
    title: str = ""
    within: Mapping[str, Table] = field(default_factory=dict)


def table_target(word: str) -> TableTarget | None:
    """The table that an address names; ``None`` for what is no address.

    Raises
    ------
    UsageError
        For an address that names no table, or of something that is only read.

    Examples
    --------
    >>> str(table_target("postgresql://ines:x@db/co_op#sales.season"))
    'postgresql://ines:***@db/co_op#sales.season'
    """
    if not is_address(word):
        return None
    whole, _, table = word.partition("#")
    address = Address(whole)
    if address.scheme not in ("postgresql", "mysql"):
        raise UsageError(
            f"nothing is written to {address.scheme}://",
            address.shown,
            "to a file, to postgresql://…#TABLE or to mysql://…#TABLE",
        )
    if not table:
        raise UsageError(
            "this address names no table", address.shown, f"write {address.shown}#TABLE"
        )
    return TableTarget(address, unquote(table))
