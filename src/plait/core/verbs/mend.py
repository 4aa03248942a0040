"""Mend: one table put right, a step after another."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import replace

import pyarrow as pa
import pyarrow.compute as pc

from plait.core.account.errors import asked
from plait.core.account.ledger import Line, entry
from plait.core.codes.order import sorted_rows
from plait.core.store.shelf import kept
from plait.core.table.aside import left_out
from plait.core.table.columns import chosen, headed, renamed
from plait.core.table.keyspec import Pairs, check_column, named_values, names
from plait.core.table.table import Table
from plait.core.text.digits import short_text
from plait.core.verbs.mending.refill import filled, replaced, trimmed
from plait.core.verbs.mending.retype import parse_types, retyped, with_missing
from plait.core.verbs.mending.split import Split, parse_split, split_column
from plait.core.verbs.result import Result


def mend(
    table: Table,
    header: Sequence[str] | str | None = None,
    rename: Pairs = (),
    missing: Sequence[str] | str = (),
    trim: bool | Sequence[str] | str = False,
    split: Iterable[str | Split] = (),
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
    table : Table
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

    Returns
    -------
    Result

    Raises
    ------
    UsageError
        For a column, type or function that is not there.
    SourceError
        For a cell that does not fit its type, or cannot be cast.

    Examples
    --------
    >>> from plait.core.table.table import from_columns
    >>> visits = from_columns("visits", {"at": ["A-7", "B-12"], "kg": ["12.50", ""]})
    >>> mended = mend(visits, split=["at:- into yard,hive"], where="kg IS NOT NULL")
    >>> mended.table.to_dict()
    {'at': ['A-7'], 'yard': ['A'], 'hive': ['7'], 'kg': ['12.50']}
    """
    before = table
    table = replace(table, findings=(), aside=())
    with asked("header"):
        table = headed(table, names(header)) if header else table
    with asked("rename"):
        table = renamed(table, named_values(rename, "--rename"))
    table = with_missing(table, names(missing)) if missing else table
    table = _refilled(table, trim, split, replace_value, fill)
    table = _all_computed(table, compute_first)
    with asked("type"):
        types = parse_types(type)
        for column in types:
            check_column(column, table)
        table = retyped(table, types, unfit)
    table = _all_computed(table, compute)
    with asked("where"):
        table = _only_where(table, where) if where else table
    with asked("sort"):
        table = table.at(sorted_rows(table, names(sort))) if sort else table
    table = chosen(table, names(drop), names(keep), names(order))
    table = table.named(name) if name else table
    lines = [Line(f"{one.cause}, set aside", -one.rows) for one in table.aside]
    account = entry(f"mend {before.name}", [(before.name, before.rows)], lines, table.rows)
    return Result(
        "mend", replace(table, findings=(), aside=()), (account,), table.findings, table.aside
    )


def _refilled(
    table: Table,
    trim: bool | Sequence[str] | str,
    split: Iterable[str | Split],
    replace_value: Iterable[str],
    fill: Pairs,
) -> Table:
    """The table with other cells: trimmed, in parts, replaced, filled."""
    with asked("trim"):
        table = trimmed(table, trim)
    with asked("split"):
        for one in split:
            table = split_column(table, one if isinstance(one, Split) else parse_split(one))
    with asked("replace_value"):
        for spec in replace_value:
            table = replaced(table, spec)
    with asked("fill"):
        for column, value in named_values(fill, "--fill").items():
            table = filled(table, column, value)
    return table


def _all_computed(table: Table, compute: Pairs) -> Table:
    with asked("compute"):
        for column, text in named_values(compute, "--compute").items():
            table = _computed(table, column, text)
    return table


def _computed(table: Table, column: str, text: str) -> Table:
    from plait.core.sql.expression import evaluate, named_columns, parse

    expression = parse(text)
    cells = evaluate(expression, table)
    come, kind = named_columns(expression, table), None
    if expression.divides and pa.types.is_decimal(cells.type):
        # A quotient has room for many places; those that it does not need are not written.
        cells = kept(map(short_text, cells.chunks), pa.string())
        kind = "decimal"
    if table.has(column):
        return table.replacing(column, cells, kind, come)
    return table.with_made(column, cells, come).with_kinds({column: kind} if kind else {})


def _only_where(table: Table, where: str) -> Table:
    from plait.core.sql.expression import condition, parse

    holds = pc.fill_null(condition(parse(where), table), False).to_numpy()
    if holds.all():
        return table
    cause = f"rows where {where} is not true"
    return left_out(table, ~holds, "left-out", f"not {where}", cause)
