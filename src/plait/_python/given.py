"""What the calls of ``import plait`` take for a table: files, tables, and what holds columns."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any, Protocol

import pyarrow as pa

from plait.core.account.errors import UsageError
from plait.core.table.keyspec import KeySpec
from plait.core.table.table import Table
from plait.formats.cells.values import column_of, types_of
from plait.formats.reading import read_alone
from plait.formats.sources import find_sources, one_source
from plait.plan.runs.handed import dataset_of, known_key, sides


class HasColumns(Protocol):
    """Anything that gives its columns by the Arrow C stream interface."""

    def __arrow_c_stream__(self, requested_schema: object = None) -> object:
        """The columns."""


Input = Table | str | Path | Mapping[str, Sequence[Any]] | HasColumns


def all_tables(words: Sequence[Input] | Input) -> list[Table]:
    """The tables that are given, or read from the sources that words mean.

    Raises
    ------
    UsageError
        For what is no table.
    """
    every = words if isinstance(words, list | tuple) else [words]
    several = len(every) > 1
    return [
        table
        for number, word in enumerate(every, 1)
        for table in _tables(word, f"table {number}" if several else "table")
    ]


def _tables(word: Any, name: str) -> list[Table]:
    if isinstance(word, str | Path):
        return [read_alone(source) for source in find_sources([str(word)])]
    return [_in_memory(word, name)]


def one_table(word: Input, name: str = "table") -> Table:
    """The table that is given, or read from the source that a word means.

    ``name`` is what one from memory, which has none, is called in messages and the ledger.

    >>> one_table({"hive": ["1", "2"], "kg": [12.5, None]}).to_dict()
    {'hive': ['1', '2'], 'kg': [12.5, None]}
    >>> one_table(pa.table({"hive": ["1"]})).to_dict()
    {'hive': ['1']}
    """
    if isinstance(word, str | Path):
        return read_alone(one_source(str(word)))
    return _in_memory(word, name)


def tables_by_name(words: Mapping[str, Input], more: Sequence[Input] = ()) -> list[Table]:
    """Tables that are called as the parameters they are given for, and further ones by number."""
    named = {**words, **{f"table {n}": word for n, word in enumerate(more, len(words) + 1)}}
    return [one_table(word, name) for name, word in named.items()]


def two_datasets(old: Input, new: Input) -> tuple[list[Table], KeySpec | None]:
    """Two tables, of the folder of a handover its dataset; and the key that a handover knows."""
    words = (old, new)
    named = {at: one for at, one in enumerate(words) if isinstance(one, str | Path)}
    found = dict(zip(named, sides([str(one) for one in named.values()]), strict=True))
    read = {at: read_alone(dataset_of(one, found.get(1 - at, ""))) for at, one in found.items()}
    tables = [
        read[at] if at in read else _in_memory(one, ("old", "new")[at])
        for at, one in enumerate(words)
    ]
    return tables, known_key(list(found.values()), tables)


def _in_memory(given: Any, name: str) -> Table:
    if isinstance(given, Table):
        return given
    if isinstance(given, Mapping):
        columns = [_column(cells) for cells in given.values()]
        if len({len(cells) for cells in columns}) > 1:
            raise UsageError(
                "the columns of a table are of one length", remedy="pad the short ones"
            )
        return Table.from_arrow(pa.table(columns, [str(head) for head in given]), name)
    if hasattr(given, "__arrow_c_stream__"):
        return Table.from_arrow(given, name)
    raise UsageError(
        f"not a table: {type(given).__name__}",
        remedy="give a path, a table, a mapping of names to lists, or Arrow columns",
    )


def _column(values: Any) -> pa.Array:
    if isinstance(values, pa.Array):
        return values
    cells = list(values)
    types = types_of(cells)
    if not types:
        return pa.nulls(len(cells))
    # Floats stay floats in Python, also where all of them are whole.
    return pa.array(cells, pa.float64()) if types == {float} else column_of(cells)
