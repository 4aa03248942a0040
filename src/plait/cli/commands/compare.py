"""``plait compare``, and what it prints."""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from pathlib import Path

from plait.cli.arguments import add_operation_arguments, add_read_arguments, format_help
from plait.cli.commands.operation import parse_option_values
from plait.cli.common_options import (
    add_figure_argument,
    add_guard,
    add_job_arguments,
    add_message_arguments,
    check_figure_target,
    write_figure,
)
from plait.cli.deliver import (
    check_report_target,
    files_read,
    raise_on_failing_findings,
    read_sources,
    report_recovered_outputs,
    write_list,
    write_report,
)
from plait.cli.document_view import print_document
from plait.cli.progress import Progress
from plait.cli.source_options import apply_per_source_options, parse_queries, parse_read_options
from plait.core.base.findings import Finding, matching_findings
from plait.core.operations.compare import Comparison
from plait.core.operations.result import findings_of_reading
from plait.core.specs.option import run_operation
from plait.core.specs.several_tables import COMPARE
from plait.core.specs.shared import READING, TYPING
from plait.io.database.connections import snapshot_session
from plait.io.delivery.delivery import Delivery
from plait.io.places.source import Source
from plait.io.sources import find_one_source, uniquely_named
from plait.io.write import check_target
from plait.plan.handover.read import (
    EarlierHandover,
    choose_handover_key,
    comparison_source,
    parse_comparison_sides,
)
from plait.report.account import OutputSummary, summarize_output
from plait.report.changes import (
    AccountDiff,
    compared_json,
    comparison_document,
    diff_accounts,
)
from plait.report.document import Document
from plait.report.html.pages import compared_page

HELP = format_help(COMPARE)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The options of the command."""
    add_operation_arguments(parser, COMPARE)
    parser.add_argument(
        "--out",
        type=Path,
        metavar="FILE",
        help=(
            "write every change to a table, one line per cell: the key, what changed, "
            "the column, both values and both places"
        ),
    )
    add_read_arguments(parser, (*READING, *TYPING))
    group = parser.add_argument_group("output")
    add_guard(group)
    add_message_arguments(group)
    add_figure_argument(group)
    add_job_arguments(parser)


def run(options: argparse.Namespace) -> int:
    """Carry it out; the exit status."""
    found_sides = parse_comparison_sides(options.sources)
    sources = apply_per_source_options(_sources(found_sides, options), options)
    delivery = Delivery(files_read(sources, options), options.replace)
    _check(options, delivery)
    with Progress(not options.quiet) as progress:
        with snapshot_session():
            values = parse_option_values(COMPARE, options)
            tables = read_sources(sources, progress, options)
        if values["key"] is None:
            values["key"] = choose_handover_key(found_sides, tables)
        with progress.phase(COMPARE.progress_text):
            comparison: Comparison = run_operation(COMPARE, tables, values)
        findings = [*findings_of_reading(tables), *comparison.findings]
        accounts = _accounts(found_sides)
        refused = bool(matching_findings(findings, options.fail_on))
        with delivery, progress.phase("writing"):
            listed = comparison.listed() if options.out and not refused else None
            if listed:
                findings += write_list(listed, options, delivery)
            if options.report:
                write_report(
                    options,
                    delivery,
                    COMPARE.name,
                    lambda: compared_page(comparison, accounts, findings),
                    lambda: _document(comparison, accounts, findings, options),
                )
            if options.figure:
                from plait.report.drawing.charts import write_compared_figure

                write_figure(write_compared_figure, comparison, options, delivery)
    outputs = [summarize_output(listed, options.out)] if listed and options.json else []
    _tell(comparison, accounts, findings, outputs, options)
    raise_on_failing_findings(findings, options, bool(options.report))
    return 0


def _sources(
    earlier_handovers: Sequence[EarlierHandover | str], options: argparse.Namespace
) -> list[Source]:
    """The table of each side; of two of one name the second is the new one."""
    given, queries = parse_read_options(options), parse_queries(options)
    named = [
        find_one_source(earlier_handover, given, queries)
        if isinstance(earlier_handover, str)
        else comparison_source(earlier_handover, earlier_handovers[1 - number])
        for number, earlier_handover in enumerate(earlier_handovers)
    ]
    return uniquely_named(named)


def _accounts(earlier_handovers: Sequence[EarlierHandover | str]) -> AccountDiff | None:
    """The accounts of two handovers against each other."""
    old, new = earlier_handovers
    if isinstance(old, EarlierHandover) and isinstance(new, EarlierHandover):
        return diff_accounts(old.said, new.said)
    return None


def _check(options: argparse.Namespace, delivery: Delivery) -> None:
    check_report_target(options, delivery)
    check_figure_target(options, delivery)
    if options.out:
        check_target(options.out, options.out.stem, delivery)
    report_recovered_outputs(delivery)


def _tell(
    comparison: Comparison,
    accounts: AccountDiff | None,
    findings: list[Finding],
    outputs: list[OutputSummary],
    options: argparse.Namespace,
) -> None:
    if not options.quiet:
        from plait.cli.terminal import print_to_stdout

        with print_to_stdout(aside=options.json):
            print_document(_document(comparison, accounts, findings, options), options.verbose)
    if options.json:
        print(compared_json(comparison, accounts, findings, outputs))


def _document(
    comparison: Comparison,
    accounts: AccountDiff | None,
    findings: list[Finding],
    options: argparse.Namespace,
) -> Document:
    return comparison_document(
        comparison, accounts, findings, str(options.out or ""), options.verbose
    )
