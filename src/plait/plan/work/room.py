"""The room that a plan asks for, unless whoever runs it asked for another."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import ExitStack, contextmanager

from plait.core.account.errors import UsageError
from plait.core.store.room import room
from plait.formats.remote.fetching import keeping
from plait.formats.work.working import working
from plait.plan.file.faults import Fault, PlanError
from plait.plan.file.load import LoadedPlan
from plait.plan.file.model import Work


@contextmanager
def planned_room(loaded: LoadedPlan) -> Iterator[None]:
    """Have what is done within keep to what the plan says under ``[work]``.

    Raises
    ------
    PlanError
        For an amount of memory that is none, a folder that is not there, and the like.
    WorkersError
        When workers cannot be reached, or are not as they must be.
    """
    here, asked = room(), loaded.plan.work
    if (here is not None and here.asked) or asked == Work():
        with keeping():
            yield
        return
    folder = loaded.folder / asked.scratch if asked.scratch else None
    with ExitStack() as within:
        try:
            within.enter_context(working(asked.memory, folder, asked.workers, asked.cluster))
        except UsageError as error:
            fault = Fault(loaded.line("work", error.option), str(error))
            raise PlanError(str(loaded.path), [fault]) from None
        within.enter_context(keeping(folder))
        yield
