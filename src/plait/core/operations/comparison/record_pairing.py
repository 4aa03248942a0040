"""Which record of the old table is which of the new, and columns that were renamed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.base.names import fold_heading
from plait.core.codes.dense_codes import (
    Counts,
    count_codes,
    dense_rank,
    first_row_of_each_code,
    gather_by_code,
    position_in_group,
    rows_grouped_by_code,
)
from plait.core.codes.key_codes import KeyCodes, Rows, encode_keys
from plait.core.job.executor import map_ordered
from plait.core.lineage.paths import Sums, row_checksums
from plait.core.operations.comparison.cell_changes import rows_that_differ
from plait.core.table.table import Table
from plait.core.text.cells import to_text
from plait.core.text.hash_table import Codes
from plait.core.types.inference import canonical_number_text

Names = Sequence[tuple[str, str]]
_NO_ROWS = np.empty(0, np.int64)

_SAMPLE = 20_000
_SURE, _LIKE = 0.9, 0.5
_LEAST_VALUES = 2


@dataclass(frozen=True, eq=False)
class RecordPairs:
    """Rows of two tables that are one record, and those that have no partner.

    Parameters
    ----------
    old, new : arrays of int
        The partners, of equal length: row ``old[n]`` became ``new[n]``.
    gone, added : arrays of int
        Rows of the old table only, rows of the new one only.
    repeated : pair of arrays of int
        The first row of each key that is on several rows of a table: rows of the old table,
        and of the new one for keys that only it has.
    keys_repeated : int
        How many keys are on several rows of either.
    """

    old: Rows
    new: Rows
    gone: Rows
    added: Rows
    repeated: tuple[Rows, Rows]
    keys_repeated: int = 0


def pair_by_key(old: Table, new: Table, coding: KeyCodes, shared: Names) -> RecordPairs:
    """Pair the rows of keys that are on one row of each table.

    Parameters
    ----------
    coding : KeyCodes
        Of their keys; missing parts match one another.
    shared : sequence of (str, str)
        The columns that both have, by their old and their new names.

    Notes
    -----
    Which of several rows of a key became which is never guessed: those that are equal
    as wholes are partners, as many as there are on both sides; the others have none.
    """
    counts = coding.counts(0), coding.counts(1)
    both = (counts[0] > 0) & (counts[1] > 0)
    single = both & (counts[0] == 1) & (counts[1] == 1)
    here = np.flatnonzero(gather_by_code(single, coding.codes[0], False))
    there = first_row_of_each_code(coding.codes[1], coding.code_count)[coding.codes[0][here]]
    several = (counts[0] > 1) | (counts[1] > 1)
    if not several.any():
        return RecordPairs(here, there, *_alone(coding, both), (_NO_ROWS, _NO_ROWS))
    mask = both & several
    some = [np.flatnonzero(gather_by_code(mask, codes, False)) for codes in coding.codes]
    equal = _equal_wholes(old, new, shared, some)
    alone = [
        np.sort(np.concatenate([lonely, _without(every, rows)]))
        for lonely, every, rows in zip(_alone(coding, both), some, equal, strict=True)
    ]
    partners = [np.concatenate(one) for one in zip((here, there), equal, strict=True)]
    order = np.argsort(partners[0], kind="stable")
    return RecordPairs(
        partners[0][order],
        partners[1][order],
        alone[0],
        alone[1],
        _first_rows_of_repeated(coding, several),
        int(several.sum()),
    )


def pair_equal_rows(old: Table, new: Table, shared: Names) -> RecordPairs:
    """Pair equal rows, as many as there are on both sides; nothing else is a partner."""
    every = [np.arange(table.rows) for table in (old, new)]
    here, there = _equal_wholes(old, new, shared, every)
    order = np.argsort(here, kind="stable")
    gone, added = _without(every[0], here), _without(every[1], there)
    return RecordPairs(here[order], there[order], gone, added, (_NO_ROWS, _NO_ROWS))


def _without(rows: Rows, taken: Rows) -> Rows:
    """Rows, in order, but for those that were taken."""
    left = np.zeros(int(rows.max(initial=-1)) + 1, bool)
    left[rows] = True
    left[taken] = False
    found: Rows = np.flatnonzero(left)
    return found


def _alone(coding: KeyCodes, both: npt.NDArray[np.bool_]) -> tuple[Rows, Rows]:
    """The rows of each table whose key is not on the other side."""
    old, new = (np.flatnonzero(~gather_by_code(both, codes, False)) for codes in coding.codes)
    return old, new


def _first_rows_of_repeated(coding: KeyCodes, several: npt.NDArray[np.bool_]) -> tuple[Rows, Rows]:
    """The first rows of keys that are on several: old ones, and new ones of keys only there."""
    old = first_row_of_each_code(coding.codes[0], coding.code_count)[several]
    new = first_row_of_each_code(coding.codes[1], coding.code_count)[several]
    return old[old >= 0], new[old < 0]


def _equal_wholes(old: Table, new: Table, shared: Names, rows: Sequence[Rows]) -> tuple[Rows, Rows]:
    """Pairs of rows, among some of both tables, that are equal in all columns.

    Notes
    -----
    Most rows are equal to the letter, and many are where they were. The others of them are
    found by a sum over each row's cells, and compared then, so that nothing is left to the
    sum. What is left, rows of equal value that are written otherwise among them, is coded
    column by column.
    """
    paired: list[tuple[Rows, Rows]] = []
    rest = list(rows)
    for way in (_where_they_were, _equal_letters, _equal_values):
        if shared and len(rest[0]) and len(rest[1]):
            paired.append(way(old, new, shared, rest))
            rest = [_without(r, one) for r, one in zip(rest, paired[-1], strict=True)]
    here, there = (np.concatenate([_NO_ROWS, *(pair[side] for pair in paired)]) for side in (0, 1))
    return here, there


def _where_they_were(
    old: Table, new: Table, shared: Names, rows: Sequence[Rows]
) -> tuple[Rows, Rows]:
    """Pairs of the first rows, the second rows, …, that are the same texts."""
    number = min(map(len, rows))
    here, there = rows[0][:number], rows[1][:number]
    same = _are_the_same(old, new, shared, (here, there))
    return here[same], there[same]


def _are_the_same(
    old: Table, new: Table, shared: Names, rows: tuple[Rows, Rows]
) -> npt.NDArray[np.bool_]:
    """Whether the cells of rows are the same texts."""
    same = np.ones(len(rows[0]), bool)
    sides = old.take(rows[0]), new.take(rows[1])
    for before, after in shared:
        same[rows_that_differ(*sides, (before, after))] = False
    return same


def _equal_letters(
    old: Table, new: Table, shared: Names, rows: Sequence[Rows]
) -> tuple[Rows, Rows]:
    """Pairs of rows whose cells are the same texts, in the order of the old ones."""
    old_rows, new_rows = rows
    pairs = _equal_sums(old.take(old_rows), new.take(new_rows), shared)
    order = np.argsort(pairs[0], kind="stable")
    here, there = old_rows[pairs[0][order]], new_rows[pairs[1][order]]
    same = _are_the_same(old, new, shared, (here, there))
    return here[same], there[same]


def _equal_sums(old: Table, new: Table, shared: Names) -> tuple[Rows, Rows]:
    """Pairs of rows of equal sums."""
    sums = [_sums(old, [one for one, _ in shared]), _sums(new, [one for _, one in shared])]
    values, which, _ = dense_rank(np.concatenate(sums))
    return pair_equal_codes(np.split(which, [old.rows]), len(values))


def _sums(table: Table, names: Sequence[str]) -> Sums:
    columns = [table.column(name) for name in names]

    def part(span: tuple[int, int]) -> Sums:
        return row_checksums((table.cells(column, *span) for column in columns), span[1] - span[0])

    return np.concatenate(list(map_ordered(part, list(table.row_ranges()))))


def _equal_values(old: Table, new: Table, shared: Names, rows: Sequence[Rows]) -> tuple[Rows, Rows]:
    """Pairs of rows, among some of both tables, whose cells have the same values."""
    # What its cells are is a question of a whole column, not of these rows of it.
    old = old.with_types({name: old.column_type(name).of_texts for name, _ in shared})
    new = new.with_types({name: new.column_type(name).of_texts for _, name in shared})
    names = [list(side) for side in zip(*shared, strict=True)]
    coding = encode_keys([old.take(rows[0]), new.take(rows[1])], names, missing_match=True)
    here, there = pair_equal_codes(coding.codes, coding.code_count)
    return rows[0][here], rows[1][there]


def pair_equal_codes(codes: Sequence[Codes], size: int) -> tuple[Rows, Rows]:
    """Rows of equal codes, as many of each as are on both sides: the first of them.

    >>> old, new = pair_equal_codes([np.array([1, 0, 1]), np.array([1, 2])], 3)
    >>> old.tolist(), new.tolist()
    ([0], [0])
    """
    counts = [count_codes(code, size) for code in codes]
    common = np.minimum(*counts)
    old, new = (_first_few(c, own, common) for c, own in zip(codes, counts, strict=True))
    return old, new


def _first_few(codes: Codes, counts: Counts, few: Counts) -> Rows:
    """The first rows of each code, so many of each, code after code."""
    rows, _ = rows_grouped_by_code(codes, counts)
    kept: Rows = rows[position_in_group(counts) < np.repeat(few, counts)]
    return kept


def find_renamed_columns(
    old: Table, new: Table, gone: Sequence[str], added: Sequence[str]
) -> dict[str, str]:
    """Which columns of the old table are which of the new: new name to old name.

    Parameters
    ----------
    old, new : Table
        Rows of one number are the same record.
    gone, added : sequence of str
        Columns that only one of them has.

    Notes
    -----
    Two columns are one where at least nine of ten cells are equal, of those with a value in
    either, and they hold more than one value; half of the cells are enough where the names
    differ in case, space and punctuation only. Up to 20,000 rows, evenly spread, are looked at.

    Examples
    --------
    >>> from plait.core.table.table import table_from_columns
    >>> old = table_from_columns("old", {"Moistre": ["17", "18"], "kg": ["1", "2"]})
    >>> new = table_from_columns("new", {"Moisture": ["17", "18.0"], "yard": ["a", "b"]})
    >>> find_renamed_columns(old, new, ["Moistre", "kg"], ["Moisture", "yard"])
    {'Moisture': 'Moistre'}
    """
    if not gone or not added or not old.rows:
        return {}
    rows = np.linspace(0, old.rows - 1, min(old.rows, _SAMPLE)).astype(np.int64)
    before = {name: _cells(old.project([name]).take(rows), name) for name in gone}
    after = {name: _cells(new.project([name]).take(rows), name) for name in added}
    likely = sorted(
        (
            (-share, gone.index(one), added.index(other))
            for one, ours in before.items()
            for other, theirs in after.items()
            if (share := _share(ours, theirs))
            >= (_LIKE if fold_heading(one) == fold_heading(other) else _SURE)
        )
    )
    found: dict[str, str] = {}
    for _, here, there in likely:
        if added[there] not in found and gone[here] not in found.values():
            found[added[there]] = gone[here]
    return dict(sorted(found.items(), key=lambda pair: added.index(pair[0])))


def _cells(table: Table, name: str) -> pa.Array:
    """The cells as texts, numbers in one spelling each."""
    texts = pa.concat_arrays(
        [to_text(chunk).cast(pa.string()) for chunk in table.chunks(name).chunks]
    )
    texts = pc.fill_null(texts, "")
    return canonical_number_text(texts) if table.column_type(name).is_plain_number else texts


def _share(ours: pa.Array, theirs: pa.Array) -> float:
    """How many cells are equal, of those with a value in either; none where one value is all."""
    some = pc.or_(pc.not_equal(ours, ""), pc.not_equal(theirs, ""))
    equal = pc.and_(pc.equal(ours, theirs), some)
    if not pc.any(equal).as_py() or len(set(ours.filter(equal).to_pylist())) < _LEAST_VALUES:
        return 0.0
    return float(pc.sum(equal).as_py() / pc.sum(some).as_py())
