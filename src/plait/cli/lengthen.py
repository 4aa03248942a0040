"""``plait lengthen``."""

from __future__ import annotations

import argparse

from plait.cli.handing import carry_out
from plait.cli.options import add_columns, add_output, add_reading, add_typing, given_of
from plait.core.lengthen import lengthen
from plait.formats.sources import one_source

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
    source = one_source(options.sources[0], given_of(options))
    name = options.out.stem if options.out else None
    return carry_out(
        options,
        [source],
        "lengthen",
        "lengthening",
        lambda tables: lengthen(
            tables[0],
            options.heads,
            options.cells,
            options.columns,
            options.key,
            options.without_missing,
            name,
        ),
    )
