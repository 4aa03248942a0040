"""Compare: an old and a new table against each other, by key."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal, InvalidOperation

import numpy as np

from plait.core.account.errors import UsageError, asked
from plait.core.account.finding import Finding, agreeing, counted
from plait.core.account.ledger import Entry, Line, entry
from plait.core.codes.coding import code_keys
from plait.core.table.keyspec import (
    KeySpec,
    Pairs,
    check_column,
    check_key,
    named_values,
    parse_key,
)
from plait.core.table.table import Table
from plait.core.types.forms import base
from plait.core.types.kinds import NUMBERS
from plait.core.verbs.comparing.cells import ColumnChange, changed_cells
from plait.core.verbs.comparing.changes import Changes
from plait.core.verbs.comparing.choosing import best_key
from plait.core.verbs.comparing.findings import change_findings
from plait.core.verbs.comparing.listing import lines_by_change, listed_changes
from plait.core.verbs.comparing.pairing import Names, Pairing, paired_as_wholes, paired_by_key
from plait.core.verbs.comparing.renaming import renamed_columns
from plait.core.verbs.result import Result


@dataclass(frozen=True, eq=False)
class Compared:
    """What was found when two tables were compared.

    Parameters
    ----------
    old, new : Table
    key : tuple of (str, str)
        The old table's column and the new one's.
    changes : Changes
    columns : tuple of ColumnChange
        Of each column that was compared.
    entry : Entry
        Old rows, and new ones, less those that are gone.
    findings : tuple of Finding
    pairing : Pairing
    name : str
        What the list of changes is called.
    """

    old: Table
    new: Table
    key: tuple[tuple[str, str], ...]
    changes: Changes
    columns: tuple[ColumnChange, ...]
    entry: Entry
    findings: tuple[Finding, ...]
    pairing: Pairing
    name: str = "changes"

    def __repr__(self) -> str:
        found = self.changes
        return (
            f"{self.old.name} and {self.new.name} by {', '.join(found.key) or 'rows'}: "
            f"{counted(found.rows_new, 'row')} new, {found.rows_gone:,} gone, "
            f"{found.rows_changed:,} changed, {found.rows_equal:,} equal"
        )

    def listed(self) -> Table:
        """Every change as a table: ``listed_changes``."""
        renamed = self.changes.columns_renamed
        made = listed_changes(self.old, self.new, self.key, self.pairing, self.columns, renamed)
        return made.named(self.name)

    def result(self) -> Result:
        """The list of changes as the result of a verb."""
        table = self.listed()
        lines = tuple(Line(one, count) for one, count in lines_by_change(table).items())
        listing = Entry("list the changes", {}, lines, table.rows)
        return Result("compare", table, (self.entry, listing), self.findings)


def compare(
    tables: Sequence[Table],
    key: KeySpec | None = None,
    columns: Iterable[str] = (),
    ignore: Iterable[str] = (),
    within: Pairs = (),
    name: str | None = None,
) -> Compared:
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

    Returns
    -------
    Compared

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
    >>> from plait.core.table.table import from_columns
    >>> old = from_columns("may", {"hive": ["1", "2", "3"], "kg": ["12.50", "9", "4"]})
    >>> new = from_columns("june", {"hive": ["1", "2", "4"], "kg": ["12.5", "10", "8"]})
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
    rows = old.at(pairing.old), new.at(pairing.new)
    lonely = _lonely(old, new, pairs, rest)
    renamed = renamed_columns(*rows, *lonely)
    names = [*(pairs if loose else ()), *rest, *((was, is_) for is_, was in renamed.items())]
    allowed = _allowed((old, new), within, {after: (before, after) for before, after in names})
    found = tuple(changed_cells((old, new), rows, one, allowed.get(one[1])) for one in names)
    changes = _changes(old, new, pairs, pairing, found, lonely, renamed)
    told = [
        *change_findings(old, new, pairs, pairing, found, changes, inferred),
        *_not_compared(old, new, pairs),
    ]
    account = _entry(old, new, changes)
    return Compared(
        old, new, pairs, changes, found, account, tuple(told), pairing, name or "changes"
    )


def _keeping(table: Table, columns: Sequence[str], key: Names, side: int) -> Table:
    """The table with these columns and its key only."""
    kept = {*columns, *(pair[side] for pair in key)}
    return table.keeping([name for name in table.column_names if name in kept])


def _changes(
    old: Table,
    new: Table,
    key: Names,
    pairing: Pairing,
    found: Sequence[ColumnChange],
    lonely: tuple[Sequence[str], Sequence[str]],
    renamed: Mapping[str, str],
) -> Changes:
    """What changed, in numbers."""
    equal, changed = _equal_and_changed(len(pairing.old), found)
    return Changes(
        key=tuple(after for _, after in key),
        old_rows=old.rows,
        new_rows=new.rows,
        rows_new=len(pairing.added),
        rows_gone=len(pairing.gone),
        rows_equal=equal,
        rows_changed=changed,
        columns={one.name: one.cells for one in found if one.cells},
        columns_new=tuple(one for one in lonely[1] if one not in renamed),
        columns_gone=tuple(one for one in lonely[0] if one not in renamed.values()),
        columns_renamed=renamed,
        types=_types(old, new, pairing, found),
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
    with asked("columns"):
        for name in columns:
            check_column(name, new)
            check_column(name, old)
    return [one for one in new.column_names if old.has(one) and one in (columns or [one])]


def _key(
    old: Table, new: Table, key: KeySpec | None, shared: Sequence[str]
) -> tuple[tuple[tuple[str, str], ...], bool]:
    """The key's columns in both tables, and whether it was found here."""
    if key == ():
        return (), False
    if key is not None:
        with asked("key"):
            return check_key(parse_key(key), old, new), False
    found = best_key(old, new, shared)
    return tuple((one, one) for one in found), bool(found)


def _allowed(
    tables: tuple[Table, Table], within: Pairs, compared: Mapping[str, tuple[str, str]]
) -> dict[str, Decimal]:
    """How far the numbers of each column may be apart."""
    found: dict[str, Decimal] = {}
    with asked("within"):
        for name, text in named_values(within, "--within").items():
            check_column(name, tables[1])
            if name not in compared:
                raise UsageError(
                    f"column {name} is not among the compared columns",
                    tables[1].name,
                    f"one of {', '.join(compared)}" if compared else "no column is",
                )
            for table, column in zip(tables, compared[name], strict=True):
                kind = table.kind_in_words(column)
                if kind not in (*NUMBERS, "empty"):
                    raise UsageError(
                        f"--within needs a number column; {column} is {kind}",
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
    return [(one, one) for one in shared if one not in of_key]


def _paired(
    old: Table,
    new: Table,
    key: Names,
    ignore: Sequence[str],
    shared: Names,
) -> Pairing:
    if not key:
        return paired_as_wholes(old, new, shared)
    names = [list(side) for side in zip(*key, strict=True)]
    coding = code_keys([old, new], names, ignore, missing_match=True)
    return paired_by_key(old, new, coding, shared)


def _lonely(old: Table, new: Table, key: Names, rest: Names) -> tuple[list[str], list[str]]:
    """The columns that only the old table has, and those that only the new one has.

    Where both have both columns of a key ``a = b`` neither is new or gone, though not compared.
    """
    before, after = ({pair[side] for pair in (*key, *rest)} for side in (0, 1))
    crossed = set(_crossed(old, new, key))
    return (
        [one for one in old.column_names if one not in before | crossed],
        [one for one in new.column_names if one not in after | crossed],
    )


def _crossed(old: Table, new: Table, key: Names) -> list[str]:
    """The columns of a key that have two names, both of which both tables have."""
    pairs = [pair for pair in key if pair[0] != pair[1]]
    both = (pair for pair in pairs if all(t.has(one) for t in (old, new) for one in pair))
    return sorted({name for pair in both for name in pair})


def _not_compared(old: Table, new: Table, key: Names) -> list[Finding]:
    """That columns which both tables have are not compared, as the key has one of each."""
    names = _crossed(old, new, key)
    if not names:
        return []
    pairs = ", ".join(f"{before} = {after}" for before, after in key)
    message = f"{', '.join(names)} not compared with {agreeing(len(names), 'itself', 'themselves')}"
    return [Finding("not-compared", "note", len(names), f"{message}: the key is {pairs}")]


def _equal_and_changed(pairs: int, found: Sequence[ColumnChange]) -> tuple[int, int]:
    """How many pairs of rows are equal, and how many are not."""
    differs = np.zeros(pairs, bool)
    for one in found:
        differs[one.rows] = True
    changed = int(differs.sum())
    return pairs - changed, changed


def _types(
    old: Table, new: Table, pairing: Pairing, found: Sequence[ColumnChange]
) -> dict[str, tuple[str, str]]:
    """Columns whose cells are of another type now; where no cell differs, neither does that."""
    alone = len(pairing.gone) or len(pairing.added)
    kinds = {
        one.name: (base(old.kind_in_words(one.old_name)), base(new.kind_in_words(one.name)))
        for one in found
        if alone or one.cells or one.otherwise
    }
    return {name: two for name, two in kinds.items() if two[0] != two[1] and "empty" not in two}


def _entry(old: Table, new: Table, changes: Changes) -> Entry:
    lines = [
        Line("rows only in the new table", changes.rows_new),
        Line("rows only in the old table", -changes.rows_gone),
    ]
    return entry(f"compare {old.name} with {new.name}", [(old.name, old.rows)], lines, new.rows)
