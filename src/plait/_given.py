"""What the calls of ``import plait`` take for a table: files, tables, and what holds columns."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any, Protocol

import pyarrow as pa

from plait.core.account.errors import UsageError
from plait.core.table.table import Table
from plait.formats.cells.values import column_of
from plait.formats.columnar.reading import table_of
from plait.formats.reading import read_source
from plait.formats.sources import find_sources, one_source


class HasColumns(Protocol):
    """Anything that gives its columns by the Arrow C stream interface."""

    def __arrow_c_stream__(self, requested_schema: object = None) -> object:
        """The columns."""


Input = Table | str | Path | Mapping[str, Sequence[Any]] | HasColumns


def tables(word: Input) -> list[Table]:
    """The tables that are given, or read from the sources that a word means.

    Raises
    ------
    UsageError
        For what is no table.
    """
    if isinstance(word, str | Path):
        return [read_source(source) for source in find_sources([str(word)])]
    return [_in_memory(word)]


def one_table(word: Input) -> Table:
    """The table that is given, or read from the source that a word means.

    >>> one_table({"hive": ["1", "2"], "kg": [12.5, None]}).to_dict()
    {'hive': ['1', '2'], 'kg': [12.5, None]}
    >>> one_table(pa.table({"hive": ["1"]})).to_dict()
    {'hive': ['1']}
    """
    if isinstance(word, str | Path):
        return read_source(one_source(str(word)))
    return _in_memory(word)


def _in_memory(given: Any) -> Table:
    if isinstance(given, Table):
        return given
    if isinstance(given, Mapping):
        columns = [(str(name), pa.chunked_array([_column(given[name])])) for name in given]
        if len({len(cells) for _, cells in columns}) > 1:
            raise UsageError(
                "the columns of a table are of one length", remedy="pad the short ones"
            )
        return table_of(columns, "table", "")
    if hasattr(given, "__arrow_c_stream__"):
        made = pa.table(given)
        return table_of(list(zip(made.column_names, made.columns, strict=True)), "table", "")
    raise UsageError(
        f"this is no table: {type(given).__name__}",
        remedy="give a path, a table, a mapping of names to lists, or Arrow columns",
    )


def _column(values: Any) -> pa.Array:
    return values if isinstance(values, pa.Array) else column_of(list(values))
