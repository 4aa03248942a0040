"""``plait survey``, and what it prints."""

from __future__ import annotations

import argparse
import json
from collections.abc import Sequence

from plait.cli.arguments import add_read_arguments, add_source_arguments, parse_whole_number
from plait.cli.common_options import (
    add_figure_argument,
    add_job_arguments,
    add_message_arguments,
    check_figure_target,
    write_figure,
)
from plait.cli.deliver import (
    check_report_target,
    raise_on_failing_findings,
    read_readable_sources,
    report_recovered_outputs,
    write_report,
)
from plait.cli.progress import Progress
from plait.cli.source_options import apply_per_source_options, parse_queries, parse_read_options
from plait.cli.survey_view import print_survey, render_first_look
from plait.cli.table_views import print_rows
from plait.cli.terminal import (
    print_to_stdout,
)
from plait.core.operations.survey import survey
from plait.core.specs.shared import READING, TYPING
from plait.core.table.table import Table
from plait.io.delivery.delivery import Delivery
from plait.io.places.source import Source
from plait.io.read import peek_rows, read_first_rows
from plait.io.sources import find_sources
from plait.report.as_json import survey_json
from plait.report.html.pages import survey_page
from plait.report.survey_document import (
    survey_document,
)

#: From how many bytes on the survey takes so long that the first rows are shown meanwhile.
_LARGE_BYTES = 48 << 20
#: What can be surveyed in half a second.
_FIRST_ROWS, _FIRST_COLUMNS = 1000, 60

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
    add_source_arguments(parser)
    parser.add_argument(
        "--rows",
        type=parse_whole_number,
        metavar="N",
        help=("show only the first N rows of each source, unchanged, without reading the rest"),
    )
    parser.add_argument(
        "--sample",
        type=parse_whole_number,
        metavar="N",
        help=("survey only the first N rows of each source; all figures are for these rows"),
    )
    add_read_arguments(parser, (*READING, *TYPING))
    group = parser.add_argument_group("output")
    add_message_arguments(group)
    add_figure_argument(group)
    add_job_arguments(parser)


def run(options: argparse.Namespace) -> int:
    """Carry it out; the exit status."""
    found = find_sources(options.sources, parse_read_options(options), True, parse_queries(options))
    sources = apply_per_source_options(found, options)
    if options.rows is not None:
        return _show_rows(sources, options)
    delivery = Delivery([source.path for source in sources], options.replace)
    check_report_target(options, delivery)
    check_figure_target(options, delivery)
    report_recovered_outputs(delivery)
    with Progress(not options.quiet) as progress:
        size = sum(source.size for source in sources)
        if progress.is_shown and options.sample is None and size >= _LARGE_BYTES:
            _show_first_look(sources, progress)
        tables, unread = read_readable_sources(sources, progress, options, options.sample)
        with progress.phase("looking"):
            seen = survey(tables, unread)
        sizes = {source.name: source.size for source in sources}
        with delivery, progress.phase("writing"):
            if options.report:
                write_report(
                    options,
                    delivery,
                    "survey",
                    lambda: survey_page(seen, sizes),
                    lambda: survey_document(seen),
                )
            if options.figure:
                from plait.report.drawing.charts import write_survey_figure

                write_figure(write_survey_figure, seen, options, delivery)
    if not options.quiet:
        with print_to_stdout(aside=options.json):
            print_survey(seen, sizes, options.verbose)
    if options.json:
        print(survey_json(seen, sizes))
    raise_on_failing_findings(seen.findings, options, bool(options.report))
    return 0


def _show_first_look(sources: Sequence[Source], progress: Progress) -> None:
    """Show what the first rows of the first sources tell, while all are read."""
    tables: list[Table] = []
    columns = 0
    for source in sources:
        table = peek_rows(source, _FIRST_ROWS)
        if table is not None:
            tables.append(table.project(table.column_names[:_FIRST_COLUMNS]))
            columns += len(table.columns)
        if columns >= _FIRST_COLUMNS:
            break
    if tables:
        looked, sizes = survey(tables), {source.name: source.size for source in sources}
        left_out = len(sources) - len(tables)
        progress.show_above(lambda out: render_first_look(looked, sizes, out, left_out))


def _show_rows(sources: Sequence[Source], options: argparse.Namespace) -> int:
    """The first rows of each source, and nothing else."""
    tables = [read_first_rows(source, options.rows)[0] for source in sources]
    if options.json:
        print(json.dumps({table.name: table.to_dict() for table in tables}, indent=2, default=str))
    else:
        with print_to_stdout():
            print_rows(tables)
    return 0
