"""Which sources a row of a result came from."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from plait.core.account.names import distinct_name
from plait.core.codes.counting import distinct, first_rows
from plait.core.codes.mixing import mix
from plait.core.lineage.lineage import Thread, threads
from plait.core.table.table import Table
from plait.core.text.wordtable import Codes

Sets = list[tuple[int, ...]]

_NONE: Sets = [()]


def with_origin(table: Table, column: str) -> Table:
    """The table with a column that says which sources each row came from.

    Parameters
    ----------
    table : Table
    column : str
        The name of the new column, which stands last. Its cells are the names
        of the sources, joined by ``+``.

    Raises
    ------
    UsageError
        When there is a column of that name.

    Examples
    --------
    >>> from plait.core.verbs.stack import stack
    >>> from plait.core.table.table import from_columns
    >>> both = stack([from_columns("may", {"k": ["1"]}), from_columns("june", {"k": ["2"]})]).table
    >>> with_origin(both, "from").to_dict()["from"]
    ['may', 'june']
    """
    ways = [way for way in threads(table) if not way.strand.beside]
    names, ids = _source_names(ways)
    codes, sets = np.zeros(table.rows, np.int32), _NONE
    for way in ways:
        found, its = _sets_of(way, ids, table.rows)
        codes, sets = _both(codes, sets, found, its)
    texts = pa.array(["+".join(names[one] for one in each) for each in sets], pa.string())
    kind = pa.dictionary(pa.int32(), pa.string())
    chunks = [
        pa.DictionaryArray.from_arrays(pa.array(codes[start:stop]), texts)
        for start, stop in table.spans()
    ]
    return table.with_made(column, pa.chunked_array(chunks, kind))


def _source_names(ways: Sequence[Thread]) -> tuple[list[str], dict[int, int]]:
    """The names of all sources, each its own, and the number of each source's."""
    names: list[str] = []
    ids: dict[int, int] = {}
    for way in ways:
        for origin in way.origins:
            if id(origin) not in ids:
                ids[id(origin)] = len(names)
                names.append(distinct_name(origin.name, names))
    return names, ids


def _sets_of(way: Thread, ids: dict[int, int], rows: int) -> tuple[Codes, Sets]:
    """For each row the sources that a way leads to, as the number of a set of them."""
    which, origin, _ = way.rows(0, rows)
    number = np.array([ids[id(one)] for one in way.origins] or [0])[origin]
    if not way.several:
        codes = np.zeros(rows, np.int32)
        codes[which] = number + 1
        return codes, [(), *((one,) for one in range(int(number.max(initial=-1)) + 1))]
    pairs, _, _ = distinct(which * (len(ids) + 1) + number)
    return _in_sets(pairs // (len(ids) + 1), pairs % (len(ids) + 1), rows)


def _in_sets(
    which: npt.NDArray[np.int64], number: npt.NDArray[np.int64], rows: int
) -> tuple[Codes, Sets]:
    """Rows with several numbers each, the numbers of a row taken one after another."""
    codes, sets = np.zeros(rows, np.int32), _NONE
    while len(which):
        first = np.append(True, which[1:] != which[:-1])
        next_one = np.zeros(rows, np.int32)
        next_one[which[first]] = number[first] + 1
        single: Sets = [(), *((one,) for one in range(int(number.max()) + 1))]
        codes, sets = _both(codes, sets, next_one, single)
        which, number = which[~first], number[~first]
    return codes, sets


def _both(codes: Codes, sets: Sets, others: Codes, its: Sets) -> tuple[Codes, Sets]:
    """The sets of two codings of the same rows together; only those that there are."""
    (mixed,), size = mix([codes], len(sets), [others], len(its))
    first = first_rows(mixed, size)
    made = [
        tuple(dict.fromkeys((*sets[int(codes[row])], *its[int(others[row])])))
        for row in first.tolist()
    ]
    return mixed, made
