"""Verbs of ``import plait``, made by ``tools/generate.py`` from ``plait/options``."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import cast

from plait._python.given import (
    Input,
    all_tables,
    one_table,
    tables_by_name,
    two_datasets,
)
from plait.core.table.keyspec import KeySpec, Pairs, Several
from plait.core.verbs.compare import Compared
from plait.core.verbs.join import Joined
from plait.core.verbs.keys import Audited
from plait.core.verbs.result import Result, with_reading
from plait.core.verbs.settle import Settled
from plait.options.beside import BESIDE
from plait.options.compare import COMPARE
from plait.options.group import GROUP
from plait.options.join import JOIN
from plait.options.keys import KEYS
from plait.options.lengthen import LENGTHEN
from plait.options.mend import MEND
from plait.options.option import perform
from plait.options.settle import SETTLE
from plait.options.stack import STACK
from plait.options.widen import WIDEN


def stack(
    sources: Sequence[Input] | Input,
    label: Pairs = (),
    distinct: bool = False,
    number: str | None = None,
    same: Several = (),
    fold_headers: bool = False,
    *,
    by: str = "name",
    origin: str | None = None,
    name: str | None = None,
) -> Result:
    """Put the rows of several files under one another, by column name.

    The first file sets the order of the columns; a column that is missing from a file
    has no value on its rows.

    Parameters
    ----------
    sources : path, Table, mapping of names to lists, or Arrow columns, or a sequence of them
        Also globs and folders, in order.
    label : mapping of str to str
        Columns to add that say where a row came from, of {file}, {stem}, {folder},
        {sheet}.
    distinct : bool
        Leave out rows that equal an earlier one in every column of the sources.
    number : str, optional
        A column to add that numbers the rows.
    same : mapping of str to str or sequence of str
        New heading to old: the columns OLD are taken for the column NEW.
    fold_headers : bool
        Take headers that differ in case, spaces and punctuation only for the same.
    by : {"name", "position"}
        Take columns of one name for the same, or the first for the first.
    origin : str, optional
        A column to add with the source of each row.
    name : str, optional
        The result's name.

    Returns
    -------
    Result
        With ``table``, ``entries`` (the ledger), ``findings`` and ``aside``.

    Raises
    ------
    PlaitError
        For a source that cannot be read, a column that is not there, a wrong value.

    Examples
    --------
    >>> may = {"hive": ["1"]}
    >>> june = {"hive": ["2"], "kg": ["9"]}
    >>> stack([may, june]).table.to_dict()
    {'hive': ['1', '2'], 'kg': [None, '9']}
    """
    tables = all_tables(sources)
    return cast(
        Result,
        with_reading(
            perform(
                STACK,
                tables,
                {
                    "label": label,
                    "distinct": distinct,
                    "number": number,
                    "same": same,
                    "fold_headers": fold_headers,
                    "by": by,
                    "origin": origin,
                },
                name,
            ),
            tables,
        ),
    )


def mend(
    source: Input,
    *,
    header: str | Sequence[str] = (),
    rename: Pairs = (),
    missing: str | Sequence[str] = (),
    trim: bool | str | Sequence[str] = False,
    split: Iterable[str] = (),
    replace_value: Iterable[str] = (),
    fill: Pairs = (),
    type: Pairs = (),
    unfit: str = "error",
    compute: Pairs = (),
    where: str | None = None,
    sort: str | Sequence[str] = (),
    drop: str | Sequence[str] = (),
    keep: str | Sequence[str] = (),
    order: str | Sequence[str] = (),
    name: str | None = None,
) -> Result:
    """Put one table right.

    Names, missing cells, types, fields that hold several things, computed columns,
    which rows and columns to keep. What is asked for is done in the order in which it
    is listed here.

    Parameters
    ----------
    source : path, Table, mapping of names to lists, or Arrow columns
    header : str or sequence of str
        Names for all the columns.
    rename : mapping of str to str
        Old name to new one.
    missing : str or sequence of str
        Texts that mean a missing cell.
    trim : bool, str or sequence of str
        Take spaces off both ends of cells; of all columns, or of these.
    split : iterable of str
        Put the parts of a field in columns of their own.
    replace_value : iterable of str
        Replace whole cells; nothing for OLD or NEW: missing.
    fill : mapping of str to str
        Fill missing cells of a column, with a value or the cell above.
    type : mapping of str to str
        Column to type: integer, decimal, boolean, date, datetime, time, text; or a
        written form, as date:%d.%m.%Y or decimal:1.234,5.
    unfit : {"error", "missing", "set-aside"}
        What is done with cells that do not fit their type.
    compute : mapping of str to str
        A column from an SQL expression over the others; on a command line before types
        are set where it comes before --type.
    where : str, optional
        Keep rows on which an SQL condition holds; the others are set aside.
    sort : str or sequence of str
        Columns to sort by; 'COLUMN desc' for greatest first.
    drop : str or sequence of str
        Columns to leave out.
    keep : str or sequence of str
        The only columns to leave in.
    order : str or sequence of str
        Columns to put first.
    name : str, optional
        The result's name.

    Returns
    -------
    Result
        With ``table``, ``entries`` (the ledger), ``findings`` and ``aside``.

    Raises
    ------
    PlaitError
        For a source that cannot be read, a column that is not there, a wrong value.

    Examples
    --------
    >>> visits = {"kg": [12.5, 9.0]}
    >>> mend(visits, compute={"half": "kg / 2"}, where="kg > 9").table.to_dict()
    {'kg': [12.5], 'half': [6.25]}
    """
    tables = [one_table(source)]
    return cast(
        Result,
        with_reading(
            perform(
                MEND,
                tables,
                {
                    "header": header,
                    "rename": rename,
                    "missing": missing,
                    "trim": trim,
                    "split": split,
                    "replace_value": replace_value,
                    "fill": fill,
                    "type": type,
                    "unfit": unfit,
                    "compute": compute,
                    "where": where,
                    "sort": sort,
                    "drop": drop,
                    "keep": keep,
                    "order": order,
                },
                name,
            ),
            tables,
        ),
    )


def join(
    left: Input,
    right: Input,
    *more: Input,
    key: KeySpec | None = None,
    keys: Sequence[KeySpec] = (),
    kind: str = "left",
    cardinality: str | None = None,
    take: str | Sequence[str] | None = None,
    rename: Pairs = (),
    prefer: str | None = None,
    nearest: str | None = None,
    within: str | None = None,
    max_rows: int | None = None,
    ignore: Iterable[str] = (),
    pairs: Input | None = None,
    missing_match: bool = False,
    origin: str | None = None,
    name: str | None = None,
) -> Joined:
    """Put the columns of tables beside one another where their keys are equal.

    Each further table joins on to the result so far.

    Parameters
    ----------
    left, right, *more : path, Table, mapping of names to lists, or Arrow columns
        The left one first, each of one table.
    key : str, sequence or mapping, optional
        The columns that identify a record; LEFT=RIGHT where the names differ. One key
        for all joins, or one for each further table. Without it: the columns both have.
    keys : sequence of key
        Instead of ``key``: one for each.
    kind : {"inner", "left", "right", "full", "semi", "anti", "cross"}
        Which unmatched rows the result keeps.
    cardinality : {"one-to-one", "many-to-one", "one-to-many", "many-to-many"}, optional
        What the match must be, left to right; many-to-many must be said to be done.
    take : str or sequence of str, optional
        Columns to take from the further tables, beside the key; without it all.
    rename : mapping of str to str
        Old name to new one, of columns of the result.
    prefer : {"left", "right"}, optional
        Whose cells to take where both have a column; the other's fill its empty ones.
        Without it both columns are kept if they differ.
    nearest : str, optional
        Of the rows with an equal key, take the one whose number, date or time is
        nearest.
    within : str, optional
        How far the nearest may be: 7d, 2h, 30min, or a number.
    max_rows : int, optional
        Stop if the result would have more rows.
    ignore : iterable of str
        What does not count when keys are compared: case, space, punctuation, accents,
        leading-zeros, number-form (7.0 is 7), date-form (5.4.2031 is 2031-04-05); the
        cells stay as they are.
    pairs : as an input, optional
        A table of keys of the left that count as keys of the right, as plait keys --out
        writes it.
    missing_match : bool
        Whether missing keys match one another.
    origin : str, optional
        A column to add with the names of the sources each row came from, joined by +.
    name : str, optional
        The result's name.

    Returns
    -------
    Joined
        With ``table``, ``entries`` (the ledger), ``match`` (counts of rows), ``keys``,
        ``findings`` and ``aside``.

    Raises
    ------
    PlaitError
        For a source that cannot be read, a column that is not there, a wrong value.

    Examples
    --------
    >>> visits = {"hive": ["1", "2"], "kg": ["12.50", "9"]}
    >>> hives = {"hive": ["1"], "breed": ["Buckfast"]}
    >>> join(visits, hives, key="hive").table.to_dict()
    {'hive': ['1', '2'], 'kg': ['12.50', '9'], 'breed': ['Buckfast', None]}
    """
    tables = tables_by_name({"left": left, "right": right}, more)
    return cast(
        Joined,
        with_reading(
            perform(
                JOIN,
                tables,
                {
                    "key": list(keys) or (None if key is None else [key]),
                    "kind": kind,
                    "cardinality": cardinality,
                    "take": take,
                    "rename": rename,
                    "prefer": prefer,
                    "nearest": nearest,
                    "within": within,
                    "max_rows": max_rows,
                    "ignore": ignore,
                    "pairs": None if pairs is None else one_table(pairs, "pairs"),
                    "missing_keys": missing_match,
                    "origin": origin,
                },
                name,
            ),
            tables,
        ),
    )


def settle(
    source: Sequence[Input] | Input,
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

    Several sources are stacked first. Without rules all cells of a column must agree,
    or the key is in conflict and its rows are set aside.

    Parameters
    ----------
    source : path, Table, mapping of names to lists, or Arrow columns, or a sequence of them
        Also globs and folders, in order.
    key : str or sequence of str
        The columns that identify a record.
    rules : mapping of str to str
        Column to rule: agree, first, last, min, max, sum, mean, longest, commonest,
        newest-by:COLUMN, oldest-by:COLUMN; a missing cell never counts against another.
    otherwise : str
        The rule of the other columns.
    keep_rule : str, optional
        Keep one row of each key whole: first, last, fullest, newest-by:COLUMN, oldest-
        by:COLUMN.
    ignore : iterable of str
        What does not count when keys are compared: case, space, punctuation, accents,
        leading-zeros, number-form (7.0 is 7), date-form (5.4.2031 is 2031-04-05); the
        cells stay as they are.
    pairs : as an input, optional
        A table of keys of the left that count as keys of the right, as plait keys --out
        writes it.
    missing_match : bool
        Whether missing keys match one another.
    name : str, optional
        The result's name.

    Returns
    -------
    Settled
        With ``table``, ``entries`` (the ledger), ``decisions``, ``findings`` and
        ``aside``.

    Raises
    ------
    PlaitError
        For a source that cannot be read, a column that is not there, a wrong value.

    Examples
    --------
    >>> hives = {"hive": ["1", "1"], "breed": ["Carnica", "Buckfast"]}
    >>> settle(hives, "hive", rules={"breed": "last"}).table.to_dict()
    {'hive': ['1'], 'breed': ['Buckfast']}
    """
    tables = all_tables(source)
    return cast(
        Settled,
        with_reading(
            perform(
                SETTLE,
                tables,
                {
                    "key": key,
                    "rule": rules,
                    "otherwise": otherwise,
                    "keep_rule": keep_rule,
                    "ignore": ignore,
                    "pairs": None if pairs is None else one_table(pairs, "pairs"),
                    "missing_keys": missing_match,
                },
                name,
            ),
            tables,
        ),
    )


def beside(left: Input, right: Input, *more: Input, name: str | None = None) -> Result:
    """Put the columns of tables beside one another by the order of their rows.

    Refused when they have different numbers of rows; if they have a key in common, join
    them.

    Parameters
    ----------
    left, right, *more : path, Table, mapping of names to lists, or Arrow columns
        The left one first, each of one table.
    name : str, optional
        The result's name.

    Returns
    -------
    Result
        With ``table``, ``entries`` (the ledger), ``findings`` and ``aside``.

    Raises
    ------
    PlaitError
        For a source that cannot be read, a column that is not there, a wrong value.

    Examples
    --------
    >>> beside({"x": ["1"]}, {"y": ["2"]}).table.to_dict()
    {'x': ['1'], 'y': ['2']}
    """
    tables = tables_by_name({"left": left, "right": right}, more)
    return cast(Result, with_reading(perform(BESIDE, tables, {}, name), tables))


def group(
    source: Input,
    by: str | Sequence[str] | None = None,
    take: Pairs = (),
    *,
    onto_rows: bool = False,
    ignore: Iterable[str] = (),
    name: str | None = None,
) -> Result:
    """Work out figures over the rows of each group.

    One row a group, or the figures put back on every row. Sums of decimals are exact;
    rows without a value to group by are a group of their own.

    Parameters
    ----------
    source : path, Table, mapping of names to lists, or Arrow columns
    by : str or sequence of str, optional
        The columns that are equal within a group; of dates also COLUMN:month,
        COLUMN:quarter, COLUMN:year. Without it all rows are one group.
    take : mapping of str to str
        New column to figure: count, distinct, sum, mean, middle, smallest, largest,
        spread, first, last, commonest, share (also median, stdev, min, max, average),
        and put onto rows also rank; NEW=count counts rows, NEW=share is the share of
        the rows.
    onto_rows : bool
        Keep every row, with the figures of its group.
    ignore : iterable of str
        What does not count when keys are compared: case, space, punctuation, accents,
        leading-zeros, number-form (7.0 is 7), date-form (5.4.2031 is 2031-04-05); the
        cells stay as they are.
    name : str, optional
        The result's name.

    Returns
    -------
    Result
        With ``table``, ``entries`` (the ledger), ``findings`` and ``aside``.

    Raises
    ------
    PlaitError
        For a source that cannot be read, a column that is not there, a wrong value.

    Examples
    --------
    >>> visits = {"yard": ["A", "A"], "kg": [7, 5]}
    >>> group(visits, "yard", {"honey": "sum:kg"}).table.to_dict()
    {'yard': ['A'], 'honey': [12]}
    """
    tables = [one_table(source)]
    return cast(
        Result,
        with_reading(
            perform(
                GROUP,
                tables,
                {"by": by, "take": take, "onto_rows": onto_rows, "ignore": ignore},
                name,
            ),
            tables,
        ),
    )


def widen(
    source: Input,
    heads: str,
    cells: str | Sequence[str],
    *,
    key: str | Sequence[str] | None = None,
    rule: str = "agree",
    name: str | None = None,
) -> Result:
    """Long to wide: a column for each value of one column, a row for each key.

    Parameters
    ----------
    source : path, Table, mapping of names to lists, or Arrow columns
    heads : str
        The column whose values head the new columns.
    cells : str or sequence of str
        The column, or columns, that fill them.
    key : str or sequence of str, optional
        The columns that identify a row; without it all others.
    rule : str
        When several rows fall into one cell: agree, first, last, min, max, sum, mean,
        longest, commonest; where it is agree, rows that differ are set aside.
    name : str, optional
        The result's name.

    Returns
    -------
    Result
        With ``table``, ``entries`` (the ledger), ``findings`` and ``aside``.

    Raises
    ------
    PlaitError
        For a source that cannot be read, a column that is not there, a wrong value.

    Examples
    --------
    >>> honey = {"hive": ["1", "1"], "month": ["04", "05"], "kg": ["3", "9"]}
    >>> widen(honey, "month", "kg").table.to_dict()
    {'hive': ['1'], '04': ['3'], '05': ['9']}
    """
    tables = [one_table(source)]
    return cast(
        Result,
        with_reading(
            perform(
                WIDEN, tables, {"heads": heads, "cells": cells, "key": key, "rule": rule}, name
            ),
            tables,
        ),
    )


def lengthen(
    source: Input,
    heads: str,
    cells: str,
    *,
    columns: str | Sequence[str] | None = None,
    key: str | Sequence[str] | None = None,
    without_missing: bool = False,
    name: str | None = None,
) -> Result:
    """Wide to long: a row for each cell of some columns, their headings beside it.

    Parameters
    ----------
    source : path, Table, mapping of names to lists, or Arrow columns
    heads : str
        What the column of headings is called.
    cells : str
        What the column of cells is called.
    columns : str or sequence of str, optional
        The columns to put under one another.
    key : str or sequence of str, optional
        Instead: the columns that stay as they are.
    without_missing : bool
        Leave out rows whose cell is missing.
    name : str, optional
        The result's name.

    Returns
    -------
    Result
        With ``table``, ``entries`` (the ledger), ``findings`` and ``aside``.

    Raises
    ------
    PlaitError
        For a source that cannot be read, a column that is not there, a wrong value.

    Examples
    --------
    >>> honey = {"hive": ["1"], "04": ["3"], "05": ["9"]}
    >>> lengthen(honey, "month", "kg", key="hive").table.to_dict()
    {'hive': ['1', '1'], 'month': ['04', '05'], 'kg': ['3', '9']}
    """
    tables = [one_table(source)]
    return cast(
        Result,
        with_reading(
            perform(
                LENGTHEN,
                tables,
                {
                    "heads": heads,
                    "cells": cells,
                    "columns": columns,
                    "key": key,
                    "without_missing": without_missing,
                },
                name,
            ),
            tables,
        ),
    )


def keys(
    sources: Sequence[Input] | Input,
    key: KeySpec | None = None,
    keys: Sequence[KeySpec] = (),
    *,
    ignore: Iterable[str] = (),
    pairs: Input | None = None,
    missing_match: bool = False,
) -> Audited:
    """Audit a key.

    Is it unique, missing, repeated, in conflict? With several sources also which keys
    are in which, and of two, why keys do not match and what would mend it.

    Parameters
    ----------
    sources : path, Table, mapping of names to lists, or Arrow columns, or a sequence of them
        Also globs and folders, in order.
    key : str, sequence or mapping, optional
        The columns that identify a record; LEFT=RIGHT where two sources name them
        otherwise. One key for all, or one for each source. Without it: the columns all
        have.
    keys : sequence of key
        Instead of ``key``: one for each.
    ignore : iterable of str
        What does not count when keys are compared: case, space, punctuation, accents,
        leading-zeros, number-form (7.0 is 7), date-form (5.4.2031 is 2031-04-05); the
        cells stay as they are.
    pairs : as an input, optional
        A table of keys of the left that count as keys of the right, as plait keys --out
        writes it.
    missing_match : bool
        Whether missing keys match one another.

    Returns
    -------
    Audited
        With ``tables``, ``pairs``, ``holdings``, ``why`` and ``findings``.

    Raises
    ------
    PlaitError
        For a source that cannot be read, a column that is not there, a wrong value.

    Examples
    --------
    >>> visits, hives = {"hive": ["1", "1", "9"]}, {"hive": ["1"]}
    >>> keys([visits, hives], "hive").pairs[0].keys_only_left
    1
    """
    tables = all_tables(sources)
    return cast(
        Audited,
        perform(
            KEYS,
            tables,
            {
                "key": list(keys) or (None if key is None else [key]),
                "ignore": ignore,
                "pairs": None if pairs is None else one_table(pairs, "pairs"),
                "missing_keys": missing_match,
            },
        ),
    )


def compare(
    old: Input,
    new: Input,
    key: KeySpec | None = None,
    *,
    columns: str | Sequence[str] | None = None,
    within: Pairs = (),
    ignore: Iterable[str] = (),
    name: str | None = None,
) -> Compared:
    """Set an old and a new table against each other by key.

    Rows new, gone and changed, cells changed in each column and by how much, columns
    new, gone, renamed, of another type.

    Parameters
    ----------
    old, new : path, Table, mapping of names to lists, or Arrow columns
        Or the folder of a handover: its dataset, and its key.
    key : str, sequence or mapping, optional
        The columns by which a record is known; OLD=NEW where they changed their names.
        Without it the plan's, or else the likeliest candidate key.
    columns : str or sequence of str, optional
        The columns to compare; without it all.
    within : mapping of str to str
        How far numbers of a column may be apart and count as the same.
    ignore : iterable of str
        What does not count when keys are compared: case, space, punctuation, accents,
        leading-zeros, number-form (7.0 is 7), date-form (5.4.2031 is 2031-04-05); the
        cells stay as they are.
    name : str, optional
        The result's name.

    Returns
    -------
    Compared
        With ``changes`` (counts), ``columns``, ``entry`` (the ledger), ``findings``,
        and ``listed()``, every change as a table.

    Raises
    ------
    PlaitError
        For a source that cannot be read, a column that is not there, a wrong value.

    Examples
    --------
    >>> old, new = {"hive": ["1", "2"], "kg": ["9", "4"]}, {"hive": ["1", "3"], "kg": ["10", "8"]}
    >>> found = compare(old, new, "hive").changes
    >>> found.rows_new, found.rows_gone, found.rows_changed
    (1, 1, 1)
    """
    tables, known = two_datasets(old, new)
    return cast(
        Compared,
        perform(
            COMPARE,
            tables,
            {"key": key or known, "columns": columns, "within": within, "ignore": ignore},
            name,
        ),
    )
