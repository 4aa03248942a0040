"""``read``, ``write`` and ``survey``, and what Python callers hand in as a table."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any, Protocol

import pyarrow as pa

from plait.core.base.errors import UsageError
from plait.core.operations.retype import apply_declared_types
from plait.core.operations.survey import Survey
from plait.core.operations.survey import survey as survey_tables
from plait.core.table.key_spec import KeySpec
from plait.core.table.table import Table
from plait.io.cells.conversion import column_from_values, value_types
from plait.io.delimited.text_format import make_text_format
from plait.io.delivery.delivery import Delivery
from plait.io.places.address import HIDDEN, Address, is_address
from plait.io.places.source import Source
from plait.io.places.target import TableTarget, TableWriteOptions
from plait.io.read import read_single_source
from plait.io.sources import find_one_source, find_sources, make_read_options
from plait.io.write import (
    add_table_to_delivery,
    check_format_capacity,
    check_target,
    split_file_and_table,
)
from plait.plan.handover.read import choose_handover_key, comparison_source, parse_comparison_sides


class ArrowStreamExporter(Protocol):
    """Anything that gives its columns by the Arrow C stream interface."""

    def __arrow_c_stream__(self, requested_schema: object = None) -> object:
        """The columns."""


Input = Table | str | Path | Mapping[str, Sequence[Any]] | ArrowStreamExporter


def read_tables(words: Sequence[Input] | Input) -> list[Table]:
    """The tables that are given, or read from the sources that words mean.

    Raises
    ------
    UsageError
        For what is no table.
    """
    return [table for side in read_sides(words) for table in side]


def read_sides(words: Sequence[Input] | Input) -> list[list[Table]]:
    """The tables of each word: of a folder or glob they are one side."""
    every = words if isinstance(words, list | tuple) else [words]
    several = len(every) > 1
    return [
        _tables(word, f"table {number}" if several else "table")
        for number, word in enumerate(every, 1)
    ]


def _tables(word: Any, name: str) -> list[Table]:
    if isinstance(word, str | Path):
        return [read_single_source(source) for source in find_sources([str(word)])]
    return [_in_memory(word, name)]


def read_one_table(word: Input, name: str = "table") -> Table:
    """The table that is given, or read from the source that a word means.

    ``name`` is what one from memory, which has none, is called in messages and the ledger.

    >>> read_one_table({"hive": ["1", "2"], "kg": [12.5, None]}).to_dict()
    {'hive': ['1', '2'], 'kg': [12.5, None]}
    >>> read_one_table(pa.table({"hive": ["1"]})).to_dict()
    {'hive': ['1']}
    """
    if isinstance(word, str | Path):
        return read_single_source(find_one_source(str(word)))
    return _in_memory(word, name)


def tables_by_name(words: Mapping[str, Input], more: Sequence[Input] = ()) -> list[Table]:
    """Tables that are called as the parameters they are given for, and further ones by number."""
    named = {**words, **{f"table {n}": m for n, m in enumerate(more, len(words) + 1)}}
    return [read_one_table(i, name) for name, i in named.items()]


def read_two_datasets(old: Input, new: Input) -> tuple[list[Table], KeySpec | None]:
    """Two tables, of the folder of a handover its dataset; and the key that a handover knows."""
    words = (old, new)
    named = {at: w for at, w in enumerate(words) if isinstance(w, str | Path)}
    found = dict(zip(named, parse_comparison_sides([str(v) for v in named.values()]), strict=True))
    read = {
        at: read_single_source(comparison_source(one, found.get(1 - at, "")))
        for at, one in found.items()
    }
    tables = [
        read[at] if at in read else _in_memory(one, ("old", "new")[at])
        for at, one in enumerate(words)
    ]
    return tables, choose_handover_key(list(found.values()), tables)


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
    types = value_types(cells)
    if not types:
        return pa.nulls(len(cells))
    # Floats stay floats in Python, also where all of them are whole.
    return pa.array(cells, pa.float64()) if types == {float} else column_from_values(cells)


def read(
    source: str | Path,
    name: str | None = None,
    *,
    encoding: str | None = None,
    delimiter: str | None = None,
    quote: str | None = None,
    escape: str | None = None,
    header_line: int | str | None = None,
    footer: int = 0,
    ragged: str = "error",
    merged: str = "keep",
    as_shown: bool = False,
    query: str | None = None,
    timeout: int | None = None,
    limit: Mapping[str, str] | Iterable[str] = (),
    missing: Iterable[str] = (),
    type: Mapping[str, str] | Iterable[str] = (),
    unfit: str = "error",
) -> Table:
    """Read one source.

    Parameters
    ----------
    source : str or Path
        A path, ``path#sheet-or-table``, an address such as ``postgresql://…#schema.table``,
        or ``name=path``.
    name : str, optional
        What to call the table; without it the file's or sheet's name.
    encoding, delimiter, quote, escape : str, optional
        How delimited text is written; found out when not given.
    header_line : int or str, optional
        The line, or row of a sheet, that the header begins on, from 1; of headings in
        several rows the first and the last, ``2-3``.
    footer : int
        How many rows at the end are set aside.
    ragged : {"error", "set-aside"}
        What is done with rows of too few or too many cells.
    merged : {"keep", "fill"}
        What cells of a workbook hold that are merged with the one above: nothing, or its value.
    as_shown : bool
        Whether numbers of a workbook are taken with the zeros in front that are shown.
    query : str, optional
        What a database is asked for in place of a table: one ``SELECT`` in its own SQL.
    timeout : int, optional
        Seconds that a database or an address may take.
    limit : mapping of str to str
        How large something may be, as ``{"unpacked": "4GB"}``; ``docs/limits.md`` has all.
    missing : iterable of str
        Texts that mean a missing cell.
    type : mapping of str to str
        Column to type, as ``date:%d.%m.%Y``.
    unfit : {"error", "missing", "set-aside"}
        What is done with cells that do not fit a type.

    Returns
    -------
    Table
        Every cell of a text file as the text that is there; of other formats
        with the types they give. ``findings`` says what was odd, ``aside`` has
        the rows set aside.

    Raises
    ------
    SourceError
        When a file does not exist or cannot be read; file and line are named.
    UsageError
        For a type that is none, or of a column that is not there.

    Examples
    --------
    >>> import pathlib, tempfile
    >>> folder = pathlib.Path(tempfile.mkdtemp())
    >>> size = (folder / "hives.csv").write_text("hive,breed\\n007,Buckfast\\n")
    >>> read(folder / "hives.csv").to_dict()
    {'hive': ['007'], 'breed': ['Buckfast']}
    """
    read_options = make_read_options(
        encoding,
        delimiter,
        quote,
        escape,
        header_line,
        ragged,
        footer,
        query,
        timeout,
        limit,
        merged,
        as_shown,
    )
    read_as_it_is = read_single_source(find_one_source(str(source), read_options))
    (table,) = apply_declared_types([read_as_it_is], tuple(missing), type, unfit)
    return table.with_name(name) if name else table


def survey(sources: Sequence[Input] | Input) -> Survey:
    """Look at sources before anything is done with them.

    Parameters
    ----------
    sources : sequence of Table, str or Path
        Tables, paths, globs and folders.

    Returns
    -------
    Survey
        With ``families`` (sources of one shape: profiles of their columns and
        candidate keys), ``relations`` (which columns could join which) and
        ``findings``.

    Raises
    ------
    SourceError
        When a source cannot be read.

    Examples
    --------
    >>> from plait.core.table.table import table_from_columns
    >>> hives = table_from_columns("hives", {"warden": ["Ines", "Tom", "Mara", "Tom"]})
    >>> wardens = table_from_columns("wardens", {"full name": ["Tom", "Ines", "Mara"]})
    >>> [one.key for one in survey([hives, wardens]).relations]
    [(('warden', 'full name'),)]
    """
    return survey_tables(read_tables(sources))


def _database_origins(table: Table, target: object) -> list[Source]:
    """The tables of databases that a table came from."""
    found = []
    for path in {
        origin.path for fragment in table.fragments for origin in fragment.origins if origin.path
    }:
        if is_address(path):
            whole, _, part = path.partition("#")
            address = Address(whole)
            if isinstance(target, TableTarget) and target.address.shown == address.shown:
                address = target.address  # its password is not kept with the table
            found.append(Source(part, whole, part=part, address=address))
    return [f for f in found if f.address and HIDDEN not in f.address.written]


def write(
    table: Input,
    out: str | Path,
    *,
    replace: bool = False,
    append: bool = False,
    written: Mapping[str, str | int] | None = None,
) -> None:
    """Write a table to a file, or into a database, whole or not at all.

    Parameters
    ----------
    table : Table, or whatever the verbs take for one
    out : str or Path
        The ending says the format: ``.csv``, ``.tsv``, ``.parquet``, ``.arrow``,
        ``.json``, ``.jsonl``, ``.xlsx`` or ``.sqlite``. A database that is there
        gets one table more, of the table's name or as ``FILE.sqlite#TABLE`` says; and so
        does one of a server: ``postgresql://…#schema.table``, ``mysql://…#table``.
    replace : bool
        Allow writing over a file, or a table of a database, that is there; never over a
        file that the table came from.
    append : bool
        Add the rows to a table of a database that is there.
    written : mapping of str to str or int
        How a text file is written: ``{"delimiter": "semicolon", "decimal": "comma",
        "encoding": "utf-8-bom", "dates": "%d.%m.%Y", "places": 2}``.

    Raises
    ------
    OutputError
        When the file is there already or is a source, when its folder is not
        there, when no format has its ending, or when writing fails.

    Examples
    --------
    >>> import pathlib, tempfile
    >>> from plait.core.table.table import table_from_columns
    >>> out = pathlib.Path(tempfile.mkdtemp()) / "hives.csv"
    >>> write(table_from_columns("hives", {"hive": ["007"], "note": ["calm, busy"]}), out)
    >>> out.read_text()
    'hive,note\\n007,"calm, busy"\\n'
    """
    target, part = split_file_and_table(out)
    whole = read_one_table(table)
    whole = whole.with_name(part or whole.name)
    sources = [
        origin.path for fragment in whole.fragments for origin in fragment.origins if origin.path
    ]
    with Delivery(sources, replace) as delivery:
        check_target(target, whole.name, delivery, append, _database_origins(whole, target))
        check_format_capacity(whole, {}, target)
        text_format, how = make_text_format(written or {}), TableWriteOptions(append)
        add_table_to_delivery(delivery, whole, target, text_format=text_format, how=how)
