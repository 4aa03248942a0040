"""Settle: the rows of each key brought down to one, by a rule for each column."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.aggregation.survivorship import (
    RuleDecision,
    RuleOutcome,
    apply_rule,
    choose_whole_rows,
    deciding_column,
    encode_values,
    parse_rule,
)
from plait.core.base.errors import UsageError, attribute_errors_to_option
from plait.core.base.findings import (
    MOST_EXAMPLES,
    Finding,
    FindingExample,
    Location,
    agreeing,
    pluralize,
)
from plait.core.base.ledger import KEY_MISSING, LedgerLine, make_entry
from plait.core.base.names import joint_name
from plait.core.base.wording import Setting, wording
from plait.core.codes.dense_codes import dense_rank
from plait.core.codes.key_codes import Flags, RowGroups, Rows, group_by_key
from plait.core.codes.normalize import Ignored
from plait.core.job.spill_columns import apply_in_batches
from plait.core.keys.conflicts import CellConflicts, ConflictingColumn, list_cell_conflicts
from plait.core.keys.crosswalk import encode_keys_with_crosswalk
from plait.core.keys.duplicates import format_key
from plait.core.lineage.paths import GroupProvenance
from plait.core.linkage.evidence_spec import EvidenceSpec
from plait.core.linkage.pairs_table import resolve_pairs
from plait.core.operations.result import Result
from plait.core.operations.stack import stack
from plait.core.table.key_spec import (
    KeySpec,
    Pairs,
    check_column,
    parse_assignments,
    parse_key_columns,
    quote_name,
)
from plait.core.table.table import SetAside, Table
from plait.core.text.cells import constant_text, to_text

SIDES = ("left", "right")


@dataclass(frozen=True, eq=False, repr=False)
class SettleResult(Result):
    """The result of settling: one row for each key, in the order in which the keys first stand.

    ``first`` has for each row the first row of its key, or the one kept whole. Set
    aside are rows of keys in conflict, rows without a key and rows not kept whole,
    and the cells in conflict are listed.
    """

    first: Rows = field(default_factory=lambda: np.zeros(0, np.int64))


def settle(
    table: Table,
    key: KeySpec,
    rules: Pairs = (),
    otherwise: str = "agree",
    keep_rule: str | None = None,
    ignore: Iterable[Ignored] = (),
    pairs: Table | EvidenceSpec | None = None,
    name: str | None = None,
    missing_match: bool = False,
) -> SettleResult:
    """Bring the rows of each key down to one.

    Parameters
    ----------
    rules : mapping of str to str, or texts ``COLUMN=RULE``
        ``agree`` (all cells that are not missing are equal, else the key is in
        conflict), ``first``, ``last``, ``min``, ``max``, ``sum``, ``mean``,
        ``longest``, ``commonest``, ``newest-by:COLUMN``, ``oldest-by:COLUMN``. The column that
        decides is decided by the same rule, unless it has one.
    otherwise : str
        The rule of the other columns.
    keep_rule : str, optional
        Instead of rules for columns: which row is kept whole: ``first``, ``last``,
        ``fullest``, ``newest-by:COLUMN``, ``oldest-by:COLUMN``.
    ignore : iterable of str
        What does not count when keys are compared.
    pairs : Table or EvidenceSpec, optional
        A crosswalk: spellings of keys that count as others; or the columns by which keys that
        mean the same are looked for.
    name : str, optional
        The result's name.
    missing_match : bool
        Take missing keys for equal to one another.

    Raises
    ------
    UsageError
        For a column or rule that is not there.

    Examples
    --------
    >>> from plait.core.table.table import table_from_columns
    >>> hives = table_from_columns(
    ...     "hives", {"hive": ["1", "2", "1"], "breed": ["", "Carnica", "Buckfast"]}
    ... )
    >>> settle(hives, "hive").table.to_dict()
    {'hive': ['1', '2'], 'breed': ['Buckfast', 'Carnica']}
    """
    columns = [left for left, _ in parse_key_columns(key)]
    with attribute_errors_to_option("key"):
        for column in columns:
            check_column(column, table)
    ignore = tuple(ignore)
    with attribute_errors_to_option("pairs"):
        across, told = resolve_pairs([table], [columns], pairs, ignore)
    coding = encode_keys_with_crosswalk([table], [columns], across, ignore, missing_match)
    groups = group_by_key(coding)
    before = replace(table, findings=(), set_aside=())
    missing = np.flatnonzero(coding.codes[0] < 0)
    settled = (
        _settle_whole_rows(before, groups, columns, keep_rule)
        if keep_rule
        else _by_column(before, groups, columns, _rules(before, columns, rules, otherwise))
    )
    aside = (*_without_key(before, missing), *settled.aside)
    merged = table.rows - settled.table.rows - sum(a.rows for a in aside if not a.in_result)
    lines = [
        LedgerLine("rows merged with another of their key", -merged, stands_in="brought together"),
        *(
            LedgerLine(f"{listing.cause}, set aside", -listing.rows, listing.listing)
            for listing in aside
            if not listing.in_result
        ),
    ]
    operation = f"settle {table.name} on {','.join(map(quote_name, columns))}"
    account = make_entry(operation, [(table.name, table.rows)], lines, settled.table.rows)
    result = settled.table.with_name(name or f"{table.name}-settled")
    findings = (
        *told,
        *coding.findings,
        *_missing_findings(before, columns, missing),
        *settled.findings,
    )
    return replace(
        settled,
        table=result,
        entries=(account,),
        findings=findings,
        aside=aside,
        key=() if missing_match else tuple(columns),
    )


def settle_tables(
    tables: Sequence[Table],
    key: KeySpec,
    *,
    stacked: str | None = None,
    name: str | None = None,
    **options: Any,
) -> Result:
    """Settle tables; several are stacked first.

    Parameters
    ----------
    stacked : str, optional
        How messages and lists call several of them, stacked; their names without it.
    name : str, optional
        The result's name.
    **options
        As for ``settle``.

    Returns
    -------
    Result
        With what is said of the stack in front.

    Raises
    ------
    UsageError
        As ``settle``, and as ``stack``.
    """
    if len(tables) == 1:
        return settle(tables[0], key, name=name, **options)
    before = stack(tables, name=stacked or joint_name([table.name for table in tables]))
    settled = settle(before.table, key, name=name, **options)
    return replace(
        settled,
        entries=(*before.entries, *settled.entries),
        findings=(*before.findings, *settled.findings),
    )


def _rules(table: Table, key: Sequence[str], rules: Pairs, otherwise: str) -> dict[str, str]:
    """The rule of each column that is not part of the key."""
    with attribute_errors_to_option("rule"):
        assignments = parse_assignments(rules, "rule")
        for column in assignments:
            check_column(column, table)
            if column in key:
                raise UsageError(f"{column} is part of the key and cannot have a rule", table.name)
        made = {name: parse_rule(rule, table) for name, rule in assignments.items()}
    with attribute_errors_to_option("otherwise"):
        parse_rule(otherwise, table)
    # The column that decides is decided with what it decides: the newest number has its date.
    deciding = {by: rule for rule in made.values() if (by := deciding_column(rule))}
    names = [name for name in table.column_names if name not in key]
    return {name: made.get(name) or deciding.get(name, otherwise) for name in names}


def _without_key(table: Table, rows: Rows) -> Iterator[SetAside]:
    if len(rows):
        reason = constant_text(KEY_MISSING, len(rows))
        yield SetAside("no-key", table.take(rows), reason, False, "rows with a missing key")


def _settle_whole_rows(
    table: Table, groups: RowGroups, key: Sequence[str], rule: str
) -> SettleResult:
    """One row of each key as it stands."""
    parse_rule(rule, table, whole=True)
    whole_rows = choose_whole_rows(table, groups, rule)
    out = np.zeros(table.rows, bool)
    out[groups.member_rows] = True
    out[whole_rows] = False
    rows = np.flatnonzero(out)
    reason = constant_text(f"superseded by another row of its key: {rule}", len(rows))
    cause = "rows superseded by another row of their key"
    aside = (SetAside("superseded", table.take(rows), reason, False, cause),)
    return SettleResult(
        "settle", table.take(whole_rows), (), (), aside if len(rows) else (), first=whole_rows
    )


def _by_column(
    table: Table, groups: RowGroups, key: Sequence[str], rules: dict[str, str]
) -> SettleResult:
    decided = {name: apply_rule(table, groups, name, rule) for name, rule in rules.items()}
    conflict = np.zeros(groups.size, bool)
    for one in decided.values():
        conflict |= one.conflict
    decisions = tuple(
        RuleDecision(name, rules[name], int(one.differing.sum()), _decided(one))
        for name, one in decided.items()
    )
    first = groups.member_rows[groups.offsets[:-1]][~conflict]
    settled = _settled(table, groups, decided, ~conflict)
    if not conflict.any():
        return SettleResult("settle", settled, (), (), decisions=decisions, first=first)
    listed = _listed(table, groups, key, decided)
    aside = (_set_aside(table, groups, decided, conflict), listed)
    finding = _conflict_finding(table, key, decided, conflict, listed)
    return SettleResult("settle", settled, (), (finding,), aside, decisions=decisions, first=first)


def _decided(rule_outcome: RuleOutcome) -> int:
    return int((rule_outcome.differing & ~rule_outcome.conflict).sum())


def _settled(
    table: Table, groups: RowGroups, decided: dict[str, RuleOutcome], flags: Flags
) -> Table:
    """A row for each group that is kept; each column shows the rows that its rule chose."""
    first = groups.member_rows[groups.offsets[:-1]][flags]
    result = table.take(first)
    single = groups.counts[flags] == 1
    shown: dict[bytes, int] = {}
    for name, one in decided.items():
        chosen = one.chosen[flags]
        # Where all cells are missing the first row is shown, whose cell is so too.
        chosen = np.where((chosen < 0) | single, first, chosen)
        if not np.array_equal(chosen, first):
            result = _shown_from(result, table, name, chosen, shown)
    made = {
        name: _keep_single_cells(result, table, name, one.made.filter(pa.array(flags)), single)
        for name, one in decided.items()
        if one.made is not None
    }
    return result if single.all() else _with_pool(result, table, groups, flags, made)


def _shown_from(
    result: Table, table: Table, name: str, rows: Rows, shown: dict[bytes, int]
) -> Table:
    """The result with a column's cells from other rows; columns with the same share fragments."""
    mark = rows.tobytes()
    if mark not in shown:
        shown[mark] = len(result.fragments)
        result = replace(result, fragments=(*result.fragments, *table.take(rows).fragments))
    column = replace(table.column(name), provenance=table.provenance(name)).with_fragment_offset(
        shown[mark]
    )
    columns = tuple(column if c.name == name else c for c in result.columns)
    return replace(result, columns=columns)


def _keep_single_cells(
    result: Table, table: Table, name: str, made: pa.Array, single: Flags
) -> pa.Array:
    """Computed cells; those of a key with one row stay as they stand."""
    if not table.column_type(name).is_plain:
        return made
    cells = to_text(result.cells(result.column(name), 0, result.rows)).cast(pa.string())
    return pc.if_else(pa.array(single), cells, made.cast(pa.string()))


def _with_pool(
    result: Table, table: Table, groups: RowGroups, flags: Flags, made: dict[str, pa.Array]
) -> Table:
    """The result with computed cells, and with all the rows that went into each row."""
    pools = GroupProvenance(table, groups, np.flatnonzero(flags), len(result.fragments), made)
    columns = tuple(
        replace(
            column,
            cell_refs=((pools.number, column.name),),
            declared_type=None,
            provenance=pools.column_provenance(column.name),
        )
        if column.name in made
        else column
        for column in result.columns
    )
    return replace(result, columns=columns, fragments=(*result.fragments, *pools.fragments))


def _set_aside(
    table: Table, groups: RowGroups, decided: dict[str, RuleOutcome], conflict: Flags
) -> SetAside:
    """All rows of the keys in conflict, with the columns that are to blame."""
    at = np.flatnonzero(conflict[groups.group_of_row])
    rows, group = groups.member_rows[at], groups.group_of_row[at]
    blamed = {name: i.conflict for name, i in decided.items() if i.conflict.any()}
    reason = apply_in_batches(lambda some: _blaming(blamed, some), group)
    cause = "rows of keys in conflict"
    return SetAside("conflict", table.take(rows), reason, False, cause)


def _blaming(blamed: dict[str, Flags], group: Rows) -> pa.Array:
    """For each row the columns that its group is in conflict for."""
    nothing = pa.scalar(None, pa.string())
    texts = [
        pc.if_else(pa.array(conflict[group]), pa.scalar(name), nothing)
        for name, conflict in blamed.items()
    ]
    names = pc.binary_join_element_wise(*texts, ", ", null_handling="skip")
    return pc.binary_join_element_wise("rows of its key differ in ", names, "")


def _listed(
    table: Table, groups: RowGroups, key: Sequence[str], decided: dict[str, RuleOutcome]
) -> CellConflicts:
    """For each key and column in conflict the first cell, and the first that differs from it."""
    shift = len(table.fragments)
    found, firsts, others = [], [], []
    begin = 0
    for name, one in decided.items():
        if not one.conflict.any():
            continue
        first, other = _first_two(table, groups, name, one.conflict)
        column = table.column(name)
        there = column.with_fragment_offset(shift)
        found.append(ConflictingColumn(name, column, there, np.arange(begin, begin + len(first))))
        firsts.append(first)
        others.append(other)
        begin += len(first)
    here, there_rows = np.concatenate(firsts), np.concatenate(others)
    left, right = table.take(here), table.take(there_rows)
    both = Table(table.name, left.columns, (*left.fragments, *right.fragments), len(here))
    return list_cell_conflicts(both, shift, key, found, table.name)


def _first_two(table: Table, groups: RowGroups, name: str, conflict: Flags) -> tuple[Rows, Rows]:
    """Of each group in conflict its first cell's row, and that of the first other cell."""
    at = np.flatnonzero(conflict[groups.group_of_row])
    rows, group = groups.member_rows[at], groups.group_of_row[at]
    cells = encode_values(table, name)[0][rows]
    there = cells >= 0
    rows, group, cells = rows[there], group[there], cells[there]
    begin = np.searchsorted(group, group)
    other = np.flatnonzero(cells != cells[begin])
    other = other[dense_rank(group[other])[2]]
    return rows[begin[other]], rows[other]


def _conflict_finding(
    table: Table,
    key: Sequence[str],
    decided: dict[str, RuleOutcome],
    conflict: Flags,
    cell_conflicts: CellConflicts,
) -> Finding:
    blamed = {name: int(i.conflict.sum()) for name, i in decided.items()}
    worst = sorted((name for name in blamed if blamed[name]), key=lambda name: -blamed[name])
    said = ", ".join(f"{name} in {blamed[name]:,}" for name in worst[:3])
    said += f" and {pluralize(len(worst) - 3, 'more column')}" if len(worst) > 3 else ""
    keys = int(conflict.sum())
    return Finding(
        "settle-conflict",
        "warning",
        keys,
        f"{pluralize(keys, 'key')} of {table.name} in conflict ({said}); "
        f"{agreeing(keys, 'its', 'their')} rows are set aside",
        wording(
            "choose a rule, such as ",
            Setting("rule", "first", worst[0]),
            " (or last, commonest, longest, newest-by:COLUMN)",
        ),
        Location(table.name),
        _examples(cell_conflicts, key),
    )


def _examples(cell_conflicts: CellConflicts, key: Sequence[str]) -> tuple[FindingExample, ...]:
    """The first cells in conflict, side by side with both places."""
    few = cell_conflicts.table.take(np.arange(min(cell_conflicts.rows, MOST_EXAMPLES))).to_dict()
    made = []
    for row in range(len(few["column"])):
        of_key = ", ".join(f"{name} {few[name][row]}" for name in key)
        cells = f"{few['column'][row]} {few['left value'][row]} / {few['right value'][row]}"
        made.append(FindingExample(f"{of_key}: {cells}", cell_conflicts.places(row)))
    return tuple(made)


def _missing_findings(table: Table, key: Sequence[str], rows: Rows) -> Iterator[Finding]:
    if len(rows):
        yield Finding(
            "key-missing",
            "warning",
            len(rows),
            f"{pluralize(len(rows), 'row')} of {table.name} without a full key "
            f"{agreeing(len(rows), 'is', 'are')} set aside",
            f"fill {', '.join(key)} in the source",
            Location(table.name),
            tuple(
                FindingExample(format_key(table, key, int(row)), table.source_rows(int(row))[:1])
                for row in rows[:MOST_EXAMPLES]
            ),
        )
