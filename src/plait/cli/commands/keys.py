"""``plait keys``, and what it prints."""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from pathlib import Path
from shlex import join

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
from plait.cli.terminal import (
    print_to_stdout,
)
from plait.core.base.errors import UsageError
from plait.core.base.findings import Finding, matching_findings
from plait.core.keys.key_sets import resolve_sides
from plait.core.operations.keys import (
    KeyAudit,
    list_duplicate_rows,
    select_key_set,
)
from plait.core.operations.result import findings_of_reading
from plait.core.specs.option import run_operation
from plait.core.specs.several_tables import KEYS
from plait.core.specs.shared import READING, TYPING
from plait.core.table.key_spec import format_key_option, quote_name
from plait.core.table.table import Table
from plait.io.database.connections import snapshot_session
from plait.io.delivery.delivery import Delivery
from plait.io.places.source import Source
from plait.io.sources import find_sources
from plait.io.write import check_target
from plait.report.account import OutputSummary, summarize_output
from plait.report.as_json import keys_json
from plait.report.document import Document
from plait.report.html.key_pairs import NextCommands
from plait.report.html.pages import keys_page
from plait.report.keys_document import keys_document

HELP = format_help(KEYS)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The options of the command."""
    add_operation_arguments(parser, KEYS)
    parser.add_argument(
        "--only",
        metavar="both|left|right",
        help=(
            "which keys to write to --out: those in both sources, only in the first "
            "(left), only in the second (right), or in exactly the sources NAME+NAME"
        ),
    )
    parser.add_argument(
        "--all-rows",
        action="store_true",
        help="with --only: write every row with such a key, instead of each key once",
    )
    parser.add_argument(
        "--out",
        type=Path,
        metavar="FILE",
        help=(
            "the file to write. Without --only: for two sources, suggested pairs of "
            "keys, to edit and pass to --pairs; for one source, the rows whose key is "
            "repeated. With --evidence: the partners, with their odds"
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
    named = find_sources(
        options.sources, parse_read_options(options), queries=parse_queries(options)
    )
    sources = apply_per_source_options(named, options)
    delivery = Delivery(files_read(sources, options), options.replace)
    sides = _sides(sources, options.apart)
    _check(options, delivery, len(sides))
    with Progress(not options.quiet) as progress:
        with snapshot_session():
            values = parse_option_values(KEYS, options)
            tables = read_sources(sources, progress, options)
        with progress.phase(KEYS.progress_text):
            key_audit: KeyAudit = run_operation(
                KEYS, [[tables[number] for number in side] for side in sides], values
            )
        findings = [*findings_of_reading(tables), *key_audit.findings]
        refused = bool(matching_findings(findings, options.fail_on))
        listed = _listed(key_audit, options) if options.out and not refused else None
        with delivery, progress.phase("writing"):
            if listed:
                findings += write_list(listed, options, delivery)
                raise_on_failing_findings(findings, options)
            if options.report:
                again, pairs = _again(key_audit, options), values["pairs"]
                write_report(
                    options,
                    delivery,
                    KEYS.name,
                    lambda: keys_page(key_audit, findings, again, pairs),
                    lambda: _document(key_audit, findings, options),
                )
            if options.figure:
                from plait.report.drawing.charts import write_keys_figure

                write_figure(write_keys_figure, key_audit, options, delivery)
    outputs = [summarize_output(listed, options.out)] if listed and options.json else []
    _tell(key_audit, findings, outputs, options)
    raise_on_failing_findings(findings, options, bool(options.report))
    return 0


def _sides(sources: Sequence[Source], apart: bool) -> list[tuple[int, ...]]:
    """The sources that are set against one another: those that one word names are one side."""
    words = [source.word for source in sources]
    named = [[n for n, word in enumerate(words) if word == one] for one in dict.fromkeys(words)]
    return resolve_sides(named, apart)


def _tell(
    key_audit: KeyAudit,
    findings: list[Finding],
    outputs: list[OutputSummary],
    options: argparse.Namespace,
) -> None:
    if not options.quiet:
        with print_to_stdout(aside=options.json or bool(options.out)):
            print_document(_document(key_audit, findings, options), options.verbose)
    if options.json:
        print(keys_json(key_audit, findings, outputs))


def _document(
    key_audit: KeyAudit, findings: Sequence[Finding], options: argparse.Namespace
) -> Document:
    return keys_document(key_audit, findings, str(options.out or ""), options.verbose)


def _again(key_audit: KeyAudit, options: argparse.Namespace) -> NextCommands:
    """What is to be run with pairs that are settled on the page."""
    if key_audit.why is None:  # there is nothing to settle
        return NextCommands()
    words = (
        options.sources
        if len(options.sources) == 2 and not key_audit.extracts
        else [source.path or f"{source.name}.csv" for source in key_audit.sources]
    )
    key = format_key_option(tuple(zip(*key_audit.key, strict=True)))
    looser = ["--ignore", ",".join(options.ignore)] if options.ignore else []
    looser += ["--ignore-words", ",".join(options.ignore_words)] if options.ignore_words else []
    common = [*words, "--key", key, *looser]
    join_words = ["plait", "join", *common, "--pairs", "pairs.csv", "--out", "joined.csv"]
    if key_audit.linkage is None:
        return NextCommands(join(join_words))
    by = ["--evidence", ",".join(map(quote_name, options.evidence))]
    by += ["--accept", options.accept] if options.accept else []
    anew = ["plait", "keys", *common, *by, "--settled", "pairs.csv", "--report", "keys.html"]
    return NextCommands(join(join_words), f"{join(anew)} --replace")


def _check(options: argparse.Namespace, delivery: Delivery, sources: int) -> None:
    check_report_target(options, delivery)
    check_figure_target(options, delivery)
    if options.only and not options.out:
        raise UsageError(
            "--only chooses which keys to write, but there is no --out", remedy="add --out FILE"
        )
    if options.out and not options.only and sources > 2:
        raise UsageError(
            "with more than two sources, --out needs --only",
            remedy="write the keys found in exactly these sources: --only NAME+NAME",
        )
    if options.all_rows and not options.only:
        raise UsageError("--all-rows needs --only", remedy="--only both, left or right")
    if options.out:
        check_target(options.out, options.out.stem, delivery)
    report_recovered_outputs(delivery)


def _listed(key_audit: KeyAudit, options: argparse.Namespace) -> Table:
    """The table that was asked for."""
    if options.only:
        return select_key_set(key_audit, options.only, options.all_rows)
    if len(key_audit.sources) == 1 and key_audit.linkage is None:
        return list_duplicate_rows(key_audit)
    return key_audit.crosswalk
