"""What the terminal shows of a survey: as much as fits, and the first rows of what is large."""

from __future__ import annotations

import io
import math
from bisect import bisect
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace

from rich.console import Console, Group, RenderableType
from rich.padding import Padding
from rich.table import Table as Grid
from rich.text import Text

from plait.cli.table_views import render_sample_rows, render_schema_group
from plait.cli.terminal import escape_unprintable, make_console, render_findings
from plait.core.base.findings import pluralize, summarize_findings
from plait.core.operations.survey import SchemaGroupSurvey, Survey
from plait.report.flags import as_flags
from plait.report.numbers import format_percent
from plait.report.survey_document import (
    describe_lefts,
    format_join_options,
    least_share,
    merge_join_targets,
    sort_join_candidates,
    source_names,
    survey_summary,
)

_FEW_SOURCES, _MANY_SOURCES = 5, 65
_LINES, _MOST_LINES = 58, 118
_MOST_JOINS = 10
_MOST_FINDINGS = 12
_MOST_KEYS = 3
_FEW_COLUMNS = 3
#: What stays free below a first look: the bars, and the line that the person typed.
_LINES_BELOW = 4


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
    if verbose:
        parts = [*_head(found, True), *render_findings(found.findings, True)]
        parts += _everything(found, sizes, out.width)
    else:
        parts = _fitting_parts(found, sizes, out.width, _lines(found))
    for part in parts:
        out.print(part)


def render_first_look(found: Survey, sizes: Mapping[str, int], out: Console, left_out: int) -> Text:
    """What the first rows show while all are read: no more lines than stay above a bar.

    Parameters
    ----------
    found : Survey
        Of the first rows of some sources.
    sizes : mapping of str to int
        Bytes of each source.
    out : Console
        Where it will be shown.
    left_out : int
        How many sources it is not of.
    """
    # The first rows of two tables say nothing of how many match, nor what is wrong with all.
    alone = replace(found, relations=(), findings=())
    lines = max(out.height - _LINES_BELOW, 1)
    with out.capture() as captured:
        for part in _fitting_parts(alone, sizes, out.width, lines - 2):
            out.print(part)
    shown = captured.get().splitlines()[: max(lines - 2, 0)]
    more = f" and {pluralize(left_out, 'more source')}" if left_out else ""
    notice = f"reading all rows{more}: the figures above are preliminary"
    return Text.from_ansi("\n".join([*shown, "", notice] if shown else [notice]))


def _head(found: Survey, verbose: bool) -> list[RenderableType]:
    return [Text(survey_summary(found), style="bold"), *_joins(found, verbose)]


def _fitting_parts(
    found: Survey, sizes: Mapping[str, int], width: int, lines: int
) -> list[RenderableType]:
    """The answer, joins, findings, and of the layouts what the lines have room for."""
    head = _head(found, False)
    many = len(source_names(found)) > _FEW_SOURCES
    findings = summarize_findings(found.findings)
    head += render_findings(findings, False, _MOST_FINDINGS, 1 if many else 2)
    return [*head, *_fitting(found, sizes, width, lines - _height(head, width))]


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
