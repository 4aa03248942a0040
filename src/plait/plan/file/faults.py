"""What is wrong with a plan: all of it at once, each with its line."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from plait.core.account.errors import PlaitError


@dataclass(frozen=True)
class Fault:
    """One mistake: the line it is on, what is wrong, and what to do."""

    line: int
    what: str
    remedy: str = ""


class PlanError(PlaitError):
    """A plan that cannot be carried out, with everything that is wrong with it.

    Parameters
    ----------
    path : str
        The plan file.
    faults : iterable of Fault

    Examples
    --------
    >>> error = PlanError("season.toml", [Fault(7, "unknown key 'kye'", "did you mean key?")])
    >>> print(error)
    season.toml line 7: unknown key 'kye' (did you mean key?)
    """

    status = 2

    def __init__(self, path: str, faults: Iterable[Fault], status: int = 2) -> None:
        self.faults = tuple(sorted(dict.fromkeys(faults), key=lambda one: one.line))
        first = self.faults[0]
        super().__init__(first.what, f"{path} line {first.line}", first.remedy or None)
        self.status = status
        self.errors = tuple(
            PlaitError(one.what, f"{path} line {one.line}", one.remedy or None)
            for one in self.faults
        )
