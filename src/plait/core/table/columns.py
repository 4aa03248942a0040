"""Columns looked up by name, and columns that are missing from a table."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from functools import partial

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.base.errors import UsageError, attribute_errors_to_option
from plait.core.job.executor import map_ordered
from plait.core.table.fragment import RowNumbers
from plait.core.table.key_spec import check_column
from plait.core.table.table import Table
from plait.core.text.cells import to_text
from plait.core.types.missing_markers import marker_mask

Flags = npt.NDArray[np.bool_]

_MANY = 1 << 14  # rows from which on coding the columns pays


def with_headings(table: Table, header: Sequence[str]) -> Table:
    """The table with all its columns named anew.

    Raises
    ------
    UsageError
        For another number of names than columns, or a name that comes twice.
    """
    if len(header) != len(table.columns):
        raise UsageError(
            f"{len(header)} names for {len(table.columns)} columns",
            table.name,
            f"it has {', '.join(table.column_names)}",
        )
    return _unique(table.rename(dict(zip(table.column_names, header, strict=True))))


def rename_columns(table: Table, rename: Mapping[str, str]) -> Table:
    """The table with some columns renamed, old name to new.

    Raises
    ------
    UsageError
        For a column that is not there, or a name that would come twice.
    """
    for old in rename:
        check_column(old, table)
    return _unique(table.rename(rename))


def _unique(table: Table) -> Table:
    counts = Counter(column.name for column in table.columns)
    twice = next((name for name, count in counts.items() if count > 1 or not name), None)
    if twice is not None:
        text = f"two columns would be called {twice!r}" if twice else "a column would have no name"
        raise UsageError(text, table.name, "choose another name for one")
    return table


def project_columns(
    table: Table, drop: Sequence[str], keep: Sequence[str], order: Sequence[str]
) -> Table:
    """The table without some columns, or with some only, those of ``order`` first.

    Raises
    ------
    UsageError
        For a column that is not there, or when none would be left.
    """
    drop = [d for d in drop if d not in table.columns_in_database]
    for option, columns in (("drop", drop), ("keep", keep), ("order", order)):
        with attribute_errors_to_option(option):
            for column in columns:
                check_column(column, table)
    kept = [c for c in table.columns if c.name not in drop and (not keep or c.name in keep)]
    if not kept:
        raise UsageError("the result would have no columns", table.name, "keep at least one")
    first = [table.column(column) for column in order if table.column(column) in kept]
    return replace(table, columns=(*first, *(k for k in kept if k not in first)))


def take_scattered_rows(
    table: Table, rows: RowNumbers, names: Iterable[str] | None = None
) -> Table:
    """The table of some rows that may lie anywhere: of many, the columns are coded before.

    Parameters
    ----------
    names : iterable of str, optional
        The columns that will be looked at; all, when not given.

    Examples
    --------
    >>> from plait.core.table.table import table_from_columns
    >>> take_scattered_rows(table_from_columns("t", {"a": ["x", "y"]}), np.array([1, 0])).to_dict()
    {'a': ['y', 'x']}
    """
    if len(rows) < _MANY:
        return table.take(rows)
    wanted: dict[int, list[str]] = {}
    for name in table.column_names if names is None else names:
        for fragment, stored in table.column(name).cell_refs:
            wanted.setdefault(fragment, []).append(stored)
    fragments = tuple(
        fragment.prepared_for_gather(wanted.get(number, []))
        for number, fragment in enumerate(table.fragments)
    )
    return replace(table, fragments=fragments).take(rows)


def has_value_mask(table: Table, name: str) -> Flags:
    """Whether there is a value in a column on each row.

    >>> from plait.core.table.table import table_from_columns
    >>> has_value_mask(table_from_columns("t", {"kg": ["7", "NA", ""]}), "kg").tolist()
    [True, False, False]
    >>> has_value_mask(table_from_columns("t", {"code": ["x", "NA", ""]}), "code").tolist()
    [True, True, False]
    """
    marked = table.column_type(name).allows_missing_markers
    mask = partial(nonmissing_mask, marked=marked)
    parts = list(map_ordered(mask, table.chunks(name).chunks, rows=table.rows))
    return np.concatenate(parts) if parts else np.zeros(0, bool)


def nonmissing_mask(cells: pa.Array, marked: bool) -> Flags:
    """Which cells have a value; ``marked``: markers for missing are none."""
    texts = to_text(cells)
    found = pc.fill_null(pc.not_equal(texts, ""), False)
    markers = marker_mask(texts) if marked else None
    if markers is not None:
        found = pc.and_not(found, markers)
    flags: Flags = found.to_numpy(zero_copy_only=False)
    return flags
