"""``plait trace``, and what it prints."""

from __future__ import annotations

import argparse
import json
from collections.abc import Iterator, Mapping
from dataclasses import asdict
from pathlib import Path

from rich.padding import Padding
from rich.table import Table as Grid
from rich.text import Text

from plait._version import __version__
from plait.cli.arguments import add_option_arguments, parse_whole_number
from plait.cli.common_options import add_job_arguments
from plait.cli.terminal import escape_unprintable, make_console
from plait.core.base.findings import pluralize
from plait.core.specs.option import Option, OptionKind
from plait.plan.trace import MOST_ROWS, CellTrace, RowTrace, SourceCell, TraceResult, trace

HELP = {
    "description": "Trace rows of a handover, cell by cell, to their sources: file, sheet, row, "
    "line, column, the original text, and the steps it went through. The sources are read "
    "again; one that has changed since the run is named.",
    "epilog": "examples:\n  plait trace handover --row 17\n  plait trace handover --where "
    "\"Yard = 'KES'\" --columns Yard,Breed",
}

_COLUMNS = Option(
    "columns", OptionKind.COLUMNS, "the columns to trace (default: all)", (), placeholder="COLUMN,…"
)

_FEW = 6
_LONGEST = 30


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The options of the command."""
    parser.add_argument("handover", type=Path, metavar="HANDOVER", help="the handover folder")
    parser.add_argument(
        "--row",
        type=parse_whole_number,
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
        type=parse_whole_number,
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
    add_option_arguments(parser, [_COLUMNS])
    parser.add_argument("--json", action="store_true", help="print the trace as JSON")
    parser.add_argument("--quiet", action="store_true", help="show only errors")
    parser.add_argument(
        "--verbose", action="store_true", help="show the steps that every cell went through"
    )
    add_job_arguments(parser)


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
        payload = {"command": "trace", "version": __version__, **asdict(traced)}
        print(json.dumps(payload, indent=2, ensure_ascii=False))
    elif not options.quiet:
        from plait.cli.terminal import print_summary, print_to_stdout

        with print_to_stdout():
            print_summary(_answer(traced))
            for row in traced.rows:
                print_row_trace(row, traced.paths, options.verbose)
    return 0


def _answer(traced: TraceResult) -> Iterator[str]:
    shown = len(traced.rows)
    if traced.found > shown:
        fit = pluralize(traced.found, "row")
        yield f"{shown:,} of {fit} of {traced.result} that match, traced to their sources"
    else:
        yield f"{pluralize(shown, 'row')} of {traced.result} traced to the sources"
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


def print_row_trace(row: RowTrace, paths: Mapping[str, str], verbose: bool) -> None:
    """The source rows that went in, then each cell with its value and where it came from."""
    out = make_console()
    out.print()
    head = Text(f"row {row.row:,}", style="bold")
    head.append("" if row.places else "  from no source", style="dim")
    out.print(head)
    out.print(Padding(_sources(row, paths, verbose), (0, 0, 0, 2)))
    several = _several(row)
    grid = Grid(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="dim")
    grid.add_column("column", overflow="fold", ratio=3)
    grid.add_column("value", overflow="fold", ratio=4)
    grid.add_column("came from", overflow="fold", ratio=5)
    for cell in row.cells:
        whence = _whence(cell, several, verbose)
        grid.add_row(Text(escape_unprintable(cell.column)), _value(cell.value), whence)
    out.print(Padding(grid, (0, 0, 0, 2)))


def _sources(row: RowTrace, paths: Mapping[str, str], verbose: bool) -> Grid:
    """Each source row that went in, by name, with its file and line."""
    grid = Grid(box=None, show_header=False, pad_edge=False, padding=(0, 2, 0, 0))
    shown = list(zip(row.places, row.within, strict=True))[: None if verbose else _FEW]
    for (source, _), within in shown:
        where = Text(escape_unprintable(f"{paths[source]} {within}"))
        grid.add_row(Text(escape_unprintable(source), style="bold"), where)
    if len(shown) < len(row.places):
        grid.add_row("", f"and {len(row.places) - len(shown):,} rows more: --verbose")
    return grid


def _several(row: RowTrace) -> set[str]:
    """The sources of which more than one row went in."""
    names = [source for source, _ in row.places]
    return {name for name in names if names.count(name) > 1}


def _value(value: str | None) -> Text:
    if value is None or value == "":
        return Text("(missing)", style="dim")
    return Text(_short(value))


def _whence(cell: CellTrace, several: set[str], verbose: bool) -> Text:
    text = Text()
    for number, origin in enumerate(cell.origins[: None if verbose else _FEW]):
        text.append("\n" if number else "")
        text.append(_format_cell_location(origin, several))
        if origin.text != cell.value and not (origin.text == "" and cell.value is None):
            there = "not there" if origin.text is None else repr(_short(origin.text))
            text.append(f"  {there}", style="yellow")
    hidden = max(len(cell.origins) - _FEW, 0) * (not verbose) + cell.more
    if hidden:
        text.append(f"\nand {hidden:,} more")
    changed = [step for step, made in cell.steps if made]
    if not cell.origins:
        text.append(_nothing(cell), style="dim")
    elif changed:
        text.append(f"\nby {escape_unprintable('; '.join(changed))}", style="dim")
    if verbose and cell.steps:
        steps = "; ".join(step for step, _ in cell.steps)
        text.append(f"\nthrough {escape_unprintable(steps)}", style="dim")
    return text


def _nothing(cell: CellTrace) -> str:
    """Why a cell has no origin: no partner was found, or a step made it."""
    if cell.value in (None, ""):
        return "no matching row"
    return f"made by {escape_unprintable(cell.steps[0][0])}" if cell.steps else "made by the plan"


def _format_cell_location(source_cell: SourceCell, several: set[str]) -> str:
    row = f" {source_cell.place}" if source_cell.source in several else ""
    return escape_unprintable(f"{source_cell.column} of {source_cell.source}{row}")


def _short(text: str) -> str:
    message = escape_unprintable(text)
    return message if len(message) <= _LONGEST else message[: _LONGEST - 1] + "…"
