"""Rows set aside: each with the reason, its source and its row number."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any, Protocol

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from plait.core.account.finding import Finding
from plait.core.account.names import distinct_name
from plait.core.table.strand import Strand, source_rows
from plait.core.table.table import Column, Table

MOST_OF_RESULT = 100_000


class Listed(Protocol):
    """Rows that are listed in a file of their own."""

    name: str
    cells_only: bool

    @property
    def rows(self) -> int:
        """How many."""

    def listed(self) -> Table:
        """The rows, as the file has them."""


@dataclass(frozen=True, eq=False)
class SetAside:
    """Rows of one table that are listed apart, with their reasons.

    Parameters
    ----------
    name : str
        Names the file they are written to.
    table : Table
        The rows, with their cells as they were.
    reason : pyarrow.Array
        For each row its reason, as text.
    in_result : bool
        Whether these rows stand in the result all the same, as the unmatched
        left rows of a left join do.
    """

    name: str
    table: Table
    reason: pa.Array
    in_result: bool

    cells_only = False

    @property
    def rows(self) -> int:
        return self.table.rows

    def listed(self) -> Table:
        """The rows with ``reason``, ``source`` and ``row`` in front of their cells.

        ``row`` counts from 1 in the source, the header not counted. A row that
        several sources went into has their names and numbers joined by ``+``.
        """
        table = self.table
        names, numbers = whence(table)
        made = {"reason": self.reason, "source": names, "row": numbers}
        stored = {
            distinct_name(name, table.column_names): pa.chunked_array([cells])
            for name, cells in made.items()
        }
        front = tuple(Column(name, ((len(table.strands), name),)) for name in stored)
        strands = (*table.strands, Strand("set aside", stored, ()))
        return Table(self.name, front + table.columns, strands, table.rows)


def limited(
    aside: Sequence[Listed], limit: int | None, of_result: int = MOST_OF_RESULT
) -> list[tuple[Table, Listed]]:
    """Each list as it is to be written: whole, or its first rows only.

    Parameters
    ----------
    aside : sequence of SetAside or Conflicts
    limit : int, optional
        The rows of each list at most; 0 for no lists. Without it all rows that are
        left out, and ``of_result`` of cells that differ though their rows are not.

    Returns
    -------
    list of (Table, list)
    """
    made = []
    for one in aside:
        most = limit if limit is not None else (of_result if one.cells_only else one.rows)
        listed = one.listed()
        if most:
            made.append((listed.at(np.arange(most)) if most < listed.rows else listed, one))
    return made


def cut_findings(written: Sequence[tuple[Table, Listed]]) -> list[Finding]:
    """Says which lists hold only their first rows."""
    return [
        Finding(
            "list-cut",
            "note",
            one.rows - table.rows,
            f"the list of {one.name} has the first {table.rows:,} of {one.rows:,} rows",
            "--aside-limit all lists every one",
            one.name,
        )
        for table, one in written
        if table.rows < one.rows
    ]


def left_out(
    table: Table, out: npt.NDArray[np.bool_], name: str, reason: str, shown: Table | None = None
) -> Table:
    """The table without some rows, which are set aside in it.

    Parameters
    ----------
    table : Table
    out : array of bool
        Which rows.
    name : str
        Goes behind the table's name: ``unfit``, ``footer``.
    reason : str
    shown : Table, optional
        The same rows with the cells to list, where they were changed since.

    Examples
    --------
    >>> from plait.core.table.table import from_columns
    >>> kept = left_out(from_columns("t", {"a": ["x", "y"]}), np.array([False, True]), "odd", "y")
    >>> kept.to_dict(), kept.aside[0].name, kept.aside[0].table.to_dict()
    ({'a': ['x']}, 't-odd', {'a': ['y']})
    """
    rows = replace((shown or table).at(np.flatnonzero(out)), findings=(), aside=())
    aside = SetAside(f"{table.name}-{name}", rows, pa.array([reason] * rows.rows), False)
    return replace(table.at(np.flatnonzero(~out)), aside=(*table.aside, aside))


def whence(table: Table) -> tuple[pa.Array, pa.Array]:
    """For each row the name of its source, and its row number there from 1."""
    sourced = [strand for strand in table.strands if strand.has_sources]
    rows = np.arange(table.rows)
    if len(sourced) == 1:
        origin, within = source_rows(sourced[0], rows)
        absent = origin < 0
        names = pa.array([origin.name for origin in sourced[0].origins], pa.string())
        numbers = pa.array(within + 1, pa.int64(), mask=absent)
        return names.take(pa.array(origin, mask=absent)), numbers
    return _joined_whence(sourced, rows)


def _joined_whence(
    strands: Sequence[Strand], rows: npt.NDArray[np.int64]
) -> tuple[pa.Array, pa.Array]:
    names, numbers = [], []
    seen: list[tuple[Strand, npt.NDArray[np.integer[Any]], npt.NDArray[np.integer[Any]]]] = []
    for strand in strands:
        origin, within = source_rows(strand, rows)
        absent = origin < 0
        for other, its_origin, its_within in seen:
            # A row that two strands of one source both show is one row.
            if other.origins is strand.origins:
                absent |= (its_origin == origin) & (its_within == within)
        seen.append((strand, origin, within))
        known = pa.array([one.name for one in strand.origins], pa.string())
        names.append(known.take(pa.array(origin, mask=absent)))
        numbers.append(pc.cast(pa.array(within + 1, pa.int64(), mask=absent), pa.string()))
    return (
        pc.binary_join_element_wise(*names, "+", null_handling="skip"),
        pc.binary_join_element_wise(*numbers, "+", null_handling="skip"),
    )
