"""The rows behind a number: the first of them, as a page shows them."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from plait.core.base.findings import Finding
from plait.core.base.ledger import KEY_MISSING, LedgerLine
from plait.core.keys.conflicts import CellConflicts
from plait.core.table.table import SetAside, Table
from plait.core.text.cells import to_text

MOST_ROWS = 200
_MOST_CELLS, _MOST_LETTERS = 8000, 200_000
# Which lists have the rows that a finding counts.
_LISTS = {
    "key-unmatched": ("unmatched",),
    "key-missing": ("unmatched", "no-key"),
    "row-repeat": ("repeats",),
    "settle-conflict": ("conflict",),
    "source-conflict": ("conflicts",),
    "footer-lines": ("notes",),
    "cell-unfit": ("unfit",),
    "row-ragged": ("ragged",),
}


@dataclass(frozen=True)
class DrillDown:
    """The rows that a number counts, or the first of them.

    Parameters
    ----------
    name : str
        What the page knows those of a whole table by; nothing for a list.
    title : str
        What they are, in a few words.
    rows : int
        All of them.
    step : int
        The step that they are of, from 1; 0 for those of reading.
    table : str
        The table that they are of.
    list_kind : str
        What the list is, where it is one of rows set aside: ``unmatched``.
    reason : str
        Where the list has several, the one of these.
    in_result : bool
        Whether they are in the result all the same.
    file : str
        Where all of them are, seen from the page; nothing where that is no file.
    cells : tuple of sequence of (str or None)
        A column each.
    """

    name: str
    title: str
    rows: int
    step: int
    table: str
    list_kind: str
    reason: str
    in_result: bool
    file: str
    columns: tuple[str, ...]
    cells: tuple[Sequence[str | None], ...]


def drill_down_table(name: str, what: str, table: Table, step: int = 0) -> DrillDown:
    """The first rows of a table."""
    return _behind(name, what, table, table.rows, step, table.name)


def drill_down_list(
    set_aside: SetAside | CellConflicts, file: str, step: int
) -> Iterable[DrillDown]:
    """A list of rows set aside; where it has rows of two reasons, each apart as well."""
    listed, source, kind = set_aside.listed(), set_aside.source, set_aside.kind
    kept, title = set_aside.in_result, _listing_title(set_aside, "")
    yield _behind("", title, listed, set_aside.rows, step, source, kind, "", kept, file)
    for reason, rows in _by_reason(set_aside):
        some, title = listed.take(rows[:MOST_ROWS]), _listing_title(set_aside, reason)
        yield _behind("", title, some, len(rows), step, source, kind, reason, kept, file)


def _listing_title(set_aside: SetAside | CellConflicts, reason: str) -> str:
    if set_aside.cells_only:
        return f"cells that differ: {set_aside.name}"
    return (
        f"rows of {set_aside.table.name}: {reason}"
        if reason
        else f"rows set aside: {set_aside.name}"
    )


def _by_reason(set_aside: SetAside | CellConflicts) -> Iterable[tuple[str, npt.NDArray[np.int64]]]:
    """The rows of each of a few reasons."""
    reasons = getattr(set_aside, "reason", None)
    if not isinstance(reasons, pa.DictionaryArray):
        return
    codes = reasons.indices.to_numpy()
    for code, reason in enumerate(reasons.dictionary.to_pylist()):
        rows = np.flatnonzero(codes == code)
        if len(rows):
            yield reason, rows


def _behind(
    name: str, what: str, table: Table, rows: int, step: int, of: str, listed: str = "",
    reason: str = "", kept: bool = True, file: str = "",
) -> DrillDown:  # fmt: skip
    most = max(min(MOST_ROWS, table.rows, _MOST_CELLS // max(len(table.columns), 1)), 0)
    cells = [to_text(table.cells(column, 0, most)).to_pylist() for column in table.columns]
    some = _with_room(cells)
    columns = tuple(table.column_names)
    shown = tuple(column[:some] for column in cells)
    return DrillDown(name, what, rows, step, of, listed, reason, kept, file, columns, shown)


def _with_room(cells: Sequence[Sequence[str | None]]) -> int:
    """How many rows have so few letters that a page has room for them: one at least."""
    letters = 0
    for number, row in enumerate(zip(*cells, strict=True)):
        letters += sum(len(cell or "") for cell in row)
        if number and letters > _MOST_LETTERS:
            return number
    return len(cells[0]) if cells else 0


def drill_down_of_finding(
    finding: Finding, step: int, drill_downs: Sequence[DrillDown]
) -> DrillDown | None:
    """The rows that a finding counts, where they are listed.

    Parameters
    ----------
    step : int
        The step it is of; 0 for reading.
    """
    kinds = _LISTS.get(finding.code, ())
    reason = KEY_MISSING if finding.code == "key-missing" else ""
    of_a_key = finding.code.startswith("key-")
    for drill_down in drill_downs:
        here = drill_down.step == step and drill_down.table == finding.where.source
        if not here or drill_down.list_kind not in kinds:
            continue
        # Rows without a key are in a list of their own, or among the unmatched, with a reason.
        missing = KEY_MISSING if drill_down.list_kind == "no-key" else drill_down.reason
        if not of_a_key or (drill_down.rows == finding.count
                            and (missing == KEY_MISSING) == (reason == KEY_MISSING)):  # fmt: skip
            return drill_down
    return None


def drill_down_of_line(
    line: LedgerLine, step: int, drill_downs: Sequence[DrillDown]
) -> DrillDown | None:
    """The rows that a line of the ledger leaves out, where they are listed.

    >>> drill_down_of_line(LedgerLine("rows of hives", 4), 1, ()) is None
    True
    """
    if line.listing is None:
        return None
    for drill_down in drill_downs:
        asked = line.listing.reason == KEY_MISSING
        if (
            (drill_down.step, drill_down.table) == (step, line.listing.source)
            and drill_down.list_kind == line.listing.kind
            and drill_down.rows == -line.rows
            and (drill_down.reason == KEY_MISSING) == asked
        ):
            return drill_down
    return None
