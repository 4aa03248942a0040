"""The sources of a plan: found from its folder, read once, typed as it says."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from plait.core.account.errors import PlaitError, UsageError
from plait.core.account.finding import Finding, counted
from plait.core.account.names import shown
from plait.core.table.keyspec import names
from plait.core.table.table import Table
from plait.core.verbs.mending.retype import declared as as_declared
from plait.core.verbs.stack import labelled
from plait.formats.places.address import is_address
from plait.formats.places.endings import HISTORY, READABLE
from plait.formats.places.source import Source
from plait.formats.reading import read_source, read_together
from plait.formats.servers.session import one_snapshot
from plait.formats.sources import find_sources, uniquely_named
from plait.formats.stated import stated
from plait.options.shared import READING
from plait.plan.file.faults import Fault, PlanError
from plait.plan.file.load import LoadedPlan
from plait.plan.file.remedy import in_plan
from plait.plan.work.taking import taking_of

Tick = Callable[[int], None]


@dataclass(frozen=True)
class Found:
    """A table that the plan names, before it is read.

    Parameters
    ----------
    group : str
        The plan's name for it, which other extracts may share.
    source : Source
    """

    group: str
    source: Source


def find(loaded: LoadedPlan) -> list[Found]:
    """All tables that the plan's sources mean, each with a name of its own.

    Raises
    ------
    PlanError
        With every source that is not there.
    """
    found: list[Found] = []
    faults: list[Fault] = []
    status = 2
    with one_snapshot():
        for name, spec in loaded.plan.source.items():
            try:
                found += _found(loaded, name, spec)
            except PlaitError as error:
                faults.append(_fault(loaded.line("source", name, "path"), error))
                status = max(status, error.status)
    if faults:
        raise PlanError(str(loaded.path), faults, status)
    sources = uniquely_named([one.source for one in found])
    return [replace(one, source=source) for one, source in zip(found, sources, strict=True)]


def _fault(line: int, error: PlaitError) -> Fault:
    where = f"{error.where}: " if error.where else ""
    return Fault(line, f"{where}{error.what.removeprefix('--')}", in_plan(error.remedy or ""))


def _found(loaded: LoadedPlan, name: str, spec: Any) -> list[Found]:
    words = [spec.path] if isinstance(spec.path, str) else spec.path
    if not words or not all(words):
        raise UsageError("no path is given", remedy='write path = "FILE"')
    given = stated(**{one.name: getattr(spec, one.name) for one in READING})
    sources = find_sources([_from_plan(loaded.folder, word) for word in words], given)
    if len(sources) == 1:
        one = replace(sources[0], name=name)
        taking = taking_of(loaded.plan, name, one) if one.in_database else None
        sources = [replace(one, taking=taking)]
    return [Found(name, source) for source in sources]


def paths_of(loaded: LoadedPlan) -> list[str]:
    """The paths that the plan's sources are written with, as the program finds them."""
    every: dict[str, Any] = loaded.plan.source
    written = [spec.path for spec in every.values()]
    words = [word for one in written for word in ([one] if isinstance(one, str) else one)]
    return [_from_plan(loaded.folder, word) for word in words if word]


def _from_plan(folder: Path, word: str) -> str:
    """A path as it is found from where the program runs."""
    if is_address(word) or Path(word).is_absolute():
        return word
    return os.path.normpath(folder / word)


def read(found: Sequence[Found], tick: Tick = lambda _: None) -> list[Table]:
    """Read every table once, several at a time.

    Raises
    ------
    SourceError
        For the first that cannot be read.
    """
    return read_together([one.source for one in found], lambda one: read_source(one, tick))


def declared(loaded: LoadedPlan, found: Sequence[Found], tables: Sequence[Table]) -> list[Table]:
    """The tables with the labels, missing markers and types that the plan declares.

    Raises
    ------
    PlanError
        With every source of which something does not fit.
    """
    made: dict[int, Table] = {}
    faults: list[Fault] = []
    status = 2
    every: dict[str, Any] = loaded.plan.source
    for name, spec in every.items():
        places = [place for place, one in enumerate(found) if one.group == name]
        try:
            ready = _declared(spec, [tables[place] for place in places])
        except PlaitError as error:
            line = loaded.line("source", name, "type" if spec.type else "path")
            faults.append(_fault(line, error))
            status = max(status, error.status)
            continue
        made |= dict(zip(places, ready, strict=True))
    if faults:
        raise PlanError(str(loaded.path), faults, status)
    return [made[place] for place in range(len(found))]


def _declared(spec: Any, tables: Sequence[Table]) -> list[Table]:
    ready = as_declared(tables, names(spec.missing), spec.type, spec.unfit)
    return [labelled(table, spec.label) for table in ready]


def not_taken(loaded: LoadedPlan, found: Sequence[Found]) -> list[Finding]:
    """Findings for files beside the extracts of a source that no source of the plan takes.

    The plan's own folder, in which all sorts of files are, is not looked at.
    """
    taken = {Path(one.source.path).resolve() for one in found if not one.source.address}
    folders: dict[Path, str] = {}
    for one in found:
        folder = Path(one.source.path).parent.resolve()
        if not one.source.address and folder != loaded.folder.resolve():
            folders.setdefault(folder, one.group)
    findings = []
    for folder, group in folders.items():
        names = sorted(path.name for path in folder.iterdir() if _is_left(path, taken))
        if names:
            few = ", ".join(map(shown, names[:5])) + (" …" if len(names) > 5 else "")
            findings.append(
                Finding(
                    "not-read",
                    "warning",
                    len(names),
                    f"{counted(len(names), 'file')} of the folder {shown(folder.name)} taken by "
                    f"no source of the plan: {few}",
                    "name them in the path of a source, or move them elsewhere",
                    group,
                )
            )
    return findings


def _is_left(path: Path, taken: set[Path]) -> bool:
    """Whether a file could be read and is no source."""
    return (
        path.suffix.lower() in READABLE
        and not path.name.startswith((".", "~$"))
        and not path.name.endswith(HISTORY)
        and path.is_file()
        and path.resolve() not in taken
    )


def by_name(found: Iterable[Found], tables: Iterable[Table]) -> Mapping[str, list[Table]]:
    """The tables under the plan's names for them."""
    named: dict[str, list[Table]] = {}
    for one, table in zip(found, tables, strict=True):
        named.setdefault(one.group, []).append(table)
    return named
