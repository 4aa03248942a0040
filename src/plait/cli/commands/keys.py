"""``plait keys``."""

from __future__ import annotations

import argparse
from pathlib import Path
from shlex import join

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
from plait.cli.views.keys import show_keys
from plait.cli.views.show import for_reading
from plait.cli.working import add_work
from plait.core.account.errors import UsageError
from plait.core.account.finding import Finding, standing
from plait.core.table.keyspec import spelt
from plait.core.table.table import Table
from plait.core.verbs.keys import Audited, key_set, repeated_rows, suggested_pairs
from plait.core.verbs.result import reading_findings
from plait.formats.delivery.delivery import Delivery
from plait.formats.outputs import check_target
from plait.formats.servers.session import one_snapshot
from plait.formats.sources import find_sources
from plait.options.keys import KEYS
from plait.options.option import perform
from plait.options.shared import READING, TYPING
from plait.report.account import Output, output_of
from plait.report.drawn.keyed import write_keys_figure
from plait.report.keyed import keys_json
from plait.report.pages.keyed import write_keys_page

HELP = help_of(KEYS)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The options of the command."""
    add_verb(parser, KEYS)
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
            "repeated"
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
    named = find_sources(options.sources, given_of(options), queries=queries_of(options))
    sources = with_own(named, options)
    delivery = Delivery(read_files(sources, options), options.replace)
    _check(options, delivery, len(sources))
    with Progress(not options.quiet) as progress:
        with one_snapshot():
            values, tables = values_of(KEYS, options), read_all(sources, progress, options)
        with progress.phase(KEYS.doing):
            found: Audited = perform(KEYS, tables, values)
        findings = [*reading_findings(tables), *found.findings]
        refused = bool(standing(findings, options.fail_on))
        listed = _listed(found, options) if options.out and not refused else None
        with delivery, progress.phase("writing"):
            if listed:
                findings += write_list(listed, options, delivery)
                refuse_standing(findings, options)
            if options.report:
                again, pairs = _again(found, options), values["pairs"]
                delivery.write(
                    options.report,
                    lambda part: write_keys_page(found, findings, part, again, pairs),
                )
            write_figure(write_keys_figure, found, options, delivery)
    outputs = [output_of(listed, options.out)] if listed and options.json else []
    _tell(found, findings, outputs, options)
    refuse_standing(findings, options, bool(options.report))
    return 0


def _tell(
    found: Audited, findings: list[Finding], outputs: list[Output], options: argparse.Namespace
) -> None:
    if not options.quiet:
        with for_reading(aside=options.json or bool(options.out)):
            show_keys(found, findings, options)
    if options.json:
        print(keys_json(found, findings, outputs))


def _again(found: Audited, options: argparse.Namespace) -> str:
    """The command that joins the tables with pairs that are settled on the page."""
    if found.why is None:  # there is nothing to settle
        return ""
    words = options.sources if len(options.sources) == 2 else [one.path for one in found.sources]
    key = spelt(tuple(zip(*found.key, strict=True)))
    ignore = ["--ignore", ",".join(options.ignore)] if options.ignore else []
    said = [*words, "--key", key, *ignore, "--pairs", "pairs.csv", "--out", "joined.csv"]
    return f"plait join {join(said)}"


def _check(options: argparse.Namespace, delivery: Delivery, sources: int) -> None:
    check_report(options, delivery)
    check_figure(options, delivery)
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
    tell_completed(delivery)


def _listed(found: Audited, options: argparse.Namespace) -> Table:
    """The table that was asked for."""
    if options.only:
        return key_set(found, options.only, options.all_rows)
    if len(found.sources) == 1:
        return repeated_rows(found)
    return suggested_pairs(found)
