"""``plait settle``."""

from __future__ import annotations

import argparse
from dataclasses import replace

from plait.cli.handing import carry_out, declared_pairs
from plait.cli.options import (
    add_comparing,
    add_output,
    add_reading,
    add_typing,
    complete_columns,
    given_of,
    missing_match,
    name_of_result,
    some_text,
)
from plait.core.table.table import Table
from plait.core.verbs.settle import Settled, settle
from plait.core.verbs.stack import stack
from plait.formats.sources import find_sources

HELP = {
    "description": "Bring the rows of each key down to one, by a rule for each column. Several "
    "sources are\nstacked first. Without rules all cells of a column must agree, or the key is "
    "in conflict\nand its rows are set aside.",
    "epilog": "examples:\n  plait settle register.csv --key yard,hive --out hives.csv\n"
    "  plait settle register.csv --key yard,hive --rule breed=newest-by:entered --out hives.csv\n"
    "  plait settle register.csv --key yard,hive --keep-rule first --out hives.csv",
}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The options of the command."""
    parser.add_argument(
        "sources", nargs="+", metavar="SOURCE", help="a file, a glob, a folder, or name=path"
    )
    parser.add_argument(
        "--key",
        required=True,
        type=some_text,
        metavar="COLUMN,…",
        help="the columns that identify a record",
    ).completer = complete_columns  # type: ignore[attr-defined]
    parser.add_argument(
        "--rule",
        action="append",
        default=[],
        metavar="COLUMN=RULE",
        help="agree, first, last, min, max, sum, mean, longest, commonest, newest-by:COLUMN, "
        "oldest-by:COLUMN; a missing cell never stands against another",
    )
    parser.add_argument(
        "--otherwise",
        default="agree",
        metavar="RULE",
        help="the rule of the other columns (default: agree)",
    )
    parser.add_argument(
        "--keep-rule",
        metavar="RULE",
        help="keep one row of each key whole: first, last, fullest, newest-by:COLUMN, "
        "oldest-by:COLUMN",
    )
    add_comparing(parser)
    add_reading(parser)
    add_typing(parser)
    add_output(parser)


def run(options: argparse.Namespace) -> int:
    """Carry it out; the exit status."""
    sources = find_sources(options.sources, given_of(options))
    matched = missing_match(options)

    def work(tables: list[Table]) -> Settled:
        stacked = stack(tables, name="stack") if len(tables) > 1 else None
        settled = settle(
            stacked.table if stacked else tables[0],
            options.key,
            options.rule,
            options.otherwise,
            options.keep_rule,
            options.ignore,
            declared_pairs(options),
            name_of_result(options),
            matched,
        )
        if stacked is None:
            return settled
        return replace(
            settled,
            entries=(*stacked.entries, *settled.entries),
            findings=(*stacked.findings, *settled.findings),
        )

    return carry_out(options, sources, "settle", "settling", work)
