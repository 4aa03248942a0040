"""The sources of a plan found, read and checked for size."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from plait.core.base.errors import PlaitError, UsageError
from plait.core.base.findings import Finding, Location, pluralize
from plait.core.base.names import printable_path
from plait.core.operations.retype import apply_declared_types as as_declared
from plait.core.operations.stack import add_label_columns
from plait.core.specs.shared import READING
from plait.core.table.key_spec import parse_names
from plait.core.table.table import Table
from plait.io.database.connections import snapshot_session
from plait.io.places.address import is_address
from plait.io.places.source import Source
from plait.io.read import read_in_parallel, read_source
from plait.io.sources import find_sources, is_data_file, make_read_options, uniquely_named
from plait.plan.execution.column_pruning import unused_database_columns
from plait.plan.file.line_numbers import PlanDiagnostic, PlanError
from plait.plan.file.load import LoadedPlan
from plait.plan.file.model import step_operation
from plait.plan.file.name_checks import step_inputs, step_keys, step_result_name
from plait.plan.file.toml import plan_diagnostic

OnProgress = Callable[[int], None]

MOST_ROWS = 2**31 - 1  # row numbers have 32 bits


@dataclass(frozen=True)
class ResolvedSource:
    """A table that the plan names, before it is read.

    Parameters
    ----------
    group : str
        The plan's name for it, which other extracts may share.
    """

    group: str
    source: Source


def find_plan_sources(loaded_plan: LoadedPlan) -> list[ResolvedSource]:
    """All tables that the plan's sources mean, each with a name of its own.

    Raises
    ------
    PlanError
        With every source that is not there.
    """
    found: list[ResolvedSource] = []
    faults: list[PlanDiagnostic] = []
    status = 2
    with snapshot_session():
        for name, spec in loaded_plan.plan.source.items():
            try:
                found += _resolve_source(loaded_plan, name, spec)
            except PlaitError as error:
                faults.append(plan_diagnostic(loaded_plan.line("source", name, "path"), error))
                status = max(status, error.status)
    if faults:
        raise PlanError(str(loaded_plan.path), faults, status)
    sources = uniquely_named([one.source for one in found])
    return [replace(f, source=source) for f, source in zip(found, sources, strict=True)]


def _resolve_source(loaded_plan: LoadedPlan, name: str, spec: Any) -> list[ResolvedSource]:
    words = [spec.path] if isinstance(spec.path, str) else spec.path
    if not words or not all(words):
        raise UsageError("no path is given", remedy='write path = "FILE"')
    read_options = make_read_options(**{r.name: getattr(spec, r.name) for r in READING})
    sources = find_sources([_from_plan(loaded_plan.folder, w) for w in words], read_options)
    if len(sources) == 1:
        one = replace(sources[0], name=name)
        taking = unused_database_columns(loaded_plan.plan, name, one) if one.in_database else None
        sources = [replace(one, subset=taking)]
    return [ResolvedSource(name, source) for source in sources]


def source_paths(loaded_plan: LoadedPlan) -> list[str]:
    """The paths that the plan's sources are written with, as the program finds them."""
    every: dict[str, Any] = loaded_plan.plan.source
    written = [spec.path for spec in every.values()]
    words = [word for w in written for word in ([w] if isinstance(w, str) else w)]
    return [_from_plan(loaded_plan.folder, word) for word in words if word]


def _from_plan(folder: Path, word: str) -> str:
    """A path as it is found from where the program runs."""
    if is_address(word) or Path(word).is_absolute():
        return word
    return os.path.normpath(folder / word)


def read_plan_sources(
    resolved_sources: Sequence[ResolvedSource], on_progress: OnProgress = lambda _: None
) -> list[Table]:
    """Read every table once, several at a time.

    Raises
    ------
    SourceError
        For the first that cannot be read.
    """
    return read_in_parallel(
        [resolved_source.source for resolved_source in resolved_sources],
        lambda one: read_source(one, on_progress),
    )


def apply_source_types(
    loaded_plan: LoadedPlan, resolved_sources: Sequence[ResolvedSource], tables: Sequence[Table]
) -> list[Table]:
    """The tables with the labels, missing markers and types that the plan declares.

    Raises
    ------
    PlanError
        With every source of which something does not fit.
    """
    made: dict[int, Table] = {}
    faults: list[PlanDiagnostic] = []
    status = 2
    every: dict[str, Any] = loaded_plan.plan.source
    for name, spec in every.items():
        places = [
            place
            for place, resolved_source in enumerate(resolved_sources)
            if resolved_source.group == name
        ]
        try:
            ready = _declared(spec, [tables[p] for p in places])
        except PlaitError as error:
            line = loaded_plan.line("source", name, "type" if spec.type else "path")
            faults.append(plan_diagnostic(line, error))
            status = max(status, error.status)
            continue
        made |= dict(zip(places, ready, strict=True))
    if faults:
        raise PlanError(str(loaded_plan.path), faults, status)
    return [made[r] for r in range(len(resolved_sources))]


def _declared(spec: Any, tables: Sequence[Table]) -> list[Table]:
    ready = as_declared(tables, parse_names(spec.missing), spec.type, spec.unfit)
    return [add_label_columns(table, spec.label) for table in ready]


def not_taken(loaded_plan: LoadedPlan, resolved_sources: Sequence[ResolvedSource]) -> list[Finding]:
    """Findings for files beside the extracts of a source that no source of the plan takes.

    The plan's own folder, in which all sorts of files are, is not looked at.
    """
    taken = {
        Path(source.source.path).resolve()
        for source in resolved_sources
        if not source.source.address
    }
    folders: dict[Path, str] = {}
    for resolved_source in resolved_sources:
        folder = Path(resolved_source.source.path).parent.resolve()
        if not resolved_source.source.address and folder != loaded_plan.folder.resolve():
            folders.setdefault(folder, resolved_source.group)
    findings = []
    for folder, group in folders.items():
        names = sorted(path.name for path in folder.iterdir() if _is_left(path, taken))
        if names:
            few = ", ".join(map(printable_path, names[:5])) + (" …" if len(names) > 5 else "")
            findings.append(
                Finding(
                    "not-read",
                    "warning",
                    len(names),
                    f"{pluralize(len(names), 'file')} of the folder "
                    f"{printable_path(folder.name)} taken by "
                    f"no source of the plan: {few}",
                    "name them in the path of a source, or move them elsewhere",
                    Location(group),
                )
            )
    return findings


def _is_left(path: Path, taken: set[Path]) -> bool:
    """Whether a file could be read and is no source."""
    return is_data_file(path) and path.resolve() not in taken


def tables_by_source_name(
    resolved_sources: Iterable[ResolvedSource], tables: Iterable[Table]
) -> Mapping[str, list[Table]]:
    """The tables under the plan's names for them."""
    named: dict[str, list[Table]] = {}
    for resolved_source, table in zip(resolved_sources, tables, strict=True):
        named.setdefault(resolved_source.group, []).append(table)
    return named


def check_stack_sizes(loaded_plan: LoadedPlan, named: Mapping[str, Sequence[Table]]) -> None:
    """See that no stack is larger than a table can be.

    A stack has as many rows as its inputs together, so that this is known beforehand: one
    that takes its own result twice, over and over, has more rows than there is room for.

    Raises
    ------
    PlanError
        Names the rows that the first of them would have.
    """
    least = {name: sum(s.rows for s in some) for name, some in named.items()}
    for number, step in enumerate(loaded_plan.plan.step):
        written = step_keys(step)
        inputs, name = step_inputs(written), step_result_name(written)
        total = sum(least.get(i, 0) for i in inputs)
        stacks = step_operation(step) == "stack"
        if stacks and total > MOST_ROWS:
            text = f"this stack would have {pluralize(total, 'row')} or more"
            remedy = f"a table holds {MOST_ROWS:,}; check that no input is its own result"
            line = loaded_plan.line("step", number, "stack")
            raise PlanError(str(loaded_plan.path), [PlanDiagnostic(line, text, remedy)])
        if name:
            keeps_all = stacks and not written.get("distinct")
            least[name] = total if keeps_all else 0  # of other steps that is not known
