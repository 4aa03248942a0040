"""Settle: the rows of each key brought down to one, by a rule for each column."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.account.errors import UsageError, asked
from plait.core.account.finding import MOST_EXAMPLES, Example, Finding, agreeing, counted
from plait.core.account.ledger import Line, entry
from plait.core.account.names import joint_name
from plait.core.codes.counting import distinct
from plait.core.codes.groups import Flags, Groups, Rows, key_groups
from plait.core.figures.rules import (
    Decided,
    Decision,
    checked_rule,
    decide,
    value_codes,
    whole_rows,
)
from plait.core.keys.conflicts import Conflicts, Differing, listed_conflicts
from plait.core.keys.crosswalk import code_across
from plait.core.keys.duplicates import key_text
from plait.core.lineage.lineage import Pools
from plait.core.store.shelf import stepwise
from plait.core.table.keyspec import KeySpec, Pairs, check_column, named_values, parse_key, quoted
from plait.core.table.table import SetAside, Table
from plait.core.text.cells import as_text, the_same
from plait.core.verbs.result import Result
from plait.core.verbs.stack import stack

SIDES = ("left", "right")


@dataclass(frozen=True, eq=False, repr=False)
class Settled(Result):
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
    ignore: Iterable[str] = (),
    pairs: Table | None = None,
    name: str | None = None,
    missing_match: bool = False,
) -> Settled:
    """Bring the rows of each key down to one.

    Parameters
    ----------
    table : Table
    key : str or sequence of str
    rules : mapping of str to str, or texts ``COLUMN=RULE``
        ``agree`` (all cells that are not missing are equal, else the key is in
        conflict), ``first``, ``last``, ``min``, ``max``, ``sum``, ``mean``,
        ``longest``, ``commonest``, ``newest-by:COLUMN``, ``oldest-by:COLUMN``.
    otherwise : str
        The rule of the other columns.
    keep_rule : str, optional
        Instead of rules for columns: which row is kept whole: ``first``, ``last``,
        ``fullest``, ``newest-by:COLUMN``, ``oldest-by:COLUMN``.
    ignore : iterable of str
        What does not count when keys are compared.
    pairs : Table, optional
        A crosswalk: spellings of keys that count as others.
    name : str, optional
        The result's name.
    missing_match : bool
        Take missing keys for equal to one another.

    Returns
    -------
    Settled

    Raises
    ------
    UsageError
        For a column or rule that is not there.

    Examples
    --------
    >>> from plait.core.table.table import from_columns
    >>> hives = from_columns(
    ...     "hives", {"hive": ["1", "2", "1"], "breed": ["", "Carnica", "Buckfast"]}
    ... )
    >>> settle(hives, "hive").table.to_dict()
    {'hive': ['1', '2'], 'breed': ['Buckfast', 'Carnica']}
    """
    columns = [left for left, _ in parse_key(key)]
    with asked("key"):
        for column in columns:
            check_column(column, table)
    coding = code_across([table], [columns], pairs, ignore, missing_match)
    groups = key_groups(coding)
    before = replace(table, findings=(), aside=())
    missing = np.flatnonzero(coding.codes[0] < 0)
    settled = (
        _whole(before, groups, columns, keep_rule)
        if keep_rule
        else _by_column(before, groups, columns, _rules(before, columns, rules, otherwise))
    )
    aside = (*_without_key(before, missing), *settled.aside)
    merged = table.rows - settled.table.rows - sum(one.rows for one in aside if not one.in_result)
    lines = [
        Line("rows merged with another of their key", -merged),
        *(Line(f"{one.cause}, set aside", -one.rows) for one in aside if not one.in_result),
    ]
    operation = f"settle {table.name} on {','.join(map(quoted, columns))}"
    account = entry(operation, [(table.name, table.rows)], lines, settled.table.rows)
    made = settled.table.named(name or f"{table.name}-settled")
    findings = (*coding.findings, *_missing_findings(before, columns, missing), *settled.findings)
    return replace(
        settled,
        table=made,
        entries=(account,),
        findings=findings,
        aside=aside,
        key=() if missing_match else tuple(columns),
    )


def settle_all(
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
    tables : sequence of Table
    key : str or sequence of str
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
    with asked("rule"):
        given = named_values(rules, "--rule")
        for column in given:
            check_column(column, table)
            if column in key:
                raise UsageError(f"{column} is part of the key and cannot have a rule", table.name)
        made = {name: checked_rule(rule, table) for name, rule in given.items()}
    with asked("otherwise"):
        checked_rule(otherwise, table)
    names = [name for name in table.column_names if name not in key]
    return {name: made.get(name, otherwise) for name in names}


def _without_key(table: Table, rows: Rows) -> Iterator[SetAside]:
    if len(rows):
        reason = the_same("key is missing", len(rows))
        yield SetAside(
            f"{table.name}-no-key", table.at(rows), reason, False, "rows with a missing key"
        )


def _whole(table: Table, groups: Groups, key: Sequence[str], rule: str) -> Settled:
    """One row of each key as it stands."""
    checked_rule(rule, table, whole=True)
    kept = whole_rows(table, groups, rule)
    out = np.zeros(table.rows, bool)
    out[groups.rows] = True
    out[kept] = False
    rows = np.flatnonzero(out)
    reason = the_same(f"superseded by another row of its key: {rule}", len(rows))
    cause = "rows superseded by another row of their key"
    aside = (SetAside(f"{table.name}-superseded", table.at(rows), reason, False, cause),)
    return Settled("settle", table.at(kept), (), (), aside if len(rows) else (), first=kept)


def _by_column(table: Table, groups: Groups, key: Sequence[str], rules: dict[str, str]) -> Settled:
    decided = {name: decide(table, groups, name, rule) for name, rule in rules.items()}
    conflict = np.zeros(groups.size, bool)
    for one in decided.values():
        conflict |= one.conflict
    decisions = tuple(
        Decision(name, rules[name], int(one.differing.sum()), _decided(one))
        for name, one in decided.items()
    )
    first = groups.rows[groups.offsets[:-1]][~conflict]
    settled = _settled(table, groups, decided, ~conflict)
    if not conflict.any():
        return Settled("settle", settled, (), (), decisions=decisions, first=first)
    listed = _listed(table, groups, key, decided)
    aside = (_set_aside(table, groups, decided, conflict), listed)
    finding = _conflict_finding(table, key, decided, conflict, listed)
    return Settled("settle", settled, (), (finding,), aside, decisions=decisions, first=first)


def _decided(one: Decided) -> int:
    return int((one.differing & ~one.conflict).sum())


def _settled(table: Table, groups: Groups, decided: dict[str, Decided], kept: Flags) -> Table:
    """A row for each group that is kept; each column shows the rows that its rule chose."""
    first = groups.rows[groups.offsets[:-1]][kept]
    result = table.at(first)
    single = groups.counts[kept] == 1
    shown: dict[bytes, int] = {}
    for name, one in decided.items():
        chosen = one.chosen[kept]
        # Where all cells are missing the first row is shown, whose cell is so too.
        chosen = np.where((chosen < 0) | single, first, chosen)
        if not np.array_equal(chosen, first):
            result = _shown_from(result, table, name, chosen, shown)
    made = {
        name: _made(result, table, name, one.made.filter(pa.array(kept)), single)
        for name, one in decided.items()
        if one.made is not None
    }
    return result if single.all() else _with_pool(result, table, groups, kept, made)


def _shown_from(
    result: Table, table: Table, name: str, rows: Rows, shown: dict[bytes, int]
) -> Table:
    """The result with a column's cells from other rows; columns with the same share strands."""
    mark = rows.tobytes()
    if mark not in shown:
        shown[mark] = len(result.strands)
        result = replace(result, strands=(*result.strands, *table.at(rows).strands))
    column = replace(table.column(name), leaves=table.leaves(name)).shifted(shown[mark])
    columns = tuple(column if one.name == name else one for one in result.columns)
    return replace(result, columns=columns)


def _made(result: Table, table: Table, name: str, made: pa.Array, single: Flags) -> pa.Array:
    """Computed cells; those of a key with one row stay as they stand."""
    kind = table.kind(name)
    if ":" in kind:
        return made
    cells = as_text(result.cells(result.column(name), 0, result.rows)).cast(pa.string())
    return pc.if_else(pa.array(single), cells, made.cast(pa.string()))


def _with_pool(
    result: Table, table: Table, groups: Groups, kept: Flags, made: dict[str, pa.Array]
) -> Table:
    """The result with computed cells, and with all the rows that went into each row."""
    pools = Pools(table, groups, np.flatnonzero(kept), len(result.strands), made)
    columns = tuple(
        replace(one, parts=((pools.number, one.name),), kind=None, leaves=pools.leaves_of(one.name))
        if one.name in made
        else one
        for one in result.columns
    )
    return replace(result, columns=columns, strands=(*result.strands, *pools.strands))


def _set_aside(
    table: Table, groups: Groups, decided: dict[str, Decided], conflict: Flags
) -> SetAside:
    """All rows of the keys in conflict, with the columns that are to blame."""
    at = np.flatnonzero(conflict[groups.group])
    rows, group = groups.rows[at], groups.group[at]
    blamed = {name: one.conflict for name, one in decided.items() if one.conflict.any()}
    reason = stepwise(lambda some: _blaming(blamed, some), group)
    cause = "rows of keys in conflict"
    return SetAside(f"{table.name}-conflict", table.at(rows), reason, False, cause)


def _blaming(blamed: dict[str, Flags], group: Rows) -> pa.Array:
    """For each row the columns that its group is in conflict for."""
    nothing = pa.scalar(None, pa.string())
    said = [
        pc.if_else(pa.array(conflict[group]), pa.scalar(name), nothing)
        for name, conflict in blamed.items()
    ]
    names = pc.binary_join_element_wise(*said, ", ", null_handling="skip")
    return pc.binary_join_element_wise("rows of its key differ in ", names, "")


def _listed(
    table: Table, groups: Groups, key: Sequence[str], decided: dict[str, Decided]
) -> Conflicts:
    """For each key and column in conflict the first cell, and the first that differs from it."""
    shift = len(table.strands)
    found, firsts, others = [], [], []
    begin = 0
    for name, one in decided.items():
        if not one.conflict.any():
            continue
        first, other = _first_two(table, groups, name, one.conflict)
        column = table.column(name)
        there = column.shifted(shift)
        found.append(Differing(name, column, there, np.arange(begin, begin + len(first))))
        firsts.append(first)
        others.append(other)
        begin += len(first)
    here, there_rows = np.concatenate(firsts), np.concatenate(others)
    left, right = table.at(here), table.at(there_rows)
    both = Table(table.name, left.columns, (*left.strands, *right.strands), len(here))
    return listed_conflicts(both, shift, key, found)


def _first_two(table: Table, groups: Groups, name: str, conflict: Flags) -> tuple[Rows, Rows]:
    """Of each group in conflict its first cell's row, and that of the first other cell."""
    at = np.flatnonzero(conflict[groups.group])
    rows, group = groups.rows[at], groups.group[at]
    cells = value_codes(table, name)[0][rows]
    there = cells >= 0
    rows, group, cells = rows[there], group[there], cells[there]
    begin = np.searchsorted(group, group)
    other = np.flatnonzero(cells != cells[begin])
    other = other[distinct(group[other])[2]]
    return rows[begin[other]], rows[other]


def _conflict_finding(
    table: Table,
    key: Sequence[str],
    decided: dict[str, Decided],
    conflict: Flags,
    listed: Conflicts,
) -> Finding:
    blamed = {name: int(one.conflict.sum()) for name, one in decided.items()}
    worst = sorted((name for name in blamed if blamed[name]), key=lambda name: -blamed[name])
    said = ", ".join(f"{name} in {blamed[name]:,}" for name in worst[:3])
    said += f" and {counted(len(worst) - 3, 'more column')}" if len(worst) > 3 else ""
    keys = int(conflict.sum())
    return Finding(
        "settle-conflict",
        "warning",
        keys,
        f"{counted(keys, 'key')} of {table.name} in conflict ({said}); "
        f"{agreeing(keys, 'its', 'their')} rows are set aside",
        f"choose a rule, such as --rule '{quoted(worst[0])}=first' (or last, "
        "commonest, longest, newest-by:COLUMN)",
        table.name,
        _examples(listed, key),
    )


def _examples(listed: Conflicts, key: Sequence[str]) -> tuple[Example, ...]:
    """The first cells in conflict, side by side with both places."""
    few = listed.table.at(np.arange(min(listed.rows, MOST_EXAMPLES))).to_dict()
    made = []
    for row in range(len(few["column"])):
        of_key = ", ".join(f"{name} {few[name][row]}" for name in key)
        cells = f"{few['column'][row]} {few['left value'][row]} / {few['right value'][row]}"
        made.append(Example(f"{of_key}: {cells}", listed.places(row)))
    return tuple(made)


def _missing_findings(table: Table, key: Sequence[str], rows: Rows) -> Iterator[Finding]:
    if len(rows):
        yield Finding(
            "key-missing",
            "warning",
            len(rows),
            f"{counted(len(rows), 'row')} of {table.name} without a full key "
            f"{agreeing(len(rows), 'is', 'are')} set aside",
            f"fill {', '.join(key)} in the source",
            table.name,
            tuple(
                Example(key_text(table, key, int(row)), table.places(int(row))[:1])
                for row in rows[:MOST_EXAMPLES]
            ),
        )
