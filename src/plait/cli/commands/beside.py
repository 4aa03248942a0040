"""``plait beside``."""

from __future__ import annotations

import argparse

from plait.cli.handing import carry_out
from plait.cli.options import add_output, add_reading, add_typing, given_of, name_of_result
from plait.core.verbs.beside import beside
from plait.formats.sources import one_source, uniquely_named

HELP = {
    "description": "Put the columns of tables beside one another by the order of their rows. "
    "Refused when\nthey have different numbers of rows; if they have a key in common, join them.",
    "epilog": "example:\n  plait beside weights.csv photographs.csv --out both.csv",
}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The options of the command."""
    parser.add_argument("sources", nargs="+", metavar="SOURCE", help="a file or name=path")
    add_reading(parser)
    add_typing(parser)
    add_output(parser)


def run(options: argparse.Namespace) -> int:
    """Carry it out; the exit status."""
    given = given_of(options)
    sources = uniquely_named([one_source(word, given) for word in options.sources])
    name = name_of_result(options)
    return carry_out(options, sources, "beside", "putting beside", lambda them: beside(them, name))
