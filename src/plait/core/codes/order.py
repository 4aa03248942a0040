"""The order of rows by the values of columns."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.codes.counting import stable_order
from plait.core.codes.ordering import refuse_doubt, refuse_open_forms
from plait.core.table.keyspec import check_column
from plait.core.table.table import Table
from plait.core.text.cells import is_text
from plait.core.text.dictionary import TextDictionary
from plait.core.text.wordtable import Codes
from plait.core.types.kinds import arrow_type, as_kind


def sorted_rows(
    table: Table, columns: Sequence[str], doing: str = "--sort"
) -> npt.NDArray[np.int64]:
    """Row numbers in the order of some columns, ties as they stand, missing last.

    Parameters
    ----------
    table : Table
    columns : sequence of str
        The first counts most; ``desc`` behind a name puts the greatest first.
    doing : str
        What wants the order, for messages.

    Raises
    ------
    UsageError
        For a column that is not there, or text that is nearly something else.

    Notes
    -----
    Columns are sorted by in turn from the last to the first, each by its rank
    (least significant digit first; Knuth vol. 3, section 5.2.5). Numbers and
    dates sort by value, texts by their signs in Unicode.

    Examples
    --------
    >>> from plait.core.table.table import from_columns
    >>> sorted_rows(from_columns("t", {"a": ["10", "9", "", "9"]}), ["a"]).tolist()
    [1, 3, 0, 2]
    """
    order = np.arange(table.rows)
    for name in reversed(columns):
        column, falling = _direction(name, table)
        check_column(column, table)
        rank, size = ranks(table, column, falling, doing)
        order = order[stable_order(rank[order], size + 1)]
    return order


def _direction(name: str, table: Table) -> tuple[str, bool]:
    """The column in ``NAME``, ``NAME asc`` or ``NAME desc``, and whether it falls."""
    column, _, way = name.rpartition(" ")
    if table.has(name) or way.lower() not in ("asc", "desc"):
        return name, False
    return column.strip(), way.lower() == "desc"


def ranks(table: Table, name: str, falling: bool, doing: str) -> tuple[Codes, int]:
    """For each row the rank of its value among the distinct ones, missing last.

    ``doing`` is what wants the order, for messages.

    Returns
    -------
    ranks : array of int32
    size : int
        The rank of what is missing; no rank is greater.

    Raises
    ------
    UsageError
        For text of which many cells are numbers, dates or times: it has no sure order.
    """
    refuse_open_forms(table, name, doing)
    cells = table.whole(name)
    kind = table.kind(name)
    dictionary = TextDictionary()
    if is_text(cells.type):
        codes = dictionary.encode_all(cells)
        texts = dictionary.texts()
        if kind == "text":
            refuse_doubt(table, name, doing, texts, codes)
        values = as_kind(texts, kind, arrow_type(kind, pa.chunked_array([texts])))
        ranked = _ranked(values, falling)
    else:
        values = pa.chunked_array(cells.chunks, cells.type).combine_chunks()
        codes, ranked = np.arange(table.rows, dtype=np.int32), _ranked(values, falling)
    size = len(ranked)
    return np.append(ranked, np.int32(size))[codes], size


def _ranked(values: pa.Array, falling: bool) -> Codes:
    """Equal values have equal ranks; missing ones the greatest."""
    if not len(values):
        return np.zeros(0, np.int32)
    order = pc.array_sort_indices(
        values, order="descending" if falling else "ascending", null_placement="at_end"
    ).to_numpy()
    arranged = values.take(pa.array(order))
    new = pc.fill_null(pc.not_equal(arranged[1:], arranged[:-1]), True).to_numpy(
        zero_copy_only=False
    )
    rank = np.concatenate([[0], np.cumsum(new)])
    absent = arranged.is_null().to_numpy(zero_copy_only=False)
    rank[absent] = len(values)
    ranks = np.empty(len(values), np.int32)
    ranks[order] = rank
    return ranks
