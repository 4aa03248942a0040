"""Group: one row for each group of rows, or each group's figures put back on every row."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace

import numpy as np
import pyarrow as pa

from plait.core.account.errors import UsageError, asked
from plait.core.account.finding import MOST_EXAMPLES, Example, Finding, agreeing, counted
from plait.core.account.ledger import Line, entry
from plait.core.codes.coding import code_keys
from plait.core.codes.groups import Groups, Rows, grouped
from plait.core.figures.datepart import with_date_parts
from plait.core.figures.figures import ADDING, RANK, Figure, Wanted, wanted, work_out
from plait.core.keys.duplicates import key_text
from plait.core.lineage.lineage import Pools
from plait.core.table.absent import present
from plait.core.table.keyspec import Pairs, named_values, names
from plait.core.table.leaf import Leaves
from plait.core.table.table import Column, Table, from_columns
from plait.core.text.cells import is_text
from plait.core.types.kinds import NUMBERS, kind_of
from plait.core.verbs.result import Result


def group(
    table: Table,
    by: str | Sequence[str] = (),
    take: Pairs = (),
    onto_rows: bool = False,
    ignore: Iterable[str] = (),
    name: str | None = None,
) -> Result:
    """Work out figures over the rows of each group.

    Parameters
    ----------
    table : Table
    by : str or sequence of str
        The columns whose cells are equal within a group; of dates also
        ``COLUMN:month``, ``:quarter`` or ``:year``. Without any, all rows are one
        group.
    take : mapping of str to str, or texts ``NEW=FIGURE:COLUMN``
        The figures: ``count`` (of rows, or of the values of a column),
        ``distinct``, ``sum``, ``mean``, ``middle``, ``smallest``, ``largest``,
        ``spread``, ``first``, ``last``, ``commonest``, ``share`` (of the rows, or
        of the sum of a column), and, onto rows, ``rank``. The words ``median``,
        ``stdev``, ``min``, ``max`` and ``average`` are taken too.
    onto_rows : bool
        Keep all rows, with the figures of their group behind them.
    ignore : iterable of str
        What does not count when cells are compared.
    name : str, optional
        The result's name.

    Returns
    -------
    Result
        Groups are in the order in which they first come; rows without a value
        to group by are a group of their own.

    Raises
    ------
    UsageError
        For a column or figure that is not there, or a name taken twice.

    Examples
    --------
    >>> from plait.core.table.table import from_columns
    >>> visits = from_columns("visits", {"yard": ["A", "B", "A"], "kg": ["0.10", "2", "0.20"]})
    >>> group(visits, "yard", {"visits": "count", "honey": "sum:kg"}).table.to_dict()
    {'yard': ['A', 'B'], 'visits': [2, 1], 'honey': [Decimal('0.30'), Decimal('2.00')]}
    """
    before = replace(table, findings=(), aside=())
    with asked("by"):
        parted, by = with_date_parts(before, names(by))
    with asked("take"):
        figures = [wanted(new, spec, parted) for new, spec in named_values(take, "--take").items()]
    base = parted if onto_rows else parted.keeping(by)
    _check_names(base, figures)
    if not by and not figures:
        raise UsageError("group needs --by, --take or both", table.name)
    if any(one.figure == RANK for one in figures) and not onto_rows:
        raise UsageError("rank needs every row kept", table.name, "keep every row: --onto-rows")
    if not by and not table.rows and not onto_rows:
        return _of_no_rows(table, figures, name)
    groups = _groups(parted, by, ignore)
    worked = {one: work_out(parted, groups, one) for one in figures}
    result = _onto_rows(parted, groups, worked) if onto_rows else _rows(parted, by, groups, worked)
    merged = 0 if onto_rows else table.rows - groups.size
    lines = [Line("rows merged into their group", -merged)]
    operation = f"group {table.name}" + (f" by {', '.join(by)}" if by else "")
    account = entry(operation, [(table.name, table.rows)], lines, result.rows)
    findings = (*_missing_keys(parted, by, groups), *_missing_values(parted, by, groups, worked))
    made = result.named(name or f"{table.name}-grouped")
    return Result("group", made, (account,), findings, key=() if onto_rows else tuple(by))


def _of_no_rows(table: Table, figures: Sequence[Wanted], name: str | None) -> Result:
    """The one row that all rows give, of which there are none: counts are 0, as SQL has it."""
    counting = ("count", "distinct")
    columns = {
        one.name: pa.array([0]) if one.figure in counting else pa.nulls(1, pa.string())
        for one in figures
    }
    result = from_columns(name or f"{table.name}-grouped", columns)
    lines = [Line("one row of figures for no rows", 1)]
    account = entry(f"group {table.name}", [(table.name, 0)], lines, 1)
    return Result("group", result, (account,), ())


def _check_names(base: Table, figures: Sequence[Wanted]) -> None:
    for one in figures:
        if base.has(one.name):
            raise UsageError(
                f"there is a column {one.name!r} already", base.name, "choose another name for it"
            )


def _groups(table: Table, by: Sequence[str], ignore: Iterable[str]) -> Groups:
    if not by:
        return grouped(np.zeros(table.rows, np.int32), 1)
    coding = code_keys([table], [by], ignore, missing_match=True)
    return grouped(coding.codes[0], coding.size)


def _rows(table: Table, by: Sequence[str], groups: Groups, worked: dict[Wanted, Figure]) -> Table:
    """A row for each group; figures that were made of it know all its rows."""
    first = groups.rows[groups.offsets[:-1]]
    heads = table.at(first)
    pools = _pools(table, groups, worked, len(heads.strands))
    columns = tuple(table.column(name) for name in by)
    result = replace(heads, columns=columns, strands=(*heads.strands, *pools.strands))
    for one, figure in worked.items():
        if figure.made is not None:
            result = _with_column(result, one, ((pools.number, one.name),), _leaves(pools, one))
        else:
            result = _chosen(result, table, one, figure.chosen, first)
    return result


def _pools(
    table: Table, groups: Groups, worked: dict[Wanted, Figure], begin: int, onto: bool = False
) -> Pools:
    made = {one.name: figure.made for one, figure in worked.items() if figure.made is not None}
    pools = Pools(table, groups, None, begin, made, beside=onto)
    for one in worked:
        if one.name in made or one.figure == RANK:
            _leaves(pools, one)  # makes the strands that are needed
    return pools


def _leaves(pools: Pools, one: Wanted) -> Leaves:
    return pools.leaves_of(one.column) if one.column else ()


def _onto_rows(table: Table, groups: Groups, worked: dict[Wanted, Figure]) -> Table:
    """All rows, each with the figures of its group."""
    of_row = np.empty(table.rows, np.int64)
    of_row[groups.rows] = groups.group
    pools = _pools(table, groups, worked, len(table.strands), onto=True)
    result = replace(table, strands=(*table.strands, *(one.at(of_row) for one in pools.strands)))
    for one, figure in worked.items():
        if figure.of_rows is not None:
            result = result.with_made(one.name, pa.chunked_array([figure.of_rows]))
            (*others, column) = result.columns
            ranked = replace(column, leaves=_leaves(pools, one))
            result = replace(result, columns=(*others, ranked))
        elif figure.made is not None:
            result = _with_column(result, one, ((pools.number, one.name),), _leaves(pools, one))
        else:
            chosen = None if figure.chosen is None else figure.chosen[of_row]
            result = _chosen(result, table, one, chosen, np.arange(table.rows), beside=True)
    return result


def _with_column(
    result: Table, one: Wanted, parts: tuple[tuple[int, str], ...], leaves: Leaves
) -> Table:
    kind = None
    if one.figure in ADDING or one.figure == "share":
        cells = result.strands[parts[0][0]].stored[parts[0][1]]
        kind = kind_of(cells) if is_text(cells.type) else None
    column = Column(one.name, parts, kind if kind in NUMBERS else None, leaves)
    return replace(result, columns=(*result.columns, column))


def _chosen(
    result: Table,
    table: Table,
    one: Wanted,
    chosen: Rows | None,
    first: Rows,
    beside: bool = False,
) -> Table:
    """The result with a column more, of cells that are in some row."""
    assert one.column is not None and chosen is not None
    # Where all cells are missing the first row is shown, whose cell is so too.
    column, there = table.taking(one.column, np.where(chosen < 0, first, chosen))
    column = replace(column.shifted(len(result.strands)), name=one.name)
    if beside:
        there = tuple(replace(strand, beside=True) for strand in there)
    return replace(result, columns=(*result.columns, column), strands=(*result.strands, *there))


def _missing_keys(table: Table, by: Sequence[str], groups: Groups) -> Iterator[Finding]:
    """Rows that have no value to group by."""
    first = groups.rows[groups.offsets[:-1]]
    heads = replace(table.at(first), columns=tuple(table.column(name) for name in by))
    for name in by:
        rows = int(groups.counts[~present(heads, name)].sum())
        if rows:
            yield Finding(
                "group-without-value",
                "note",
                rows,
                f"{counted(rows, 'row')} of {table.name} with no {name}, in a group of "
                f"{agreeing(rows, 'its', 'their')} own",
                f"to leave them out, first run plait mend with --where '\"{name}\" IS NOT NULL'",
                f"{table.name}, column {name}",
            )


def _missing_values(
    table: Table, by: Sequence[str], groups: Groups, worked: dict[Wanted, Figure]
) -> Iterator[Finding]:
    """Columns without a value on some rows of a group, and the figures that rest on fewer."""
    resting: dict[str, list[Wanted]] = {}
    for one in worked:
        if one.column is not None and one.figure not in ("count", "distinct"):
            resting.setdefault(one.column, []).append(one)
    for column, ones in resting.items():
        figure = worked[ones[0]]
        short = np.flatnonzero(figure.values < groups.counts)
        if not len(short):
            continue
        none = int((figure.values[short] == 0).sum())
        have = agreeing(none, "has", "have")
        said = f"; {none:,} of them {have} no value, so the figure is missing" if none else ""
        yield Finding(
            "group-values-missing",
            "note",
            len(short),
            f"{counted(len(short), 'group')} with fewer values of {column} than rows, "
            f"which affects {', '.join(one.name for one in ones)}{said}",
            f"--take '{column} values=count:{column}' adds their number as a column",
            f"{table.name}, column {column}",
            tuple(_rests_on(table, by, groups, figure, int(at)) for at in short[:MOST_EXAMPLES]),
        )


def _rests_on(table: Table, by: Sequence[str], groups: Groups, figure: Figure, at: int) -> Example:
    row = int(groups.rows[groups.offsets[at]])
    called = key_text(table, by, row) if by else "all rows"
    return Example(f"{called}: {figure.values[at]:,} of {counted(int(groups.counts[at]), 'row')}")
