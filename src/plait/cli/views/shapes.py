"""What a person sees of the sources of one shape: its columns, and what is in them."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Iterator, Mapping, Sequence
from typing import Any

from rich.console import Group, RenderableType
from rich.padding import Padding
from rich.table import Table as Grid
from rich.text import Text

from plait.cli.views.show import printable
from plait.core.account.finding import counted
from plait.core.look.candidates import Candidate
from plait.core.look.notable import notable, runs
from plait.core.look.profile import Profile
from plait.core.types.forms import base
from plait.core.verbs.survey import Surveyed
from plait.report.figures import bytes_shown, percent

_STEPS = "▁▂▃▄▅▆▇"
_SIGNS = 8
_MOST_SOURCES = 24
_MOST_DIFFERING = 3
_MOST_RUNS = 6
_CELL = 24
_WIDEST = 18


def shape(
    one: Surveyed,
    sizes: Mapping[str, int],
    width: int,
    first: Collection[str],
    most: int | None,
    keys: int,
) -> Group:
    """A shape with so many of its columns.

    Parameters
    ----------
    one : Surveyed
    sizes : mapping of str to int
        Bytes of each source.
    width : int
        Signs in a line.
    first : collection of str
        Columns that matter more than the others.
    most : int or None
        How many columns are shown; all for ``None``.
    keys : int
        How many candidate keys.
    """
    names = list(one.profiles)
    chosen = names if most is None else notable(names, first, most)
    parts: list[RenderableType] = [_title(one, sizes)]
    if chosen:
        parts.append(_columns(one, chosen, width))
    left = [name for name in names if name not in set(chosen)]
    if left:
        before = f"and {counted(len(left), 'column')} more" if chosen else "columns"
        said = runs(left)
        more = " …" if len(said) > _MOST_RUNS else ""
        text = f"  {before}: {', '.join(said[:_MOST_RUNS])}{more}"
        parts.append(Text(_cut(printable(text), 2 * width), style="dim"))
    if len(one.tables) > 1 and chosen:
        parts += _against_sources(one, most is not None)
    parts += [Text(f"  {printable(text)}") for text in _keys(one, keys)]
    return Group(*parts)


def _cut(text: str, most: int) -> str:
    return text if len(text) <= most else f"{text[: most - 1]}…"


def _title(one: Surveyed, sizes: Mapping[str, int]) -> Text:
    size = sum(sizes.get(table.name, 0) for table in one.tables)
    written = sorted({table.written for table in one.tables if table.written})
    files = f"{len(one.tables)} sources, " if len(one.tables) > 1 else ""
    of = "a sample of " if _is_sample(one) else ""
    said = f"{files}{of}{counted(one.rows, 'row')}, {counted(len(one.profiles), 'column')}"
    line = Text(printable(one.family.name), style="bold")
    large = f", {bytes_shown(size)}" if size else ""  # of a table in a database nobody knows
    line.append(f"  {said}{large}; {' / '.join(written)}", style="default not bold")
    return line


def _is_sample(one: Surveyed) -> bool:
    """Whether it is of the first rows of a source only."""
    return any(said.code == "sample-only" for table in one.tables for said in table.findings)


def _columns(one: Surveyed, names: Sequence[str], width: int) -> Padding:
    rows: list[tuple[Any, ...]] = [
        (
            printable(name),
            (column := one.profiles[name]).kind,
            f"{column.missing:,}" if column.missing else "·",
            f"{column.distinct:,}",
            _contents(column),
        )
        for name in names
    ]
    grid = Grid(box=None, pad_edge=False, padding=(0, 1, 0, 0), header_style="dim")
    heads = ("column", "type", "missing", "distinct")
    if _is_sample(one):
        heads = ("column", "type so far", "missing so far", "distinct so far")
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
        content = Text.assemble((picture, "blue"), f" {said}")
        content.truncate(rest, overflow="ellipsis")
        if content.plain.endswith("……"):  # the cell that ends it was cut itself
            content.right_crop(1)
        grid.add_row(*map(Text, cells), content)
    return Padding(grid, (0, 0, 0, 2))


def _contents(column: Profile) -> tuple[str, str]:
    """A small picture and what it stands for: the spread of values, or the commonest ones."""
    if column.spread is not None and base(column.kind) != "text":
        ends = [short(one) for one in (column.smallest, column.middle, column.largest)]
        picture = _picture(_halved(column.spread.rows))
        return f"{picture:{_SIGNS}}", printable(" … ".join(ends))
    if not column.commonest:
        return "", ""
    present = max(column.rows - column.missing, 1)
    rows = [times for _, times in column.commonest]
    if rows[0] == 1:
        span = f"{short(column.smallest)} … {short(column.largest)}"
        return " " * _SIGNS, printable(f"{span}, each once")
    shares = (f"{short(text)} {percent(times, present)}" for text, times in column.commonest)
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


def short(text: str) -> str:
    """As much of a cell as fits beside others."""
    return text if len(text) <= _CELL else f"{text[: _CELL - 1]}…"


def _against_sources(one: Surveyed, few: bool) -> list[RenderableType]:
    """Columns that not all sources have alike, against the sources."""
    differing = {name: list(_signs(one, name)) for name in one.profiles}
    differing = {name: signs for name, signs in differing.items() if set(signs) != {"●"}}
    if not differing:
        return [Text(f"  all {len(one.tables)} have the same columns", style="dim")]
    if len(one.tables) > _MOST_SOURCES:
        shown = list(differing.items())[: _MOST_DIFFERING if few else None]
        said = [_in_words(name, signs) for name, signs in shown]
        if len(shown) < len(differing):
            said.append(f"and {len(differing) - len(shown)} columns more differ")
        return [Text(f"  {printable(text)}") for text in said]
    grid = Grid(box=None, pad_edge=False, padding=(0, 1, 0, 0), header_style="dim")
    grid.add_column("● present  ○ absent  ◆ other type", max_width=36)
    for number in range(1, len(one.tables) + 1):
        grid.add_column(str(number), justify="right")
    for name, signs in differing.items():
        grid.add_row(Text(printable(name)), *signs)
    named = ", ".join(f"{n} {table.name}" for n, table in enumerate(one.tables, 1))
    return [
        Padding(grid, (0, 0, 0, 2)),
        Padding(Text(printable(named), style="dim"), (0, 0, 0, 2)),
    ]


def _in_words(name: str, signs: Sequence[str]) -> str:
    lacking, other = signs.count("○"), signs.count("◆")
    said = [f"missing from {lacking}"] if lacking else []
    said += [f"another type in {other}"] if other else []
    return f"{name}: {', '.join(said)} of {len(signs)} sources"


def _signs(one: Surveyed, name: str) -> Iterator[str]:
    usual = Counter(kinds[name] for kinds in one.kinds if name in kinds).most_common(1)[0][0]
    for kinds in one.kinds:
        if name not in kinds:
            yield "○"
        else:
            yield "●" if kinds[name] in (usual, "empty") else "◆"


def _keys(one: Surveyed, most: int) -> Iterator[str]:
    """Candidate keys in words: likely ones, and how many there are that chance would give."""
    keys = one.keys.keys
    likely = _without_longer([key for key in keys if not key.by_chance]) or list(keys[:1])
    so_far = " so far" if _is_sample(one) else ""
    for key in likely[:most]:
        yield f"key{so_far}: {key_said(key)}"
    if not keys:
        yield "key: none found with up to four columns"
    by_chance = one.keys.found - sum(not key.by_chance for key in keys)
    if by_chance > 1 and most > 1 and len(likely) <= most:
        sets = counted(by_chance, "other set")
        yield f"     {sets} of columns are unique, possibly by chance"
    if one.keys.bounded:
        yield "     some combinations of very many columns were not tested"
    if one.keys.sought < one.keys.columns and most > 1 and one.keys.columns > 100:
        yield f"          searched {one.keys.sought} of the columns"


def _without_longer(keys: Sequence[Candidate]) -> list[Candidate]:
    """Without keys that hold a better one and are not unique for it."""
    kept: list[Candidate] = []
    for key in keys:
        holds = any(set(one.columns) < set(key.columns) for one in kept)
        if not (holds and key.in_the_way):
            kept.append(key)
    return kept


def key_said(key: Candidate) -> str:
    """A candidate key in words."""
    said = f"{','.join(key.columns)}, unique"
    said += f" but for {counted(key.in_the_way, 'row')}" if key.in_the_way else ""
    return said + (", possibly by chance" if key.by_chance else "")


def sample(one: Surveyed) -> Iterator[Padding]:
    """The first rows as they stand."""
    for row in range(len(next(iter(one.sample.values()), []))):
        cells = ((name, values[row]) for name, values in one.sample.items())
        said = "  ".join(f"{name}={'(missing)' if not v else short(v)}" for name, v in cells)
        yield Padding(Text(printable(f"row {row + 1}: {said}"), style="dim"), (0, 0, 0, 2))
