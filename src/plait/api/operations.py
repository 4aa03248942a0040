"""The operations of ``import plait``, made by ``tools/generate.py``."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import cast

from plait.api.files import (
    Input,
    read_one_table,
    read_sides,
    read_tables,
    read_two_datasets,
    tables_by_name,
)
from plait.core.operations.compare import Comparison
from plait.core.operations.join import JoinResult
from plait.core.operations.keys import KeyAudit
from plait.core.operations.result import Result, include_reading
from plait.core.operations.settle import SettleResult
from plait.core.specs.one_table import GROUP, LENGTHEN, MEND, SETTLE, WIDEN
from plait.core.specs.option import run_operation
from plait.core.specs.several_tables import BESIDE, COMPARE, JOIN, KEYS, STACK
from plait.core.table.key_spec import KeySpec, Pairs, Several


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
    """Append the rows of several files, matching columns by name.

    The first file sets the order of the columns. Where a file lacks a column, its rows
    have no value in it.

    Parameters
    ----------
    sources : path, Table, mapping of names to lists, or Arrow columns, or a sequence of them
        Also globs and folders, in order.
    label : mapping of str to str
        Columns to add that show where each row came from, made from {file}, {stem},
        {folder} and {sheet}.
    distinct : bool
        Leave out rows that repeat an earlier row in every column of the sources.
    number : str, optional
        Add a column that numbers the rows.
    same : mapping of str to str or sequence of str
        Stack the columns OLD under the heading NEW.
    fold_headers : bool
        Treat headings as equal if they differ only in case, spaces or punctuation.
    by : {"name", "position"}
        Match columns by name, or by position.
    origin : str, optional
        Add a column with the source of each row.
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
    tables = read_tables(sources)
    result = run_operation(
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
    )
    return cast(Result, include_reading(result, tables))


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
    """Clean up one table.

    Column names, missing cells, types, fields that hold several values, computed
    columns, and which rows and columns to keep. The changes are made in the order in
    which the options are listed here.

    Parameters
    ----------
    source : path, Table, mapping of names to lists, or Arrow columns
    header : str or sequence of str
        New names for all columns.
    rename : mapping of str to str
        Rename columns.
    missing : str or sequence of str
        The texts that mean a missing cell.
    trim : bool, str or sequence of str
        Remove spaces at both ends of cells, in all columns or only in these.
    split : iterable of str
        Split the cells of a column into several new columns.
    replace_value : iterable of str
        Replace whole cells; an empty OLD or NEW means a missing cell.
    fill : mapping of str to str
        Fill the missing cells of a column with a value, or with the cell above (down).
    type : mapping of str to str
        The type of a column: integer, decimal, boolean, date, datetime, time or text;
        or a written form, such as date:%d.%m.%Y or decimal:1.234,5.
    unfit : {"error", "missing", "set-aside"}
        What to do with cells that do not fit their type.
    compute : mapping of str to str
        Compute a column with an SQL expression over the others; on a command line,
        --compute before --type uses the cells as they were before types were set.
    where : str, optional
        Keep the rows that meet an SQL condition, and set the others aside.
    sort : str or sequence of str
        The columns to sort by; 'COLUMN desc' sorts the largest first.
    drop : str or sequence of str
        The columns to remove.
    keep : str or sequence of str
        The columns to keep; all others are removed.
    order : str or sequence of str
        The columns to move to the front.
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
    tables = [read_one_table(source)]
    result = run_operation(
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
    )
    return cast(Result, include_reading(result, tables))


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
    ignore_words: Iterable[str] = (),
    pairs: Input | None = None,
    missing_keys: str = "apart",
    origin: str | None = None,
    name: str | None = None,
) -> JoinResult:
    """Combine the columns of two or more tables, matching rows on a key.

    Each further table is joined to the result so far.

    Parameters
    ----------
    left, right, *more : path, Table, mapping of names to lists, or Arrow columns
        The left one first, each of one table.
    key : str, sequence or mapping, optional
        The columns that identify a record; LEFT=RIGHT where the names differ. One key
        for all joins, or one for each further table (default: the columns both tables
        have).
    keys : sequence of key
        Instead of ``key``: one for each.
    kind : {"inner", "left", "right", "full", "semi", "anti", "cross"}
        The join type: which rows without a match stay in the result.
    cardinality : {"one-to-one", "many-to-one", "one-to-many", "many-to-many"}, optional
        The relation that the keys must have, left to right; if they do not, nothing is
        joined. A many-to-many join runs only if you choose it here.
    take : str or sequence of str, optional
        The columns to take from the further tables, in addition to the key (default:
        all).
    rename : mapping of str to str
        Rename columns of the result.
    prefer : {"left", "right"}, optional
        Where both tables have a column, use the cells of this side and fill its empty
        cells from the other (default: keep both columns if they differ).
    nearest : str, optional
        Among rows with the same key, match the one whose number, date or time is
        nearest.
    within : str, optional
        The greatest distance allowed to the nearest row: 7d, 2h, 30min or a number.
    max_rows : int, optional
        Stop if the result would have more rows than this.
    ignore : iterable of str
        The differences to ignore when comparing keys: case, space, punctuation,
        accents, word-order (Hill, Ada equals Ada Hill), leading-zeros, number-form (7.0
        equals 7), date-form (5.4.2031 equals 2031-04-05); cells are not changed.
    ignore_words : iterable of str
        Words that do not count when comparing keys, however capitalised; @FILE has one
        on each line.
    pairs : as an input, optional
        A crosswalk: a table of left keys and the right keys they stand for, as written
        by plait keys --out.
    missing_keys : {"apart", "match"}
        Whether missing keys match nothing (apart) or each other (match).
    origin : str, optional
        Add a column with the names of the sources each row came from, joined by +.
    name : str, optional
        The result's name.

    Returns
    -------
    JoinResult
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
    result = run_operation(
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
            "ignore_words": ignore_words,
            "pairs": None if pairs is None else read_one_table(pairs, "pairs"),
            "missing_keys": missing_keys,
            "origin": origin,
        },
        name,
    )
    return cast(JoinResult, include_reading(result, tables))


def settle(
    source: Sequence[Input] | Input,
    key: KeySpec,
    *,
    rule: Pairs = (),
    otherwise: str = "agree",
    keep_rule: str | None = None,
    ignore: Iterable[str] = (),
    ignore_words: Iterable[str] = (),
    pairs: Input | None = None,
    missing_keys: str = "apart",
    name: str | None = None,
) -> SettleResult:
    """Reduce the rows of each key to one, with a rule for each column.

    Several sources are stacked first. Without rules, all cells of a column must agree;
    otherwise the key is in conflict and its rows are set aside.

    Parameters
    ----------
    source : path, Table, mapping of names to lists, or Arrow columns, or a sequence of them
        Also globs and folders, in order.
    key : str or sequence of str
        The columns that identify a record.
    rule : mapping of str to str
        The rule for a column: agree, first, last, min, max, sum, mean, longest,
        commonest, newest-by:COLUMN or oldest-by:COLUMN; missing cells are ignored.
    otherwise : str
        The rule for all other columns.
    keep_rule : str, optional
        Keep one whole row of each key instead: first, last, fullest, newest-by:COLUMN
        or oldest-by:COLUMN.
    ignore : iterable of str
        The differences to ignore when comparing keys: case, space, punctuation,
        accents, word-order (Hill, Ada equals Ada Hill), leading-zeros, number-form (7.0
        equals 7), date-form (5.4.2031 equals 2031-04-05); cells are not changed.
    ignore_words : iterable of str
        Words that do not count when comparing keys, however capitalised; @FILE has one
        on each line.
    pairs : as an input, optional
        A crosswalk: a table of left keys and the right keys they stand for, as written
        by plait keys --out.
    missing_keys : {"apart", "match"}
        Whether missing keys match nothing (apart) or each other (match).
    name : str, optional
        The result's name.

    Returns
    -------
    SettleResult
        With ``table``, ``entries`` (the ledger), ``decisions``, ``findings`` and
        ``aside``.

    Raises
    ------
    PlaitError
        For a source that cannot be read, a column that is not there, a wrong value.

    Examples
    --------
    >>> hives = {"hive": ["1", "1"], "breed": ["Carnica", "Buckfast"]}
    >>> settle(hives, "hive", rule={"breed": "last"}).table.to_dict()
    {'hive': ['1'], 'breed': ['Buckfast']}
    """
    tables = read_tables(source)
    result = run_operation(
        SETTLE,
        tables,
        {
            "key": key,
            "rule": rule,
            "otherwise": otherwise,
            "keep_rule": keep_rule,
            "ignore": ignore,
            "ignore_words": ignore_words,
            "pairs": None if pairs is None else read_one_table(pairs, "pairs"),
            "missing_keys": missing_keys,
        },
        name,
    )
    return cast(SettleResult, include_reading(result, tables))


def beside(left: Input, right: Input, *more: Input, name: str | None = None) -> Result:
    """Place the columns of tables side by side, pairing rows by position.

    All tables must have the same number of rows. If they share a key, join them
    instead.

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
    result = run_operation(BESIDE, tables, {}, name)
    return cast(Result, include_reading(result, tables))


def group(
    source: Input,
    by: str | Sequence[str] | None = None,
    take: Pairs = (),
    *,
    onto_rows: bool = False,
    places: int | None = None,
    ignore: Iterable[str] = (),
    ignore_words: Iterable[str] = (),
    name: str | None = None,
) -> Result:
    """Compute counts, sums and other figures for each group of rows.

    The result has one row per group or, on request, every row with the figures of its
    group. Sums of decimals are exact. Rows with no value in a grouping column form a
    group of their own.

    Parameters
    ----------
    source : path, Table, mapping of names to lists, or Arrow columns
    by : str or sequence of str, optional
        The columns to group by; for dates also COLUMN:month, COLUMN:quarter,
        COLUMN:week or COLUMN:year (default: all rows form one group).
    take : mapping of str to str
        The figures to compute, each a new column: count, distinct, sum, mean (average),
        middle (median), smallest (min), largest (max), spread (stdev), first, last,
        commonest, share; also rank, where every row is kept. NEW=count counts rows;
        NEW=share is the group's share of all rows.
    onto_rows : bool
        Keep every row, and add the figures of its group.
    places : int, optional
        The decimal places of means, shares and spreads (default: four more than the
        column for means, ten for shares).
    ignore : iterable of str
        The differences to ignore when comparing keys: case, space, punctuation,
        accents, word-order (Hill, Ada equals Ada Hill), leading-zeros, number-form (7.0
        equals 7), date-form (5.4.2031 equals 2031-04-05); cells are not changed.
    ignore_words : iterable of str
        Words that do not count when comparing keys, however capitalised; @FILE has one
        on each line.
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
    tables = [read_one_table(source)]
    result = run_operation(
        GROUP,
        tables,
        {
            "by": by,
            "take": take,
            "onto_rows": onto_rows,
            "places": places,
            "ignore": ignore,
            "ignore_words": ignore_words,
        },
        name,
    )
    return cast(Result, include_reading(result, tables))


def widen(
    source: Input,
    heads: str,
    cells: str | Sequence[str],
    *,
    key: str | Sequence[str] | None = None,
    rule: str = "agree",
    name: str | None = None,
) -> Result:
    """Reshape long to wide: one column for each value of a column, and one row for each key.

    Parameters
    ----------
    source : path, Table, mapping of names to lists, or Arrow columns
    heads : str
        The column whose values become the headings of the new columns; for dates also
        COLUMN:month, COLUMN:quarter, COLUMN:week or COLUMN:year.
    cells : str or sequence of str
        The column or columns that fill the new columns.
    key : str or sequence of str, optional
        The columns that identify a row (default: all other columns).
    rule : str
        How to combine several rows that belong in one cell: agree, first, last, min,
        max, sum, mean, longest or commonest; with agree, rows that differ are set
        aside.
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
    tables = [read_one_table(source)]
    result = run_operation(
        WIDEN, tables, {"heads": heads, "cells": cells, "key": key, "rule": rule}, name
    )
    return cast(Result, include_reading(result, tables))


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
    """Reshape wide to long.

    Write the cells of several columns one below the other, each with the heading of its
    column.

    Parameters
    ----------
    source : path, Table, mapping of names to lists, or Arrow columns
    heads : str
        The name of the new column that holds the headings.
    cells : str
        The name of the new column that holds the cells.
    columns : str or sequence of str, optional
        The columns to turn into rows.
    key : str or sequence of str, optional
        The columns to keep; all others are turned into rows (instead of naming those).
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
    tables = [read_one_table(source)]
    result = run_operation(
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
    )
    return cast(Result, include_reading(result, tables))


def keys(
    sources: Sequence[Input] | Input,
    key: KeySpec | None = None,
    keys: Sequence[KeySpec] = (),
    *,
    apart: bool = False,
    ignore: Iterable[str] = (),
    ignore_words: Iterable[str] = (),
    pairs: Input | None = None,
    missing_keys: str = "apart",
    evidence: str | Sequence[str] = (),
    accept: str | None = None,
    settled: Input | None = None,
) -> KeyAudit:
    """Audit a key.

    Is it unique, and which keys are missing, repeated or in conflict? With several
    sources, also show which keys are in which. With two, explain why keys do not match
    and what would fix it.

    Parameters
    ----------
    sources : path, Table, mapping of names to lists, or Arrow columns, or a sequence of them
        Also globs and folders, in order.
    key : str, sequence or mapping, optional
        The columns that identify a record; LEFT=RIGHT where two sources name them
        differently. One key for all sources, or one for each (default: the columns all
        sources have).
    keys : sequence of key
        Instead of ``key``: one for each.
    apart : bool
        Take each file of a folder or glob by itself (default: beside another source,
        they are one side together).
    ignore : iterable of str
        The differences to ignore when comparing keys: case, space, punctuation,
        accents, word-order (Hill, Ada equals Ada Hill), leading-zeros, number-form (7.0
        equals 7), date-form (5.4.2031 equals 2031-04-05); cells are not changed.
    ignore_words : iterable of str
        Words that do not count when comparing keys, however capitalised; @FILE has one
        on each line.
    pairs : as an input, optional
        A crosswalk: a table of left keys and the right keys they stand for, as written
        by plait keys --out.
    missing_keys : {"apart", "match"}
        Whether missing keys match nothing (apart) or each other (match).
    evidence : str or sequence of str
        Look for the partners of unmatched keys by these columns, with odds; LEFT=RIGHT
        where the names differ. For one source: keys that mean the same.
    accept : str, optional
        Use the partners that are at least so sure, as 99%; without it none is used.
    settled : as an input, optional
        Pairs accepted or rejected by hand, as the page of keys saves them: they are
        taken as known, and the odds of the others follow.

    Returns
    -------
    KeyAudit
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
    tables = read_sides(sources)
    return cast(
        KeyAudit,
        run_operation(
            KEYS,
            tables,
            {
                "key": list(keys) or (None if key is None else [key]),
                "apart": apart,
                "ignore": ignore,
                "ignore_words": ignore_words,
                "pairs": None if pairs is None else read_one_table(pairs, "pairs"),
                "missing_keys": missing_keys,
                "evidence": evidence,
                "accept": accept,
                "settled": None if settled is None else read_one_table(settled, "settled"),
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
    ignore_words: Iterable[str] = (),
    name: str | None = None,
) -> Comparison:
    """Compare an old and a new table by key.

    Rows that are new, gone or changed; how many cells changed in each column, and by
    how much; columns that are new, gone, renamed or of a different type.

    Parameters
    ----------
    old, new : path, Table, mapping of names to lists, or Arrow columns
        Or the folder of a handover: its dataset, and its key.
    key : str, sequence or mapping, optional
        The columns that identify a record; OLD=NEW where they were renamed (default:
        the plan's key, otherwise the likeliest candidate key).
    columns : str or sequence of str, optional
        The columns to compare (default: all).
    within : mapping of str to str
        How far apart two numbers of a column may be and still count as equal.
    ignore : iterable of str
        The differences to ignore when comparing keys: case, space, punctuation,
        accents, word-order (Hill, Ada equals Ada Hill), leading-zeros, number-form (7.0
        equals 7), date-form (5.4.2031 equals 2031-04-05); cells are not changed.
    ignore_words : iterable of str
        Words that do not count when comparing keys, however capitalised; @FILE has one
        on each line.
    name : str, optional
        The result's name.

    Returns
    -------
    Comparison
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
    tables, known = read_two_datasets(old, new)
    return cast(
        Comparison,
        run_operation(
            COMPARE,
            tables,
            {
                "key": key or known,
                "columns": columns,
                "within": within,
                "ignore": ignore,
                "ignore_words": ignore_words,
            },
            name,
        ),
    )
