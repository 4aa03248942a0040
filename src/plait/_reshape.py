"""The functions of ``import plait`` that bring rows together, or turn them."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from plait._given import Input, one_table
from plait.core.table.keyspec import Pairs
from plait.core.verbs.group import group as group_table
from plait.core.verbs.lengthen import lengthen as lengthen_table
from plait.core.verbs.result import Result
from plait.core.verbs.widen import widen as widen_table


def group(
    source: Input,
    by: str | Sequence[str] = (),
    take: Pairs = (),
    *,
    onto_rows: bool = False,
    ignore: Iterable[str] = (),
    name: str | None = None,
) -> Result:
    """Work out figures over the rows of each group.

    Parameters
    ----------
    source : Table, str or Path
    by : str or sequence of str
        Columns; of dates also ``COLUMN:month``, ``:quarter``, ``:year``.
    take : mapping of str to str
        New column to figure: ``{"Honey": "sum:kg"}``. See ``plait group --help``.
    onto_rows : bool
        Keep all rows, with the figures of their group behind them.
    ignore : iterable of str
        What does not count when cells are compared.
    name : str, optional
        The result's name.

    Returns
    -------
    Result
        With ``table``, ``entries`` (the ledger) and ``findings``.

    Raises
    ------
    SourceError
        When the source cannot be read.
    UsageError
        For a column or figure that is not there.

    Examples
    --------
    >>> from plait.core.table.table import from_columns
    >>> visits = from_columns("visits", {"yard": ["A", "A"], "kg": ["0.10", "0.20"]})
    >>> group(visits, "yard", {"honey": "sum:kg"}).table.to_dict()
    {'yard': ['A'], 'honey': ['0.30']}
    """
    return group_table(one_table(source), by, take, onto_rows, ignore, name)


def widen(
    source: Input,
    heads: str,
    cells: str | Sequence[str],
    *,
    key: str | Sequence[str] = (),
    rule: str = "agree",
    name: str | None = None,
) -> Result:
    """Make a column for each value of one column, and a row for each key.

    Parameters
    ----------
    source : Table, str or Path
    heads : str
        The column whose values head the new columns.
    cells : str or sequence of str
        What fills them.
    key : str or sequence of str
        The columns that identify a row of the result. Without it all others.
    rule : str
        What is done when several rows fall into one cell, as for ``settle``.
    name : str, optional
        The result's name.

    Returns
    -------
    Result
        With ``table``, ``entries`` (the ledger), ``findings`` and ``aside``.

    Raises
    ------
    SourceError
        When the source cannot be read.
    UsageError
        For a column or rule that is not there.

    Examples
    --------
    >>> from plait.core.table.table import from_columns
    >>> honey = from_columns("honey", {"hive": ["1", "1"], "month": ["04", "05"], "kg": ["3", "9"]})
    >>> widen(honey, "month", "kg").table.to_dict()
    {'hive': ['1'], '04': ['3'], '05': ['9']}
    """
    return widen_table(one_table(source), heads, cells, key, rule, name)


def lengthen(
    source: Input,
    heads: str,
    cells: str,
    *,
    columns: str | Sequence[str] = (),
    key: str | Sequence[str] = (),
    without_missing: bool = False,
    name: str | None = None,
) -> Result:
    """Make a row for each cell of some columns.

    Parameters
    ----------
    source : Table, str or Path
    heads, cells : str
        What the new columns are called.
    columns : str or sequence of str
        The columns to put under one another; or else
    key : str or sequence of str
        the columns that stay.
    without_missing : bool
        Leave out rows whose cell is missing.
    name : str, optional
        The result's name.

    Returns
    -------
    Result
        With ``table``, ``entries`` (the ledger) and ``findings``.

    Raises
    ------
    SourceError
        When the source cannot be read.
    UsageError
        For a column that is not there, or a name that is taken.

    Examples
    --------
    >>> from plait.core.table.table import from_columns
    >>> honey = from_columns("honey", {"hive": ["1"], "04": ["3"], "05": ["9"]})
    >>> lengthen(honey, "month", "kg", key="hive").table.to_dict()
    {'hive': ['1', '1'], 'month': ['04', '05'], 'kg': ['3', '9']}
    """
    return lengthen_table(one_table(source), heads, cells, columns, key, without_missing, name)
