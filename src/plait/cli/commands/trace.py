"""``plait trace``."""

from __future__ import annotations

import argparse
import json
from collections.abc import Iterator
from dataclasses import asdict
from pathlib import Path

from plait._version import __version__
from plait.cli.arguments import add_options, whole_number
from plait.cli.working import add_work
from plait.core.account.finding import counted
from plait.options.option import Form, Option
from plait.plan.trace import MOST_ROWS, Traced, trace

HELP = {
    "description": "Where a row of a handover, and each of its cells, came from: file, sheet, row, "
    "line, column,\nthe text that is there, and the steps it went through. The sources are "
    "read again; one\nthat has changed since the run is named.",
    "epilog": "examples:\n  plait trace handover --row 17\n  plait trace handover --where "
    "\"Yard = 'KES'\" --columns Yard,Breed",
}

_COLUMNS = Option(
    "columns", Form.COLUMNS, "the columns to trace (default: all)", (), shown="COLUMN,…"
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The options of the command."""
    parser.add_argument("handover", type=Path, metavar="HANDOVER", help="the handover folder")
    parser.add_argument(
        "--row",
        type=whole_number,
        action="append",
        default=[],
        metavar="N",
        help="the number of a row in the dataset, counted from 1; may be repeated",
    )
    parser.add_argument(
        "--where", metavar="CONDITION", help="trace the rows that meet an SQL condition instead"
    )
    parser.add_argument(
        "--most",
        type=whole_number,
        default=MOST_ROWS,
        metavar="N",
        help=f"the most rows to trace with --where (default: {MOST_ROWS})",
    )
    parser.add_argument(
        "--sources",
        type=Path,
        metavar="DIR",
        help="the folder that source paths are relative to; nothing outside it is opened",
    )
    parser.add_argument(
        "--trusted",
        action="store_true",
        help="open every source of a handover that someone else made: addresses, filled in from "
        "environment variables, and files anywhere",
    )
    add_options(parser, [_COLUMNS])
    parser.add_argument("--json", action="store_true", help="print the trace as JSON")
    parser.add_argument("--quiet", action="store_true", help="show only errors")
    parser.add_argument(
        "--verbose", action="store_true", help="show the steps that every cell went through"
    )
    add_work(parser)


def run(options: argparse.Namespace) -> int:
    """Carry it out; the exit status."""
    traced = trace(
        options.handover,
        options.row,
        options.where,
        options.columns,
        options.most,
        options.sources,
        options.trusted,
    )
    if options.json:
        said = {"command": "trace", "version": __version__, **asdict(traced)}
        print(json.dumps(said, indent=2, ensure_ascii=False))
    elif not options.quiet:
        from plait.cli.views.show import for_reading, show_answer
        from plait.cli.views.trace import show_row

        with for_reading():
            show_answer(_answer(traced))
            for row in traced.rows:
                show_row(row, traced.paths, options.verbose)
    return 0


def _answer(traced: Traced) -> Iterator[str]:
    shown = len(traced.rows)
    if traced.found > shown:
        fit = counted(traced.found, "row")
        yield f"{shown:,} of {fit} of {traced.result} that match, traced to their sources"
    else:
        yield f"{counted(shown, 'row')} of {traced.result} traced to the sources"
    for place in traced.unopened:
        yield f"not opened:  {place}"
    if traced.unopened:
        yield (
            "             the handover was made by another user or on another machine; to open "
            "these: --trusted, or --sources DIR for files in a folder"
        )
    for said in traced.changed:
        yield f"changed:     {said}"
    if not traced.changed and traced.read:
        yield "unchanged:   every source read for this trace is the same as at the run"
