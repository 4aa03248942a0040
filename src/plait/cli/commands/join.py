"""``plait join``."""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from contextlib import suppress

from plait.cli.handing import (
    account,
    check_outputs,
    declared_pairs,
    hand_over,
    lists,
    read_all,
    tell_json,
)
from plait.cli.options import (
    add_comparing,
    add_origin,
    add_output,
    add_reading,
    add_typing,
    complete_columns,
    given_of,
    missing_match,
    name_of_result,
    some_text,
    whole_number,
)
from plait.cli.progress import Progress
from plait.cli.streaming import may_stream, run_streamed
from plait.core.keys.match import CARDINALITIES, KINDS
from plait.core.lineage.origin import with_origin
from plait.core.table.keyspec import named_values, names
from plait.core.table.table import Table
from plait.core.verbs.join import join_all
from plait.core.verbs.joining.refusal import JoinRefusedError
from plait.core.verbs.joining.streamed import NotStreamableError
from plait.core.verbs.result import Result, with_reading
from plait.formats.delivery.delivery import Delivery
from plait.formats.outputs import write_table
from plait.formats.sources import one_source, uniquely_named
from plait.formats.text.reading import NotRegularError, NotUtf8Error

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
        type=some_text,
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
        "--take",
        type=names,
        metavar="COLUMN,…",
        help="columns to take from the further tables, beside the key (default: all)",
    )
    parser.add_argument(
        "--rename", action="append", default=[], metavar="OLD=NEW", help="rename a result column"
    )
    parser.add_argument(
        "--prefer",
        metavar="left|right",
        help="whose cells to take where both have a column; the other's fill its empty ones "
        "(default: keep both columns if they differ)",
    )
    parser.add_argument(
        "--nearest",
        metavar="COLUMN:before|after|either",
        help="of the rows with an equal key, take the one whose number, date or time is nearest",
    )
    parser.add_argument(
        "--within", metavar="DISTANCE", help="how far that may be: 7d, 2h, 30min, or a number"
    )
    parser.add_argument(
        "--max-rows", type=whole_number, metavar="N", help="stop if the result would have more rows"
    )
    add_comparing(parser)
    add_origin(parser)
    add_reading(parser)
    add_typing(parser)
    add_output(parser)


def run(options: argparse.Namespace) -> int:
    """Carry it out; the exit status."""
    given = given_of(options)
    sources = uniquely_named([one_source(word, given) for word in options.sources])
    delivery = check_outputs(options, sources)
    if may_stream(sources, options):
        with suppress(NotStreamableError, NotRegularError, NotUtf8Error):
            return run_streamed(sources, options, delivery)
        delivery = check_outputs(options, sources)
    with Progress(not options.quiet) as progress:
        tables = read_all(sources, progress, options)
        pairs = declared_pairs(options)
        try:
            with progress.phase("joining"):
                joined = join_all(
                    tables,
                    options.key,
                    options.kind,
                    options.cardinality,
                    options.ignore,
                    name_of_result(options),
                    take=options.take,
                    rename=named_values(options.rename, "--rename"),
                    pairs=pairs,
                    missing_match=missing_match(options),
                    nearest=options.nearest,
                    within=options.within,
                    prefer=options.prefer,
                    max_rows=options.max_rows,
                )
        except JoinRefusedError as refused:
            return _refusal(refused, tables, options, delivery)
        table = with_origin(joined.table, options.origin) if options.origin else joined.table
        result = Result(
            "join", table, joined.entries, joined.findings, joined.aside, joined.matches
        )
        return hand_over(with_reading(result, tables), tables, options, delivery, progress)


def _refusal(
    refused: JoinRefusedError,
    tables: Sequence[Table],
    options: argparse.Namespace,
    delivery: Delivery,
) -> int:
    """Tell that nothing was joined, and what was found; the exit status.

    The offending rows are listed where a folder for set-aside rows was named.
    """
    from plait.cli.views.show import say, show_error, show_findings

    result = Result("join", tables[0], (), refused.findings, refused.aside, (refused.match,))
    listed = lists(result, options)[0] if options.aside else []
    with delivery:
        for table, path in listed:
            delivery.check(path, make_folder=True)
            delivery.write(
                path,
                lambda part, table=table: write_table(
                    table, part, ".csv", guard=options.guard_formulas
                ),
            )
    show_error(refused)
    for _, path in listed:
        say(f"       the rows of these keys are listed in {path}")
    result = with_reading(result, tables)
    if not options.quiet:
        show_findings(result.findings, options.verbose)
    tell_json(account(result, tables, ()), options)
    return refused.status
