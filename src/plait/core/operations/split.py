"""A column that holds several things, split into a column for each."""

from __future__ import annotations

import re
from dataclasses import dataclass, replace

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.base.errors import UsageError
from plait.core.base.findings import Finding, Location, pluralize
from plait.core.base.names import unused_name
from plait.core.base.wording import Setting, wording
from plait.core.job.spill_columns import ColumnBuilder
from plait.core.table.fragment import Fragment
from plait.core.table.key_spec import check_column, parse_names
from plait.core.table.table import Column, Table, make_cell_examples
from plait.core.text.cells import empty_to_null, to_text

_SPEC = re.compile(r'\s*("(?:[^"]|"")+"|[^:]+):(.+?)\s+into\s+(.+)$', re.DOTALL)


@dataclass(frozen=True)
class SplitSpec:
    """What is to be split.

    Parameters
    ----------
    delimiters : tuple of str
        One, that is between all parts; or several different ones, of which
        the first is behind the first part, and so on.
    into : tuple of str
        The names of the parts.
    """

    column: str
    delimiters: tuple[str, ...]
    into: tuple[str, ...]


def parse_split(spec: str) -> SplitSpec:
    """Read ``COLUMN:DELIMITERS into a,b,c``.

    Several delimiters are behind one another; spaces count. When there is one
    fewer than parts, each is used once and in that order.

    Raises
    ------
    UsageError
        When it is not written so.

    Examples
    --------
    >>> parse_split("place:-/ into yard,row,hive")
    SplitSpec(column='place', delimiters=('-', '/'), into=('yard', 'row', 'hive'))
    >>> parse_split("place:- into yard,row,hive").delimiters
    ('-',)
    """
    match = _SPEC.match(spec)
    if not match:
        raise UsageError(
            wording(Setting("split", spec), " is not COLUMN:DELIMITERS into NAMES"),
            remedy=wording("write ", Setting("split", "place:- into yard,hive")),
        )
    (column,), into = parse_names(match[1]), parse_names(match[3])
    delimiters = tuple(match[2]) if len(match[2]) == len(into) - 1 else (match[2],)
    if len(set(into)) < len(into):
        raise UsageError(
            wording(Setting("split", spec), " gives two columns one name"),
            remedy="name each its own",
        )
    if len(into) < 2:
        raise UsageError("a split gives two columns or more", remedy=f"name them: {spec},…")
    return SplitSpec(column, delimiters, into)


def split_column(table: Table, split: SplitSpec) -> Table:
    """The table with the parts of a column in columns of their own behind it.

    Returns
    -------
    Table
        The column itself stays. A cell with too few parts has the last ones
        missing; with too many, the last one holds the rest. Both are findings.

    Raises
    ------
    UsageError
        When there is no such column, or a new name is taken.

    Examples
    --------
    >>> from plait.core.table.table import table_from_columns
    >>> table = table_from_columns("t", {"at": ["A-7", "B"]})
    >>> split_column(table, parse_split("at:- into yard,hive")).to_dict()
    {'at': ['A-7', 'B'], 'yard': ['A', 'B'], 'hive': ['7', None]}
    """
    check_column(split.column, table)
    for name in split.into:
        if table.has_column(name):
            raise UsageError(
                f"there is a column {name!r} already",
                table.name,
                f"such as {unused_name(name, table.column_names)!r}",
            )
    cells = table.chunks(split.column)
    shelf, counted_ = ColumnBuilder(split.into), [np.zeros(0, int)]
    for chunk in cells.chunks:
        parts, count = _parts(to_text(chunk), split)
        shelf.append(parts)
        counted_.append(count)
    stored = shelf.finish([pa.string()] * len(split.into))
    counts = np.concatenate(counted_)
    terms = table.provenance(split.column)
    made = tuple(
        Column(name, ((len(table.fragments), name),), provenance=terms) for name in split.into
    )
    place = table.column_names.index(split.column) + 1
    columns = (*table.columns[:place], *made, *table.columns[place:])
    split_table = replace(
        table, columns=columns, fragments=(*table.fragments, Fragment("made", stored, ()))
    )
    findings = _findings(table, split, cells, counts)
    return replace(split_table, findings=(*table.findings, *findings))


def _parts(cells: pa.Array, split: SplitSpec) -> tuple[list[pa.Array], np.ndarray]:
    """The parts of each cell, and how many it has: 0 for a missing one."""
    absent = pc.fill_null(pc.equal(cells, ""), True)
    rest = pc.if_else(absent, pa.scalar(None, cells.type), cells)
    parts: list[pa.Array] = []
    count = pc.if_else(absent, 0, 1).to_numpy(zero_copy_only=False).astype(np.int64)
    for number in range(len(split.into) - 1):
        delimiter = split.delimiters[min(number, len(split.delimiters) - 1)]
        head = pc.split_pattern(rest, delimiter, max_splits=1)
        several = pc.fill_null(pc.greater(pc.list_value_length(head), 1), False)
        parts.append(pc.list_element(head, 0) if len(head) else rest)
        count += several.to_numpy(zero_copy_only=False)
        tail = pc.list_flatten(pc.filter(head, several))
        after = pc.replace_with_mask(
            pc.if_else(several, "", pa.scalar(None, pa.string())),
            several,
            tail.take(pa.array(np.arange(1, len(tail), 2))),
        )
        rest = after
    more = pc.fill_null(pc.match_substring(rest, split.delimiters[-1]), False)
    count += more.to_numpy(zero_copy_only=False)
    return [_trimmed(part) for part in (*parts, rest)], count


def _trimmed(part: pa.Array) -> pa.Array:
    return empty_to_null(pc.utf8_trim_whitespace(part.cast(pa.string())))


def _findings(
    table: Table, split: SplitSpec, cells: pa.ChunkedArray, counts: np.ndarray
) -> list[Finding]:
    wanted = len(split.into)
    found = []
    for code, rows, what in (
        ("parts-few", np.flatnonzero((counts > 0) & (counts < wanted)), "fewer"),
        ("parts-many", np.flatnonzero(counts > wanted), "more"),
    ):
        if len(rows):
            found.append(_finding(table, split, cells, code, rows, what))
    return found


def _finding(
    table: Table,
    split: SplitSpec,
    cells: pa.ChunkedArray,
    code: str,
    rows: np.ndarray,
    what: str,
) -> Finding:
    examples = make_cell_examples(table, cells, rows)
    kept = (
        "the last columns have no value" if code == "parts-few" else "the last part holds the rest"
    )
    return Finding(
        code,
        "warning",
        len(rows),
        f"{pluralize(len(rows), 'cell')} of {split.column!r} "
        f"with {what} than {len(split.into)} parts; {kept}",
        "",
        Location(table.name, split.column),
        examples,
    )
