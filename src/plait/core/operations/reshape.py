"""``widen`` and ``lengthen``: from long to wide and back."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.aggregation.date_parts import add_date_parts, ranks_in_time, split_date_part
from plait.core.aggregation.survivorship import MAKING
from plait.core.base.errors import UsageError, attribute_errors_to_option
from plait.core.base.findings import Finding, Location, agreeing, pluralize
from plait.core.base.ledger import LedgerEntry, LedgerLine, make_entry
from plait.core.base.names import unused_name
from plait.core.base.wording import Command, Setting, wording
from plait.core.codes.key_codes import RowGroups, Rows, encode_keys, group_rows
from plait.core.job.current import reserve_memory
from plait.core.job.spill_columns import build_column
from plait.core.operations.result import Result
from plait.core.operations.settle import SettleResult, settle
from plait.core.table.columns import has_value_mask
from plait.core.table.fragment import Fragment, row_number_dtype
from plait.core.table.key_spec import check_column, parse_names
from plait.core.table.provenance import DISCRIMINATOR_PREFIX, union_provenance
from plait.core.table.table import BATCH_ROWS, Column, Table
from plait.core.text.cells import combine_chunks, is_text_type, to_text
from plait.core.text.dictionary import code_dtype
from plait.core.text.hash_table import Codes
from plait.core.types.column_type import TEXT, ColumnType

_OF_CELL = 4  # bytes of the row number of a result cell
MOST_HEADS = 2_000
_RULES = wording(Setting("rule", "first"), ", or last, commonest, longest, min, max")

_OF_ROW = 8  # bytes of the row numbers of a result row
_WHICH = f"{DISCRIMINATOR_PREFIX}column"


def widen(
    table: Table,
    heads: str,
    cells: str | Sequence[str],
    key: str | Sequence[str] = (),
    rule: str = "agree",
    name: str | None = None,
) -> Result:
    """Make a column for each value of one column, and a row for each key.

    Parameters
    ----------
    heads : str
        The column whose values head the new columns: in the order of time where they are
        dates, months, quarters or weeks, else in that in which they first stand. Values that
        are equal as keys are one head, as it first stands. Of dates also ``COLUMN:month``,
        ``:quarter``, ``:week`` or ``:year``.
    cells : str or sequence of str
        The column that fills them. Of several, each new column is called
        ``HEAD CELLS``.
    key : str or sequence of str
        The columns that identify a row of the result. Without it all others.
    rule : str
        What is done when several rows fall into one cell, as for ``settle``:
        ``agree``, ``first``, ``last``, ``sum``, ``commonest``, …
    name : str, optional
        The result's name.

    Returns
    -------
    Result
        Rows are in the order in which their keys first come. Rows without a
        key or a head are set aside, and so are, by the rule ``agree``, rows that
        fall into one cell and differ.

    Raises
    ------
    UsageError
        For a column that is not there, or too many new columns.

    Examples
    --------
    >>> from plait.core.table.table import table_from_columns
    >>> honey = table_from_columns(
    ...     "honey", {"hive": ["1", "1", "2"], "month": ["04", "05", "05"], "kg": ["3", "9", "7"]}
    ... )
    >>> widen(honey, "month", "kg").table.to_dict()
    {'hive': ['1', '2'], '04': ['3', None], '05': ['9', '7']}
    """
    filling = parse_names(cells)
    with attribute_errors_to_option("heads"):
        dated, _ = split_date_part(table, heads)
        table, (heads,) = add_date_parts(table, (heads,))
    for option, columns in (("cells", filling), ("key", parse_names(key))):
        with attribute_errors_to_option(option):
            for column in columns:
                check_column(column, table)
    if not filling:
        raise UsageError(
            "no column fills the cells", table.name, wording("write ", Setting("cells", "COLUMN"))
        )
    keyed = parse_names(key) or tuple(
        column_name
        for column_name in table.column_names
        if column_name not in (heads, dated, *filling)
    )
    if heads in filling or set(keyed) & {heads, *filling} or not keyed:
        raise UsageError(
            "the key, the heads and the cells are different columns, and each is needed",
            table.name,
            wording("write ", *(Setting(o, "COLUMN") for o in ("key", "heads", "cells"))),
        )
    used = replace(table.project((*keyed, heads, *filling)), findings=(), set_aside=())
    with attribute_errors_to_option("rule"):
        settled = settle(used, (*keyed, heads), otherwise=rule, name=table.name)
    # What counts as equal is decided over all rows, also those that are set aside.
    codes = encode_keys([used], [keyed]).codes[0], encode_keys([used], [[heads]]).codes[0]
    result = _wide(settled.table, keyed, heads, filling, [code[settled.first] for code in codes])
    account = _account(table, keyed, heads, settled, result.rows)
    # Settling takes a rule for each column; here one is for all cells.
    conflicts = (
        replace(finding, remedy=_RULES) if finding.code == "settle-conflict" else finding
        for finding in settled.findings
    )
    findings = (*_several(table, settled, rule), *conflicts, *_left_out(table, used, dated))
    made = result.with_name(name or f"{table.name}-wide")
    return Result("widen", made, (account,), findings, settled.aside, key=tuple(keyed))


def _wide(
    table: Table,
    key: Sequence[str],
    heads: str,
    filling: Sequence[str],
    codes: Sequence[Codes],
) -> Table:
    """A row for each key, a column for each head; ``codes`` are those of keys and of heads."""
    groups, headed = (group_rows(code, int(code.max(initial=-1)) + 1) for code in codes)
    _check_heads(table, heads, headed)
    reserve_memory(groups.size * headed.size * _OF_CELL)
    first = groups.member_rows[groups.offsets[:-1]]
    result = replace(table.take(first), columns=tuple(table.column(name) for name in key))
    of_row = np.empty(table.rows, np.int64)
    of_row[groups.member_rows] = groups.group_of_row
    taken = set(key)
    for head, rows in _by_head(table, heads, headed, of_row, groups.size):
        shown = table.take(rows)
        shift = len(result.fragments)
        columns: list[Column] = []
        for name in filling:
            wish = head if len(filling) == 1 else f"{head} {name}"
            called = unused_name(wish, taken)
            taken.add(called)
            column = replace(
                table.column(name), provenance=table.provenance(name)
            ).with_fragment_offset(shift)
            columns.append(replace(column, name=called))
        result = replace(
            result,
            columns=(*result.columns, *columns),
            fragments=(*result.fragments, *shown.fragments),
        )
    return result


def _check_heads(table: Table, heads: str, headed: RowGroups) -> None:
    if headed.size > MOST_HEADS:
        raise UsageError(
            f"{heads} has {headed.size:,} different values; widen makes at most "
            f"{MOST_HEADS:,} columns",
            table.name,
            wording(
                "check that ",
                Setting("heads"),
                " names the right column, or combine its values first with ",
                Command("group"),
            ),
        )


def _by_head(
    table: Table, heads: str, headed: RowGroups, of_row: Rows, size: int
) -> Iterator[tuple[str, Rows]]:
    """Each head as it first stands, and for each key its row with that head, or -1."""
    first = table.take(headed.member_rows[headed.offsets[:-1]])
    texts = to_text(first.chunks(heads).combine_chunks()).cast(pa.string())
    written = pc.fill_null(texts, "").to_pylist()
    ranks = ranks_in_time(first, heads)
    order = range(headed.size) if ranks is None else np.argsort(ranks, kind="stable").tolist()
    for number in order:
        at = headed.member_rows[headed.offsets[number] : headed.offsets[number + 1]]
        rows = np.full(size, -1, np.int32)
        rows[of_row[at]] = at
        yield written[number], rows


def _account(
    table: Table, key: Sequence[str], heads: str, settled: SettleResult, rows_out: int
) -> LedgerEntry:
    (account,) = settled.entries
    lines = [line for line in account.lines[1:] if line.rows]
    beside = LedgerLine(
        "rows folded into the row of their key",
        rows_out - settled.table.rows,
        stands_in="brought together",
    )
    operation = f"widen {table.name} on {', '.join(key)} by {heads}"
    return make_entry(operation, [(table.name, table.rows)], [*lines, beside], rows_out)


def _several(table: Table, settled: SettleResult, rule: str) -> Iterator[Finding]:
    """Cells that several rows fell into."""
    (account,) = settled.entries
    out = settled.table.rows + sum(aside.rows for aside in settled.aside if not aside.in_result)
    merged = sum(account.rows_in.values()) - out
    if merged:
        differing = sum(decision.decided for decision in settled.decisions)
        cells = pluralize(differing, "cell")
        made = rule in MAKING  # of all rows: nothing is decided against any
        how = "combined" if made else "decided"
        text = f"; {cells} had different values, {how} by {rule}" if differing else ""
        yield Finding(
            "cell-of-several",
            "warning" if differing and not made else "note",
            merged,
            f"{pluralize(merged, 'row')} of {table.name} "
            f"{agreeing(merged, 'shares', 'share')} a cell with another row{text}",
            "" if made else wording("choose how to combine them: ", _RULES, ", sum, mean or agree"),
            Location(table.name),
        )


def _left_out(table: Table, used: Table, dated: str) -> Iterator[Finding]:
    """Columns that are neither key nor head nor cell, nor the dates that heads are parts of."""
    out = [name for name in table.column_names if not (used.has_column(name) or name == dated)]
    if out:
        yield Finding(
            "columns-left-out",
            "note",
            len(out),
            f"{pluralize(len(out), 'column')} of {table.name} left out: {', '.join(out[:5])}"
            + (" …" if len(out) > 5 else ""),
            wording("name them in ", Setting("key"), " or ", Setting("cells"), " to keep them"),
            Location(table.name),
        )


def lengthen(
    table: Table,
    heads: str,
    cells: str,
    columns: str | Sequence[str] = (),
    key: str | Sequence[str] = (),
    without_missing: bool = False,
    name: str | None = None,
) -> Result:
    """Make a row for each cell of some columns.

    Parameters
    ----------
    heads, cells : str
        What the new columns are called: that of the headings, that of the cells.
    columns : str or sequence of str
        The columns to put under one another; or else
    key : str or sequence of str
        the columns that stay, all others being put under one another.
    without_missing : bool
        Leave out rows whose cell is missing.
    name : str, optional
        The result's name.

    Returns
    -------
    Result
        For each row its cells in the order of the columns, then the next row's.

    Raises
    ------
    UsageError
        For a column that is not there, or a name that is taken.

    Examples
    --------
    >>> from plait.core.table.table import table_from_columns
    >>> honey = table_from_columns("honey", {"hive": ["1", "2"], "04": ["3", ""], "05": ["9", "7"]})
    >>> lengthen(honey, "month", "kg", key="hive", without_missing=True).table.to_dict()
    {'hive': ['1', '1', '2'], 'month': ['04', '05', '05'], 'kg': ['3', '9', '7']}
    """
    moved = _moved(table, parse_names(columns), parse_names(key))
    away = set(moved)
    stays = [name for name in table.column_names if name not in away]
    for new in (heads, cells):
        if new in stays or heads == cells:
            raise UsageError(
                f"there is a column {new!r} already", table.name, "choose another name for it"
            )
    fragment = _strand(table, moved, heads, cells)
    rows = np.repeat(np.arange(table.rows, dtype=row_number_dtype(table.rows)), len(moved))
    base = replace(table.project(stays), findings=(), set_aside=()).take(rows)
    number = len(base.fragments)
    terms = union_provenance(
        tuple(term.restricted_to_value(number, _WHICH, place) for term in table.provenance(name))
        for place, name in enumerate(moved)
    )
    made = (
        Column(heads, ((number, heads),), TEXT, provenance=()),
        Column(cells, ((number, cells),), _joint_type(table, moved), provenance=terms),
    )
    result = replace(base, columns=(*base.columns, *made), fragments=(*base.fragments, fragment))
    if without_missing:
        result = result.take(np.flatnonzero(has_value_mask(result, cells)))
    full = table.rows * len(moved)
    lines = [
        LedgerLine(
            f"rows added, one per cell of {pluralize(len(moved), 'column')}", full - table.rows
        ),
        LedgerLine("rows with a missing cell, left out", result.rows - full),
    ]
    account = make_entry(f"lengthen {table.name}", [(table.name, table.rows)], lines, result.rows)
    return Result(
        "lengthen", result.with_name(name or f"{table.name}-long"), (account,), _typed(table, moved)
    )


def _moved(table: Table, columns: Sequence[str], key: Sequence[str]) -> list[str]:
    """The columns to put under one another, in their order."""
    if bool(columns) == bool(key):
        raise UsageError(
            wording("give ", Setting("columns"), " or ", Setting("key"), ", not both or neither"),
            table.name,
            wording(
                "write ",
                Setting("columns", ("COLUMN", "…")),
                " or ",
                Setting("key", ("COLUMN", "…")),
            ),
        )
    with attribute_errors_to_option("columns" if columns else "key"):
        for name in (*columns, *key):
            check_column(name, table)
    moved = list(columns) or [name for name in table.column_names if name not in key]
    if not moved:
        raise UsageError("no column is left to put under another", table.name)
    return moved


def _strand(table: Table, moved: Sequence[str], heads: str, cells: str) -> Fragment:
    """Headings and cells, stored column after column and shown row by row."""
    reserve_memory(table.rows * len(moved) * _OF_ROW)
    whole = [table.chunks(name) for name in moved]
    if len({one.type for one in whole}) > 1:
        whole = [build_column((to_text(c) for c in one.chunks), pa.string()) for one in whole]
    together = pa.chunked_array([chunk for w in whole for chunk in w.chunks], whole[0].type)
    if table.rows < BATCH_ROWS:  # each row takes cells from all pieces, however short these are
        together = pa.chunked_array([combine_chunks(together)])
    which = np.repeat(np.arange(len(moved), dtype=np.int32), table.rows)
    headings = pa.DictionaryArray.from_arrays(
        which.astype(code_dtype(len(moved))), pa.array(moved, pa.string())
    )
    stored = {
        heads: pa.chunked_array([headings]),
        cells: together,
        _WHICH: pa.chunked_array([which]),
    }
    total = table.rows * len(moved)
    index = np.arange(total, dtype=row_number_dtype(total)).reshape(len(moved), table.rows)
    return Fragment("made", stored, (), np.ascontiguousarray(index.T).reshape(-1))


def _joint_type(table: Table, moved: Sequence[str]) -> ColumnType | None:
    types = {table.column(name).declared_type for name in moved}
    return types.pop() if len(types) == 1 else TEXT if TEXT in types else None


def _typed(table: Table, moved: Sequence[str]) -> tuple[Finding, ...]:
    """A note where columns of different types come under one another."""
    types = {table.chunks(name).type for name in moved}
    types = {type_ for type_ in types if not is_text_type(type_)} if len(types) > 1 else set()
    if not types:
        return ()
    return (
        Finding(
            "types-differ",
            "note",
            len(moved),
            f"the stacked columns of {table.name} have different types; "
            "their cells are written as text",
            where=Location(table.name),
        ),
    )
