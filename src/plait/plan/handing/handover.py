"""The handover: dataset, report, ledger, set-aside rows, dictionary, descriptor, lineage."""

from __future__ import annotations

import json
import os
import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextvars import copy_context
from dataclasses import asdict, replace
from functools import partial
from pathlib import Path
from typing import Any

from plait._version import __version__
from plait.core.account.errors import UsageError
from plait.core.account.finding import Finding
from plait.core.account.names import distinct_name, file_name, nearest, shown
from plait.core.keys.conflicts import Conflicts
from plait.core.lineage.lineage import threads
from plait.core.table.aside import cut_findings, limited
from plait.core.table.table import SetAside, Table, from_columns
from plait.formats.delivery.checksum import sha256, sums_of
from plait.formats.delivery.delivery import Delivery
from plait.formats.delivery.folder import check_folder, whole_folder, write_flushed
from plait.formats.delivery.seal import sealed
from plait.formats.lineage_keys import KEYS, key_starts, known_of, write_keys
from plait.formats.lineage_out import cells_stated, write_lineage
from plait.formats.outputs import (
    begun,
    check_room,
    check_target,
    csv_bytes,
    write_table,
)
from plait.formats.places.endings import WRITABLE
from plait.formats.places.source import Source
from plait.formats.places.target import How, TableTarget, table_target
from plait.formats.servers.writing.into import Tables
from plait.plan.file.load import LoadedPlan
from plait.plan.handing.behind import behind_of, every_list
from plait.plan.handing.kept import HANDOVER, MARKS
from plait.plan.handing.telling import shown_path, sources_of, story_of, unique_key_of
from plait.plan.work.touched import touching
from plait.plan.work.work import Phases, Worked
from plait.report.account import Output, ledger_table, output_of
from plait.report.figures import came_from
from plait.report.markdown import report_markdown
from plait.report.package import package_json
from plait.report.pages.handover import report_page
from plait.report.story import Expected, Story, story_json


def folder_of(loaded: LoadedPlan) -> Path:
    """The folder that the plan hands over.

    Raises
    ------
    UsageError
        When it hands nothing over.
    """
    if loaded.plan.handover is None:
        raise UsageError(
            "the plan has no [handover] section",
            str(loaded.path),
            'add [handover] with result = "NAME"',
        )
    return loaded.folder / loaded.plan.handover.folder


_TAKEN = frozenset((*MARKS, KEYS, "report.md", "report.html", "dictionary.csv", "plan.toml"))


def check_handover(loaded: LoadedPlan, replace: bool, sources: Sequence[Source]) -> None:
    """See that the handover can be written, before any source is read.

    Raises
    ------
    UsageError
        When the plan hands nothing over, names a format that there is not, or a result that
        has the name of another file.
    OutputError
        When the folder is there, or something in it would be lost.
    """
    folder = folder_of(loaded)
    endings_of(loaded)
    paths = [one.path for one in sources]
    check_folder(folder, replace, MARKS, [*paths, str(loaded.path)])
    target = table_of(loaded)
    handover = loaded.plan.handover
    if target and handover:
        delivery = Delivery((), replace)
        check_target(target, target.stem, delivery, handover.append, sources)
        if handover.beside:
            check_target(target.beside(f"{target.stem}_ledger"), "ledger", delivery)


def table_of(loaded: LoadedPlan) -> TableTarget | None:
    """The table of a database that the result goes to as well, if any.

    Raises
    ------
    UsageError
    """
    handover = loaded.plan.handover
    assert handover is not None
    if handover.database is None:
        if handover.append or handover.beside:
            key = "append" if handover.append else "beside"
            raise UsageError(
                f"{key} is about a database table, but no database is named",
                f"{loaded.path} line {loaded.line('handover', key)}",
                'write database = "postgresql://…#TABLE"',
            )
        return None
    where = f"{loaded.path} line {loaded.line('handover', 'database')}"
    try:
        target = table_target(handover.database)
    except UsageError as error:
        raise UsageError(error.what, where, error.remedy) from None
    if target is None:
        raise UsageError("not a valid address", where, "postgresql://…#TABLE or mysql://…#TABLE")
    return target


def endings_of(loaded: LoadedPlan) -> list[str]:
    """The endings of the dataset's files.

    Raises
    ------
    UsageError
    """
    assert loaded.plan.handover is not None
    formats = loaded.plan.handover.formats
    endings = [f".{name}" for name in ([formats] if isinstance(formats, str) else formats)]
    for ending in endings:
        if ending not in WRITABLE:
            known = [one[1:] for one in WRITABLE]
            raise UsageError(
                f"no format is called {ending[1:]!r}",
                f"{loaded.path} line {loaded.line('handover', 'formats')}",
                nearest(ending[1:], known) or f"one of {', '.join(known)}",
            )
    result = loaded.plan.handover.result
    for ending in endings:
        if f"{result}{ending}".lower() in _TAKEN:
            raise UsageError(
                f"{result}{ending} is a file of every handover and cannot be the result as well",
                f"{loaded.path} line {loaded.line('handover', 'result')}",
                f"use another name, in into of the step and here: {result}-all",
            )
    return list(dict.fromkeys(endings))


def hand_over(
    worked: Worked,
    expected: Sequence[Expected],
    sums: Mapping[str, str],
    phases: Phases,
    replace_: bool = False,
    compared: Callable[[Path, Story], Story] = lambda _, story: story,
) -> Story:
    """Write the whole folder, or nothing; and the table of a database with it.

    Parameters
    ----------
    worked : Worked
    expected : sequence of Expected
    sums : mapping of str to str
        The checksum of each source file.
    phases : Phases
    replace_ : bool
        Whether a table that is there is replaced.
    compared : callable
        Given the folder while it is written, dataset and lineage being there, and the story
        so far; the story with what is new. What it raises ends it all.

    Returns
    -------
    Story
        With every file, and what was found while writing them.

    Raises
    ------
    OutputError
        When something cannot be written.
    """
    target, handover = folder_of(worked.loaded), worked.loaded.plan.handover
    changes: list[Tables] = []
    with whole_folder(target, changes) as part:
        in_database = _into_database(worked, changes, phases, replace_)
        written, findings = _dataset(worked, part, phases)
        listed, cut = _set_aside(worked, part)
        written, findings = written + listed, findings + cut
        with ThreadPoolExecutor(2) as beside, phases.phase("describing columns"):
            lineage = beside.submit(copy_context().run, _lineage, worked, sums, part)
            keys = beside.submit(copy_context().run, _keys, worked, part)
            digests = sums_of(str(part / name) for name, _, _ in written)
            story = story_of(worked, expected, sums)
            written[1:1] = [lineage.result(), *keys.result()]
        outputs = [_output(part, *one, digests.get(str(part / one[0]))) for one in written]
        there = {name for name, _, _ in written}
        files = {id(one): name for name, one in asides(worked) if name in there}
        account = replace(
            story.account,
            findings=(*story.account.findings, *findings),
            outputs=(*outputs, *in_database),
        )
        behind = behind_of(worked, files)
        story = compared(part, replace(story, account=account, behind=behind))
        guard = bool(handover and handover.guard_formulas)
        for name, text in _texts(story, target.name, guard):
            write_flushed(part / name, partial(Path.write_text, data=text, encoding="utf-8"))
            outputs.append(_output(part, name))
        (of_lineage,) = (one.sha256 for one in outputs if one.path == MARKS[2])
        package = package_json(story, outputs, sealed(HANDOVER, of_lineage))
        write_flushed(part / MARKS[0], lambda path: path.write_text(package, "utf-8"))
    return story


def _into_database(
    worked: Worked, changes: list[Tables], phases: Phases, replace_: bool
) -> list[Output]:
    """Write the result into the database that the plan names, and what goes beside it."""
    target, handover = table_of(worked.loaded), worked.loaded.plan.handover
    if target is None or handover is None:
        return []
    changes.append(begun(target.address, replace_))
    table, title = worked.result, worked.loaded.plan.title
    how = How(handover.append, unique_key_of(worked), worked.loaded.plan.describe, title)
    with phases.phase("writing into the database", table.rows) as tick:
        changes[0].add(table, target.table, tick, how)
        written: list[tuple[object, Table]] = [(target, table)]
        for name, one in _beside_table(worked) if handover.beside else ():
            place = target.beside(f"{target.stem}_{name}")
            changes[0].add(one, place.table, lambda _: None, How())
            written.append((place, one))
    return [output_of(one, place) for place, one in written]


def _beside_table(worked: Worked) -> Iterator[tuple[str, Table]]:
    """The lists of rows set aside and the ledger, with what tables of them are called."""
    handover = worked.loaded.plan.handover
    assert handover is not None
    every = list(asides(worked))
    names = {id(one): re.sub(r"\W+", "_", Path(name).stem) for name, one in every}
    for table, one in limited([one for _, one in every], handover.aside_limit):
        yield names[id(one)], table
    yield "ledger", ledger_table(worked.entries)


_Written = tuple[str, int, int]


def _dataset(worked: Worked, part: Path, phases: Phases) -> tuple[list[_Written], list[Finding]]:
    """The result in every format asked for: the files with their rows and columns."""
    handover, table = worked.loaded.plan.handover, worked.result
    assert handover is not None
    endings = endings_of(worked.loaded)
    beside = {"ledger": ledger_table(worked.entries)} if ".xlsx" in endings else {}
    written, findings = [], []
    with phases.phase("writing", table.rows * len(endings)) as tick:
        for ending in endings:
            name = f"{handover.result}{ending}"
            check_room(table, beside, Path(name))

            def write(path: Path, ending: str = ending) -> None:
                guard = handover.guard_formulas
                findings.extend(write_table(table, path, ending, tick, guard, beside))

            write_flushed(part / name, write)
            written.append((name, table.rows, len(table.columns)))
    return written, findings


def _set_aside(worked: Worked, part: Path) -> tuple[list[_Written], list[Finding]]:
    """Every list of rows that were set aside, and what is said of those that are cut."""
    handover = worked.loaded.plan.handover
    assert handover is not None
    guard, written = handover.guard_formulas, []
    every = list(asides(worked))
    names = {id(one): name for name, one in every}
    lists = limited([one for _, one in every], handover.aside_limit)
    for table, aside in lists:
        name = names[id(aside)]
        write_flushed(
            part / name,
            partial(write_table, table, ending=".csv", guard=guard),
        )
        written.append((name, table.rows, len(table.columns)))
    return written, cut_findings(lists)


def _lineage(worked: Worked, sums: Mapping[str, str], part: Path) -> _Written:
    name, stated = "lineage.parquet", _stated(worked, sums)
    write_flushed(
        part / name, lambda path: write_lineage(worked.result, _starts(worked), stated, path)
    )
    return name, worked.result.rows, len(threads(worked.result))


def _keys(worked: Worked, part: Path) -> list[_Written]:
    """The keys of rows that are known by one, if there are any."""
    if not key_starts(worked.tables):
        return []
    rows: list[int] = []
    write_flushed(part / KEYS, lambda path: rows.append(write_keys(worked.tables, path)))
    return [(KEYS, rows[0], 2)]


def _output(
    part: Path, name: str, rows: int = 0, columns: int = 0, digest: Future[str] | None = None
) -> Output:
    path = part / name
    found = digest.result() if digest else sha256(path)
    return Output(name, rows, columns, path.stat().st_size, found)


def asides(worked: Worked) -> Iterator[tuple[str, SetAside | Conflicts]]:
    """Every list of rows that were set aside, with the file it goes to."""
    taken: set[str] = set()
    for step, one in every_list(worked):
        name = distinct_name(
            f"{step}-{file_name(one.name)}" if step else file_name(one.name), taken
        )
        taken.add(name)
        yield f"aside/{name}.csv", one


def _starts(worked: Worked) -> dict[str, int]:
    """Where each source begins when the rows of all are numbered through."""
    starts, begin = {}, 0
    for table in worked.tables:
        starts[table.name] = begin
        begin += table.rows + sum(one.rows for one in table.aside)
    return starts


def _stated(worked: Worked, sums: Mapping[str, str]) -> dict[str, Any]:
    """What lineage needs beside the rows: the sources, and where each column came from."""
    assert worked.loaded.plan.handover is not None
    table, starts = worked.result, _starts(worked)
    ways = threads(table)
    return {
        "version": __version__,
        "plan": worked.loaded.path.name,
        "result": worked.loaded.plan.handover.result,
        "up": _way_up(worked),
        "sources": [
            {
                **asdict(said),
                "start": starts[said.name],
                "read": _reading(worked, number),
            }
            for number, said in enumerate(sources_of(worked, sums))
        ],
        "columns": {
            name: {
                "cells": cells_stated(table, name, ways),
                "steps": touching(worked, name),
            }
            for name in table.column_names
        },
        "rows": [way.name for way in ways if not way.strand.beside],
        "steps": [step.title for step in worked.steps],
    }


def _way_up(worked: Worked) -> str:
    """The way from the handover to the folder that paths in the plan start from."""
    target = folder_of(worked.loaded).resolve()
    return os.path.relpath(worked.loaded.folder.resolve(), target).replace(os.sep, "/")


def _reading(worked: Worked, number: int) -> dict[str, Any]:
    """How a source was read, so that it can be read so again."""
    source = worked.found[number].source
    return {
        "path": shown_path(source.path, worked),
        "member": source.member,
        "part": source.part,
        "given": asdict(source.given),
        **_known_by(worked, number),
    }


def _known_by(worked: Worked, number: int) -> dict[str, Any]:
    """The key that the rows of a source are known by, and the columns whose sums tell of them."""
    table = worked.tables[number]
    known = known_of(table)
    if known is None:
        return {}
    start = key_starts(worked.tables)[table.name]
    return {"key": list(known.key), "taking": list(known.columns), "keys": start}


def _texts(story: Story, folder: str, guard: bool) -> Iterator[tuple[str, str]]:
    """The files of text that tell about the rest."""
    yield "ledger.json", story_json(story) + "\n"
    yield "report.md", report_markdown(story)
    yield "report.html", report_page(story, folder)
    yield "dictionary.csv", csv_bytes(_dictionary(story), guard).decode()
    yield "plan.toml", _plan_text(story)


def _dictionary(story: Story) -> Table:
    """What each column of the dataset means, holds, and came from."""
    said: dict[str, list[str]] = {
        name: []
        for name in (
            "column", "type", "description", "came from", "missing", "distinct", "smallest",
            "largest",
        )
    }  # fmt: skip
    for one in story.contents:
        found = one.profile
        row = (
            one.name, found.kind, story.description(one.name), came_from(one.came),
            str(found.missing), str(found.distinct), found.smallest, found.largest,
        )  # fmt: skip
        for name, cell in zip(said, row, strict=True):
            said[name].append(cell)
    return from_columns("dictionary", said)


def _plan_text(story: Story) -> str:
    """The plan, and above it what it was run with."""
    lines = [f"# As run by plait {__version__}. Its sources then:"]
    for one in {source.path: source for source in story.sources}.values():
        what = f"{one.bytes:,} bytes  sha256 {one.sha256}" if one.sha256 else one.written
        lines.append(f"#   {shown(one.path)}  {what}")
    for name, value in story.parameters.items():
        lines.append(f"# with {name} = {json.dumps(value, ensure_ascii=False)}")
    return "\n".join(lines) + "\n\n" + story.plan_text
