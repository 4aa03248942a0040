"""What a person sees of a survey: shapes, columns, keys, joins, then the findings."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from rich.console import Console
from rich.padding import Padding
from rich.table import Table as Grid
from rich.text import Text

from plait.cli.views.show import console, printable, show_findings
from plait.core.account.finding import counted
from plait.core.look.profile import Profile
from plait.core.look.relating.relation import Relation
from plait.core.table.keyspec import spelt
from plait.core.types.forms import base
from plait.core.verbs.survey import Survey, Surveyed
from plait.report.figures import bytes_shown, percent

_STEPS = "▁▂▃▄▅▆▇"
_SIGNS = 8
_MOST_COLUMNS = 60
_MOST_SOURCES = 24
_MOST_KEYS = 3
_CELL = 24
_WIDEST = 18


def show_survey(found: Survey, sizes: Mapping[str, int], verbose: bool = False) -> None:
    """The answer, each shape of sources with its columns and keys, the joins, the findings."""
    out = console()
    sources = sum(len(one.tables) for one in found.families)
    rows = sum(one.rows for one in found.families)
    shapes = f" of {counted(len(found.families), 'shape')}" if len(found.families) < sources else ""
    out.print(Text(f"{counted(sources, 'source')}{shapes}, {counted(rows, 'row')}", style="bold"))
    for one in found.families:
        _show_family(out, one, sizes, verbose)
    _show_relations(out, found.relations)
    show_findings(found.findings, verbose)


def _show_family(out: Console, one: Surveyed, sizes: Mapping[str, int], verbose: bool) -> None:
    size = sum(sizes.get(table.name, 0) for table in one.tables)
    written = sorted({table.written for table in one.tables if table.written})
    files = f"{len(one.tables)} sources, " if len(one.tables) > 1 else ""
    said = f"{files}{counted(one.rows, 'row')}, {counted(len(one.profiles), 'column')}"
    out.print()
    line = Text(printable(one.family.name), style="bold")
    line.append(f"  {said}, {bytes_shown(size)}; {' / '.join(written)}", style="default not bold")
    out.print(line)
    out.print(_columns(one, None if verbose else _MOST_COLUMNS, out.width))
    if len(one.tables) > 1:
        _show_against_sources(out, one)
    for text in _keys(one):
        out.print(Text(f"  {printable(text)}"))
    if verbose:
        _show_sample(out, one)


def _columns(one: Surveyed, most: int | None, width: int) -> Padding:
    shown = list(one.profiles.items())[:most]
    rows: list[tuple[Any, ...]] = [
        (
            printable(name),
            column.kind,
            f"{column.missing:,}" if column.missing else "·",
            f"{column.distinct:,}",
            _contents(column),
        )
        for name, column in shown
    ]
    grid = Grid(box=None, pad_edge=False, padding=(0, 1, 0, 0), header_style="dim")
    heads = ("column", "type", "missing", "distinct")
    widths = [
        min(_WIDEST, max([len(head), *(len(row[place]) for row in rows)]))
        for place, head in enumerate(heads)
    ]
    rest = max(_SIGNS, width - sum(widths) - len(widths) - 2)
    for place, (head, wide) in enumerate(zip((*heads, ""), (*widths, rest), strict=True)):
        grid.add_column(
            head,
            width=wide,
            justify="right" if place in (2, 3) else "left",
            overflow="ellipsis",
            no_wrap=True,
        )
    for *cells, (picture, said) in rows:
        grid.add_row(*map(Text, cells), Text.assemble((picture, "blue"), f" {said}"))
    if most is not None and len(one.profiles) > most:
        grid.add_row(Text(f"and {len(one.profiles) - most} more: --verbose", style="dim"))
    return Padding(grid, (0, 0, 0, 2))


def _contents(column: Profile) -> tuple[str, str]:
    """A small picture and what it stands for: the spread of values, or the commonest ones."""
    if column.spread is not None and base(column.kind) != "text":
        ends = [_short(one) for one in (column.smallest, column.middle, column.largest)]
        picture = _picture(_halved(column.spread.rows))
        return f"{picture:{_SIGNS}}", printable(" … ".join(ends))
    if not column.commonest:
        return "", ""
    present = max(column.rows - column.missing, 1)
    rows = [times for _, times in column.commonest]
    if rows[0] == 1:
        span = f"{_short(column.smallest)} … {_short(column.largest)}"
        return " " * _SIGNS, printable(f"{span}, each once")
    shares = (f"{_short(text)} {percent(times, present)}" for text, times in column.commonest)
    return f"{_picture(rows):{_SIGNS}}", printable(", ".join(shares))


def _halved(rows: Sequence[int]) -> list[int]:
    """Two neighbours together where there are more than eight, so that the picture is short."""
    if len(rows) <= _SIGNS:
        return list(rows)
    return [sum(rows[n : n + 2]) for n in range(0, len(rows), 2)]


def _picture(rows: Sequence[int]) -> str:
    """A sign a stretch, as high as its rows; nothing is blank, anything at least a line."""
    most = max(rows, default=0) or 1
    return "".join(
        _STEPS[min(len(_STEPS) - 1, rows_here * len(_STEPS) // most)] if rows_here else " "
        for rows_here in rows
    )


def _short(text: str) -> str:
    return text if len(text) <= _CELL else f"{text[: _CELL - 1]}…"


def _show_against_sources(out: Console, one: Surveyed) -> None:
    """Columns that not all sources have alike, against the sources."""
    differing = {name: list(_signs(one, name)) for name in one.profiles}
    differing = {name: signs for name, signs in differing.items() if set(signs) != {"●"}}
    if not differing:
        out.print(Text(f"  all {len(one.tables)} have the same columns", style="dim"))
        return
    if len(one.tables) > _MOST_SOURCES:
        for name, signs in differing.items():
            said = f"{name}: lacking in {signs.count('○')}, of another type in {signs.count('◆')}"
            out.print(Text(f"  {printable(said)} of {len(signs)} sources"))
        return
    grid = Grid(box=None, pad_edge=False, padding=(0, 1, 0, 0), header_style="dim")
    grid.add_column("● has it  ○ missing  ◆ other type", max_width=36)
    for number in range(1, len(one.tables) + 1):
        grid.add_column(str(number), justify="right")
    for name, signs in differing.items():
        grid.add_row(Text(printable(name)), *signs)
    out.print(Padding(grid, (0, 0, 0, 2)))
    named = ", ".join(f"{n} {table.name}" for n, table in enumerate(one.tables, 1))
    out.print(Padding(Text(printable(named), style="dim"), (0, 0, 0, 2)))


def _signs(one: Surveyed, name: str) -> Iterator[str]:
    usual = Counter(kinds[name] for kinds in one.kinds if name in kinds).most_common(1)[0][0]
    for kinds in one.kinds:
        if name not in kinds:
            yield "○"
        else:
            yield "●" if kinds[name] in (usual, "empty") else "◆"


def _keys(one: Surveyed) -> Iterator[str]:
    """Candidate keys in words."""
    for key in one.keys.keys[:_MOST_KEYS]:
        in_the_way = f" but for {counted(key.in_the_way, 'row')}" if key.in_the_way else ""
        yield f"key: {','.join(key.columns)}, unique{in_the_way}"
    if not one.keys.keys:
        yield "key: none found of up to four columns"


def _show_sample(out: Console, one: Surveyed) -> None:
    for row in range(len(next(iter(one.sample.values()), []))):
        cells = ((name, values[row]) for name, values in one.sample.items())
        said = "  ".join(f"{name}={'(missing)' if not v else _short(v)}" for name, v in cells)
        out.print(Padding(Text(printable(f"row {row + 1}: {said}"), style="dim"), (0, 0, 0, 2)))


def _show_relations(out: Console, found: Sequence[Relation]) -> None:
    if not found:
        return
    out.print()
    out.print(Text("which could join which", style="bold"))
    grid = Grid(box=None, show_header=False, pad_edge=False, padding=(0, 2, 0, 0))
    grid.add_column(ratio=1, overflow="fold")
    grid.add_column(overflow="fold")
    grid.add_column(justify="right", no_wrap=True)
    grid.add_column(no_wrap=True)
    for one in found:
        grid.add_row(
            Text(printable(f"{one.left} – {one.right}")),
            Text(printable(f"--key {spelt(one.key)}"), style="blue"),
            f"{percent(one.left_matched, one.left_rows)}, "
            f"{percent(one.right_matched, one.right_rows)} match",
            one.cardinality,
        )
    out.print(Padding(grid, (0, 0, 0, 2)))
