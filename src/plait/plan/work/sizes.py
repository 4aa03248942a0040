"""How many rows the stacks of a plan would have, before any is made."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from plait.core.account.finding import counted
from plait.core.table.table import Table
from plait.plan.file.faults import Fault, PlanError
from plait.plan.file.load import LoadedPlan
from plait.plan.file.model import verb_of
from plait.plan.file.naming import as_written, inputs_of, result_name

MOST_ROWS = 2**31 - 1
"""Row numbers have 32 bits."""


def check_sizes(loaded: LoadedPlan, named: Mapping[str, Sequence[Table]]) -> None:
    """See that no stack is larger than a table can be.

    A stack has as many rows as its inputs together, so that this is known beforehand: one
    that takes its own result twice, over and over, has more rows than there is room for.

    Raises
    ------
    PlanError
        Names the rows that the first of them would have.
    """
    least = {name: sum(one.rows for one in some) for name, some in named.items()}
    for number, step in enumerate(loaded.plan.step):
        written = as_written(step)
        inputs, name = inputs_of(written), result_name(written)
        total = sum(least.get(one, 0) for one in inputs)
        stacks = verb_of(step) == "stack"
        if stacks and total > MOST_ROWS:
            what = f"this stack would have {counted(total, 'row')} or more"
            remedy = f"a table holds {MOST_ROWS:,}; check that no input is its own result"
            line = loaded.line("step", number, "stack")
            raise PlanError(str(loaded.path), [Fault(line, what, remedy)])
        if name:
            keeps_all = stacks and not written.get("distinct")
            least[name] = total if keeps_all else 0  # of other steps that is not known
