"""``plait join``."""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from pathlib import Path

from plait.cli.arguments import add_reading, add_verb, help_of
from plait.cli.commands.verb import sources_of, values_of
from plait.cli.handing import (
    account,
    check_outputs,
    hand_over,
    lists,
    read_all,
    tell_json,
)
from plait.cli.options import add_output, name_of_result
from plait.cli.progress import Progress
from plait.cli.working import add_work
from plait.core.table.table import Table
from plait.core.verbs.joining.refusal import JoinRefusedError
from plait.core.verbs.result import Result, with_reading
from plait.formats.delivery.delivery import Delivery
from plait.formats.outputs import deliver
from plait.formats.servers.session import one_snapshot
from plait.options.join import JOIN
from plait.options.option import perform
from plait.options.shared import READING, TYPING

HELP = help_of(JOIN)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The options of the command."""
    add_verb(parser, JOIN)
    add_reading(parser, (*READING, *TYPING))
    add_output(parser)
    add_work(parser)


def run(options: argparse.Namespace) -> int:
    """Carry it out; the exit status."""
    sources = sources_of(JOIN, options)
    delivery = check_outputs(options, sources)
    with Progress(not options.quiet) as progress:
        with one_snapshot():
            values, tables = values_of(JOIN, options), read_all(sources, progress, options)
        try:
            with progress.phase("joining"):
                result = perform(JOIN, tables, values, name_of_result(options))
        except JoinRefusedError as refused:
            return _refusal(refused, tables, options, delivery)
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
            if isinstance(path, Path) and path != options.out:
                delivery.check(path, make_folder=True)
            deliver(delivery, table, path, guard=options.guard_formulas)
    show_error(refused)
    for _, path in listed:
        say(f"              the rows with these keys are listed in {path}")
    result = with_reading(result, tables)
    if not options.quiet:
        show_findings(result.findings, options.verbose)
    tell_json(account(result, tables, ()), options)
    return refused.status
