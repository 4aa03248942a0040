"""Cells that changed, counted by column, and by how much."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from decimal import Context, Decimal

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.codes.key_codes import Rows
from plait.core.job.executor import map_ordered
from plait.core.table.columns import Flags, nonmissing_mask
from plait.core.table.table import BATCH_ROWS, Table
from plait.core.text.cells import is_text_type, to_text
from plait.core.text.decimals import DecimalOverflowError
from plait.core.types import exact_numbers
from plait.core.types.column_type import EMPTY

_SAFE = (pa.types.is_integer, pa.types.is_decimal, pa.types.is_date, pa.types.is_boolean)

_SUMS = Context(prec=200)
_NUMBER = r"^[+-]?([0-9]+\.?[0-9]*|\.[0-9]+)([eE][+-]?[0-9]{1,3})?$"


def rows_that_differ(old: Table, new: Table, names: tuple[str, str]) -> Rows:
    """The rows whose cells are not the same text, or the same value of the same type.

    Parameters
    ----------
    old, new : Table
        With as many rows each.
    names : (str, str)
        What the old and the new table call the column.

    Examples
    --------
    >>> from plait.core.table.table import table_from_columns
    >>> one = table_from_columns("a", {"k": ["x", "", "7"]})
    >>> other = table_from_columns("b", {"k": ["x", "y", "7.0"]})
    >>> rows_that_differ(one, other, ("k", "k")).tolist()
    [1, 2]
    """
    here, there = old.column(names[0]), new.column(names[1])

    def part(span: tuple[int, int]) -> Rows:
        ours, theirs = old.cells(here, *span), new.cells(there, *span)
        return span[0] + np.flatnonzero(_unequal(ours, theirs))

    found = list(map_ordered(part, list(old.row_ranges()), rows=old.rows))
    return np.concatenate(found) if found else np.empty(0, np.int64)


def _unequal(ours: pa.Array, theirs: pa.Array) -> Flags:
    if ours.type != theirs.type or not (
        is_text_type(ours.type) or any(t(ours.type) for t in _SAFE)
    ):
        ours, theirs = to_text(ours), to_text(theirs)
    differ = pc.fill_null(pc.not_equal(ours, theirs), False)
    if ours.null_count or theirs.null_count:
        differ = pc.or_(differ, pc.xor(pc.is_null(ours), pc.is_null(theirs)))
    flags: Flags = differ.to_numpy(zero_copy_only=False)
    return flags


@dataclass(frozen=True)
class NumericChange:
    """By how much numbers changed: new minus old.

    Parameters
    ----------
    sum, smallest, largest : Decimal or None
        ``None`` where no two numbers differ, or where they take too many digits.
    """

    sum: Decimal | None = None
    smallest: Decimal | None = None
    largest: Decimal | None = None

    def with_(self, numeric_change: NumericChange) -> NumericChange:
        """Of both together."""
        if self.sum is None or numeric_change.sum is None:
            return numeric_change if self.sum is None else self
        assert self.smallest is not None and numeric_change.smallest is not None
        assert self.largest is not None and numeric_change.largest is not None
        return NumericChange(
            _SUMS.add(self.sum, numeric_change.sum),
            min(self.smallest, numeric_change.smallest),
            max(self.largest, numeric_change.largest),
        )


@dataclass(frozen=True, eq=False)
class ColumnChange:
    """What changed in a column.

    Parameters
    ----------
    name, old_name : str
        What the new and the old table call it.
    rows : array of int
        The pairs of rows, by their number in the pairing, whose cells differ.
    from_missing, to_missing : int
        How many of them had no value before, have none now.
    otherwise : int
        Cells of equal value that are written otherwise: they have not changed.
    within : int
        Numbers that differ by no more than is allowed: neither have they.
    """

    name: str
    old_name: str
    rows: Rows
    from_missing: int = 0
    to_missing: int = 0
    otherwise: int = 0
    within: int = 0
    by: NumericChange = NumericChange()

    @property
    def cells(self) -> int:
        """How many cells changed."""
        return len(self.rows)


def compare_column(
    tables: tuple[Table, Table],
    rows: tuple[Table, Table],
    names: tuple[str, str],
    allowed: Decimal | None = None,
) -> ColumnChange:
    """Compare a column of two tables, row by row.

    Parameters
    ----------
    tables : (Table, Table)
        The old and the new one: of what type its cells are is a question of the whole column.
    rows : (Table, Table)
        Those rows of them that have a partner; rows of one number are the same record.
    names : (str, str)
        What the old and the new table call the column.
    allowed : Decimal, optional
        Numbers that differ by no more than this have not changed.

    Notes
    -----
    All cells are compared as they stand; only those that differ are then looked at again:
    where both columns hold numbers, for their values, exactly.

    Examples
    --------
    >>> from plait.core.table.table import table_from_columns
    >>> old = table_from_columns("old", {"kg": ["12.50", "9", "", "4"]})
    >>> new = table_from_columns("new", {"kg": ["12.5", "10.25", "3", "NA"]})
    >>> found = compare_column((old, new), (old, new), ("kg", "kg"))
    >>> found.rows.tolist(), found.from_missing, found.to_missing, found.otherwise
    ([1, 2, 3], 1, 1, 1)
    >>> found.by.sum
    Decimal('1.25')
    """
    change = ColumnChange(names[1], names[0], np.empty(0, np.int64))
    old, new = rows
    differing = rows_that_differ(old, new, names)
    if not len(differing):
        return change
    types = [table.column_type(name).of_texts for table, name in zip(tables, names, strict=True)]
    look = _ComparisonOptions(
        all(type_.is_plain_number or type_ == EMPTY for type_ in types),
        (types[0].allows_missing_markers, types[1].allows_missing_markers),
        allowed,
    )
    few = old.project([names[0]]).take(differing), new.project([names[1]]).take(differing)
    return _together(change, differing, (look.at(*pair) for pair in _texts(*few, names)))


def _texts(old: Table, new: Table, names: tuple[str, str]) -> Iterator[tuple[pa.Array, pa.Array]]:
    """The cells of both, a batch at a time."""
    for span in old.row_ranges(BATCH_ROWS):
        yield (
            to_text(old.cells(old.column(names[0]), *span)),
            to_text(new.cells(new.column(names[1]), *span)),
        )


@dataclass(frozen=True)
class _CellComparison:
    """What is the case with some cells that are not the same text."""

    changed: Flags
    from_missing: int
    to_missing: int
    otherwise: int
    within: int
    by: NumericChange


@dataclass(frozen=True)
class _ComparisonOptions:
    """How cells that differ as texts are looked at again."""

    numbers: bool
    marked: tuple[bool, bool]
    allowed: Decimal | None

    def at(self, ours: pa.Array, theirs: pa.Array) -> _CellComparison:
        """Which of them changed."""
        was = nonmissing_mask(ours, self.marked[0])
        is_ = nonmissing_mask(theirs, self.marked[1])
        changed, both = was | is_, was & is_
        otherwise, within, by = 0, 0, NumericChange()
        if self.numbers:
            some = np.flatnonzero(both & _plain(ours) & _plain(theirs))
            same, near, by = _stepped(ours.take(some), theirs.take(some), self.allowed)
            changed[some[same | near]] = False
            otherwise, within = int(same.sum()), int(near.sum())
        return _CellComparison(
            changed,
            int((is_ & ~was).sum()),
            int((was & ~is_).sum()),
            otherwise,
            within,
            by,
        )


def _plain(texts: pa.Array) -> Flags:
    """Which cells are numbers, and not ``inf`` or ``nan``."""
    found = pc.fill_null(pc.match_substring_regex(texts, _NUMBER), False)
    flags: Flags = found.to_numpy(zero_copy_only=False)
    return flags


def _stepped(
    ours: pa.Array, theirs: pa.Array, allowed: Decimal | None
) -> tuple[Flags, Flags, NumericChange]:
    """Which numbers are equal, which are near enough, and by how much the others changed."""
    if not len(ours):
        return np.zeros(0, bool), np.zeros(0, bool), NumericChange()
    try:
        old, new = (exact_numbers.parse_decimals(one.cast(pa.string())) for one in (ours, theirs))
        steps = exact_numbers.subtract(new, old)
        same, near = _no_change(steps, allowed)
        return same, near, _by(steps.filter(pa.array(~(same | near))))
    except DecimalOverflowError:
        return _one_by_one(ours.to_pylist(), theirs.to_pylist(), allowed)


def _one_by_one(
    ours: Sequence[str], theirs: Sequence[str], allowed: Decimal | None
) -> tuple[Flags, Flags, NumericChange]:
    """The same for numbers of very many digits."""
    steps = [_SUMS.subtract(Decimal(b), Decimal(a)) for a, b in zip(ours, theirs, strict=True)]
    same = np.array([Decimal(a) == Decimal(b) for a, b in zip(ours, theirs, strict=True)])
    near = np.array([allowed is not None and abs(s) <= allowed for s in steps]) & ~same
    left = [step for step, few in zip(steps, same | near, strict=True) if not few]
    by = NumericChange()
    for one in left:
        by = by.with_(NumericChange(one, one, one))
    return same, near, by


def _no_change(steps: pa.Array, allowed: Decimal | None) -> tuple[Flags, Flags]:
    """Which steps are none, and which are no longer than is allowed."""
    same = pc.equal(steps, pa.scalar(0)).to_numpy(zero_copy_only=False)
    if allowed is None:
        return same, np.zeros(len(steps), bool)
    sizes, most = exact_numbers.unify_numbers([pc.abs(steps), pa.scalar(allowed)])
    near = pc.less_equal(sizes, most).to_numpy(zero_copy_only=False)
    return same, near & ~same


def _by(steps: pa.Array) -> NumericChange:
    if not len(steps):
        return NumericChange()
    ends = pc.min_max(steps).as_py()
    total = _sum(steps)
    return NumericChange(total, Decimal(ends["min"]), Decimal(ends["max"]))


def _sum(steps: pa.Array) -> Decimal:
    """The exact sum: of decimals narrow enough by Arrow, of others one by one."""
    if steps.type.precision <= 30:
        total = pc.sum(steps.cast(pa.decimal128(38, steps.type.scale))).as_py()
        return Decimal(total)
    total = Decimal(0)
    for one in steps.to_pylist():
        total = _SUMS.add(total, one)
    return total


def _together(change: ColumnChange, rows: Rows, parts: Iterable[_CellComparison]) -> ColumnChange:
    seen = list(parts)
    by = NumericChange()
    for one in seen:
        by = by.with_(one.by)
    return replace(
        change,
        rows=rows[np.concatenate([one.changed for one in seen])],
        from_missing=sum(s.from_missing for s in seen),
        to_missing=sum(one.to_missing for one in seen),
        otherwise=sum(one.otherwise for one in seen),
        within=sum(one.within for one in seen),
        by=by,
    )
