"""``plait join`` where the left file streams past, so that memory does not grow with it."""

from __future__ import annotations

import argparse
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path
from typing import Any

from plait.cli.handing import (
    account,
    aside_file,
    left_behind,
    read_all,
    refuse_and_tell,
    show_everything,
    tell_json,
)
from plait.cli.options import name_of_result
from plait.cli.progress import Progress
from plait.core.account.finding import Finding
from plait.core.account.parallel import Ahead
from plait.core.codes.groups import Rows
from plait.core.store.crew import crew
from plait.core.table.keyspec import Key, check_key, parse_key, shared_key
from plait.core.table.strand import Origin, Strand
from plait.core.table.table import Column, SetAside, Table
from plait.core.verbs.joining.account import unmatched_aside
from plait.core.verbs.joining.refusal import refuse_size
from plait.core.verbs.joining.streamed import STREAMED_KINDS, StreamJoin
from plait.core.verbs.result import Result, with_reading
from plait.formats.delivery.delivery import Delivery
from plait.formats.endings import DELIMITED
from plait.formats.outputs import write_table
from plait.formats.reading import opened_batches
from plait.formats.sources import Source
from plait.formats.text.passing import LostRows, pass_through
from plait.report.account import output_of

LEAST_BYTES = 512 << 20


def may_stream(sources: Sequence[Source], options: argparse.Namespace) -> bool:
    """Whether the left file is large, and what is asked for can be done while it passes."""
    if len(sources) != 2 or len(options.key) > 1 or not options.out:
        return False
    left, right = sources
    not_plain = ("ignore", "pairs", "nearest", "within", "prefer", "take", "rename", "origin")
    return (
        not any(getattr(options, name) for name in (*not_plain, "missing", "type"))
        and all(one.given.ragged == "error" and not one.given.footer for one in sources)
        and options.missing_keys == "apart"
        and options.kind in STREAMED_KINDS
        and options.cardinality in (None, "many-to-one", "many-to-many")
        and left.ending in DELIMITED
        and options.aside_limit is None
        and options.out.suffix.lower() in DELIMITED
        and left.size >= LEAST_BYTES
        and crew() is None  # others can take on parts of the join in memory, and of no stream
        and larger(left, right)
    )


def larger(left: Source, right: Source) -> bool:
    """Whether the left file is the larger one."""
    return left.size > right.size


def run_streamed(sources: Sequence[Source], options: argparse.Namespace, delivery: Delivery) -> int:
    """Carry the join out; the exit status.

    Raises
    ------
    NotStreamableError, NotRegularError, NotUtf8Error
        When it turns out that the left file has to be read whole. Nothing was
        handed over then.
    """
    source, right_source = sources
    with (
        Progress(not options.quiet) as progress,
        delivery,
        progress.phase("joining", source.size or None) as tick,
        opened_batches(source, tick) as opened,
        Ahead(opened.columns) as columns,
    ):
        (right,) = read_all([right_source], Progress(False), options)
        left = _account_table(source.name, opened.names, 0, source.where)
        joining, lost = _joining(left, right, options), LostRows(left, options.guard_formulas)
        found = _result(joining, columns, lost, options, delivery)
        said = joining.finish()
        refuse_size(said.match, options.max_rows, said.findings)
        left = _account_table(source.name, opened.names, said.match.left_rows, source.where)
        tables = [replace(left, findings=opened.findings, written=opened.written), right]
        made = _account_table(
            str(name_of_result(options)), joining.column_names, said.match.output_rows, ""
        )
        aside = _aside(joining, lost, tables, said.right_lost, options.kind)
        result = Result("join", made, (said.entry,), (*said.findings, *found), aside, (said.match,))
        result = with_reading(result, tables)
        refuse_and_tell(result, tables, options)
        paths = [aside_file(one.name, options) for one in result.aside]
        others = left_behind(paths, options, delivery)
        result = replace(result, findings=(*result.findings, *others))
        files = [(made, options.out), *_write_aside(lost, result.aside, options, delivery)]
        _write_page(result, tables, options, delivery)
    outputs = [output_of(*file) for file in files] if options.json else []
    show_everything(result, options)
    tell_json(account(result, tables, outputs), options)
    return 0


def _joining(left: Table, right: Table, options: argparse.Namespace) -> StreamJoin:
    key: Key = parse_key(options.key[0]) if options.key else shared_key(left, right)
    check_key(key, left, right)
    return StreamJoin(left, right, key, options.kind, bool(options.key))


def _account_table(name: str, names: Sequence[str], rows: int, path: str) -> Table:
    """A table that was never in memory, as accounts name it."""
    strand = Strand(name, {}, (Origin(name, path, rows),))
    return Table(name, tuple(Column(one, ((0, one),)) for one in names), (strand,), rows)


def _result(
    joining: StreamJoin,
    columns: Iterator[list[Any]],
    lost: LostRows,
    options: argparse.Namespace,
    delivery: Delivery,
) -> list[Finding]:
    """Let all left rows pass, and write the result as they do."""
    delimiter, found = DELIMITED[options.out.suffix.lower()], []

    def write(part: Path) -> None:
        found.extend(pass_through(joining, columns, lost, part, delimiter, options.guard_formulas))

    delivery.write(options.out, write)
    return found


@dataclass(frozen=True, eq=False)
class _Passing:
    """Rows set aside that were never in memory together."""

    name: str
    table: Table
    in_result: bool

    @property
    def rows(self) -> int:
        return self.table.rows


def _aside(
    joining: StreamJoin,
    lost: LostRows,
    tables: Sequence[Table],
    right_lost: Rows,
    kind: str,
) -> tuple[Any, ...]:
    """What is set aside of both tables."""
    left, right = tables
    named = f"{left.name}-{'matched' if kind == 'anti' else 'unmatched'}"
    table = _account_table(named, lost.names, lost.rows, "")
    ours = (_Passing(named, table, kind == "left"),) if lost.rows else ()
    return (*ours, *unmatched_aside(right, left, right_lost, joining.right_codes, kind))


def _write_aside(
    lost: LostRows, aside: Sequence[Any], options: argparse.Namespace, delivery: Delivery
) -> list[tuple[Table, Path]]:
    files = []
    for one in aside:
        path = aside_file(one.name, options)
        delivery.check(path, make_folder=True)
        if isinstance(one, SetAside):
            table = one.listed()
            delivery.write(
                path,
                partial(write_table, table, ending=".csv", guard=options.guard_formulas),
            )
        else:
            table = one.table
            delivery.write(path, lost.write)
        files.append((table, path))
    return files


def _write_page(
    result: Result, tables: Sequence[Table], options: argparse.Namespace, delivery: Delivery
) -> None:
    if options.report:
        from plait.report.page import write_page

        page = account(result, tables, ())
        delivery.write(options.report, lambda part: write_page(page, part))
