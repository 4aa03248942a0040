"""``plait survey``, and what it prints."""

from __future__ import annotations

import argparse
import io
import json
import math
from bisect import bisect
from collections.abc import Iterator, Mapping, Sequence

from rich.console import Console, Group, RenderableType
from rich.padding import Padding
from rich.table import Table as Grid
from rich.text import Text

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
from plait.cli.table_views import print_rows, render_sample_rows, render_schema_group
from plait.cli.terminal import (
    escape_unprintable,
    make_console,
    print_line,
    print_to_stdout,
    render_findings,
)
from plait.core.base.findings import pluralize, summarize_findings
from plait.core.operations.survey import SchemaGroupSurvey, Survey, survey
from plait.core.specs.shared import READING, TYPING
from plait.core.table.table import Table
from plait.io.delivery.delivery import Delivery
from plait.io.places.source import DELIMITED, Source
from plait.io.read import read_first_rows, read_sample
from plait.io.sources import find_sources
from plait.report.as_json import survey_json
from plait.report.flags import as_flags
from plait.report.html.pages import survey_page
from plait.report.numbers import format_bytes, format_percent
from plait.report.survey_document import (
    describe_lefts,
    format_join_options,
    least_share,
    merge_join_targets,
    sort_join_candidates,
    source_names,
    survey_document,
    survey_summary,
)

_FEW_SOURCES, _MANY_SOURCES = 5, 65
_LINES, _MOST_LINES = 58, 118
_MOST_JOINS = 10
_MOST_FINDINGS = 12
_MOST_KEYS = 3
_FEW_COLUMNS = 3

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


def print_survey(found: Survey, sizes: Mapping[str, int], verbose: bool = False) -> None:
    """The answer first; unless verbose, what fits a screen or two.

    Parameters
    ----------
    sizes : mapping of str to int
        Bytes of each source.
    verbose : bool
        Whether to show everything.
    """
    out = make_console()
    head = [Text(survey_summary(found), style="bold"), *_joins(found, verbose)]
    if verbose:
        head += render_findings(found.findings, verbose)
        shapes = list(_everything(found, sizes, out.width))
    else:
        many = len(source_names(found)) > _FEW_SOURCES
        head += render_findings(
            summarize_findings(found.findings), False, _MOST_FINDINGS, 1 if many else 2
        )
        shapes = list(_fitting(found, sizes, out.width, _lines(found) - _height(head, out.width)))
    for part in [*head, *shapes]:
        out.print(part)


def print_preliminary_survey(table: Table, size: int) -> None:
    """What the first rows of a source show, before it is known of all; on standard error."""
    kinds = ", ".join(f"{name} {table.column_type(name)}" for name in table.column_names)
    rows = pluralize(table.rows, "row")
    answer = f"{table.name} has {format_bytes(size)}"
    print_line(escape_unprintable(f"plait: {answer}; types so far, from the first {rows}: {kinds}"))


def _lines(found: Survey) -> int:
    """How many lines there may be: more where there are more sources."""
    more = max(0, len(source_names(found)) - _FEW_SOURCES) / _MANY_SOURCES
    return min(_MOST_LINES, int(_LINES + (_MOST_LINES - _LINES) * math.sqrt(more)))


def _height(parts: Sequence[RenderableType], width: int) -> int:
    """How many lines some parts take."""
    out = Console(width=width, file=io.StringIO(), emoji=False, markup=False, highlight=False)
    with out.capture() as captured:
        for part in parts:
            out.print(part)
    return captured.get().count("\n")


def _joins(found: Survey, verbose: bool) -> Iterator[RenderableType]:
    """The joins that matter: of each two tables the best, then others."""
    if not found.relations:
        return
    every = list(found.relations) if verbose else sort_join_candidates(found.relations)
    alike = [[e] for e in every] if verbose else merge_join_targets(every)
    shown = alike if verbose else alike[:_MOST_JOINS]
    yield Text("\npossible joins", style="bold")
    grid = Grid(box=None, show_header=False, pad_edge=False, padding=(0, 2, 0, 0))
    grid.add_column(ratio=1, overflow="fold")
    grid.add_column(overflow="fold")
    grid.add_column(justify="right", no_wrap=True)
    grid.add_column(no_wrap=True)
    for several in shown:
        one = several[0]
        grid.add_row(
            Text(escape_unprintable(f"{describe_lefts(several)} – {one.right}")),
            Text(escape_unprintable(format_join_options(one)), style="blue"),
            f"{format_percent(*least_share(several, 'left'))}, "
            f"{format_percent(*least_share(several, 'right'))} match",
            one.cardinality,
        )
    yield Padding(grid, (0, 0, 0, 2))
    for one, *_ in shown:
        if one.prepare:
            text = f"{one.left} – {one.right} after this split: {as_flags(one.prepare)}"
            yield Padding(Text(escape_unprintable(text)), (0, 0, 0, 2))
    left_out = len(found.relations) - sum(map(len, shown))
    if left_out:
        yield Text(f"  and {left_out} less likely: --verbose", style="dim")


def _everything(found: Survey, sizes: Mapping[str, int], width: int) -> Iterator[RenderableType]:
    for family in found.families:
        yield Text()
        yield render_schema_group(family, sizes, width, (), None, len(family.keys.keys))
        yield from render_sample_rows(family)


def _fitting(
    found: Survey, sizes: Mapping[str, int], width: int, lines: int
) -> Iterator[RenderableType]:
    """The shapes with as many columns as there is room for; where there is none, their names."""
    first = {family.family.name: _mattering(family, found) for family in found.families}

    def parts(most: int) -> list[Group]:
        keys = _MOST_KEYS if most > _FEW_COLUMNS else 1 + (most > 0)
        return [
            Group(
                Text(),
                render_schema_group(layout, sizes, width, first[layout.family.name], most, keys),
            )
            for layout in found.families
        ]

    columns = [len(f.profiles) for f in found.families]
    widest = max(columns, default=0)
    while widest and sum(min(widest, column) for column in columns) > max(lines, 0):
        widest -= 1
    too_many = bisect(range(widest + 1), lines, key=lambda most: _height(parts(most), width))
    if too_many:
        yield from parts(too_many - 1)
        return
    largest = sorted(found.families, key=lambda one: -one.rows)
    schema_group_surveies = [
        schema for schema in largest if schema in largest[: max(1, (lines - 2) // 3)]
    ]
    for one in schema_group_surveies:
        yield Group(Text(), render_schema_group(one, sizes, width, (), 0, 1))
    rest = [one.family.name for one in largest[len(schema_group_surveies) :]]
    if rest:
        yield Text(f"\nand {pluralize(len(rest), 'layout')} more: --verbose", style="dim")


def _mattering(schema_group_survey: SchemaGroupSurvey, found: Survey) -> list[str]:
    """The columns of its key, those that could join others, and those that findings are about."""
    name = schema_group_survey.family.name
    keyed = [column for key in schema_group_survey.keys.keys[:1] for column in key.columns]
    joined = [column for relation in found.relations for column in relation.columns_of(name)]
    texts = [finding.where.column for finding in found.findings
            if finding.severity != "note" and finding.where.source == name
            and finding.where.column]  # fmt: skip
    return [*keyed, *joined, *texts]


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
    if not options.quiet and options.sample is None:
        _tell_early(sources)
    with Progress(not options.quiet) as progress:
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


def _tell_early(sources: Sequence[Source]) -> None:
    """What the first rows of a large source show, while the rest is read."""
    large = [s for s in sources if s.size >= _LARGE_BYTES and s.ending in DELIMITED]
    for source in large[:_MOST_EARLY]:
        table = read_sample(source, rows=_EARLY_ROWS)
        if isinstance(table, Table):
            print_preliminary_survey(table, source.size)


def _show_rows(sources: Sequence[Source], options: argparse.Namespace) -> int:
    """The first rows of each source, and nothing else."""
    tables = [read_first_rows(source, options.rows)[0] for source in sources]
    if options.json:
        print(json.dumps({table.name: table.to_dict() for table in tables}, indent=2, default=str))
    else:
        with print_to_stdout():
            print_rows(tables)
    return 0
