"""``group``: aggregates of each group of rows, also by parts of dates."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace

import numpy as np
import pyarrow as pa

from plait.core.aggregation.aggregates import (
    ADDING,
    RANK,
    AggregateColumn,
    AggregateSpec,
    compute_aggregate,
    parse_aggregate,
)
from plait.core.aggregation.date_parts import add_date_parts
from plait.core.base.errors import UsageError, attribute_errors_to_option
from plait.core.base.findings import (
    MOST_EXAMPLES,
    Finding,
    FindingExample,
    Location,
    agreeing,
    pluralize,
)
from plait.core.base.ledger import LedgerLine, make_entry
from plait.core.base.wording import Command, Setting, wording
from plait.core.codes.key_codes import RowGroups, Rows, encode_keys, group_rows
from plait.core.codes.normalize import Ignored
from plait.core.keys.duplicates import format_key
from plait.core.lineage.paths import GroupProvenance
from plait.core.operations.result import Result
from plait.core.table.columns import has_value_mask
from plait.core.table.key_spec import Pairs, parse_assignments, parse_names
from plait.core.table.provenance import Provenance
from plait.core.table.table import Column, Table, table_from_columns
from plait.core.text.cells import is_text_type
from plait.core.types.inference import infer_column_type


def group(
    table: Table,
    by: str | Sequence[str] = (),
    take: Pairs = (),
    onto_rows: bool = False,
    ignore: Iterable[Ignored] = (),
    places: int | None = None,
    name: str | None = None,
) -> Result:
    """Work out figures over the rows of each group.

    Parameters
    ----------
    by : str or sequence of str
        The columns whose cells are equal within a group; of dates also
        ``COLUMN:month``, ``:quarter``, ``:week`` or ``:year``. Without any, all rows are one
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
    places : int, optional
        To which means, shares and spreads are rounded. Without it means have four more than their
        column, and shares ten.
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
    >>> from plait.core.table.table import table_from_columns
    >>> yards, kg = ["A", "B", "A"], ["0.10", "2", "0.20"]
    >>> visits = table_from_columns("visits", {"yard": yards, "kg": kg})
    >>> group(visits, "yard", {"visits": "count", "honey": "sum:kg"}).table.to_dict()
    {'yard': ['A', 'B'], 'visits': [2, 1], 'honey': [Decimal('0.30'), Decimal('2.00')]}
    """
    before = replace(table, findings=(), set_aside=())
    with attribute_errors_to_option("by"):
        parted, by = add_date_parts(before, parse_names(by))
    with attribute_errors_to_option("take"):
        figures = [
            parse_aggregate(new, spec, parted)
            for new, spec in parse_assignments(take, "take").items()
        ]
    base = parted if onto_rows else parted.project(by)
    _check_names(base, figures)
    if not by and not figures:
        raise UsageError(
            wording("group needs ", Setting("by"), ", ", Setting("take"), " or both"), table.name
        )
    if any(f.figure == RANK for f in figures) and not onto_rows:
        raise UsageError(
            "rank needs every row kept",
            table.name,
            wording("keep every row: ", Setting("onto_rows", True)),
        )
    if not by and not table.rows and not onto_rows:
        return _of_no_rows(table, figures, name)
    groups = _groups(parted, by, ignore)
    worked = {figure: compute_aggregate(parted, groups, figure, places) for figure in figures}
    result = _onto_rows(parted, groups, worked) if onto_rows else _rows(parted, by, groups, worked)
    merged = 0 if onto_rows else table.rows - groups.size
    lines = [LedgerLine("rows merged into their group", -merged, stands_in="brought together")]
    operation = f"group {table.name}" + (f" by {', '.join(by)}" if by else "")
    account = make_entry(operation, [(table.name, table.rows)], lines, result.rows)
    findings = (*_missing_keys(parted, by, groups), *_missing_values(parted, by, groups, worked))
    made = result.with_name(name or f"{table.name}-grouped")
    return Result("group", made, (account,), findings, key=() if onto_rows else tuple(by))


def _of_no_rows(table: Table, figures: Sequence[AggregateSpec], name: str | None) -> Result:
    """The one row that all rows give, of which there are none: counts are 0, as SQL has it."""
    counting = ("count", "distinct")
    columns = {
        figure.name: pa.array([0]) if figure.figure in counting else pa.nulls(1, pa.string())
        for figure in figures
    }
    result = table_from_columns(name or f"{table.name}-grouped", columns)
    lines = [LedgerLine("one row of figures for no rows", 1)]
    account = make_entry(f"group {table.name}", [(table.name, 0)], lines, 1)
    return Result("group", result, (account,), ())


def _check_names(base: Table, figures: Sequence[AggregateSpec]) -> None:
    for figure in figures:
        if base.has_column(figure.name):
            raise UsageError(
                f"there is a column {figure.name!r} already",
                base.name,
                "choose another name for it",
            )


def _groups(table: Table, by: Sequence[str], ignore: Iterable[Ignored]) -> RowGroups:
    if not by:
        return group_rows(np.zeros(table.rows, np.int32), 1)
    coding = encode_keys([table], [by], ignore, missing_match=True)
    return group_rows(coding.codes[0], coding.code_count)


def _rows(
    table: Table, by: Sequence[str], groups: RowGroups, worked: dict[AggregateSpec, AggregateColumn]
) -> Table:
    """A row for each group; figures that were made of it know all its rows."""
    first = groups.member_rows[groups.offsets[:-1]]
    heads = table.take(first)
    pools = _pools(table, groups, worked, len(heads.fragments))
    columns = tuple(table.column(name) for name in by)
    result = replace(heads, columns=columns, fragments=(*heads.fragments, *pools.fragments))
    for one, figure in worked.items():
        if figure.made is not None:
            result = _with_column(result, one, ((pools.number, one.name),), _leaves(pools, one))
        else:
            result = _chosen(result, table, one, figure.chosen, first)
    return result


def _pools(
    table: Table,
    groups: RowGroups,
    worked: dict[AggregateSpec, AggregateColumn],
    begin: int,
    onto: bool = False,
) -> GroupProvenance:
    made = {one.name: figure.made for one, figure in worked.items() if figure.made is not None}
    pools = GroupProvenance(table, groups, None, begin, made, beside=onto)
    for one in worked:
        if one.name in made or one.figure == RANK:
            _leaves(pools, one)  # makes the fragments that are needed
    return pools


def _leaves(pools: GroupProvenance, aggregate_spec: AggregateSpec) -> Provenance:
    return pools.column_provenance(aggregate_spec.column) if aggregate_spec.column else ()


def _onto_rows(
    table: Table, groups: RowGroups, worked: dict[AggregateSpec, AggregateColumn]
) -> Table:
    """All rows, each with the figures of its group."""
    of_row = np.empty(table.rows, np.int64)
    of_row[groups.member_rows] = groups.group_of_row
    pools = _pools(table, groups, worked, len(table.fragments), onto=True)
    result = replace(
        table,
        fragments=(*table.fragments, *(fragment.take(of_row) for fragment in pools.fragments)),
    )
    for one, figure in worked.items():
        if figure.of_rows is not None:
            result = result.extend(one.name, pa.chunked_array([figure.of_rows]))
            (*others, column) = result.columns
            ranked = replace(column, provenance=_leaves(pools, one))
            result = replace(result, columns=(*others, ranked))
        elif figure.made is not None:
            result = _with_column(result, one, ((pools.number, one.name),), _leaves(pools, one))
        else:
            chosen = None if figure.chosen is None else figure.chosen[of_row]
            result = _chosen(result, table, one, chosen, np.arange(table.rows), beside=True)
    return result


def _with_column(
    result: Table,
    aggregate_spec: AggregateSpec,
    parts: tuple[tuple[int, str], ...],
    terms: Provenance,
) -> Table:
    type_ = None
    if aggregate_spec.figure in ADDING or aggregate_spec.figure == "share":
        cells = result.fragments[parts[0][0]].columns[parts[0][1]]
        type_ = infer_column_type(cells) if is_text_type(cells.type) else None
    declared = type_ if type_ is not None and type_.is_plain_number else None
    column = Column(aggregate_spec.name, parts, declared, terms)
    return replace(result, columns=(*result.columns, column))


def _chosen(
    result: Table,
    table: Table,
    aggregate_spec: AggregateSpec,
    chosen: Rows | None,
    rows: Rows,
    beside: bool = False,
) -> Table:
    """The result with a column more, of cells that are in some row."""
    assert aggregate_spec.column is not None and chosen is not None
    # Where all cells are missing the first row is shown, whose cell is so too.
    column, there = table.gather_column(aggregate_spec.column, np.where(chosen < 0, rows, chosen))
    column = replace(column.with_fragment_offset(len(result.fragments)), name=aggregate_spec.name)
    if beside:
        there = tuple(replace(fragment, cells_only=True) for fragment in there)
    return replace(result, columns=(*result.columns, column), fragments=(*result.fragments, *there))


def _missing_keys(table: Table, by: Sequence[str], groups: RowGroups) -> Iterator[Finding]:
    """Rows that have no value to group by."""
    first = groups.member_rows[groups.offsets[:-1]]
    heads = replace(table.take(first), columns=tuple(table.column(name) for name in by))
    for name in by:
        rows = int(groups.counts[~has_value_mask(heads, name)].sum())
        if rows:
            yield Finding(
                "group-without-value",
                "note",
                rows,
                f"{pluralize(rows, 'row')} of {table.name} with no {name}, in a group of "
                f"{agreeing(rows, 'its', 'their')} own",
                wording(
                    "to leave them out, first run ",
                    Command("mend", ("…",), (Setting("where", f'"{name}" IS NOT NULL'),)),
                ),
                Location(table.name, name),
            )


def _missing_values(
    table: Table, by: Sequence[str], groups: RowGroups, worked: dict[AggregateSpec, AggregateColumn]
) -> Iterator[Finding]:
    """Columns without a value on some rows of a group, and the figures that rest on fewer."""
    resting: dict[str, list[AggregateSpec]] = {}
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
        text = f"; {none:,} of them {have} no value, so the figure is missing" if none else ""
        yield Finding(
            "group-values-missing",
            "note",
            len(short),
            f"{pluralize(len(short), 'group')} with fewer values of {column} than rows, "
            f"which affects {', '.join(o.name for o in ones)}{text}",
            wording(
                "to add their number as a column: ",
                Setting("take", f"count:{column}", f"{column} values"),
            ),
            Location(table.name, column),
            tuple(_rests_on(table, by, groups, figure, int(s)) for s in short[:MOST_EXAMPLES]),
        )


def _rests_on(
    table: Table, by: Sequence[str], groups: RowGroups, figure: AggregateColumn, at: int
) -> FindingExample:
    row = int(groups.member_rows[groups.offsets[at]])
    called = format_key(table, by, row) if by else "all rows"
    return FindingExample(
        f"{called}: {figure.values[at]:,} of {pluralize(int(groups.counts[at]), 'row')}"
    )
