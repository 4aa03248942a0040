"""``plait compare``."""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from pathlib import Path

from plait.cli.arguments import add_reading, add_verb, help_of
from plait.cli.commands.verb import values_of
from plait.cli.figures import add_figure, check_figure, write_figure
from plait.cli.handing import (
    check_report,
    read_all,
    read_files,
    refuse_standing,
    tell_completed,
    write_list,
)
from plait.cli.options import add_guard, add_telling
from plait.cli.per_source import given_of, queries_of, with_own
from plait.cli.progress import Progress
from plait.cli.working import add_work
from plait.core.account.finding import Finding, standing
from plait.core.verbs.compare import Compared
from plait.core.verbs.result import reading_findings
from plait.formats.delivery.delivery import Delivery
from plait.formats.outputs import check_target
from plait.formats.places.source import Source
from plait.formats.servers.session import one_snapshot
from plait.formats.sources import one_source, uniquely_named
from plait.options.compare import COMPARE
from plait.options.option import perform
from plait.options.shared import READING, TYPING
from plait.plan.runs.handed import Handed, dataset_of, known_key, sides
from plait.report.account import Output, output_of
from plait.report.between import Between, between
from plait.report.compared import compared_json
from plait.report.drawn.compared import write_compared_figure
from plait.report.pages.compared import write_compared_page

HELP = help_of(COMPARE)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The options of the command."""
    add_verb(parser, COMPARE)
    parser.add_argument(
        "--out",
        type=Path,
        metavar="FILE",
        help=(
            "write every change to a table, one line per cell: the key, what changed, "
            "the column, both values and both places"
        ),
    )
    add_reading(parser, (*READING, *TYPING))
    group = parser.add_argument_group("output")
    add_guard(group)
    add_telling(group)
    add_figure(group)
    add_work(parser)


def run(options: argparse.Namespace) -> int:
    """Carry it out; the exit status."""
    found_sides = sides(options.sources)
    sources = with_own(_sources(found_sides, options), options)
    delivery = Delivery(read_files(sources, options), options.replace)
    _check(options, delivery)
    with Progress(not options.quiet) as progress:
        with one_snapshot():
            values, tables = values_of(COMPARE, options), read_all(sources, progress, options)
        if values["key"] is None:
            values["key"] = known_key(found_sides, tables)
        with progress.phase(COMPARE.doing):
            found: Compared = perform(COMPARE, tables, values)
        findings = [*reading_findings(tables), *found.findings]
        accounts = _accounts(found_sides)
        refused = bool(standing(findings, options.fail_on))
        with delivery, progress.phase("writing"):
            listed = found.listed() if options.out and not refused else None
            if listed:
                findings += write_list(listed, options, delivery)
            if options.report:
                delivery.write(
                    options.report,
                    lambda part: write_compared_page(found, accounts, findings, part),
                )
            write_figure(write_compared_figure, found, options, delivery)
    outputs = [output_of(listed, options.out)] if listed and options.json else []
    _tell(found, accounts, findings, outputs, options)
    refuse_standing(findings, options, bool(options.report))
    return 0


def _sources(found: Sequence[Handed | str], options: argparse.Namespace) -> list[Source]:
    """The table of each side; of two of one name the second is the new one."""
    given, queries = given_of(options), queries_of(options)
    named = [
        one_source(one, given, queries)
        if isinstance(one, str)
        else dataset_of(one, found[1 - number])
        for number, one in enumerate(found)
    ]
    return uniquely_named(named)


def _accounts(found: Sequence[Handed | str]) -> Between | None:
    """The accounts of two handovers against each other."""
    old, new = found
    if isinstance(old, Handed) and isinstance(new, Handed):
        return between(old.said, new.said)
    return None


def _check(options: argparse.Namespace, delivery: Delivery) -> None:
    check_report(options, delivery)
    check_figure(options, delivery)
    if options.out:
        check_target(options.out, options.out.stem, delivery)
    tell_completed(delivery)


def _tell(
    found: Compared,
    accounts: Between | None,
    findings: list[Finding],
    outputs: list[Output],
    options: argparse.Namespace,
) -> None:
    if not options.quiet:
        from plait.cli.views.compare import show_compared
        from plait.cli.views.show import for_reading

        with for_reading(aside=options.json):
            show_compared(found, accounts, findings, options)
    if options.json:
        print(compared_json(found, accounts, findings, outputs))
