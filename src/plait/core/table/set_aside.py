"""Rows set aside: each with the reason, its source and its row number."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Protocol

import numpy as np
import numpy.typing as npt

from plait.core.base.findings import Finding, Location
from plait.core.base.wording import Setting, wording
from plait.core.table.table import SetAside, Table
from plait.core.text.cells import constant_text

MOST_OF_RESULT = 100_000


class RowListing(Protocol):
    """Rows that are listed in a file of their own."""

    @property
    def name(self) -> str:
        """Names the file."""

    @property
    def cells_only(self) -> bool:
        """Whether it is a list of cells, and none of rows."""

    @property
    def rows(self) -> int:
        """How many."""

    def listed(self) -> Table:
        """The rows, as the file has them."""


def truncate_listings(
    aside: Sequence[RowListing], limit: int | None, of_result: int = MOST_OF_RESULT
) -> list[tuple[Table, RowListing]]:
    """Each list as it is to be written: whole, or its first rows only.

    Parameters
    ----------
    limit : int, optional
        The rows of each list at most; 0 for no lists. Without it all rows that are
        left out, and ``of_result`` of cells that differ though their rows are not.
    """
    made = []
    for one in aside:
        most = limit if limit is not None else (of_result if one.cells_only else one.rows)
        listed = one.listed()
        if most:
            made.append((listed.take(np.arange(most)) if most < listed.rows else listed, one))
    return made


def report_truncated_listings(written: Sequence[tuple[Table, RowListing]]) -> list[Finding]:
    """Says which lists hold only their first rows."""
    return [
        Finding(
            "list-cut",
            "note",
            one.rows - table.rows,
            f"{table.rows:,} of {one.rows:,} rows of {one.name} listed",
            wording("to list all of them: ", Setting("aside_limit", "all")),
            Location(one.name),
        )
        for table, one in written
        if table.rows < one.rows
    ]


def set_rows_aside(
    table: Table,
    out: npt.NDArray[np.bool_],
    name: str,
    reason: str,
    cause: str,
    shown: Table | None = None,
) -> Table:
    """The table without some rows, which are set aside in it.

    Parameters
    ----------
    out : array of bool
        Which rows.
    name : str
        Goes behind the table's name: ``unfit``, ``footer``.
    reason, cause : str
        Beside each row, and in the ledger.
    shown : Table, optional
        The same rows with the cells to list, where they were changed since.

    Examples
    --------
    >>> from plait.core.table.table import table_from_columns
    >>> table = table_from_columns("t", {"a": ["x", "y"]})
    >>> kept = set_rows_aside(table, np.array([False, True]), "odd", "y", "odd rows")
    >>> kept.to_dict(), kept.set_aside[0].name, kept.set_aside[0].table.to_dict()
    ({'a': ['x']}, 't-odd', {'a': ['y']})
    """
    rows = replace((shown or table).take(np.flatnonzero(out)), findings=(), set_aside=())
    aside = SetAside(name, rows, constant_text(reason, rows.rows), False, cause)
    return replace(table.take(np.flatnonzero(~out)), set_aside=(*table.set_aside, aside))
