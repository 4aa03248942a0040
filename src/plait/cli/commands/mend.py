"""``plait mend``."""

from __future__ import annotations

import argparse
from typing import Any

from plait.cli.handing import carry_out
from plait.cli.options import (
    add_columns,
    add_output,
    add_reading,
    add_typing,
    given_of,
    name_of_result,
)
from plait.core.table.table import Table
from plait.core.verbs.mend import mend
from plait.core.verbs.result import Result
from plait.formats.sources import one_source

HELP = {
    "description": "Put one table right: names, missing cells, types, fields that hold several "
    "things,\ncomputed columns, which rows and columns to keep. What is asked for is done in the "
    "order\nin which it is listed here.",
    "epilog": "example:\n  plait mend visits.csv --rename 'Hive no.=Hive' --compute "
    "'Half=kg / 2' --where 'kg > 0' --out mended.csv",
}
_PAIRS = (
    ("--rename", "OLD=NEW", "rename a column"),
    ("--split", "'COLUMN:SIGNS into A,B'", "put the parts of a field in columns of their own"),
    ("--replace-value", "COLUMN:OLD=NEW", "replace whole cells; nothing for OLD or NEW: missing"),
    ("--fill", "COLUMN=VALUE|down", "fill missing cells, with a value or the cell above"),
)
_LISTS = (
    ("--sort", "columns to sort by; 'COLUMN desc' for greatest first"),
    ("--drop", "columns to leave out"),
    ("--keep", "the only columns to leave in"),
    ("--order", "columns to put first"),
)


class _Compute(argparse.Action):
    """Takes an expression, and whether a type was named before it."""

    def __call__(
        self,
        parser: argparse.ArgumentParser,
        namespace: argparse.Namespace,
        values: Any,
        option_string: str | None = None,
    ) -> None:
        name = "compute" if namespace.type else "compute_first"
        setattr(namespace, name, [*getattr(namespace, name), values])


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The options of the command."""
    parser.add_argument("sources", nargs=1, metavar="SOURCE", help="a file, or name=path")
    group = parser.add_argument_group("mending")
    group.add_argument("--header", metavar="NAME,…", help="names for all the columns")
    group.add_argument(
        "--trim",
        nargs="?",
        const=True,
        default=False,
        metavar="COLUMN,…",
        help="take spaces off both ends of cells; of all columns, or of these",
    )
    group.add_argument(
        "--compute",
        action=_Compute,
        default=[],
        metavar="COLUMN=EXPRESSION",
        help="a column from an SQL expression over the others; before types are set where it "
        "stands before --type",
    )
    parser.set_defaults(compute_first=[])
    for option, value, text in _PAIRS:
        group.add_argument(option, action="append", default=[], metavar=value, help=text)
    group.add_argument(
        "--where", metavar="CONDITION", help="keep rows on which an SQL condition holds"
    )
    for option, text in _LISTS:
        add_columns(group, option, text)
    add_reading(parser)
    add_typing(parser)
    add_output(parser)


def run(options: argparse.Namespace) -> int:
    """Carry it out; the exit status."""
    source = one_source(options.sources[0], given_of(options))

    def work(tables: list[Table]) -> Result:
        return mend(
            tables[0],
            header=options.header,
            rename=options.rename,
            missing=options.missing,
            trim=options.trim,
            split=options.split,
            replace_value=options.replace_value,
            fill=options.fill,
            type=options.type,
            unfit=options.unfit,
            compute=options.compute,
            compute_first=options.compute_first,
            where=options.where,
            sort=options.sort,
            drop=options.drop,
            keep=options.keep,
            order=options.order,
            name=name_of_result(options),
        )

    return carry_out(options, [source], "mend", "mending", work, declare=False)
