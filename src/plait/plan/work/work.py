"""The work of a plan: sources read, steps carried out, nothing written."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Protocol

import numpy as np

from plait.core.account.errors import PlaitError, UnknownColumnError
from plait.core.account.finding import Finding, merged
from plait.core.account.ledger import Entry
from plait.core.table.table import Table
from plait.core.verbs.result import Result, of_one_extract, reading_entries
from plait.formats.reading import fetch_ahead
from plait.plan.file.faults import Fault, PlanError
from plait.plan.file.load import LoadedPlan
from plait.plan.file.model import verb_of
from plait.plan.file.naming import as_written, inputs_of, result_name, unused
from plait.plan.file.remedy import in_plan
from plait.plan.work import intake
from plait.plan.work.intake import Found
from plait.plan.work.sizes import check_sizes
from plait.plan.work.steps import carry_out

_SMALL = 100_000  # rows with which the steps themselves are as quick


class Phases(Protocol):
    """What shows how far the work is."""

    def phase(
        self, name: str, total: float | None = None
    ) -> AbstractContextManager[Callable[[int], None]]:
        """One part of the work, and what is told how much of it is done."""


@dataclass(frozen=True, eq=False)
class Done:
    """A step that was carried out.

    Parameters
    ----------
    number : int
        Its place in the plan, from 0.
    verb : str
    name : str or None
        Of its result.
    inputs : tuple of str
    result : Result
    seconds : float
    """

    number: int
    verb: str
    name: str | None
    inputs: tuple[str, ...]
    result: Result
    seconds: float

    @property
    def title(self) -> str:
        """The step in a few words: ``join visits, hives → season``."""
        return self._into(f"{self.verb} {', '.join(self.inputs)}")

    @property
    def entries(self) -> tuple[Entry, ...]:
        """Its part of the ledger, named for its result."""
        return tuple(
            replace(one, operation=self._into(one.operation)) for one in self.result.entries
        )

    def _into(self, words: str) -> str:
        return words if self.name in (None, self.inputs[0]) else f"{words} → {self.name}"


@dataclass(frozen=True, eq=False)
class Worked:
    """All that came of a plan.

    Parameters
    ----------
    loaded : LoadedPlan
    found : tuple of Found
        The sources, in the order of ``tables``.
    tables : tuple of Table
        As they were read.
    steps : tuple of Done
    results : mapping of str to Table
        What there is in the end under each name that means one table.
    reading : float
        Seconds.
    """

    loaded: LoadedPlan
    found: tuple[Found, ...]
    tables: tuple[Table, ...]
    steps: tuple[Done, ...]
    results: Mapping[str, Table]
    reading: float

    @cached_property
    def sources(self) -> Mapping[str, Sequence[Table]]:
        """The tables as they were read, under the plan's names for them."""
        return intake.by_name(self.found, self.tables)

    @property
    def entries(self) -> tuple[Entry, ...]:
        """The ledger of all steps."""
        return (
            *reading_entries(self.tables),
            *(one for step in self.steps for one in step.entries),
        )

    @cached_property
    def findings(self) -> tuple[Finding, ...]:
        """Those of the plan, of reading and of all steps, with remedies as a plan has them."""
        return tuple(one for _, findings in self.findings_by_step for one in findings)

    @cached_property
    def findings_by_step(self) -> tuple[tuple[int, tuple[Finding, ...]], ...]:
        """The same, those of each step with its number from 1; 0 for the plan and reading."""
        read = merged(
            of_one_extract(finding) if len(tables) > 1 else finding
            for tables in self.sources.values()
            for table in tables
            for finding in table.findings
        )
        plan = (
            *unused(self.loaded.plan, self.loaded.lines),
            *intake.not_taken(self.loaded, self.found),
        )
        every = [(0, (*plan, *read))]
        every += [(step.number + 1, step.result.findings) for step in self.steps]
        return tuple(
            (number, tuple(replace(one, remedy=in_plan(one.remedy)) for one in findings))
            for number, findings in every
        )

    @property
    def result(self) -> Table:
        """What is handed over."""
        assert self.loaded.plan.handover is not None
        return self.results[self.loaded.plan.handover.result]


def work(loaded: LoadedPlan, found: Sequence[Found], phases: Phases) -> Worked:
    """Read the sources of a plan, once each, and carry out its steps.

    Parameters
    ----------
    loaded : LoadedPlan
    found : sequence of Found
        The sources, as ``intake.find`` finds them.
    phases : Phases

    Raises
    ------
    PlanError
        With every step that cannot be carried out; those that need its result
        are not looked at.
    SourceError
        For a source that cannot be read.
    """
    begin, size = time.perf_counter(), sum(one.source.size for one in found)
    far = [one.source for one in found if one.source.far]
    if far:
        with phases.phase("fetching", sum(one.size for one in far) or None) as came:
            fetch_ahead(far, came)
    with phases.phase("reading", size or None) as tick:
        read = intake.read(found, tick)
    with phases.phase("setting types"):
        tables = intake.declared(loaded, found, read)
    reading = time.perf_counter() - begin
    named = intake.by_name(found, tables)
    check_sizes(loaded, named)
    if sum(table.rows for table in tables) > _SMALL:
        _rehearse(loaded, named)
    steps, results = _carried_out(loaded, named, phases)
    return Worked(loaded, tuple(found), tuple(tables), steps, results, reading)


def _rehearse(loaded: LoadedPlan, named: Mapping[str, Sequence[Table]]) -> None:
    """Every step on no rows at all: columns that are not there show before any work is done.

    Raises
    ------
    PlanError
        With all of them.
    """
    nothing = np.empty(0, np.int32)
    there: dict[str, list[Table]] = {
        name: [replace(table.at(nothing), findings=(), aside=()) for table in tables]
        for name, tables in named.items()
    }
    faults = []
    for number, step in enumerate(loaded.plan.step):
        written = as_written(step)
        name = result_name(written)
        if not all(one in there for one in inputs_of(written)):
            there.pop(name or "", None)
            continue
        try:
            result = carry_out(step, there)
        except UnknownColumnError as error:
            faults.append(_fault(loaded, number, error))
        except (PlaitError, ValueError, ArithmeticError):
            pass  # said of no rows; on all of them it may be otherwise
        else:
            if name:
                there[name] = [result.table]
            continue
        there.pop(name or "", None)
    if faults:
        raise PlanError(str(loaded.path), faults)


def _carried_out(
    loaded: LoadedPlan, named: Mapping[str, Sequence[Table]], phases: Phases
) -> tuple[tuple[Done, ...], dict[str, Table]]:
    there = {name: list(tables) for name, tables in named.items()}
    steps: list[Done] = []
    faults: list[Fault] = []
    status = 2
    for number, step in enumerate(loaded.plan.step):
        written = as_written(step)
        verb, name, inputs = str(verb_of(step)), result_name(written), inputs_of(written)
        if not all(one in there for one in inputs):
            there.pop(name or "", None)
            continue
        begin = time.perf_counter()
        try:
            with phases.phase(f"step {number + 1} of {len(loaded.plan.step)}: {verb}"):
                result = carry_out(step, there)
        except PlaitError as error:
            faults.append(_fault(loaded, number, error))
            status = error.status if not steps or len(faults) == 1 else status
            there.pop(name or "", None)
            continue
        seconds = time.perf_counter() - begin
        steps.append(Done(number, verb, name, tuple(inputs), result, seconds))
        if name:
            there[name] = [result.table]
    if faults:
        raise PlanError(str(loaded.path), faults, status)
    return tuple(steps), {name: tables[0] for name, tables in there.items() if len(tables) == 1}


def _fault(loaded: LoadedPlan, number: int, error: PlaitError) -> Fault:
    where = f"{error.where}: " if error.where else ""
    line = loaded.line("step", number, *_key_at_fault(loaded, number, error))
    return Fault(line, f"{where}{error.what}", in_plan(error.remedy or ""))


def _key_at_fault(loaded: LoadedPlan, number: int, error: PlaitError) -> Iterator[str]:
    """The key of a step that an error is about."""
    written = as_written(loaded.plan.step[number])
    if error.option in written:
        yield error.option
