"""What there is in a database: tables, their columns, and how each of these is read."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Protocol

import pyarrow as pa

from plait.core.expressions.parser import SyntaxNode


@dataclass(frozen=True)
class RelationName:
    """A table or view of a database.

    Parameters
    ----------
    usual : bool
        Whether the schema is the one that is meant where none is named.
    """

    schema: str
    name: str
    usual: bool = True

    @property
    def called(self) -> str:
        """How a person names it: the schema only where it is not the usual one."""
        return self.name if self.usual or not self.schema else self.whole

    @property
    def whole(self) -> str:
        """With its schema."""
        return f"{self.schema}.{self.name}" if self.schema else self.name


@dataclass(frozen=True)
class RelationColumn:
    """A column as it is fetched.

    Parameters
    ----------
    declared : str
        Its type, as the database says it.
    kind : str
        ``boolean``, ``integer``, ``bits``, ``float``, ``single``, ``numeric``, ``text``,
        ``date``, ``time``, ``timestamp``, ``moment`` (with a zone), ``clock``: texts of one of
        the last three, of which some are of no calendar, or ``other``: read as text.
    fetched : str
        The SQL that gives its cells.
    as_text : str
        The SQL that gives them as text.
    digits : tuple of int, optional
        Of a numeric: all, and those behind the point, where they are declared.
    exact_text : bool
        Whether texts are equal there only when all their signs are.
    """

    name: str
    declared: str
    kind: str
    fetched: str
    as_text: str
    digits: tuple[int, int] | None = None
    exact_text: bool = False


@dataclass(frozen=True)
class Relation:
    """A table, a view, or what a query gives.

    Parameters
    ----------
    called : str
        For messages.
    source : str
        The SQL that stands behind ``FROM``.
    key : tuple of str
        The columns of its primary key, where it has one.
    what : str
        ``table``, ``view``, ``query``.
    """

    called: str
    source: str
    fields: tuple[RelationColumn, ...]
    key: tuple[str, ...] = ()
    what: str = "table"

    def field(self, name: str) -> RelationColumn:
        """The column of that name; ``KeyError`` where there is none."""
        return {field.name: field for field in self.fields}[name]


@dataclass(frozen=True)
class FetchRequest:
    """Which part of a relation is fetched.

    Parameters
    ----------
    where : SyntaxNode or None
        A condition that means the same there: see ``query``.
    keys : sequence of tuple
        Rows with these keys only.
    ordered : bool
        Whether they come in the order of the key.
    most : int, optional
        So many rows at most.
    """

    fields: tuple[RelationColumn, ...]
    where: SyntaxNode | None = None
    keys: Sequence[tuple[object, ...]] = ()
    ordered: bool = False
    most: int | None = None


class Database(Protocol):
    """A connection to a database, within one read-only snapshot of it.

    ``decides``: whether it is asked for the rows on which a condition holds.
    """

    label: str
    decides: bool

    def listed(self) -> list[RelationName]:
        """The tables and views that may be read, those of the usual schema first."""

    def relation(self, relation_name: RelationName) -> Relation:
        """The columns and the key of a table."""

    def asked(self, query: str) -> Relation:
        """What a query gives."""

    def batches(self, relation: Relation, fetch_request: FetchRequest) -> Iterator[pa.RecordBatch]:
        """The rows, batch by batch; nothing is held but one of them."""

    def count(self, relation: Relation) -> int:
        """How many rows there are."""

    def close(self) -> None:
        """Let go of it."""
