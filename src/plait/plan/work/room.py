"""The room that a plan asks for, unless whoever runs it asked for another."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import ExitStack, contextmanager

from plait.core.account.errors import PlaitError
from plait.core.store.room import room
from plait.formats.work.working import working
from plait.plan.file.faults import Fault, PlanError
from plait.plan.file.load import LoadedPlan


@contextmanager
def planned_room(loaded: LoadedPlan) -> Iterator[None]:
    """Have what is done within keep to what the plan says under ``[work]``.

    Raises
    ------
    PlanError
        For an amount of memory that is none, or a folder that is not there.
    """
    here, asked = room(), loaded.plan.work
    if (here is not None and here.asked) or not (asked.memory or asked.scratch):
        yield
        return
    folder = loaded.folder / asked.scratch if asked.scratch else None
    with ExitStack() as within:
        try:
            within.enter_context(working(asked.memory, folder))
        except PlaitError as error:
            key = "scratch" if error.where else "memory"
            fault = Fault(loaded.line("work", key), str(error))
            raise PlanError(str(loaded.path), [fault]) from None
        yield
