"""Tables written to a server: their shape, and all or nothing."""

from __future__ import annotations

import re
import secrets
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, ClassVar, Protocol

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.base.errors import OutputError
from plait.core.base.findings import Finding
from plait.core.base.names import suggest_name
from plait.core.base.wording import Command, Setting, wording
from plait.core.table.columns import has_value_mask
from plait.core.table.table import Table
from plait.core.text.cells import to_text
from plait.core.types.column_type import ColumnType
from plait.io.cells.conversion import TypedColumns, convert_in_row_groups, infer_types
from plait.io.places.address import Address
from plait.io.places.source import OnProgress
from plait.io.places.target import TableTarget, TableWriteOptions

Sources = Sequence[tuple[Address, str]]

RENAME = wording("rename it: ", Command("mend", (), (Setting("rename"),)))
GROUP = 1 << 16
_VARYING = re.compile(r"(?:character varying|varchar)\((\d+)\)")
_LEAST_DIGITS = 18
_MOST_DIGITS = 76
_WIDER = (
    (pa.types.is_int8, pa.int16()),
    (pa.types.is_uint8, pa.int16()),
    (pa.types.is_uint16, pa.int32()),
    (pa.types.is_uint32, pa.int64()),
    (pa.types.is_uint64, pa.decimal128(20, 0)),
    (pa.types.is_float16, pa.float32()),
    (pa.types.is_timestamp, None),
    (pa.types.is_time, pa.time64("us")),
    (pa.types.is_date, pa.date32()),
)


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
    def add(
        self, table: Table, name: str, on_progress: OnProgress, how: TableWriteOptions
    ) -> list[Finding]:
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


class DatabaseWriter(Tables, ABC):
    """What writing them into any server has in common.

    Parameters
    ----------
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

    def _split_table_name(self, name: str, there_is: bool = False) -> tuple[str, str]:
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
                    suggest_name(head, there) or "create it first, or name only the table",
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
        database_writer: DatabaseWriter = self if address == self._address else type(self)(address)
        try:
            return database_writer._identity(table)
        finally:
            if database_writer is not self:
                database_writer.rollback()

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
                wording(
                    "choose another name, replace just this table: ",
                    Setting("replace", True),
                    ", or add rows to it: ",
                    Setting("append", True),
                ),
            )


@dataclass(frozen=True, eq=False)
class TargetSchema:
    """The columns of a table as they are sent.

    Parameters
    ----------
    typing : TypedColumns
        What the table has.
    schema : pyarrow.Schema
        What is sent.
    """

    typing: TypedColumns
    schema: pa.Schema

    def batches(self, on_progress: OnProgress) -> Iterator[pa.RecordBatch]:
        """The rows as they are sent; ``on_progress`` is told how many, each time."""
        for group in convert_in_row_groups(self.typing, GROUP):
            made = [_sent(c, f.type) for c, f in zip(group.columns, self.schema, strict=True)]
            yield from pa.Table.from_arrays(made, schema=self.schema).to_batches()
            on_progress(group.num_rows)


def infer_target_schema(table: Table) -> TargetSchema:
    """The types that the columns of a table have, in those that servers know."""
    typing = infer_types(table)
    fields = [pa.field(s.name, _type(s.type, typing.types[s.name])) for s in typing.schema]
    return TargetSchema(typing, pa.schema(fields))


def _type(kind: pa.DataType, found: ColumnType) -> pa.DataType:
    """The type that is sent for one that a table has."""
    if pa.types.is_decimal(kind):
        # What was found in text may have another digit next time.
        digits = kind.precision if found.native is not None else max(kind.precision, _LEAST_DIGITS)
        digits = min(max(digits, kind.scale), _MOST_DIGITS)
        return (pa.decimal128 if digits <= 38 else pa.decimal256)(digits, kind.scale)
    if pa.types.is_timestamp(kind):
        return pa.timestamp("us", "UTC" if kind.tz else None)
    known = pa.types.is_integer(kind) or pa.types.is_boolean(kind) or pa.types.is_floating(kind)
    wider = next((to for holds, to in _WIDER if holds(kind)), None)
    return wider or (kind if known else pa.string())


def _sent(cells: pa.ChunkedArray, to: pa.DataType) -> pa.ChunkedArray:
    if cells.type == to:
        return cells
    if pa.types.is_string(to):
        return pa.chunked_array([to_text(chunk).cast(to) for chunk in cells.chunks], to)
    return cells.cast(to)


def check_names(
    shape: TargetSchema, where: str, most: int, name: str, length: Callable[[str], int]
) -> None:
    """See that a server takes the names of a table and its columns as they are.

    Raises
    ------
    OutputError
    """
    for one in (name, *shape.schema.names):
        if length(one) > most:
            raise OutputError(
                f"the name {one[:40]!r} … is longer than {most}, which is the most there",
                where,
                RENAME,
            )
        if "\0" in one:
            raise OutputError(f"no name there can be {one!r}", where, "rename it")


def declared_text_lengths(types: Mapping[str, str]) -> dict[str, int]:
    """How many signs a text may have in those columns whose declared type says so.

    >>> declared_text_lengths({"yard": "character varying(9)", "hive": "varchar(2)"})
    {'yard': 9, 'hive': 2}
    """
    found = {name: _VARYING.match(declared) for name, declared in types.items()}
    return {name: int(match[1]) for name, match in found.items() if match}


def check_cells(
    batch: pa.RecordBatch,
    begin: int,
    where: str,
    never: Callable[[pa.Array], pa.Array | None],
    most: Mapping[str, int],
) -> None:
    """See that a server can hold the cells as they are.

    Parameters
    ----------
    begin : int
        How many rows came before.
    never : callable
        Tells which cells of a column it cannot hold.
    most : mapping of str to int
        How many signs the texts of some columns may have: spaces beyond would be cut off
        without a word.

    Raises
    ------
    OutputError
        Names row and column.
    """
    for name, column in zip(batch.schema.names, batch.columns, strict=True):
        wrong = never(column)
        if name in most and pa.types.is_string(column.type):
            long = pc.greater(pc.utf8_length(column), most[name])
            wrong = long if wrong is None else pc.or_(wrong, long)
        if wrong is not None and pc.any(wrong).as_py():
            row = int(np.flatnonzero(pc.fill_null(wrong, False).to_numpy(False))[0])
            raise OutputError(
                f"row {begin + row + 1:,}, column {name}: the database cannot store "
                f"{column[row].as_py()!r}",
                where,
                "nothing was changed",
            )


def unique_key(table: Table, key: Sequence[str]) -> tuple[str, ...]:
    """A key that is known to be unique, where each of its cells is there too: else nothing."""
    fits = key and all(
        table.has_column(one) and bool(has_value_mask(table, one).all()) for one in key
    )
    return tuple(key) if fits else ()


def schema_differences(
    shape: TargetSchema,
    there: Mapping[str, str],
    filled: set[str],
    fits: Callable[[pa.DataType, str], bool],
) -> list[str]:
    """What a table lacks, has besides, or has otherwise than one whose rows are to be added.

    Parameters
    ----------
    shape : TargetSchema
        Of the rows.
    there : mapping of str to str
        The columns of the table that is there, with their types.
    filled : set of str
        Those of them that fill themselves.
    fits : callable
        Whether values of a type can stand in a column of a declared type.
    """
    texts = []
    for field in shape.schema:
        if field.name not in there:
            near = suggest_name(field.name, list(there))
            texts.append(f"it has no column {field.name}" + (f" ({near})" if near else ""))
        elif not fits(field.type, there[field.name]):
            texts.append(f"{field.name} is {there[field.name]} there, and {field.type} here")
    more = [t for t in there if t not in shape.schema.names and t not in filled]
    if more:
        texts.append(f"it also has {', '.join(more)}")
    return texts
