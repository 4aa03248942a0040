"""``plait join``."""

from __future__ import annotations

import argparse
from collections.abc import Sequence

from plait.cli.handing import (
    Result,
    account,
    check_outputs,
    hand_over,
    read_all,
    tell_json,
    with_reading,
)
from plait.cli.options import (
    add_origin,
    add_output,
    add_reading,
    add_typing,
    complete_columns,
    given_of,
)
from plait.cli.progress import Progress
from plait.core.join import join_all
from plait.core.keyspec import names
from plait.core.match import CARDINALITIES, KINDS
from plait.core.origin import with_origin
from plait.core.refusal import JoinRefusedError
from plait.core.table import Table
from plait.formats.sources import one_source, uniquely_named

HELP = {
    "description": "Put the columns of tables beside one another where their keys are equal. Each "
    "further\ntable joins on to the result so far.",
    "epilog": "example:\n  plait join visits.csv hives.csv --key yard,hive --out season.csv",
}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The options of the command."""
    parser.add_argument(
        "sources", nargs="+", metavar="SOURCE", help="a file or name=path; the left one first"
    )
    parser.add_argument(
        "--key",
        action="append",
        default=[],
        metavar="COLUMN,…",
        help="the columns that identify a record; LEFT=RIGHT where the names differ. Once for "
        "all joins, or once for each further table. Without it: the columns both have",
    ).completer = complete_columns  # type: ignore[attr-defined]
    parser.add_argument(
        "--kind",
        default="left",
        metavar="|".join(KINDS),
        help="which unmatched rows the result keeps (default: left)",
    )
    parser.add_argument(
        "--cardinality",
        metavar="|".join(CARDINALITIES),
        help="what the match must be, left to right; many-to-many must be said to be done",
    )
    parser.add_argument(
        "--ignore",
        type=names,
        default=(),
        metavar="WHAT,…",
        help="what does not count when keys are compared: case, space, punctuation, accents, "
        "leading-zeros; the cells stay as they are",
    )
    add_origin(parser)
    add_reading(parser)
    add_typing(parser)
    add_output(parser)


def run(options: argparse.Namespace) -> int:
    """Carry it out; the exit status."""
    given = given_of(options)
    sources = uniquely_named([one_source(word, given) for word in options.sources])
    delivery = check_outputs(options, sources)
    with Progress(not options.quiet) as progress:
        tables = read_all(sources, progress, options)
        try:
            with progress.phase("joining"):
                joined = join_all(
                    tables,
                    options.key,
                    options.kind,
                    options.cardinality,
                    options.ignore,
                    options.out.stem if options.out else None,
                )
        except JoinRefusedError as refused:
            return _refusal(refused, tables, options)
        table = with_origin(joined.table, options.origin) if options.origin else joined.table
        result = Result(
            "join", table, joined.entries, joined.findings, joined.aside, joined.matches
        )
        return hand_over(with_reading(result, tables), tables, options, delivery, progress)


def _refusal(
    refused: JoinRefusedError, tables: Sequence[Table], options: argparse.Namespace
) -> int:
    """Tell that nothing was joined, and what was found; the exit status."""
    from plait.cli.show import show_error, show_findings

    show_error(refused)
    result = Result("join", tables[0], (), refused.findings, (), (refused.match,))
    result = with_reading(result, tables)
    if not options.quiet:
        show_findings(result.findings, options.verbose)
    tell_json(account(result, tables, ()), options)
    return refused.status
