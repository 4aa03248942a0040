"""``plait widen``."""

from __future__ import annotations

import argparse

from plait.cli.handing import carry_out_on_one
from plait.cli.options import add_columns, add_output, add_reading, add_typing
from plait.core.verbs.widen import widen

HELP = {
    "description": "Long to wide: a column for each value of one column, a row for each key.",
    "epilog": "example:\n  plait widen visits.csv --key Yard,Hive --heads Month --cells "
    "'Honey kg' --rule sum --out honey.csv",
}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The options of the command."""
    parser.add_argument("sources", nargs=1, metavar="SOURCE", help="a file, or name=path")
    parser.add_argument(
        "--heads",
        required=True,
        metavar="COLUMN",
        help="the column whose values head the new columns",
    )
    add_columns(parser, "--cells", "the column, or columns, that fill them", required=True)
    add_columns(parser, "--key", "the columns that identify a row (default: all others)")
    parser.add_argument(
        "--rule",
        default="agree",
        metavar="RULE",
        help="when several rows fall into one cell: agree, first, last, min, max, sum, mean, "
        "longest, commonest (default: agree; rows that differ are set aside)",
    )
    add_reading(parser)
    add_typing(parser)
    add_output(parser)


def run(options: argparse.Namespace) -> int:
    """Carry it out; the exit status."""
    return carry_out_on_one(
        options,
        "widen",
        "widening",
        lambda table, name: widen(
            table, options.heads, options.cells, options.key, options.rule, name
        ),
    )
