"""Cells on which two tables disagree, listed one by one with both places."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from plait.core.account.finding import Place
from plait.core.account.names import distinct_name
from plait.core.table.strand import Strand
from plait.core.table.table import Column, Table
from plait.core.text.cells import as_text


@dataclass(frozen=True, eq=False)
class Conflicts:
    """A list of cells that differ. Their rows are in the result all the same.

    Parameters
    ----------
    name : str
        Names the file they are written to.
    table : Table
        A row for each pair of cells: the key, the column, both values, both places.
    sides : tuple of Table
        For each row of the list the row of either side, without its cells.
    """

    name: str
    table: Table
    sides: tuple[Table, ...]

    in_result = True
    cause = ""
    cells_only = True

    @property
    def rows(self) -> int:
        """How many pairs of cells."""
        return self.table.rows

    def listed(self) -> Table:
        """The list itself."""
        return self.table

    def places(self, row: int) -> tuple[Place, ...]:
        """Where the two cells of a row of the list are."""
        return tuple(place for side in self.sides for place in side.places(row)[:1])


@dataclass(frozen=True, eq=False)
class Differing:
    """The rows on which two columns of a joined table differ, and the columns."""

    name: str
    here: Column
    there: Column
    rows: npt.NDArray[np.int64]


def listed_conflicts(
    both: Table, left_strands: int, key: Sequence[str], found: Sequence[Differing]
) -> Conflicts:
    """List the differing cells of a join.

    Parameters
    ----------
    both : Table
        The joined rows; the left table's strands come first.
    left_strands : int
        How many those are.
    key : sequence of str
        The left table's key columns.
    found : sequence of Differing
    """
    rows = np.concatenate([one.rows for one in found])
    shown = both.at(rows)
    ends = np.cumsum([0, *(len(one.rows) for one in found)]).tolist()
    spans = list(pairwise(ends))
    names = pa.array([one.name for one in found])
    which = np.repeat(np.arange(len(found), dtype=np.int32), np.diff(ends))
    made = {"column": pa.chunked_array([pa.DictionaryArray.from_arrays(which, names)])}
    for side in ("left", "right"):
        cells = [
            as_text(shown.cells(one.here if side == "left" else one.there, *span)).cast(pa.string())
            for one, span in zip(found, spans, strict=True)
        ]
        made[f"{side} value"] = pa.chunked_array(cells, pa.string())
    sides = tuple(
        Table(name, (), strands, both.rows).at(rows)
        for name, strands in (
            ("left", both.strands[:left_strands]),
            ("right", both.strands[left_strands:]),
        )
    )
    for one_side in sides:
        made[f"{one_side.name} source"], made[f"{one_side.name} place"] = one_side.whence()
    return Conflicts(f"{both.name}-conflicts", _beside(shown, key, made), sides)


def _beside(shown: Table, key: Sequence[str], made: dict[str, pa.ChunkedArray]) -> Table:
    """The key's columns, and the made ones behind them."""
    columns = [shown.column(name) for name in key if shown.has(name)]
    stored = {distinct_name(name, [one.name for one in columns]): c for name, c in made.items()}
    number = len(shown.strands)
    columns += [Column(name, ((number, name),)) for name in stored]
    strands = (*shown.strands, Strand("conflicts", stored, ()))
    return Table("conflicts", tuple(columns), strands, shown.rows)
