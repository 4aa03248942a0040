"""What a person sees of a survey: the answer, the joins, what is wrong, then each shape."""

from __future__ import annotations

import io
import math
from bisect import bisect
from collections.abc import Iterator, Mapping, Sequence

from rich.console import Console, Group, RenderableType
from rich.padding import Padding
from rich.table import Table as Grid
from rich.text import Text

from plait.cli.views.shapes import sample, shape
from plait.cli.views.show import console, findings_shown, printable, say
from plait.core.account.finding import counted
from plait.core.account.gathered import gathered
from plait.core.look.relating.relation import Relation
from plait.core.table.keyspec import spelt
from plait.core.table.table import Table
from plait.core.verbs.survey import Survey, Surveyed
from plait.report.figures import bytes_shown, percent

_FEW_SOURCES, _MANY_SOURCES = 5, 65
_LINES, _MOST_LINES = 58, 118
_MOST_JOINS = 10
_MOST_FINDINGS = 12
_MOST_KEYS = 3
_FEW_COLUMNS = 3
_TWO = 2


def show_survey(found: Survey, sizes: Mapping[str, int], verbose: bool = False) -> None:
    """The answer first; unless verbose, what fits a screen or two.

    Parameters
    ----------
    found : Survey
    sizes : mapping of str to int
        Bytes of each source.
    verbose : bool
        Whether to show everything.
    """
    out = console()
    head = [Text(answer(found), style="bold"), *_joins(found, verbose)]
    if verbose:
        head += findings_shown(found.findings, verbose)
        shapes = list(_everything(found, sizes, out.width))
    else:
        many = len(_sources(found)) > _FEW_SOURCES
        head += findings_shown(gathered(found.findings), False, _MOST_FINDINGS, 1 if many else 2)
        shapes = list(_fitting(found, sizes, out.width, _lines(found) - _height(head, out.width)))
    for part in [*head, *shapes]:
        out.print(part)


def show_so_far(table: Table, size: int) -> None:
    """What the first rows of a source show, before it is known of all; on standard error."""
    kinds = ", ".join(f"{name} {table.kind_in_words(name)}" for name in table.column_names)
    rows = counted(table.rows, "row")
    said = (
        f"plait: {table.name} has {bytes_shown(size)}; types so far, from the first {rows}: {kinds}"
    )
    say(printable(said))


def _sources(found: Survey) -> list[str]:
    return [table.name for one in found.families for table in one.tables]


def _lines(found: Survey) -> int:
    """How many lines there may be: more where there are more sources."""
    more = max(0, len(_sources(found)) - _FEW_SOURCES) / _MANY_SOURCES
    return min(_MOST_LINES, int(_LINES + (_MOST_LINES - _LINES) * math.sqrt(more)))


def _height(parts: Sequence[RenderableType], width: int) -> int:
    """How many lines some parts take."""
    out = Console(width=width, file=io.StringIO(), emoji=False, markup=False, highlight=False)
    with out.capture() as captured:
        for part in parts:
            out.print(part)
    return captured.get().count("\n")


def answer(found: Survey) -> str:
    """How many sources, shapes and rows, and how many could not be read."""
    sources, shapes = len(_sources(found)), len(found.families)
    rows = sum(one.rows for one in found.families)
    of_shapes = f" of {counted(shapes, 'shape')}" if shapes < sources else ""
    unread = sum(one.code == "unreadable" for one in found.findings)
    not_read = f"; {counted(unread, 'file')} cannot be read" if unread else ""
    said = f"{counted(sources, 'source')}{of_shapes}, {counted(rows, 'row')}{not_read}"
    return f"sample of the first {found.sample:,} rows: {said}" if found.sample else said


def _joins(found: Survey, verbose: bool) -> Iterator[RenderableType]:
    """The joins that matter: of each two tables the best, then others."""
    if not found.relations:
        return
    every = list(found.relations) if verbose else best_joins(found.relations)
    alike = [[one] for one in every] if verbose else together(every)
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
            Text(printable(f"{_lefts(several)} – {one.right}")),
            Text(printable(join_said(one)), style="blue"),
            f"{percent(*_share(several, 'left'))}, {percent(*_share(several, 'right'))} match",
            one.cardinality,
        )
    yield Padding(grid, (0, 0, 0, 2))
    for one, *_ in shown:
        if one.prepare:
            said = f"{one.left} – {one.right} after this split: {one.prepare}"
            yield Padding(Text(printable(said)), (0, 0, 0, 2))
    left_out = len(found.relations) - sum(map(len, shown))
    if left_out:
        yield Text(f"  and {left_out} less likely: --verbose", style="dim")


def _lefts(several: Sequence[Relation]) -> str:
    """The left tables: two by their names, of more the first."""
    first = several[0].left
    if len(several) == _TWO:
        return f"{first}, {several[1].left}"
    return f"{first} and {len(several) - 1} more" if len(several) > _TWO else first


def _share(several: Sequence[Relation], side: str) -> tuple[int, int]:
    """The rows of a side that match, and all, of the one of which least do."""
    rows = [(getattr(one, f"{side}_matched"), getattr(one, f"{side}_rows")) for one in several]
    return min(rows, key=lambda pair: pair[0] / max(pair[1], 1))


def together(relations: Sequence[Relation]) -> list[list[Relation]]:
    """Joins of several tables to the same one, on the same key, beside one another."""
    alike: dict[tuple[object, ...], list[Relation]] = {}
    for one in relations:
        key = one.right, one.key, one.cardinality, one.ignore, one.split
        alike.setdefault(key, []).append(one)
    return list(alike.values())


def best_joins(relations: Sequence[Relation]) -> list[Relation]:
    """The best of each two tables first, then the others."""
    seen: set[tuple[str, str]] = set()
    first = []
    for one in relations:
        if (one.left, one.right) not in seen:
            seen.add((one.left, one.right))
            first.append(one)
    return first + [one for one in relations if one not in first]


def join_said(one: Relation) -> str:
    """The options of a join."""
    ignore = f" --ignore {','.join(one.ignore)}" if one.ignore else ""
    return f"--key {spelt(one.key)}{ignore}"


def _everything(found: Survey, sizes: Mapping[str, int], width: int) -> Iterator[RenderableType]:
    for one in found.families:
        yield Text()
        yield shape(one, sizes, width, (), None, len(one.keys.keys))
        yield from sample(one)


def _fitting(
    found: Survey, sizes: Mapping[str, int], width: int, lines: int
) -> Iterator[RenderableType]:
    """The shapes with as many columns as there is room for; where there is none, their names."""
    first = {one.family.name: _mattering(one, found) for one in found.families}

    def parts(most: int) -> list[Group]:
        keys = _MOST_KEYS if most > _FEW_COLUMNS else 1 + (most > 0)
        return [
            Group(Text(), shape(one, sizes, width, first[one.family.name], most, keys))
            for one in found.families
        ]

    columns = [len(one.profiles) for one in found.families]
    widest = max(columns, default=0)
    while widest and sum(min(widest, one) for one in columns) > max(lines, 0):
        widest -= 1
    too_many = bisect(range(widest + 1), lines, key=lambda most: _height(parts(most), width))
    if too_many:
        yield from parts(too_many - 1)
        return
    largest = sorted(found.families, key=lambda one: -one.rows)
    shown = [one for one in largest if one in largest[: max(1, (lines - 2) // 3)]]
    for one in shown:
        yield Group(Text(), shape(one, sizes, width, (), 0, 1))
    rest = [one.family.name for one in largest[len(shown) :]]
    if rest:
        yield Text(f"\nand {counted(len(rest), 'shape')} more: --verbose shows all", style="dim")


def _mattering(one: Surveyed, found: Survey) -> list[str]:
    """The columns of its key, those that could join others, and those that findings are about."""
    name = one.family.name
    keyed = [column for key in one.keys.keys[:1] for column in key.columns]
    joined = [column for relation in found.relations for column in relation.columns_of(name)]
    told = [finding.where.partition(", column ")[2] for finding in found.findings
            if finding.severity != "note" and finding.where.startswith(f"{name}, ")]  # fmt: skip
    return [*keyed, *joined, *told]
