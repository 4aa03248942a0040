"""``plait trace``, and what it prints."""

from __future__ import annotations

import argparse
import json
from collections import Counter
from collections.abc import Iterator, Mapping
from dataclasses import asdict
from pathlib import Path

from plait._version import __version__
from plait.cli.arguments import add_option_arguments, parse_whole_number
from plait.cli.common_options import add_job_arguments
from plait.core.base.findings import pluralize
from plait.core.specs.option import Option, OptionKind
from plait.plan.trace import MOST_ROWS, CellTrace, RowTrace, SourceCell, TraceResult, trace
from plait.report.document import Block, Document, Fact, Grid, GridColumn, Mark, Value

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
        "--result", metavar="NAME", help="which of several results (default: the main one)"
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
        result=options.result,
    )
    if options.json:
        payload = {"command": "trace", "version": __version__, **asdict(traced)}
        print(json.dumps(payload, indent=2, ensure_ascii=False))
    elif not options.quiet:
        from plait.cli.document_view import print_document
        from plait.cli.terminal import print_to_stdout

        with print_to_stdout():
            print_document(trace_document(traced, options.verbose))
    return 0


def trace_document(traced: TraceResult, whole: bool = False) -> Document:
    """The source rows that each row came from, and its cells with where they came from.

    Parameters
    ----------
    whole : bool
        With every source row and cell, and the steps that each cell went through.
    """
    shown = len(traced.rows)
    answer = f"{pluralize(shown, 'row')} of {traced.result} traced to the sources"
    if traced.found > shown:
        fit = pluralize(traced.found, "row")
        answer = f"{shown:,} of {fit} of {traced.result} that match, traced to their sources"
    blocks = [block for row in traced.rows for block in _row_blocks(row, traced.paths, whole)]
    return Document((answer,), tuple(_facts(traced)), tuple(blocks))


def _facts(traced: TraceResult) -> Iterator[Fact]:
    for place in traced.unopened:
        yield Fact("not opened", place)
    if traced.unopened:
        yield Fact(
            "",
            "the handover was made by another user or on another machine; to open these: "
            "--trusted, or --sources DIR for files in a folder",
        )
    for change in traced.changed:
        yield Fact("changed", change)
    if not traced.changed and traced.read:
        yield Fact("unchanged", "every source read for this trace is the same as at the run")


def _row_blocks(row: RowTrace, paths: Mapping[str, str], whole: bool) -> Iterator[Block]:
    """The source rows that went in, then each cell with its value and where it came from."""
    sources: list[tuple[Value, ...]] = []
    for (source, _), within in zip(row.places, row.within, strict=True):
        if whole or len(sources) < _FEW:
            sources.append((Mark(source, "total"), f"{paths[source]} {within}"))
    if len(sources) < len(row.places):
        sources.append(("", f"and {len(row.places) - len(sources):,} rows more: --verbose"))
    sources += [(Mark("by evidence", "odd"), reason) for reason in row.matched]
    none = "" if row.places else "  from no source"
    yield Grid(
        (GridColumn(), GridColumn()),
        sources,
        (Mark(f"row {row.row:,}", "total"), Mark(none, "faint")),
        has_heads=False,
    )
    several = _several(row)
    yield Grid(
        (GridColumn("column", share=3), GridColumn("value", share=4),
         GridColumn("came from", share=5)),
        [
            (
                cell.column,
                Mark(_short(cell.value)) if cell.value else Mark("(missing)", "faint"),
                tuple(_whence(cell, several, whole)),
            )
            for cell in row.cells
        ],
        close=True,
    )  # fmt: skip


def _several(row: RowTrace) -> set[str]:
    """The sources of which more than one row went in."""
    counts = Counter(source for source, _ in row.places)
    return {name for name, count in counts.items() if count > 1}


def _whence(cell: CellTrace, several: set[str], whole: bool) -> Iterator[Mark]:
    for number, origin in enumerate(cell.origins[: None if whole else _FEW]):
        yield Mark(_format_cell_location(origin, several), new_line=number > 0)
        if origin.text != cell.value and not (origin.text == "" and cell.value is None):
            there = "not there" if origin.text is None else repr(_short(origin.text))
            yield Mark(f"  {there}", "odd")
    hidden = max(len(cell.origins) - _FEW, 0) * (not whole) + cell.more
    if hidden:
        yield Mark(f"and {hidden:,} more", new_line=True)
    changed = [step for step, made in cell.steps if made]
    if not cell.origins:
        yield Mark(_nothing(cell), "faint")
    elif changed:
        yield Mark(f"by {'; '.join(changed)}", "faint", new_line=True)
    if whole and cell.steps:
        steps = "; ".join(step for step, _ in cell.steps)
        yield Mark(f"through {steps}", "faint", new_line=True)


def _nothing(cell: CellTrace) -> str:
    """Why a cell has no origin: no partner was found, or a step made it."""
    if cell.value in (None, ""):
        return "no matching row"
    return f"made by {cell.steps[0][0]}" if cell.steps else "made by the plan"


def _format_cell_location(source_cell: SourceCell, several: set[str]) -> str:
    row = f" {source_cell.place}" if source_cell.source in several else ""
    return f"{source_cell.column} of {source_cell.source}{row}"


def _short(text: str) -> str:
    message = text.replace("\n", "⏎")
    return message if len(message) <= _LONGEST else message[: _LONGEST - 1] + "…"
