"""``plait group``."""

from __future__ import annotations

import argparse

from plait.cli.handing import carry_out_on_one
from plait.cli.options import (
    add_columns,
    add_ignore,
    add_output,
    add_reading,
    add_typing,
)
from plait.core.verbs.group import group

HELP = {
    "description": "Work out figures over the rows of each group: one row a group, or the figures "
    "put back on\nevery row. Sums of decimals are exact; rows without a value to group by are a "
    "group of\ntheir own.",
    "epilog": "examples:\n  plait group visits.csv --by Yard --take Visits=count "
    "--take 'Honey=sum:Honey kg' --out yards.csv\n  plait group visits.csv --by Yard,Seen:month "
    "--take 'Mean=mean:Honey kg' --out months.csv\n  plait group visits.csv --by Yard --take "
    "'Share=share:Honey kg' --onto-rows --out shares.csv",
}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The options of the command."""
    parser.add_argument("sources", nargs=1, metavar="SOURCE", help="a file, or name=path")
    add_columns(
        parser,
        "--by",
        "the columns that are equal within a group; of dates also COLUMN:month, COLUMN:quarter, "
        "COLUMN:year (without it: all rows are one group)",
    )
    parser.add_argument(
        "--take",
        action="append",
        default=[],
        metavar="NEW=FIGURE:COLUMN",
        help="a figure: count, distinct, sum, mean, middle, smallest, largest, spread, first, "
        "last, commonest, share (also median, stdev, min, max, average), and with --onto-rows "
        "rank; NEW=count counts rows, NEW=share is the share of the rows",
    )
    parser.add_argument(
        "--onto-rows", action="store_true", help="keep every row, with the figures of its group"
    )
    add_ignore(parser)
    add_reading(parser)
    add_typing(parser)
    add_output(parser)


def run(options: argparse.Namespace) -> int:
    """Carry it out; the exit status."""
    return carry_out_on_one(
        options,
        "group",
        "grouping",
        lambda table, name: group(
            table, options.by, options.take, options.onto_rows, options.ignore, name
        ),
    )
