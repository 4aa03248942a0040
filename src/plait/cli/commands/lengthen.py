"""``plait lengthen``."""

from __future__ import annotations

import argparse

from plait.cli.handing import carry_out_on_one
from plait.cli.options import add_columns, add_output, add_reading, add_typing
from plait.core.verbs.lengthen import lengthen

HELP = {
    "description": "Wide to long: a row for each cell of some columns, their headings beside it.",
    "epilog": "example:\n  plait lengthen honey.csv --key Yard,Hive --heads Month --cells "
    "'Honey kg' --without-missing --out long.csv",
}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The options of the command."""
    parser.add_argument("sources", nargs=1, metavar="SOURCE", help="a file, or name=path")
    parser.add_argument(
        "--heads", required=True, metavar="NEW", help="what the column of headings is called"
    )
    parser.add_argument(
        "--cells", required=True, metavar="NEW", help="what the column of cells is called"
    )
    add_columns(parser, "--columns", "the columns to put under one another")
    add_columns(parser, "--key", "instead: the columns that stay as they are")
    parser.add_argument(
        "--without-missing", action="store_true", help="leave out rows whose cell is missing"
    )
    add_reading(parser)
    add_typing(parser)
    add_output(parser)


def run(options: argparse.Namespace) -> int:
    """Carry it out; the exit status."""
    return carry_out_on_one(
        options,
        "lengthen",
        "lengthening",
        lambda table, name: lengthen(
            table,
            options.heads,
            options.cells,
            options.columns,
            options.key,
            options.without_missing,
            name,
        ),
    )
