"""The steps of a plan carried out, and what came of each."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager, ExitStack, contextmanager
from dataclasses import dataclass, replace
from functools import cached_property
from typing import TYPE_CHECKING, Any, Protocol

import numpy as np

from plait.core.base.errors import PlaitError, UnknownColumnError, UsageError
from plait.core.base.findings import Finding, merge_same_findings
from plait.core.base.ledger import LedgerEntry
from plait.core.base.names import joint_name
from plait.core.job.current import current_job
from plait.core.linkage.evidence_spec import EvidenceSpec, parse_accept
from plait.core.operations.result import Result, entries_of_reading, scope_remedy_to_extract
from plait.core.specs.option import InputArity, Option, OptionKind, run_operation
from plait.core.specs.several_tables import OPERATIONS
from plait.core.table.key_spec import parse_names
from plait.core.table.table import Table
from plait.io.job import working
from plait.io.places.fetch import keep_fetched_files
from plait.io.read import prefetch_sources
from plait.plan.execution import resolve_sources
from plait.plan.execution.resolve_sources import ResolvedSource, check_stack_sizes
from plait.plan.file.line_numbers import PlanDiagnostic, PlanError
from plait.plan.file.load import LoadedPlan
from plait.plan.file.model import PlanSection, WorkSection, step_operation
from plait.plan.file.name_checks import find_unused_names, step_inputs, step_keys, step_result_name
from plait.plan.file.toml import as_plan_keys, plan_diagnostic

if TYPE_CHECKING:
    from plait.core.operations.keys import KeyAudit

Tables = Mapping[str, Sequence[Table]]
_LISTS = (
    OptionKind.KEY_OF_TWO,
    OptionKind.COLUMNS,
    OptionKind.WORDS,
    OptionKind.WORD_LIST,
    OptionKind.LINES,
    OptionKind.KEY,
)

_SMALL = 100_000  # rows with which the steps themselves are as quick


def execute_step(step: PlanSection, tables: Tables) -> Result:
    """Carry out a step.

    Parameters
    ----------
    tables : mapping of str to sequence of Table
        What there is so far; several tables where a source has several extracts.

    Returns
    -------
    Result
        Named as the step says; an audit of keys has its first input as table, a comparison
        the list of changes.

    Raises
    ------
    UsageError
        When several extracts stand where one table is wanted; and as the operation.
    """
    written = step_keys(step)
    spec = OPERATIONS[str(step_operation(step))]
    named = _list(written[spec.name])
    inputs: list[Table | Sequence[Table]]
    if spec.name == "keys":
        inputs = [tables[name] for name in named]
    elif spec.arity is InputArity.ALL:
        inputs = [table for n in named for table in tables[n]]
    else:
        inputs = [_single_table(tables, name) for name in named]
    values = {
        option.name: _value(option, written[option.name], tables)
        for option in spec.options
        if option.name in written
    }
    more = {"stacked": joint_name(named)} if spec.name == "settle" else {}
    made = run_operation(spec, inputs, values, step_result_name(written), **more)
    if spec.name == "keys":
        audit: KeyAudit = made
        return Result("keys", audit.sources[0], (), tuple(audit.findings))
    result: Result = made.result() if spec.name == "compare" else made
    return result


def _single_table(tables: Tables, name: str) -> Table:
    """The single table of that name."""
    found = tables[name]
    if len(found) != 1:
        raise UsageError(
            f"{name} has {len(found)} extracts where one table is wanted",
            remedy=f"stack them first: stack = [{name!r}]",
        )
    return found[0]


def _value(option: Option, value: Any, tables: Tables) -> Any:
    """What the plan gives for an option, as the operation takes it."""
    if option.kind is OptionKind.TABLE and isinstance(value, Mapping):
        settled = value.get("settled")
        return EvidenceSpec(
            parse_names(value["evidence"]),
            parse_accept(value["accept"]),
            None if settled is None else _single_table(tables, settled),
        )
    if option.kind is OptionKind.TABLE:
        return _single_table(tables, value)
    if option.kind is OptionKind.KEYS:
        return _split_keys(value)
    return _list(value) if option.kind in _LISTS else value


def _list(value: Any) -> Any:
    """A list of names; pairs of names stay what they are."""
    if isinstance(value, Mapping):
        return value
    return [value] if isinstance(value, str) else list(value)


def _split_keys(key: Any) -> list[Any]:
    """A key for all tables, or one for each."""
    if isinstance(key, list) and key and isinstance(key[0], list):
        return list(key)
    return [key]


class ProgressReporter(Protocol):
    """What shows how far the work is."""

    def phase(
        self, name: str, total: float | None = None
    ) -> AbstractContextManager[Callable[[int], None]]:
        """One part of the work, and what is told how much of it is done."""


@dataclass(frozen=True, eq=False)
class StepResult:
    """A step that was carried out.

    Parameters
    ----------
    number : int
        Its place in the plan, from 0.
    name : str or None
        Of its result.
    """

    number: int
    operation: str
    name: str | None
    inputs: tuple[str, ...]
    result: Result
    seconds: float

    @property
    def title(self) -> str:
        """The step in a few words: ``join visits, hives → season``."""
        return self._into(f"{self.operation} {', '.join(self.inputs)}")

    @property
    def entries(self) -> tuple[LedgerEntry, ...]:
        """Its part of the ledger, named for its result."""
        return tuple(
            replace(entry, operation=self._into(entry.operation)) for entry in self.result.entries
        )

    def _into(self, words: str) -> str:
        return words if self.name in (None, self.inputs[0]) else f"{words} → {self.name}"


@dataclass(frozen=True, eq=False)
class PlanExecution:
    """All that came of a plan.

    Parameters
    ----------
    sources : tuple of ResolvedSource
        The sources, in the order of ``tables``.
    tables : tuple of Table
        As they were read.
    results : mapping of str to Table
        What there is in the end under each name that means one table.
    read_seconds : float
        Seconds.
    """

    plan: LoadedPlan
    sources: tuple[ResolvedSource, ...]
    tables: tuple[Table, ...]
    steps: tuple[StepResult, ...]
    results: Mapping[str, Table]
    read_seconds: float

    @cached_property
    def tables_by_source(self) -> Mapping[str, Sequence[Table]]:
        """The tables as they were read, under the plan's names for them."""
        return resolve_sources.tables_by_source_name(self.sources, self.tables)

    @property
    def entries(self) -> tuple[LedgerEntry, ...]:
        """The ledger of all steps."""
        return (
            *entries_of_reading(self.tables),
            *(entry for step in self.steps for entry in step.entries),
        )

    @cached_property
    def findings(self) -> tuple[Finding, ...]:
        """Those of the plan, of reading and of all steps, with remedies as a plan has them."""
        return tuple(finding for _, findings in self.findings_by_step for finding in findings)

    @cached_property
    def findings_by_step(self) -> tuple[tuple[int, tuple[Finding, ...]], ...]:
        """The same, those of each step with its number from 1; 0 for the plan and reading."""
        read = merge_same_findings(
            scope_remedy_to_extract(finding) if len(tables) > 1 else finding
            for tables in self.tables_by_source.values()
            for table in tables
            for finding in table.findings
        )
        plan = (
            *find_unused_names(self.plan.plan, self.plan.lines),
            *resolve_sources.not_taken(self.plan, self.sources),
        )
        every = [(0, (*plan, *read))]
        every += [(step.number + 1, step.result.findings) for step in self.steps]
        return tuple(
            (number, tuple(replace(f, remedy=as_plan_keys(f.remedy)) for f in findings))
            for number, findings in every
        )

    @property
    def further(self) -> tuple[PlanExecution, ...]:
        """For each result beside the main one the same work, as if that alone were handed over."""
        handover = self.plan.plan.handover
        return tuple(map(self.of_result, handover.further if handover else ()))

    @property
    def result_name(self) -> str:
        """What is handed over, by its name."""
        assert self.plan.plan.handover is not None
        return self.plan.plan.handover.result

    def of_result(self, name: str) -> PlanExecution:
        """The same work, as if one of the results alone were handed over."""
        plan, handover = self.plan.plan, self.plan.plan.handover
        assert handover is not None
        alone = plan.model_copy(update={"handover": handover.of_result(name)})
        return replace(self, plan=replace(self.plan, plan=alone))

    @property
    def result(self) -> Table:
        """What is handed over."""
        assert self.plan.plan.handover is not None
        return self.results[self.plan.plan.handover.result]


def execute_plan(
    loaded_plan: LoadedPlan, resolved_sources: Sequence[ResolvedSource], phases: ProgressReporter
) -> PlanExecution:
    """Read the sources of a plan, once each, and carry out its steps.

    Parameters
    ----------
    resolved_sources : sequence of ResolvedSource
        The sources, as ``find_plan_sources`` gives them.

    Raises
    ------
    PlanError
        With every step that cannot be carried out; those that need its result
        are not looked at.
    SourceError
        For a source that cannot be read.
    """
    begin, size = time.perf_counter(), sum(source.source.size for source in resolved_sources)
    far = [
        resolved_source.source
        for resolved_source in resolved_sources
        if resolved_source.source.is_remote
    ]
    if far:
        with phases.phase("fetching", sum(f.size for f in far) or None) as came:
            prefetch_sources(far, came)
    with phases.phase("reading", size or None) as on_progress:
        read = resolve_sources.read_plan_sources(resolved_sources, on_progress)
    with phases.phase("setting types"):
        tables = resolve_sources.apply_source_types(loaded_plan, resolved_sources, read)
    reading = time.perf_counter() - begin
    named = resolve_sources.tables_by_source_name(resolved_sources, tables)
    check_stack_sizes(loaded_plan, named)
    if sum(table.rows for table in tables) > _SMALL:
        _rehearse(loaded_plan, named)
    steps, results = _carried_out(loaded_plan, named, phases)
    return PlanExecution(
        loaded_plan, tuple(resolved_sources), tuple(tables), steps, results, reading
    )


def _rehearse(loaded_plan: LoadedPlan, named: Mapping[str, Sequence[Table]]) -> None:
    """Every step on no rows at all: columns that are not there show before any work is done.

    Raises
    ------
    PlanError
        With all of them.
    """
    nothing = np.empty(0, np.int32)
    there: dict[str, list[Table]] = {
        name: [replace(table.take(nothing), findings=(), set_aside=()) for table in tables]
        for name, tables in named.items()
    }
    faults = []
    for number, step in enumerate(loaded_plan.plan.step):
        written = step_keys(step)
        name = step_result_name(written)
        if not all(step_input in there for step_input in step_inputs(written)):
            there.pop(name or "", None)
            continue
        try:
            result = execute_step(step, there)
        except UnknownColumnError as error:
            faults.append(_fault(loaded_plan, number, error))
        except (PlaitError, ValueError, ArithmeticError):
            pass  # said of no rows; on all of them it may be otherwise
        else:
            if name:
                there[name] = [result.table]
            continue
        there.pop(name or "", None)
    if faults:
        raise PlanError(str(loaded_plan.path), faults)


def _carried_out(
    loaded_plan: LoadedPlan, named: Mapping[str, Sequence[Table]], phases: ProgressReporter
) -> tuple[tuple[StepResult, ...], dict[str, Table]]:
    there = {name: list(tables) for name, tables in named.items()}
    steps: list[StepResult] = []
    faults: list[PlanDiagnostic] = []
    status = 2
    for number, step in enumerate(loaded_plan.plan.step):
        written = step_keys(step)
        spec, name, inputs = (
            str(step_operation(step)),
            step_result_name(written),
            step_inputs(written),
        )
        if not all(i in there for i in inputs):
            there.pop(name or "", None)
            continue
        begin = time.perf_counter()
        try:
            with phases.phase(f"step {number + 1} of {len(loaded_plan.plan.step)}: {spec}"):
                result = execute_step(step, there)
        except PlaitError as error:
            faults.append(_fault(loaded_plan, number, error))
            status = error.status if not steps or len(faults) == 1 else status
            there.pop(name or "", None)
            continue
        seconds = time.perf_counter() - begin
        steps.append(StepResult(number, spec, name, tuple(inputs), result, seconds))
        if name:
            there[name] = [result.table]
    if faults:
        raise PlanError(str(loaded_plan.path), faults, status)
    return tuple(steps), {name: tables[0] for name, tables in there.items() if len(tables) == 1}


def _fault(loaded_plan: LoadedPlan, number: int, error: PlaitError) -> PlanDiagnostic:
    line = loaded_plan.line("step", number, *_key_at_fault(loaded_plan, number, error))
    return plan_diagnostic(line, error)


def _key_at_fault(loaded_plan: LoadedPlan, number: int, error: PlaitError) -> Iterator[str]:
    """The key of a step that an error is about."""
    written = step_keys(loaded_plan.plan.step[number])
    if error.option in written:
        yield error.option


@contextmanager
def open_plan_job(loaded_plan: LoadedPlan) -> Iterator[None]:
    """Have what is done within keep to what the plan says under ``[work]``.

    Raises
    ------
    PlanError
        For an amount of memory that is none, a folder that is not there, and the like.
    WorkerPoolError
        When workers cannot be reached, or are not as they must be.
    """
    here, asked = current_job().memory, loaded_plan.plan.work
    if (here is not None and here.is_explicit) or asked == WorkSection():
        with keep_fetched_files():
            yield
        return
    folder = loaded_plan.folder / asked.scratch if asked.scratch else None
    with ExitStack() as within:
        try:
            within.enter_context(
                working(asked.memory, folder, asked.workers, asked.cluster, asked.cache)
            )
        except UsageError as error:
            fault = PlanDiagnostic(loaded_plan.line("work", error.option), str(error))
            raise PlanError(str(loaded_plan.path), [fault]) from None
        within.enter_context(keep_fetched_files(folder))
        yield
