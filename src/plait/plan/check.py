"""Check: what a plan would do, step by step, and what a run would cost."""

from __future__ import annotations

import io
import sys
import time
from dataclasses import dataclass

from plait.core.account.finding import Finding, counted
from plait.core.account.ledger import Entry
from plait.core.account.parallel import ordered_map
from plait.core.table.table import Table
from plait.formats.outputs import write_csv_to
from plait.plan.handing.handover import endings_of, folder_of
from plait.plan.work.work import Worked

_SAMPLE = 1 << 17
_LEAST = 1.0


@dataclass(frozen=True)
class ColumnForeseen:
    """A column, its type, and whether the step is the first to have it."""

    name: str
    kind: str
    new: bool


@dataclass(frozen=True)
class StepForeseen:
    """A step, and the table it would give."""

    title: str
    line: int
    rows: int
    columns: tuple[ColumnForeseen, ...]
    findings: int
    seconds: float


@dataclass(frozen=True)
class Foreseen:
    """What a run would do.

    Parameters
    ----------
    answer : str
        In one line.
    steps : tuple of StepForeseen
    ledger : tuple of Entry
    findings : tuple of Finding
    seconds : float
        That a run would take: what was measured now, and the writing as fast as
        that of a part.
    memory : int
        Bytes, the most that was held; 0 where the system does not tell.
    """

    answer: str
    steps: tuple[StepForeseen, ...]
    ledger: tuple[Entry, ...]
    findings: tuple[Finding, ...]
    seconds: float
    memory: int


def check(worked: Worked) -> Foreseen:
    """What a run of a plan would do, of which everything but the writing was done."""
    seconds = worked.reading + sum(step.seconds for step in worked.steps)
    handover = worked.loaded.plan.handover
    answer = "the plan hands over nothing: it has no [handover]"
    if handover is not None and handover.result in worked.results:
        table = worked.result
        seconds += _writing(table) * len(endings_of(worked.loaded))
        answer = (
            f"a run would hand over {folder_of(worked.loaded)}/: {handover.result}, "
            f"{counted(table.rows, 'row')}, {len(table.columns)} columns"
        )
    return Foreseen(
        answer,
        tuple(_steps(worked)),
        worked.entries,
        worked.findings,
        max(seconds, _LEAST),
        _most_memory(),
    )


def _steps(worked: Worked) -> list[StepForeseen]:
    before = {table.name: set(table.column_names) for table in worked.tables}
    for one, table in zip(worked.found, worked.tables, strict=True):
        before.setdefault(one.group, set()).update(table.column_names)
    made = []
    for step in worked.steps:
        table = step.result.table
        known = set().union(*(before.get(name, set()) for name in step.inputs))
        kinds = list(ordered_map(table.kind_in_words, table.column_names))
        columns = tuple(
            ColumnForeseen(name, kind, name not in known)
            for name, kind in zip(table.column_names, kinds, strict=True)
        )
        made.append(
            StepForeseen(
                step.title,
                worked.loaded.line("step", step.number),
                table.rows,
                columns,
                len(step.result.findings),
                step.seconds,
            )
        )
        if step.name:
            before[step.name] = set(table.column_names)
    return made


def _writing(table: Table) -> float:
    """Seconds that writing would take, from those that a part of it takes."""
    some = min(table.rows, _SAMPLE)
    if not some:
        return 0.0
    begin = time.perf_counter()
    write_csv_to(_first(table, some), io.BytesIO())
    return (time.perf_counter() - begin) * table.rows / some


def _first(table: Table, rows: int) -> Table:
    import numpy as np

    return table.at(np.arange(rows, dtype=np.int32))


def _most_memory() -> int:
    """Bytes; 0 where the system does not tell."""
    try:
        import resource
    except ImportError:
        return 0
    most = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    return most if sys.platform == "darwin" else most * 1024
