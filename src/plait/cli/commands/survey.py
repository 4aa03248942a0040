"""``plait survey``."""

from __future__ import annotations

import argparse
import json
from collections.abc import Sequence

from plait.cli.arguments import add_reading, add_sources, whole_number
from plait.cli.figures import add_figure, check_figure, write_figure
from plait.cli.handing import check_report, read_what_can_be, refuse_standing, tell_completed
from plait.cli.options import add_telling
from plait.cli.per_source import given_of, queries_of, with_own
from plait.cli.progress import Progress
from plait.cli.views.rows import show_rows
from plait.cli.views.show import for_reading
from plait.cli.views.survey import show_so_far, show_survey
from plait.cli.working import add_work
from plait.core.table.table import Table
from plait.core.verbs.survey import survey
from plait.formats.delivery.delivery import Delivery
from plait.formats.first import first_rows, sampled
from plait.formats.places.endings import DELIMITED
from plait.formats.places.source import Source
from plait.formats.sources import find_sources
from plait.options.shared import READING, TYPING
from plait.report.drawn.surveyed import write_survey_figure
from plait.report.pages.surveyed import write_survey_page
from plait.report.surveyed import survey_json

_LARGE_BYTES, _EARLY_ROWS, _MOST_EARLY = 256 << 20, 1000, 5

HELP = {
    "description": (
        "Inspect sources before you do anything with them: what each column "
        "contains, which sources have the same layout, which columns could be keys, "
        "which sources could be joined, and what is likely to go wrong."
    ),
    "epilog": "examples:\n  plait survey inspections register.xlsx --report survey.html\n"
    "  plait survey visits.csv --rows 10",
}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The options of the command."""
    add_sources(parser)
    parser.add_argument(
        "--rows",
        type=whole_number,
        metavar="N",
        help=("show only the first N rows of each source, unchanged, without reading the rest"),
    )
    parser.add_argument(
        "--sample",
        type=whole_number,
        metavar="N",
        help=("survey only the first N rows of each source; all figures are for these rows"),
    )
    add_reading(parser, (*READING, *TYPING))
    group = parser.add_argument_group("output")
    add_telling(group)
    add_figure(group)
    add_work(parser)


def run(options: argparse.Namespace) -> int:
    """Carry it out; the exit status."""
    found = find_sources(options.sources, given_of(options), True, queries_of(options))
    sources = with_own(found, options)
    if options.rows is not None:
        return _show_rows(sources, options)
    delivery = Delivery([source.path for source in sources], options.replace)
    check_report(options, delivery)
    check_figure(options, delivery)
    tell_completed(delivery)
    if not options.quiet and options.sample is None:
        _tell_early(sources)
    with Progress(not options.quiet) as progress:
        tables, unread = read_what_can_be(sources, progress, options, options.sample)
        with progress.phase("looking"):
            seen = survey(tables, unread)
        sizes = {source.name: source.size for source in sources}
        with delivery, progress.phase("writing"):
            if options.report:
                delivery.write(options.report, lambda part: write_survey_page(seen, sizes, part))
            write_figure(write_survey_figure, seen, options, delivery)
    if not options.quiet:
        with for_reading(aside=options.json):
            show_survey(seen, sizes, options.verbose)
    if options.json:
        print(survey_json(seen, sizes))
    refuse_standing(seen.findings, options, bool(options.report))
    return 0


def _tell_early(sources: Sequence[Source]) -> None:
    """What the first rows of a large source show, while the rest is read."""
    large = [one for one in sources if one.size >= _LARGE_BYTES and one.ending in DELIMITED]
    for source in large[:_MOST_EARLY]:
        table = sampled(source, rows=_EARLY_ROWS)
        if isinstance(table, Table):
            show_so_far(table, source.size)


def _show_rows(sources: Sequence[Source], options: argparse.Namespace) -> int:
    """The first rows of each source, and nothing else."""
    tables = [first_rows(source, options.rows)[0] for source in sources]
    if options.json:
        print(json.dumps({one.name: one.to_dict() for one in tables}, indent=2, default=str))
    else:
        with for_reading():
            show_rows(tables)
    return 0
