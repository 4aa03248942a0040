"""Which tables a row of a result came from."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from plait.core.table import Strand, Table


def with_origin(table: Table, column: str) -> Table:
    """The table with a column that says which tables each row came from.

    Parameters
    ----------
    table : Table
    column : str
        The name of the new column, which stands last. Its cells are the names
        joined by ``+``.

    Raises
    ------
    UsageError
        When there is a column of that name.
    """
    sourced = [strand for strand in table.strands if strand.origins]
    texts = [_names_of(mask, sourced) for mask in range(1 << len(sourced))]
    names = pa.array(texts, pa.string())
    chunks = [
        pa.DictionaryArray.from_arrays(pa.array(_presence(sourced, start, stop)), names)
        for start, stop in table.spans()
    ]
    kind = pa.dictionary(pa.int32(), pa.string())
    return table.with_made(column, pa.chunked_array(chunks, kind))


def _names_of(mask: int, strands: Sequence[Strand]) -> str:
    return "+".join(strand.name for bit, strand in enumerate(strands) if mask >> bit & 1)


def _presence(strands: Sequence[Strand], start: int, stop: int) -> npt.NDArray[np.int32]:
    mask = np.zeros(stop - start, np.int32)
    for bit, strand in enumerate(strands):
        here = True if strand.index is None else strand.index[start:stop] >= 0
        mask |= np.int32(1 << bit) * np.asarray(here, np.int32)
    return mask
