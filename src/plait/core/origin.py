"""Which tables a row of a result came from."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from plait.core.strand import Strand
from plait.core.table import Table


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
    sourced = _by_name(table)
    texts = [_names_of(mask, list(sourced)) for mask in range(1 << len(sourced))]
    names = pa.array(texts, pa.string())
    chunks = [
        pa.DictionaryArray.from_arrays(
            pa.array(_presence(list(sourced.values()), start, stop)), names
        )
        for start, stop in table.spans()
    ]
    kind = pa.dictionary(pa.int32(), pa.string())
    return table.with_made(column, pa.chunked_array(chunks, kind))


def _by_name(table: Table) -> dict[str, list[Strand]]:
    """The strands that show sources; those of one table together."""
    named: dict[str, list[Strand]] = {}
    for number, strand in enumerate(table.strands):
        if strand.has_sources:
            same = [name for name, held in named.items() if held[0].origins is strand.origins]
            name = same[0] if same else strand.name
            name = name if same or name not in named else f"{name} ({number + 1})"
            named.setdefault(name, []).append(strand)
    return named


def _names_of(mask: int, names: Sequence[str]) -> str:
    return "+".join(name for bit, name in enumerate(names) if mask >> bit & 1)


def _presence(named: Sequence[Sequence[Strand]], start: int, stop: int) -> npt.NDArray[np.int32]:
    mask = np.zeros(stop - start, np.int32)
    for bit, strands in enumerate(named):
        for strand in strands:
            here = True if strand.index is None else strand.index[start:stop] >= 0
            mask |= np.int32(1 << bit) * np.asarray(here, np.int32)
    return mask
