"""The functions of ``import plait``: the verbs of the command line, on tables or files."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace as changed
from pathlib import Path

from plait._given import Input, one_table
from plait._given import tables as tables_of
from plait.core.lineage.origin import with_origin
from plait.core.table.keyspec import KeySpec, Pairs, Several
from plait.core.table.table import Table
from plait.core.verbs.beside import beside as put_beside
from plait.core.verbs.join import Joined, join_all
from plait.core.verbs.keys import Audited
from plait.core.verbs.keys import keys as audit_keys
from plait.core.verbs.mend import mend as mend_table
from plait.core.verbs.mending.retype import parse_types, retyped, with_missing
from plait.core.verbs.result import Result
from plait.core.verbs.settle import Settled
from plait.core.verbs.settle import settle as settle_table
from plait.core.verbs.stack import stack as stack_tables
from plait.core.verbs.survey import Survey
from plait.core.verbs.survey import survey as survey_tables
from plait.formats.delivery.delivery import Delivery
from plait.formats.outputs import check_room, check_target, deliver, file_and_table
from plait.formats.reading import read_source
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
    header_line: int | None = None,
    footer: int = 0,
    ragged: str = "error",
    missing: Iterable[str] = (),
    type: Mapping[str, str] | Iterable[str] = (),
    unfit: str = "error",
) -> Table:
    """Read one source.

    Parameters
    ----------
    source : str or Path
        A path, ``path#sheet-or-table``, or ``name=path``.
    name : str, optional
        What to call the table; without it the file's or sheet's name.
    encoding, delimiter, quote, escape : str, optional
        How delimited text is written; found out when not given.
    header_line : int, optional
        The line, or row of a sheet, that the header begins on, from 1.
    footer : int
        How many rows at the end are set aside.
    ragged : {"error", "set-aside"}
        What is done with rows of too few or too many cells.
    missing : iterable of str
        Texts that mean a missing cell.
    type : mapping of str to str
        Column to type, as ``date:%d.%m.%Y``.
    unfit : {"error", "missing", "set-aside"}
        What is done with cells that do not fit a type.

    Returns
    -------
    Table
        Every cell of a text file as the text that stands there; of other formats
        with the types they give. ``findings`` says what was odd, ``aside`` has
        the rows set aside.

    Raises
    ------
    SourceError
        When there is no such file, or it cannot be read; file and line are named.

    Examples
    --------
    >>> import pathlib, tempfile
    >>> folder = pathlib.Path(tempfile.mkdtemp())
    >>> size = (folder / "hives.csv").write_text("hive,breed\\n007,Buckfast\\n")
    >>> read(folder / "hives.csv").to_dict()
    {'hive': ['007'], 'breed': ['Buckfast']}
    """
    given = stated(encoding, delimiter, quote, escape, header_line, ragged, footer)
    table = read_source(one_source(str(source), given))
    table = with_missing(table, missing) if missing else table
    table = retyped(table, parse_types(type), unfit)
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
    words = _as_list(sources)
    return survey_tables([table for word in words for table in tables_of(word)])


def mend(
    source: Input,
    *,
    header: Sequence[str] | str | None = None,
    rename: Pairs = (),
    missing: Sequence[str] | str = (),
    trim: bool | Sequence[str] | str = False,
    split: Iterable[str] = (),
    replace_value: Iterable[str] = (),
    fill: Pairs = (),
    type: Pairs = (),
    unfit: str = "error",
    compute: Pairs = (),
    where: str | None = None,
    sort: Sequence[str] | str = (),
    drop: Sequence[str] | str = (),
    keep: Sequence[str] | str = (),
    order: Sequence[str] | str = (),
    name: str | None = None,
) -> Result:
    """Put one table right. What is asked for is done in the order of the parameters.

    Parameters
    ----------
    source : table or path
    header : sequence of str, optional
        Names for all the columns.
    rename : mapping of str to str
        Old name to new.
    missing : sequence of str
        Texts that mean a missing cell.
    trim : bool or sequence of str
        Take spaces off both ends of the cells, of all columns or of some.
    split : iterable of str
        ``COLUMN:DELIMITERS into a,b,c``.
    replace_value : iterable of str
        ``COLUMN:OLD=NEW``: whole cells.
    fill : mapping of str to str
        Column to what its missing cells are filled with; ``down`` is the cell above.
    type : mapping of str to str
        Column to type, as ``date:%d.%m.%Y``.
    unfit : {"error", "missing", "set-aside"}
        What is done with cells that do not fit a type.
    compute : mapping of str to str
        Column to the SQL expression that gives its cells.
    where : str, optional
        A SQL condition; rows on which it does not hold are set aside.
    sort : sequence of str
        Columns to sort by; ``desc`` behind a name for greatest first.
    drop, keep, order : sequence of str
        Columns to leave out, the only ones to leave in, those to put first.
    name : str, optional
        The result's name.

    Returns
    -------
    Result
        With ``table``, ``entries`` (the ledger), ``findings`` and ``aside``.

    Raises
    ------
    SourceError
        When the source cannot be read, or a cell does not fit its type.
    UsageError
        For a column, type or function that is not there.

    Examples
    --------
    >>> from plait.core.table.table import from_columns
    >>> visits = from_columns("visits", {"kg": ["12.50", "", "9"]})
    >>> mend(visits, compute={"half": "kg / 2"}, where="kg > 9").table.to_dict()
    {'kg': ['12.50'], 'half': ['6.25']}
    """
    return mend_table(
        one_table(source),
        header=header,
        rename=rename,
        missing=missing,
        trim=trim,
        split=split,
        replace_value=replace_value,
        fill=fill,
        type=type,
        unfit=unfit,
        compute=compute,
        where=where,
        sort=sort,
        drop=drop,
        keep=keep,
        order=order,
        name=name,
    )


def stack(
    sources: Sequence[Input] | Input,
    label: Mapping[str, str] | Iterable[str] = (),
    distinct: bool = False,
    number: str | None = None,
    same: Several = (),
    fold_headers: bool = False,
    origin: str | None = None,
    name: str = "stack",
    by: str = "name",
) -> Result:
    """Put the rows of sources under one another, by column name.

    Parameters
    ----------
    sources : sequence of Table, str or Path
        Tables, paths, globs and folders, in order; the first sets the columns' order.
    label : mapping of str to str
        Columns to add, with ``{file}``, ``{stem}``, ``{folder}`` and ``{sheet}`` filled in.
    distinct : bool
        Leave out rows equal to an earlier one in every column of the sources.
    number : str, optional
        A column to add that numbers the rows from 1.
    same : mapping of str to str or sequence of str
        New name to old names of columns that are the same.
    fold_headers : bool
        Take headers that differ in case, spaces and punctuation only for the same.
    origin : str, optional
        A column to add with the name of the table each row came from.
    name : str
        The result's name.
    by : {"name", "position"}
        Take columns of one name for the same, or the first for the first.

    Returns
    -------
    Result
        With ``table``, ``entries`` (the ledger), ``findings`` and ``aside``.

    Raises
    ------
    SourceError
        When a source cannot be read.
    UsageError
        When there is nothing to stack, or a column to add is there already.

    Examples
    --------
    >>> from plait.core.table.table import from_columns
    >>> may = from_columns("may", {"hive": ["1"]})
    >>> june = from_columns("june", {"hive": ["2"], "kg": ["9"]})
    >>> stack([may, june]).table.to_dict()
    {'hive': ['1', '2'], 'kg': [None, '9']}
    """
    words = _as_list(sources)
    tables = [table for word in words for table in tables_of(word)]
    stacked = stack_tables(tables, label, distinct, number, same, fold_headers, name, by)
    if origin is None:
        return stacked
    return changed(stacked, table=with_origin(stacked.table, origin))


def join(
    left: Input,
    right: Input,
    *more: Input,
    key: KeySpec | None = None,
    keys: Sequence[KeySpec] = (),
    kind: str = "left",
    cardinality: str | None = None,
    ignore: Iterable[str] = (),
    origin: str | None = None,
    name: str | None = None,
    pairs: Input | None = None,
    missing_match: bool = False,
    nearest: str | None = None,
    within: str | None = None,
    take: Iterable[str] | None = None,
    rename: Mapping[str, str] | None = None,
    prefer: str | None = None,
    max_rows: int | None = None,
) -> Joined:
    """Put the columns of tables beside one another where their keys are equal.

    Parameters
    ----------
    left, right, *more : Table, str or Path
        Each further one joins on to the result so far.
    key : str, sequence or mapping, optional
        ``"yard,hive"``, or ``"country=Country"`` where the names differ (left =
        right). Without it the columns that both have are the key.
    keys : sequence of key
        Instead of ``key``: one for each further table.
    kind : {"left", "inner", "right", "full"}
        Which unmatched rows the result keeps.
    cardinality : {"one-to-one", "many-to-one", "one-to-many", "many-to-many"}, optional
        What the match must be, left to right.
    ignore : iterable of str
        What does not count when keys are compared: ``case``, ``space``,
        ``punctuation``, ``accents``, ``leading-zeros``, ``number-form``,
        ``date-form``.
    origin : str, optional
        A column to add with the names of the tables each row came from, joined by ``+``.
    name : str, optional
        The result's name.
    pairs : Table, str or Path, optional
        A crosswalk: keys of the left that count as keys of the right.
    missing_match : bool
        Take missing keys for equal to one another.
    nearest, within : str, optional
        ``"Seen=Measured:before"`` and ``"7d"``: of the rows of an equal key only
        the nearest, and how far it may be.
    take : iterable of str, optional
        Columns to take of the further tables. Without it all.
    rename : mapping of str to str, optional
        Old name to new one, of columns of the result.
    prefer : {"left", "right"}, optional
        Whose cells to take where both have a column; the other's fill its gaps.
    max_rows : int, optional
        Refuse a result of more rows.

    Returns
    -------
    Joined
        With ``table``, ``entries`` (the ledger), ``match`` (counts of rows),
        ``findings`` and ``aside``.

    Raises
    ------
    SourceError
        When a source cannot be read.
    UsageError
        For a key column that is not there, or no column in common.
    ExpectationError
        When the join is many-to-many unasked, or not of the cardinality given.

    Examples
    --------
    >>> from plait.core.table.table import from_columns
    >>> visits = from_columns("visits", {"hive": ["1", "2"], "kg": ["12.50", "9"]})
    >>> hives = from_columns("hives", {"hive": ["1"], "breed": ["Buckfast"]})
    >>> join(visits, hives, key="hive", origin="from").table.to_dict()["from"]
    ['visits+hives', 'visits']
    """
    tables = [one_table(word) for word in (left, right, *more)]
    joined = join_all(
        tables,
        list(keys) or [key],
        kind,
        cardinality,
        ignore,
        name,
        take=take,
        rename=rename,
        pairs=None if pairs is None else one_table(pairs),
        missing_match=missing_match,
        nearest=nearest,
        within=within,
        prefer=prefer,
        max_rows=max_rows,
    )
    if origin is None:
        return joined
    return changed(joined, table=with_origin(joined.table, origin))


def keys(
    sources: Sequence[Input] | Input,
    key: KeySpec | None = None,
    keys: Sequence[KeySpec] = (),
    ignore: Iterable[str] = (),
    pairs: Input | None = None,
    missing_match: bool = False,
) -> Audited:
    """Audit a key: is it unique, and which keys of several sources match, and why not?

    Parameters
    ----------
    sources : Table, str or Path, or a sequence of them
    key : str, sequence or mapping, optional
        Of all sources; ``"country=Country"`` where two name it otherwise.
    keys : sequence of key
        Instead of ``key``: one for each source.
    ignore : iterable of str
        What does not count when keys are compared.
    pairs : Table, str or Path, optional
        A crosswalk: keys of the left that count as keys of the right.
    missing_match : bool
        Take missing keys for equal to one another.

    Returns
    -------
    Audited
        With ``tables``, ``pairs``, ``holdings``, ``why`` and ``findings``.

    Raises
    ------
    SourceError
        When a source cannot be read.
    UsageError
        For a column that is not there, or no column in common.

    Examples
    --------
    >>> from plait.core.table.table import from_columns
    >>> visits = from_columns("visits", {"hive": ["1", "1", "9"]})
    >>> keys([visits, from_columns("hives", {"hive": ["1"]})], "hive").pairs[0].keys_only_left
    1
    """
    words = _as_list(sources)
    tables = [table for word in words for table in tables_of(word)]
    specs = list(keys) or ([] if key is None else [key])
    across = None if pairs is None else one_table(pairs)
    return audit_keys(tables, specs, ignore, across, missing_match)


def settle(
    source: Input,
    key: KeySpec,
    *,
    rules: Pairs = (),
    otherwise: str = "agree",
    keep_rule: str | None = None,
    ignore: Iterable[str] = (),
    pairs: Input | None = None,
    missing_match: bool = False,
    name: str | None = None,
) -> Settled:
    """Bring the rows of each key down to one, by a rule for each column.

    Parameters
    ----------
    source : Table, str or Path
    key : str or sequence of str
    pairs : Table, str or Path, optional
        A crosswalk: spellings of keys that count as others.
    rules : mapping of str to str
        Column to rule: ``agree``, ``first``, ``last``, ``min``, ``max``, ``sum``,
        ``mean``, ``longest``, ``commonest``, ``newest-by:COLUMN``, ``oldest-by:COLUMN``.
    otherwise : str
        The rule of the other columns.
    keep_rule : str, optional
        Which row of each key is kept whole, instead of rules for columns.
    ignore : iterable of str
        What does not count when keys are compared.
    missing_match : bool
        Take missing keys for equal to one another.
    name : str, optional
        The result's name.

    Returns
    -------
    Settled
        With ``table``, ``entries`` (the ledger), ``decisions``, ``findings`` and ``aside``.

    Raises
    ------
    SourceError
        When the source cannot be read.
    UsageError
        For a column or rule that is not there.

    Examples
    --------
    >>> from plait.core.table.table import from_columns
    >>> hives = from_columns("hives", {"hive": ["1", "1"], "breed": ["Carnica", "Buckfast"]})
    >>> settle(hives, "hive", rules={"breed": "last"}).table.to_dict()
    {'hive': ['1'], 'breed': ['Buckfast']}
    """
    across = None if pairs is None else one_table(pairs)
    return settle_table(
        one_table(source), key, rules, otherwise, keep_rule, ignore, across, name, missing_match
    )


def beside(left: Input, right: Input, *more: Input, name: str | None = None) -> Result:
    """Put the columns of tables beside one another by the order of their rows.

    Parameters
    ----------
    left, right, *more : Table, str or Path
        Of equal length.
    name : str, optional
        The result's name.

    Returns
    -------
    Result
        With ``table``, ``entries`` (the ledger) and ``findings``.

    Raises
    ------
    SourceError
        When a source cannot be read.
    ExpectationError
        When the lengths differ.

    Examples
    --------
    >>> from plait.core.table.table import from_columns
    >>> one, two = from_columns("a", {"x": ["1"]}), from_columns("b", {"y": ["2"]})
    >>> beside(one, two).table.to_dict()
    {'x': ['1'], 'y': ['2']}
    """
    return put_beside([one_table(word) for word in (left, right, *more)], name)


def write(table: Table, out: str | Path, *, replace: bool = False) -> None:
    """Write a table to a file, whole or not at all.

    Parameters
    ----------
    table : Table
    out : str or Path
        The ending says the format: ``.csv``, ``.tsv``, ``.parquet``, ``.arrow``,
        ``.json``, ``.jsonl``, ``.xlsx`` or ``.sqlite``. A database that is there
        gets one table more, of the table's name or as ``FILE.sqlite#TABLE`` says.
    replace : bool
        Allow writing over a file, or a table of a database, that is there; never over a
        file that the table came from.

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
    table = table.named(part or table.name)
    sources = [one.path for strand in table.strands for one in strand.origins if one.path]
    with Delivery(sources, replace) as delivery:
        check_target(target, table.name, delivery)
        check_room(table, {}, target)
        deliver(delivery, table, target)


def _as_list(sources: Sequence[Input] | Input) -> Sequence[Input]:
    return sources if isinstance(sources, list | tuple) else [sources]  # type: ignore[list-item]
