"""Tables as a server is to have them: the type of each column, and its cells in that type."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.account.errors import OutputError
from plait.core.account.names import nearest
from plait.core.table.absent import present
from plait.core.table.table import Table
from plait.core.text.cells import as_text
from plait.formats.cells.typed import Typing, groups, sure_typing
from plait.formats.places.reader import Tick

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


@dataclass(frozen=True, eq=False)
class Shape:
    """The columns of a table as they are sent.

    Parameters
    ----------
    typing : Typing
        What the table has.
    schema : pyarrow.Schema
        What is sent.
    """

    typing: Typing
    schema: pa.Schema

    def batches(self, tick: Tick) -> Iterator[pa.RecordBatch]:
        """The rows as they are sent; ``tick`` is told how many, each time."""
        for group in groups(self.typing, GROUP):
            made = [_sent(c, f.type) for c, f in zip(group.columns, self.schema, strict=True)]
            yield from pa.Table.from_arrays(made, schema=self.schema).to_batches()
            tick(group.num_rows)


def shape_of(table: Table) -> Shape:
    """The types that the columns of a table have, in those that servers know."""
    typing = sure_typing(table)
    fields = [pa.field(one.name, _type(one.type, typing.kinds[one.name])) for one in typing.schema]
    return Shape(typing, pa.schema(fields))


def _type(kind: pa.DataType, found: str) -> pa.DataType:
    """The type that is sent for one that a table has."""
    if pa.types.is_decimal(kind):
        # What was found in text may have another digit next time.
        digits = kind.precision if found == "typed" else max(kind.precision, _LEAST_DIGITS)
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
        return pa.chunked_array([as_text(one).cast(to) for one in cells.chunks], to)
    return cells.cast(to)


def check_names(
    shape: Shape, where: str, most: int, name: str, length: Callable[[str], int]
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
                "rename it: plait mend --rename",
            )
        if "\0" in one:
            raise OutputError(f"no name there can be {one!r}", where, "rename it")


def most_signs(types: Mapping[str, str]) -> dict[str, int]:
    """How many signs a text may have in those columns whose declared type says so.

    >>> most_signs({"yard": "character varying(9)", "note": "text", "hive": "varchar(2)"})
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
    batch : pyarrow.RecordBatch
    begin : int
        How many rows came before.
    where : str
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
    fits = key and all(table.has(one) and bool(present(table, one).all()) for one in key)
    return tuple(key) if fits else ()


def differences(
    shape: Shape,
    there: Mapping[str, str],
    filled: set[str],
    fits: Callable[[pa.DataType, str], bool],
) -> list[str]:
    """What a table lacks, has besides, or has otherwise than one whose rows are to be added.

    Parameters
    ----------
    shape : Shape
        Of the rows.
    there : mapping of str to str
        The columns of the table that is there, with their types.
    filled : set of str
        Those of them that fill themselves.
    fits : callable
        Whether values of a type can stand in a column of a declared type.
    """
    said = []
    for field in shape.schema:
        if field.name not in there:
            near = nearest(field.name, list(there))
            said.append(f"it has no column {field.name}" + (f" ({near})" if near else ""))
        elif not fits(field.type, there[field.name]):
            said.append(f"{field.name} is {there[field.name]} there, and {field.type} here")
    more = [one for one in there if one not in shape.schema.names and one not in filled]
    if more:
        said.append(f"it also has {', '.join(more)}")
    return said
