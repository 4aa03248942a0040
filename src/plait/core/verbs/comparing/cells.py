"""What changed in one column, over the rows of two tables that are the same record."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from decimal import Context, Decimal

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.codes.groups import Rows
from plait.core.table.absent import Flags, value_there
from plait.core.table.table import BATCH_ROWS, Table
from plait.core.text.cells import as_text
from plait.core.text.digits import TooManyDigitsError
from plait.core.types import exact
from plait.core.types.kinds import NUMBERS, takes_markers
from plait.core.verbs.comparing.unequal import unequal_rows

_SUMS = Context(prec=200)
_NUMBER = r"^[+-]?([0-9]+\.?[0-9]*|\.[0-9]+)([eE][+-]?[0-9]{1,3})?$"


@dataclass(frozen=True)
class By:
    """By how much numbers changed: new minus old.

    Parameters
    ----------
    sum, smallest, largest : Decimal or None
        ``None`` where no two numbers differ, or where they take too many digits.
    """

    sum: Decimal | None = None
    smallest: Decimal | None = None
    largest: Decimal | None = None

    def with_(self, other: By) -> By:
        """Of both together."""
        if self.sum is None or other.sum is None:
            return other if self.sum is None else self
        assert self.smallest is not None and other.smallest is not None
        assert self.largest is not None and other.largest is not None
        return By(
            _SUMS.add(self.sum, other.sum),
            min(self.smallest, other.smallest),
            max(self.largest, other.largest),
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
    by : By
    """

    name: str
    old_name: str
    rows: Rows
    from_missing: int = 0
    to_missing: int = 0
    otherwise: int = 0
    within: int = 0
    by: By = By()

    @property
    def cells(self) -> int:
        """How many cells changed."""
        return len(self.rows)


def changed_cells(
    whole: tuple[Table, Table],
    rows: tuple[Table, Table],
    names: tuple[str, str],
    allowed: Decimal | None = None,
) -> ColumnChange:
    """Compare a column of two tables, row by row.

    Parameters
    ----------
    whole : (Table, Table)
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
    >>> from plait.core.table.table import from_columns
    >>> old = from_columns("old", {"kg": ["12.50", "9", "", "4"]})
    >>> new = from_columns("new", {"kg": ["12.5", "10.25", "3", "NA"]})
    >>> found = changed_cells((old, new), (old, new), ("kg", "kg"))
    >>> found.rows.tolist(), found.from_missing, found.to_missing, found.otherwise
    ([1, 2, 3], 1, 1, 1)
    >>> found.by.sum
    Decimal('1.25')
    """
    change = ColumnChange(names[1], names[0], np.empty(0, np.int64))
    old, new = rows
    differing = unequal_rows(old, new, names)
    if not len(differing):
        return change
    kinds = [table.kind_in_words(name) for table, name in zip(whole, names, strict=True)]
    look = _Look(
        all(kind in (*NUMBERS, "empty") for kind in kinds),
        (takes_markers(kinds[0]), takes_markers(kinds[1])),
        allowed,
    )
    few = old.keeping([names[0]]).at(differing), new.keeping([names[1]]).at(differing)
    return _together(change, differing, (look.at(*pair) for pair in _texts(*few, names)))


def _texts(old: Table, new: Table, names: tuple[str, str]) -> Iterator[tuple[pa.Array, pa.Array]]:
    """The cells of both, a batch at a time."""
    for span in old.spans(BATCH_ROWS):
        yield (
            as_text(old.cells(old.column(names[0]), *span)),
            as_text(new.cells(new.column(names[1]), *span)),
        )


@dataclass(frozen=True)
class _Seen:
    """What is the case with some cells that are not the same text."""

    changed: Flags
    from_missing: int
    to_missing: int
    otherwise: int
    within: int
    by: By


@dataclass(frozen=True)
class _Look:
    """How cells that differ as texts are looked at again."""

    numbers: bool
    marked: tuple[bool, bool]
    allowed: Decimal | None

    def at(self, ours: pa.Array, theirs: pa.Array) -> _Seen:
        """Which of them changed."""
        was = value_there(ours, self.marked[0])
        is_ = value_there(theirs, self.marked[1])
        changed, both = was | is_, was & is_
        otherwise, within, by = 0, 0, By()
        if self.numbers:
            some = np.flatnonzero(both & _plain(ours) & _plain(theirs))
            same, near, by = _stepped(ours.take(some), theirs.take(some), self.allowed)
            changed[some[same | near]] = False
            otherwise, within = int(same.sum()), int(near.sum())
        return _Seen(
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


def _stepped(ours: pa.Array, theirs: pa.Array, allowed: Decimal | None) -> tuple[Flags, Flags, By]:
    """Which numbers are equal, which are near enough, and by how much the others changed."""
    if not len(ours):
        return np.zeros(0, bool), np.zeros(0, bool), By()
    try:
        old, new = (exact.from_texts(one.cast(pa.string())) for one in (ours, theirs))
        steps = exact.subtract(new, old)
        same, near = _no_change(steps, allowed)
        return same, near, _by(steps.filter(pa.array(~(same | near))))
    except TooManyDigitsError:
        return _one_by_one(ours.to_pylist(), theirs.to_pylist(), allowed)


def _one_by_one(
    ours: Sequence[str], theirs: Sequence[str], allowed: Decimal | None
) -> tuple[Flags, Flags, By]:
    """The same for numbers of very many digits."""
    steps = [_SUMS.subtract(Decimal(b), Decimal(a)) for a, b in zip(ours, theirs, strict=True)]
    same = np.array([Decimal(a) == Decimal(b) for a, b in zip(ours, theirs, strict=True)])
    near = np.array([allowed is not None and abs(one) <= allowed for one in steps]) & ~same
    left = [one for one, few in zip(steps, same | near, strict=True) if not few]
    by = By()
    for one in left:
        by = by.with_(By(one, one, one))
    return same, near, by


def _no_change(steps: pa.Array, allowed: Decimal | None) -> tuple[Flags, Flags]:
    """Which steps are none, and which are no longer than is allowed."""
    same = pc.equal(steps, pa.scalar(0)).to_numpy(zero_copy_only=False)
    if allowed is None:
        return same, np.zeros(len(steps), bool)
    sizes, most = exact.alike([pc.abs(steps), pa.scalar(allowed)])
    near = pc.less_equal(sizes, most).to_numpy(zero_copy_only=False)
    return same, near & ~same


def _by(steps: pa.Array) -> By:
    if not len(steps):
        return By()
    ends = pc.min_max(steps).as_py()
    total = _sum(steps)
    return By(total, Decimal(ends["min"]), Decimal(ends["max"]))


def _sum(steps: pa.Array) -> Decimal:
    """The exact sum: of decimals narrow enough by Arrow, of others one by one."""
    if steps.type.precision <= 30:
        total = pc.sum(steps.cast(pa.decimal128(38, steps.type.scale))).as_py()
        return Decimal(total)
    total = Decimal(0)
    for one in steps.to_pylist():
        total = _SUMS.add(total, one)
    return total


def _together(change: ColumnChange, rows: Rows, parts: Iterable[_Seen]) -> ColumnChange:
    seen = list(parts)
    by = By()
    for one in seen:
        by = by.with_(one.by)
    return replace(
        change,
        rows=rows[np.concatenate([one.changed for one in seen])],
        from_missing=sum(one.from_missing for one in seen),
        to_missing=sum(one.to_missing for one in seen),
        otherwise=sum(one.otherwise for one in seen),
        within=sum(one.within for one in seen),
        by=by,
    )
