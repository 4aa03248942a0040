"""Which steps a column of the result went through, and which of them changed its cells."""

from __future__ import annotations

from typing import Any

from plait.core.table.table import Table
from plait.plan.work.work import Done, Worked


def touching(worked: Worked, column: str) -> list[dict[str, Any]]:
    """The steps that a column came through, in order.

    Parameters
    ----------
    worked : Worked
    column : str
        Of the result.

    Returns
    -------
    list of dict
        ``step`` (its title) and ``changed``: whether it made or changed cells of
        the column, and did not only carry them on.
    """
    wanted = set(worked.result.came(column))
    path = []
    for step in _leading(worked):
        table = step.result.table
        through = [
            name
            for name in table.column_names
            if (wanted & set(table.came(name))) or (not wanted and name == column)
        ]
        if through:
            path.append({"step": step.title, "changed": _changed(worked, step, column, through)})
    return path


def _leading(worked: Worked) -> list[Done]:
    """The steps on whose results the result rests."""
    assert worked.loaded.plan.handover is not None
    needed, found = {worked.loaded.plan.handover.result}, []
    for step in reversed(worked.steps):
        if step.name in needed:
            found.append(step)
            needed.discard(step.name)
            needed.update(step.inputs)
    return found[::-1]


def _changed(worked: Worked, step: Done, column: str, through: list[str]) -> bool:
    """Whether the step made or changed the cells of the column itself."""
    name = column if column in through else through[0]
    if step.verb == "mend":
        return _made_here(step.result.table, name)
    return step.verb in ("group", "settle", "widen") and _made_here(step.result.table, name)


def _made_here(table: Table, name: str) -> bool:
    """Whether the cells are in a strand of no source, as made ones do."""
    return any(not table.strands[strand].has_sources for strand, _ in table.column(name).parts)
