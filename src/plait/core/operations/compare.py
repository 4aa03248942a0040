"""``compare``: what changed between an old and a new table, by key."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal, InvalidOperation

import numpy as np

from plait.core.base.errors import UsageError, attribute_errors_to_option
from plait.core.base.findings import Finding, agreeing, pluralize
from plait.core.base.ledger import LedgerEntry, LedgerLine, make_entry
from plait.core.base.wording import Setting, wording
from plait.core.codes.key_codes import encode_keys
from plait.core.codes.normalize import Ignored
from plait.core.operations.comparison.cell_changes import ColumnChange, compare_column
from plait.core.operations.comparison.change_findings import ChangeCounts, report_changes
from plait.core.operations.comparison.change_list import count_changes_by_kind, list_changes
from plait.core.operations.comparison.record_pairing import (
    Names,
    RecordPairs,
    find_renamed_columns,
    pair_by_key,
    pair_equal_rows,
)
from plait.core.operations.result import Result
from plait.core.profiling.candidate_keys import find_candidate_keys
from plait.core.profiling.profile import count_values, profile_column
from plait.core.table.columns import take_scattered_rows
from plait.core.table.key_spec import (
    KeySpec,
    Pairs,
    check_column,
    check_key_columns,
    parse_assignments,
    parse_key_columns,
)
from plait.core.table.table import Table
from plait.core.types.column_type import EMPTY, Family


def choose_comparison_key(old: Table, new: Table, shared: Sequence[str]) -> tuple[str, ...]:
    """The likeliest key of the new table that is unique in the old one too; none if none is.

    >>> from plait.core.table.table import table_from_columns
    >>> hives = [str(n) for n in range(40)]
    >>> old = table_from_columns("old", {"hive": hives, "kg": ["7"] * 40})
    >>> choose_comparison_key(old, old, ["hive", "kg"])
    ('hive',)
    """
    if not shared:
        return ()
    tallies = {
        name: count_values([new.chunks(name)], new.column(name).declared_type) for name in shared
    }
    profiles = {name: profile_column(tally) for name, tally in tallies.items()}
    candidate_keys = find_candidate_keys(tallies, profiles, new.rows)
    for key in candidate_keys.keys:
        if not key.by_chance and not key.in_the_way and is_unique_key(old, key.columns):
            return key.columns
    return ()


def is_unique_key(table: Table, columns: Sequence[str]) -> bool:
    """Whether no part of the key is missing, and no key on two rows."""
    coding = encode_keys([table], [columns])
    return int(coding.counts(0).max(initial=0)) <= 1 and bool((coding.codes[0] >= 0).all())


@dataclass(frozen=True, eq=False)
class Comparison:
    """What was found when two tables were compared.

    Parameters
    ----------
    key : tuple of (str, str)
        The old table's column and the new one's.
    columns : tuple of ColumnChange
        Of each column that was compared.
    entry : LedgerEntry
        Old rows, and new ones, less those that are gone.
    name : str
        What the list of changes is called.
    """

    old: Table
    new: Table
    key: tuple[tuple[str, str], ...]
    changes: ChangeCounts
    columns: tuple[ColumnChange, ...]
    entry: LedgerEntry
    findings: tuple[Finding, ...]
    pairing: RecordPairs
    name: str = "changes"

    def __repr__(self) -> str:
        change_counts = self.changes
        return (
            f"{self.old.name} and {self.new.name} by {', '.join(change_counts.key) or 'rows'}: "
            f"{pluralize(change_counts.rows_new, 'row')} new, {change_counts.rows_gone:,} gone, "
            f"{change_counts.rows_changed:,} changed, {change_counts.rows_equal:,} equal"
        )

    def listed(self) -> Table:
        """Every change as a table: ``list_changes``."""
        renamed = self.changes.columns_renamed
        changes = list_changes(self.old, self.new, self.key, self.pairing, self.columns, renamed)
        return changes.with_name(self.name)

    def result(self) -> Result:
        """The list of changes as the result of an operation."""
        table = self.listed()
        lines = tuple(LedgerLine(one, count) for one, count in count_changes_by_kind(table).items())
        listing = LedgerEntry("list the changes", {}, lines, table.rows)
        return Result("compare", table, (self.entry, listing), self.findings)


def compare(
    tables: Sequence[Table],
    key: KeySpec | None = None,
    columns: Iterable[str] = (),
    ignore: Iterable[Ignored] = (),
    within: Pairs = (),
    name: str | None = None,
    equal_beside: int = 0,
) -> Comparison:
    """Set an old and a new table against each other.

    Parameters
    ----------
    tables : sequence of Table
        The old one, the new one.
    key : key, optional
        The columns by which rows are known, OLD=NEW where they changed their names. Without
        it the likeliest candidate key that both share; without one, and for ``()``, rows are
        compared as wholes.
    columns : iterable of str
        The columns to compare, by their new names; without it all that both have.
    ignore : iterable of str
        What does not count when keys are compared.
    within : mapping of str to str
        How far the numbers of a column may be apart and still be the same.
    name : str, optional
        What the list of changes is called.
    equal_beside : int
        How many rows both have beside these, which are known to be equal; a key that is given
        is not on these as well.

    Raises
    ------
    UsageError
        For a column that is not there, or a distance that is none.

    Notes
    -----
    A missing part of a key is a value like others here. Numbers of equal value have not
    changed, however they are written. Of a key on several rows of one side, rows that are
    equal as wholes are one record, as many as both have; the rest is gone, or new.

    Examples
    --------
    >>> from plait.core.table.table import table_from_columns
    >>> old = table_from_columns("may", {"hive": ["1", "2", "3"], "kg": ["12.50", "9", "4"]})
    >>> new = table_from_columns("june", {"hive": ["1", "2", "4"], "kg": ["12.5", "10", "8"]})
    >>> found = compare([old, new], "hive").changes
    >>> found.rows_new, found.rows_gone, found.rows_changed, found.rows_equal, found.columns
    (1, 1, 1, 1, {'kg': 1})
    """
    old, new = _two(tables)
    chosen, loose = list(columns), tuple(ignore)
    shared = _shared(old, new, chosen)
    pairs, inferred = _key(old, new, key, shared)
    if chosen:  # the others are not looked at, whether they are new, gone or the same
        old, new = (_keeping(table, chosen, pairs, side) for side, table in enumerate((old, new)))
    rest = _beside_the_key(pairs, shared)
    pairing = _paired(old, new, pairs, loose, [*pairs, *rest])
    lonely = _lonely(old, new, pairs, rest)
    in_order = bool((pairing.new[1:] >= pairing.new[:-1]).all())
    looked_at = dict.fromkeys([*(after for _, after in rest), *lonely[1]])
    rows = (
        old.take(pairing.old),
        new.take(pairing.new) if in_order else take_scattered_rows(new, pairing.new, looked_at),
    )
    renamed = find_renamed_columns(*rows, *lonely)
    names = [*(pairs if loose else ()), *rest, *((was, is_) for is_, was in renamed.items())]
    allowed = _allowed((old, new), within, {after: (before, after) for before, after in names})
    column_changes = tuple(compare_column((old, new), rows, n, allowed.get(n[1])) for n in names)
    changes = _changes(old, new, pairs, pairing, column_changes, lonely, renamed, equal_beside)
    texts = [
        *report_changes(old, new, pairs, pairing, column_changes, changes, inferred),
        *_not_compared(old, new, pairs),
    ]
    account = _entry(old, new, changes)
    return Comparison(
        old, new, pairs, changes, column_changes, account, tuple(texts), pairing, name or "changes"
    )


def _keeping(table: Table, columns: Sequence[str], key: Names, side: int) -> Table:
    """The table with these columns and its key only."""
    kept = {*columns, *(pair[side] for pair in key)}
    return table.project([name for name in table.column_names if name in kept])


def _changes(
    old: Table,
    new: Table,
    key: Names,
    pairing: RecordPairs,
    column_changes: Sequence[ColumnChange],
    lonely: tuple[Sequence[str], Sequence[str]],
    renamed: Mapping[str, str],
    equal_beside: int,
) -> ChangeCounts:
    """What changed, in numbers."""
    equal, changed = _equal_and_changed(len(pairing.old), column_changes)
    return ChangeCounts(
        key=tuple(after for _, after in key),
        old_rows=old.rows + equal_beside,
        new_rows=new.rows + equal_beside,
        rows_new=len(pairing.added),
        rows_gone=len(pairing.gone),
        rows_equal=equal + equal_beside,
        rows_changed=changed,
        columns={
            column_change.name: column_change.cells
            for column_change in column_changes
            if column_change.cells
        },
        columns_new=tuple(name for name in lonely[1] if name not in renamed),
        columns_gone=tuple(one for one in lonely[0] if one not in renamed.values()),
        columns_renamed=renamed,
        types=_types(old, new, pairing, column_changes),
        keys_repeated=pairing.keys_repeated,
    )


def _two(tables: Sequence[Table]) -> tuple[Table, Table]:
    if len(tables) != 2:
        raise UsageError(
            f"compare takes two tables, not {len(tables)}",
            remedy="name the old one and the new one; stack several extracts first",
        )
    return tables[0], tables[1]


def _shared(old: Table, new: Table, columns: Sequence[str]) -> list[str]:
    """The columns that both have, of those that are asked for."""
    with attribute_errors_to_option("columns"):
        for name in columns:
            check_column(name, new)
            check_column(name, old)
    return [
        column_name
        for column_name in new.column_names
        if old.has_column(column_name) and column_name in (columns or [column_name])
    ]


def _key(
    old: Table, new: Table, key: KeySpec | None, shared: Sequence[str]
) -> tuple[tuple[tuple[str, str], ...], bool]:
    """The key's columns in both tables, and whether it was found here."""
    if key == ():
        return (), False
    if key is not None:
        with attribute_errors_to_option("key"):
            return check_key_columns(parse_key_columns(key), old, new), False
    comparison_key = choose_comparison_key(old, new, shared)
    return tuple((c, c) for c in comparison_key), bool(comparison_key)


def _allowed(
    tables: tuple[Table, Table], within: Pairs, compared: Mapping[str, tuple[str, str]]
) -> dict[str, Decimal]:
    """How far the numbers of each column may be apart."""
    found: dict[str, Decimal] = {}
    with attribute_errors_to_option("within"):
        for name, text in parse_assignments(within, "within").items():
            check_column(name, tables[1])
            if name not in compared:
                raise UsageError(
                    f"column {name} is not among the compared columns",
                    tables[1].name,
                    f"one of {', '.join(compared)}" if compared else "no column is",
                )
            for table, column in zip(tables, compared[name], strict=True):
                type_ = table.column_type(column)
                if not (type_.is_plain_number or type_ == EMPTY):
                    raise UsageError(
                        wording(Setting("within"), f" needs a number column; {column} is {type_}"),
                        table.name,
                    )
            found[name] = _distance(text)
    return found


def _distance(text: str) -> Decimal:
    try:
        made = Decimal(text)
    except InvalidOperation:
        made = Decimal("NaN")
    if not made.is_finite() or made < 0:
        raise UsageError(f"{text!r} is not a number", remedy="write 0.01, or 5")
    return made


def _beside_the_key(key: Names, shared: Sequence[str]) -> list[tuple[str, str]]:
    """The columns whose cells are compared, those of the key aside."""
    of_key = {name for pair in key for name in pair}
    return [(s, s) for s in shared if s not in of_key]


def _paired(
    old: Table,
    new: Table,
    key: Names,
    ignore: Sequence[Ignored],
    shared: Names,
) -> RecordPairs:
    if not key:
        return pair_equal_rows(old, new, shared)
    names = [list(side) for side in zip(*key, strict=True)]
    coding = encode_keys([old, new], names, ignore, missing_match=True)
    return pair_by_key(old, new, coding, shared)


def _lonely(old: Table, new: Table, key: Names, rest: Names) -> tuple[list[str], list[str]]:
    """The columns that only the old table has, and those that only the new one has.

    Where both have both columns of a key ``a = b`` neither is new or gone, though not compared.
    """
    crossed = _crossed(old, new, key)
    before, after = ({*crossed, *(pair[side] for pair in (*key, *rest))} for side in (0, 1))
    return (
        [name for name in old.column_names if name not in before],
        [name for name in new.column_names if name not in after],
    )


def _crossed(old: Table, new: Table, key: Names) -> list[str]:
    """The columns of a key that have two names, both of which both tables have."""
    pairs = [pair for pair in key if pair[0] != pair[1]]
    both = (pair for pair in pairs if all(t.has_column(p) for t in (old, new) for p in pair))
    return sorted({name for pair in both for name in pair})


def _not_compared(old: Table, new: Table, key: Names) -> list[Finding]:
    """That columns which both tables have are not compared, as the key has one of each."""
    names = _crossed(old, new, key)
    if not names:
        return []
    pairs = ", ".join(f"{before} = {after}" for before, after in key)
    message = f"{', '.join(names)} not compared with {agreeing(len(names), 'itself', 'themselves')}"
    return [Finding("not-compared", "note", len(names), f"{message}: the key is {pairs}")]


def _equal_and_changed(pairs: int, column_changes: Sequence[ColumnChange]) -> tuple[int, int]:
    """How many pairs of rows are equal, and how many are not."""
    differs = np.zeros(pairs, bool)
    for column_change in column_changes:
        differs[column_change.rows] = True
    changed = int(differs.sum())
    return pairs - changed, changed


def _types(
    old: Table, new: Table, pairing: RecordPairs, column_changes: Sequence[ColumnChange]
) -> dict[str, tuple[Family, Family]]:
    """Columns whose cells are of another type now; where no cell differs, neither does that."""
    alone = len(pairing.gone) or len(pairing.added)
    families = {
        column_change.name: (
            old.column_type(column_change.old_name).family,
            new.column_type(column_change.name).family,
        )
        for column_change in column_changes
        if alone or column_change.cells or column_change.otherwise
    }
    return {name: two for name, two in families.items() if two[0] != two[1] and "empty" not in two}


def _entry(old: Table, new: Table, changes: ChangeCounts) -> LedgerEntry:
    lines = [
        LedgerLine("rows only in the new table", changes.rows_new),
        LedgerLine("rows only in the old table", -changes.rows_gone),
    ]
    return make_entry(
        f"compare {old.name} with {new.name}",
        [(old.name, changes.old_rows)],
        lines,
        changes.new_rows,
    )
