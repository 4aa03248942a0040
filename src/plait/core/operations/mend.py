"""``mend``: one table cleaned up, in a fixed order of changes."""

from __future__ import annotations

import csv
from collections.abc import Iterable, Sequence
from dataclasses import replace
from itertools import pairwise

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.base.errors import UsageError, attribute_errors_to_option
from plait.core.base.findings import Finding, Location, agreeing, pluralize
from plait.core.base.ledger import LedgerLine, make_entry
from plait.core.base.wording import Setting, wording
from plait.core.codes.sort import sort_rows
from plait.core.job.spill_columns import build_column
from plait.core.operations.result import Result
from plait.core.operations.retype import (
    apply_missing_markers,
    parse_type_assignments,
    retype_columns,
)
from plait.core.operations.split import SplitSpec, parse_split, split_column
from plait.core.table.columns import has_value_mask, project_columns, rename_columns, with_headings
from plait.core.table.key_spec import Pairs, check_column, parse_assignments, parse_names
from plait.core.table.set_aside import set_rows_aside
from plait.core.table.table import Table
from plait.core.text.cells import is_text_type, to_text
from plait.core.text.decimals import format_decimal_short
from plait.core.types.column_type import DECIMAL

DOWN = "down"


def trim_cells(table: Table, columns: bool | Sequence[str] | str) -> Table:
    """Take spaces off both ends of the text cells of all columns, or of some.

    >>> from plait.core.table.table import table_from_columns
    >>> trim_cells(table_from_columns("t", {"a": [" x "]}), True).to_dict()
    {'a': ['x']}
    """
    if not columns:
        return table
    chosen = table.column_names if columns is True else parse_names(columns)
    changed = 0
    for name in chosen:
        check_column(name, table)
        cells = table.chunks(name)
        if is_text_type(cells.type):
            column = build_column(
                (pc.utf8_trim_whitespace(chunk) for chunk in cells.chunks), cells.type
            )
            different = _differing(cells.chunks, column.chunks)
            if different:
                kind = table.column(name).declared_type
                table = table.replace_column(name, column, kind)
                changed += different
    return _with_finding(table, "cells-trimmed", changed, "had leading or trailing spaces removed")


def replace_cells(table: Table, spec: str) -> Table:
    """Replace whole cells: ``COLUMN:OLD=NEW``; an empty OLD or NEW is a missing cell.

    Raises
    ------
    UsageError
        When there is no such column or no ``=``.

    Examples
    --------
    >>> from plait.core.table.table import table_from_columns
    >>> replace_cells(table_from_columns("t", {"a": ["n/k", "7"]}), "a:n/k=").to_dict()
    {'a': [None, '7']}
    """
    column, old, new = _parsed(spec)
    check_column(column, table)
    cells = table.chunks(column)
    value = pa.scalar(new or None, pa.string())
    same = [pc.equal(pc.fill_null(to_text(chunk), ""), old) for chunk in cells.chunks]
    made = (
        pc.if_else(hit, value, to_text(chunk))
        for hit, chunk in zip(same, cells.chunks, strict=True)
    )
    count = sum(pc.sum(hit).as_py() or 0 for hit in same)
    table = table.replace_column(column, build_column(made, pa.string()))
    severity = "note" if count else "warning"
    now = (
        f"changed from {old!r} to {new!r}"
        if new
        else (f"with {old!r} {agreeing(count, 'is', 'are')} now missing")
    )
    text = f"of {column!r} {now}"
    return _with_finding(table, "cells-replaced", count, text, severity, always=True)


def _parsed(spec: str) -> tuple[str, str, str]:
    column, colon, rest = _named(spec)
    old, sign, new = rest.partition("=")
    if not colon or not sign:
        raise UsageError(
            wording(Setting("replace_value", spec), " is not COLUMN:OLD=NEW"),
            remedy=wording("write ", Setting("replace_value", "kg:n/k=")),
        )
    return column, old, new


def _named(spec: str) -> tuple[str, str, str]:
    """A column's name, in double quotes where it holds a colon, and what follows the colon."""
    if spec.startswith('"'):
        end = spec.find('":', 1)
        if end > 0:
            return next(csv.reader([spec[: end + 1]]))[0], ":", spec[end + 2 :]
    return spec.partition(":")


def fill_missing(table: Table, column: str, value: str) -> Table:
    """Fill the missing cells of a column with a value, or with the cell above (``down``).

    >>> from plait.core.table.table import table_from_columns
    >>> fill_missing(table_from_columns("t", {"a": ["x", "", "y", None]}), "a", "down").to_dict()
    {'a': ['x', 'x', 'y', 'y']}
    """
    check_column(column, table)
    cells = table.chunks(column)
    missing = ~has_value_mask(table, column)
    if value == DOWN:
        above = np.maximum.accumulate(np.where(missing, -1, np.arange(len(missing))))
        count = int((missing & (above >= 0)).sum())
        table = table.with_gathered_column(
            column, np.where(above < 0, np.arange(len(above)), above)
        )
    else:
        ends = np.cumsum([0, *map(len, cells.chunks)]).tolist()
        made = build_column(
            (
                pc.if_else(pa.array(missing[begin:end]), value, to_text(chunk).cast(pa.string()))
                for chunk, (begin, end) in zip(cells.chunks, pairwise(ends), strict=True)
            ),
            pa.string(),
        )
        count = int(missing.sum())
        table = table.replace_column(column, made, table.column(column).declared_type)
    how = "with the cell above" if value == DOWN else f"with {value!r}"
    return _with_finding(table, "cells-filled", count, f"of {column!r} filled {how}")


def _differing(before: Sequence[pa.Array], after: Sequence[pa.Array]) -> int:
    return sum(
        pc.sum(pc.not_equal(old, new)).as_py() or 0 for old, new in zip(before, after, strict=True)
    )


def _with_finding(
    table: Table, code: str, count: int, what: str, severity: str = "note", always: bool = False
) -> Table:
    if not count and not always:
        return table
    finding = Finding(
        code, severity, count, f"{pluralize(count, 'cell')} {what}", where=Location(table.name)
    )
    return replace(table, findings=(*table.findings, finding))


def mend(
    table: Table,
    header: Sequence[str] | str | None = None,
    rename: Pairs = (),
    missing: Sequence[str] | str = (),
    trim: bool | Sequence[str] | str = False,
    split: Iterable[str | SplitSpec] = (),
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
    compute_first: Pairs = (),
) -> Result:
    """Put a table right. What is asked for is done in the order of the parameters.

    Parameters
    ----------
    header : sequence of str, optional
        Names for all the columns.
    rename : mapping of str to str
        Old name to new.
    missing : sequence of str
        Texts that mean a missing cell.
    trim : bool or sequence of str
        Take spaces off both ends of the cells, of all columns or of some.
    split : iterable of str
        ``COLUMN:DELIMITERS into a,b,c``: the parts of each cell in columns of
        their own. A cell with too few or too many parts is a finding.
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
    compute_first : mapping of str to str
        As ``compute``, before the types are set.

    Raises
    ------
    UsageError
        For a column, type or function that is not there.
    SourceError
        For a cell that does not fit its type, or cannot be cast.

    Examples
    --------
    >>> from plait.core.table.table import table_from_columns
    >>> visits = table_from_columns("visits", {"at": ["A-7", "B-12"], "kg": ["12.50", ""]})
    >>> mended = mend(visits, split=["at:- into yard,hive"], where="kg IS NOT NULL")
    >>> mended.table.to_dict()
    {'at': ['A-7'], 'yard': ['A'], 'hive': ['7'], 'kg': ['12.50']}
    """
    before = table
    table = replace(table, findings=(), set_aside=())
    with attribute_errors_to_option("header"):
        table = with_headings(table, parse_names(header)) if header else table
    with attribute_errors_to_option("rename"):
        table = rename_columns(table, parse_assignments(rename, "rename"))
    table = apply_missing_markers(table, parse_names(missing)) if missing else table
    table = _refilled(table, trim, split, replace_value, fill)
    table = _all_computed(table, compute_first)
    with attribute_errors_to_option("type"):
        types = parse_type_assignments(type)
        for column in types:
            check_column(column, table)
        table = retype_columns(table, types, unfit)
    table = _all_computed(table, compute)
    with attribute_errors_to_option("where"):
        table = _only_where(table, where) if where else table
    with attribute_errors_to_option("sort"):
        table = table.take(sort_rows(table, parse_names(sort))) if sort else table
    table = project_columns(table, parse_names(drop), parse_names(keep), parse_names(order))
    table = table.with_name(name) if name else table
    lines = [LedgerLine(f"{s.cause}, set aside", -s.rows, s.listing) for s in table.set_aside]
    account = make_entry(f"mend {before.name}", [(before.name, before.rows)], lines, table.rows)
    return Result(
        "mend",
        replace(table, findings=(), set_aside=()),
        (account,),
        table.findings,
        table.set_aside,
    )


def _refilled(
    table: Table,
    trim: bool | Sequence[str] | str,
    split: Iterable[str | SplitSpec],
    replace_value: Iterable[str],
    fill: Pairs,
) -> Table:
    """The table with other cells: trimmed, in parts, replaced, filled."""
    with attribute_errors_to_option("trim"):
        table = trim_cells(table, trim)
    with attribute_errors_to_option("split"):
        for one in split:
            table = split_column(table, one if isinstance(one, SplitSpec) else parse_split(one))
    with attribute_errors_to_option("replace_value"):
        for spec in replace_value:
            table = replace_cells(table, spec)
    with attribute_errors_to_option("fill"):
        for column, value in parse_assignments(fill, "fill").items():
            table = fill_missing(table, column, value)
    return table


def _all_computed(table: Table, compute: Pairs) -> Table:
    with attribute_errors_to_option("compute"):
        for column, text in parse_assignments(compute, "compute").items():
            table = _computed(table, column, text)
    return table


def _computed(table: Table, column: str, text: str) -> Table:
    from plait.core.expressions.expression import (
        evaluate_expression,
        parse_expression,
        referenced_columns,
    )

    expression = parse_expression(text)
    cells = evaluate_expression(expression, table)
    come, declared = referenced_columns(expression, table), None
    if expression.divides and pa.types.is_decimal(cells.type):
        # A quotient has room for many places; those that it does not need are not written.
        cells = build_column(map(format_decimal_short, cells.chunks), pa.string())
        declared = DECIMAL
    if table.has_column(column):
        return table.replace_column(column, cells, declared, come)
    return table.extend(column, cells, come).with_types({column: declared} if declared else {})


def _only_where(table: Table, where: str) -> Table:
    from plait.core.expressions.expression import evaluate_condition, parse_expression

    holds = pc.fill_null(evaluate_condition(parse_expression(where), table), False).to_numpy()
    if holds.all():
        return table
    cause = f"rows where {where} is not true"
    return set_rows_aside(table, ~holds, "left-out", f"not {where}", cause)
