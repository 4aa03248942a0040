"""Check: what a plan would do, step by step, and what a run would cost."""

from __future__ import annotations

import io
import sys
import time
from dataclasses import dataclass

from plait.core.base.findings import Finding, pluralize
from plait.core.base.ledger import LedgerEntry
from plait.core.job.executor import map_ordered
from plait.core.table.table import Table
from plait.io.write import write_csv_to
from plait.plan.execution.execute import PlanExecution
from plait.plan.handover.read import handover_folder
from plait.plan.handover.results import check_sheets, dataset_endings
from plait.report.document import ColumnForecast, StepForecast

_SAMPLE = 1 << 17
_LEAST = 1.0


@dataclass(frozen=True)
class PlanForecast:
    """What a run would do.

    Parameters
    ----------
    answer : str
        In one line.
    seconds : float
        That a run would take: what was measured now, and the writing as fast as
        that of a part.
    memory : int
        Bytes, the most that was held; 0 where the system does not tell.
    """

    answer: str
    steps: tuple[StepForecast, ...]
    ledger: tuple[LedgerEntry, ...]
    findings: tuple[Finding, ...]
    seconds: float
    memory: int


def forecast_plan(plan_execution: PlanExecution) -> PlanForecast:
    """What a run of a plan would do, of which everything but the writing was done."""
    seconds = plan_execution.read_seconds + sum(step.seconds for step in plan_execution.steps)
    handover = plan_execution.plan.plan.handover
    answer = "the plan hands over nothing: it has no [handover]"
    if handover is not None and handover.result in plan_execution.results:
        check_sheets(plan_execution)
        table = plan_execution.result
        seconds += _writing(table) * len(dataset_endings(plan_execution.plan))
        answer = (
            f"a run would hand over {handover_folder(plan_execution.plan)}/: {handover.result}, "
            f"{pluralize(table.rows, 'row')}, {len(table.columns)} columns"
        )
        for one in plan_execution.further:
            size = f"{pluralize(one.result.rows, 'row')}, {len(one.result.columns)} columns"
            answer += f"; {one.result_name}, {size}"
    return PlanForecast(
        answer,
        tuple(_steps(plan_execution)),
        plan_execution.entries,
        plan_execution.findings,
        max(seconds, _LEAST),
        _most_memory(),
    )


def _steps(plan_execution: PlanExecution) -> list[StepForecast]:
    before = {table.name: set(table.column_names) for table in plan_execution.tables}
    for source, table in zip(plan_execution.sources, plan_execution.tables, strict=True):
        before.setdefault(source.group, set()).update(table.column_names)
    made = []
    for step in plan_execution.steps:
        table = step.result.table
        names = set().union(*(before.get(name, set()) for name in step.inputs))
        types = list(map_ordered(table.column_type, table.column_names, rows=table.rows))
        columns = tuple(
            ColumnForecast(name, str(type_), name not in names)
            for name, type_ in zip(table.column_names, types, strict=True)
        )
        made.append(
            StepForecast(
                step.title,
                plan_execution.plan.line("step", step.number),
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

    return table.take(np.arange(rows, dtype=np.int32))


def _most_memory() -> int:
    """Bytes; 0 where the system does not tell."""
    try:
        import resource
    except ImportError:
        return 0
    most = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    return most if sys.platform == "darwin" else most * 1024
