"""A plan that a scheduler has."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from plait.plan.schedule.times import When


@dataclass(frozen=True)
class Scheduled:
    """A plan that runs by itself.

    Parameters
    ----------
    mark : str
        By what the scheduler knows it.
    by : str
        Which scheduler.
    plan : Path or None
    when : When or None
        ``None`` where somebody has changed it to what is none of ours.
    """

    mark: str
    by: str
    plan: Path | None
    when: When | None
