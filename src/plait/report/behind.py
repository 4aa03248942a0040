"""The rows behind a number: the first of them, as a page shows them."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from plait.core.account.finding import Finding
from plait.core.account.ledger import Line
from plait.core.keys.conflicts import Conflicts
from plait.core.table.table import SetAside, Table
from plait.core.text.cells import as_text

MOST_ROWS = 200
_MOST_CELLS, _MOST_LETTERS = 8000, 200_000
_NO_KEY = "key is missing"
# Which list has the rows that a finding counts, by how its name ends.
_LISTS: dict[str, str | tuple[str, ...]] = {
    "key-unmatched": "-unmatched",
    "key-missing": ("-unmatched", "-no-key"),
    "row-repeat": "-repeats",
    "settle-conflict": "-conflict",
    "source-conflict": "-conflicts",
    "footer-lines": "-notes",
    "cell-unfit": "-unfit",
    "row-ragged": "-ragged",
}


@dataclass(frozen=True)
class Behind:
    """The rows that a number counts, or the first of them.

    Parameters
    ----------
    name : str
        What the page knows those of a whole table by; nothing for a list.
    what : str
        What they are, in a few words.
    rows : int
        All of them.
    step : int
        The step that they are of, from 1; 0 for those of reading.
    table : str
        The table that they are of.
    listed : str
        What their list is called, where it is one of rows set aside.
    reason : str
        Where the list has several, the one of these.
    kept : bool
        Whether they are in the result all the same.
    file : str
        Where all of them are, seen from the page; nothing where that is no file.
    columns : tuple of str
    cells : tuple of sequence of (str or None)
        A column each.
    """

    name: str
    what: str
    rows: int
    step: int
    table: str
    listed: str
    reason: str
    kept: bool
    file: str
    columns: tuple[str, ...]
    cells: tuple[Sequence[str | None], ...]


def of_table(name: str, what: str, table: Table, step: int = 0) -> Behind:
    """The first rows of a table."""
    return _behind(name, what, table, table.rows, step, table.name)


def of_list(one: SetAside | Conflicts, file: str, step: int) -> Iterable[Behind]:
    """A list of rows set aside; where it has rows of two reasons, each apart as well.

    Parameters
    ----------
    one : SetAside or Conflicts
    file : str
    step : int
    """
    listed, of = one.listed(), one.name if one.cells_only else one.table.name
    kept = one.in_result
    yield _behind("", _said(one, ""), listed, one.rows, step, of, one.name, "", kept, file)
    for reason, rows in _by_reason(one):
        some = listed.at(rows[:MOST_ROWS])
        what = _said(one, reason)
        yield _behind("", what, some, len(rows), step, of, one.name, reason, kept, file)


def _said(one: SetAside | Conflicts, reason: str) -> str:
    if one.cells_only:
        return f"cells that differ: {one.name}"
    return f"rows of {one.table.name}: {reason}" if reason else f"rows set aside: {one.name}"


def _by_reason(one: SetAside | Conflicts) -> Iterable[tuple[str, npt.NDArray[np.int64]]]:
    """The rows of each of a few reasons."""
    reasons = getattr(one, "reason", None)
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
) -> Behind:  # fmt: skip
    most = max(min(MOST_ROWS, table.rows, _MOST_CELLS // max(len(table.columns), 1)), 0)
    cells = [as_text(table.cells(column, 0, most)).to_pylist() for column in table.columns]
    some = _with_room(cells)
    columns = tuple(table.column_names)
    shown = tuple(column[:some] for column in cells)
    return Behind(name, what, rows, step, of, listed, reason, kept, file, columns, shown)


def _with_room(cells: Sequence[Sequence[str | None]]) -> int:
    """How many rows have so few letters that a page has room for them: one at least."""
    letters = 0
    for number, row in enumerate(zip(*cells, strict=True)):
        letters += sum(len(cell or "") for cell in row)
        if number and letters > _MOST_LETTERS:
            return number
    return len(cells[0]) if cells else 0


def behind_finding(finding: Finding, step: int, every: Sequence[Behind]) -> Behind | None:
    """The rows that a finding counts, where they are listed.

    Parameters
    ----------
    finding : Finding
    step : int
        The step it is of; 0 for reading.
    every : sequence of Behind
    """
    endings = _LISTS.get(finding.code)
    of = finding.source
    if endings is None or not of:
        return None
    for one in every:
        if one.step == step and one.listed.endswith(endings) and one.listed.startswith(of):
            missing = finding.code == "key-missing" and not one.listed.endswith("-no-key")
            fits = one.table == of and (one.reason == _NO_KEY) == missing
            if not finding.code.startswith("key-") or (fits and one.rows == finding.count):
                return one
    return None


def behind_line(line: Line, step: int, every: Sequence[Behind]) -> Behind | None:
    """The rows that a line of the ledger leaves out, where they are listed.

    >>> behind_line(Line("rows of hives", 4), 1, ()) is None
    True
    """
    if line.rows >= 0:
        return None
    alike = [
        one
        for one in every
        if one.step == step
        and one.listed
        and one.rows == -line.rows
        and (one.reason == _NO_KEY) == ("missing key" in line.reason)
    ]
    return next((one for one in alike if one.table in line.reason), alike[0] if alike else None)
