"""Columns that have another name now, found from what is in them."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.account.names import folded
from plait.core.table.table import Table
from plait.core.text.cells import as_text
from plait.core.types.kinds import NUMBERS, plain_number

_SAMPLE = 20_000
_SURE, _LIKE = 0.9, 0.5
_LEAST_VALUES = 2


def renamed_columns(
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
    >>> from plait.core.table.table import from_columns
    >>> old = from_columns("old", {"Moistre": ["17", "18"], "kg": ["1", "2"]})
    >>> new = from_columns("new", {"Moisture": ["17", "18.0"], "yard": ["a", "b"]})
    >>> renamed_columns(old, new, ["Moistre", "kg"], ["Moisture", "yard"])
    {'Moisture': 'Moistre'}
    """
    if not gone or not added or not old.rows:
        return {}
    rows = np.linspace(0, old.rows - 1, min(old.rows, _SAMPLE)).astype(np.int64)
    before = {name: _cells(old.keeping([name]).at(rows), name) for name in gone}
    after = {name: _cells(new.keeping([name]).at(rows), name) for name in added}
    likely = sorted(
        (
            (-share, gone.index(one), added.index(other))
            for one, ours in before.items()
            for other, theirs in after.items()
            if (share := _share(ours, theirs)) >= (_LIKE if folded(one) == folded(other) else _SURE)
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
        [as_text(chunk).cast(pa.string()) for chunk in table.whole(name).chunks]
    )
    texts = pc.fill_null(texts, "")
    return plain_number(texts) if table.kind_in_words(name) in NUMBERS else texts


def _share(ours: pa.Array, theirs: pa.Array) -> float:
    """How many cells are equal, of those with a value in either; none where one value is all."""
    some = pc.or_(pc.not_equal(ours, ""), pc.not_equal(theirs, ""))
    equal = pc.and_(pc.equal(ours, theirs), some)
    if not pc.any(equal).as_py() or len(set(ours.filter(equal).to_pylist())) < _LEAST_VALUES:
        return 0.0
    return float(pc.sum(equal).as_py() / pc.sum(some).as_py())
