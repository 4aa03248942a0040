"""Tables read from files, looked at, and written to files."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path

from plait._python.given import Input, all_tables, one_table
from plait.core.table.table import Table
from plait.core.verbs.mending.retype import declared
from plait.core.verbs.survey import Survey
from plait.core.verbs.survey import survey as survey_tables
from plait.formats.delivery.delivery import Delivery
from plait.formats.outputs import check_room, check_target, deliver, file_and_table
from plait.formats.places.address import HIDDEN, Address, is_address
from plait.formats.places.source import Source
from plait.formats.places.target import How, TableTarget
from plait.formats.reading import read_alone
from plait.formats.sources import one_source
from plait.formats.stated import stated


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
    given = stated(
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
    read_as_it_is = read_alone(one_source(str(source), given))
    (table,) = declared([read_as_it_is], tuple(missing), type, unfit)
    return table.named(name) if name else table


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
    >>> from plait.core.table.table import from_columns
    >>> hives = from_columns("hives", {"warden": ["Ines", "Tom", "Mara", "Tom"]})
    >>> wardens = from_columns("wardens", {"full name": ["Tom", "Ines", "Mara"]})
    >>> [one.key for one in survey([hives, wardens]).relations]
    [(('warden', 'full name'),)]
    """
    return survey_tables(all_tables(sources))


def _origins_of(table: Table, target: object) -> list[Source]:
    """The tables of databases that a table came from."""
    found = []
    for path in {one.path for strand in table.strands for one in strand.origins if one.path}:
        if is_address(path):
            whole, _, part = path.partition("#")
            address = Address(whole)
            if isinstance(target, TableTarget) and target.address.shown == address.shown:
                address = target.address  # its password is not kept with the table
            found.append(Source(part, whole, part=part, address=address))
    return [one for one in found if one.address and HIDDEN not in one.address.written]


def write(table: Input, out: str | Path, *, replace: bool = False, append: bool = False) -> None:
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

    Raises
    ------
    OutputError
        When the file is there already or is a source, when its folder is not
        there, when no format has its ending, or when writing fails.

    Examples
    --------
    >>> import pathlib, tempfile
    >>> from plait.core.table.table import from_columns
    >>> out = pathlib.Path(tempfile.mkdtemp()) / "hives.csv"
    >>> write(from_columns("hives", {"hive": ["007"], "note": ["calm, busy"]}), out)
    >>> out.read_text()
    'hive,note\\n007,"calm, busy"\\n'
    """
    target, part = file_and_table(out)
    whole = one_table(table)
    whole = whole.named(part or whole.name)
    sources = [one.path for strand in whole.strands for one in strand.origins if one.path]
    with Delivery(sources, replace) as delivery:
        check_target(target, whole.name, delivery, append, _origins_of(whole, target))
        check_room(whole, {}, target)
        deliver(delivery, whole, target, how=How(append))
