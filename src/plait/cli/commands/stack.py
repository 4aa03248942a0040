"""``plait stack``."""

from __future__ import annotations

import argparse
from dataclasses import replace

from plait.cli.handing import carry_out
from plait.cli.options import (
    add_origin,
    add_output,
    add_reading,
    add_typing,
    given_of,
    name_of_result,
)
from plait.core.lineage.label import parse_labels
from plait.core.lineage.origin import with_origin
from plait.core.table.table import Table
from plait.core.verbs.result import Result
from plait.core.verbs.stack import stack
from plait.formats.sources import find_sources

HELP = {
    "description": "Put the rows of several files under one another, by column name. The first "
    "file sets\nthe order of the columns; a column that a file lacks is missing on its rows.",
    "epilog": "example:\n  plait stack 'inspections/*.csv' --label month={stem} --out visits.csv",
}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The options of the command."""
    parser.add_argument(
        "sources", nargs="+", metavar="SOURCE", help="a file, a glob, a folder, or name=path"
    )
    parser.add_argument(
        "--label",
        action="append",
        default=[],
        metavar="COLUMN={stem}",
        help="add a column that says where a row came from: {file}, {stem}, {folder}, {sheet}",
    )
    parser.add_argument(
        "--distinct",
        action="store_true",
        help="leave out rows that equal an earlier one in every column of the sources",
    )
    parser.add_argument("--number", metavar="COLUMN", help="add a column that numbers the rows")
    parser.add_argument(
        "--same",
        action="append",
        default=[],
        metavar="NEW=OLD,…",
        help="take column OLD for column NEW; several old ones, or several times",
    )
    parser.add_argument(
        "--fold-headers",
        action="store_true",
        help="take headers that differ in case, spaces and punctuation only for the same",
    )
    parser.add_argument(
        "--by",
        default="name",
        metavar="name|position",
        help="take columns of one name for the same, or the first for the first (default: name)",
    )
    add_origin(parser)
    add_reading(parser)
    add_typing(parser)
    add_output(parser)


def run(options: argparse.Namespace) -> int:
    """Carry it out; the exit status."""
    labels = parse_labels(options.label)
    sources = find_sources(options.sources, given_of(options))

    def work(tables: list[Table]) -> Result:
        stacked = stack(
            tables,
            labels,
            options.distinct,
            options.number,
            options.same,
            options.fold_headers,
            name_of_result(options) or "stack",
            options.by,
        )
        if not options.origin:
            return stacked
        return replace(stacked, table=with_origin(stacked.table, options.origin))

    return carry_out(options, sources, "stack", "stacking", work)
