"""Rows and columns of tables, printed."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Iterator, Mapping, Sequence
from typing import Any

from rich.cells import cell_len
from rich.console import Group, RenderableType
from rich.padding import Padding
from rich.table import Table as Grid
from rich.text import Text

from plait.cli.terminal import escape_unprintable, make_console
from plait.core.base.findings import pluralize
from plait.core.operations.survey import SchemaGroupSurvey
from plait.core.profiling.contents import collapse_numbered_names, select_notable_columns
from plait.core.profiling.profile import ColumnProfile
from plait.core.table.table import Table
from plait.core.types.column_type import EMPTY
from plait.report.numbers import format_bytes
from plait.report.survey_document import (
    describe_keys,
    describe_values,
    format_short_value,
    is_sample,
)

_GAP = 2
_STEP = 200  # rows that are set under one another alike

_STEPS = "▁▂▃▄▅▆▇"
_MIN_TEXT_WIDTH = 8
_MOST_SOURCES = 24
_MOST_DIFFERING = 3
_MOST_RUNS = 6
_WIDEST = 18


def print_rows(tables: Sequence[Table]) -> None:
    """The rows of each table, as many columns beside one another as there is room for.

    Where there are more, they follow below. A missing cell is shown as one, and an empty
    place is never left: so it is seen which cell is which.
    """
    out = make_console()
    for number, table in enumerate(tables):
        if len(tables) > 1:
            out.print(
                Text(f"{chr(10) * bool(number)}{escape_unprintable(table.name)}", style="bold")
            )
        for start in range(0, table.rows, _STEP):
            for line in _lines(table, start, min(start + _STEP, table.rows), out.width):
                out.print(line, soft_wrap=True)
        if not table.rows:
            out.print(Text("  ".join(map(escape_unprintable, table.column_names)), style="dim"))


def _lines(table: Table, start: int, stop: int, width: int) -> Iterator[Text]:
    numbers = [str(row + 1) for row in range(start, stop)]
    edge = max(map(len, numbers)) + _GAP
    columns = [_column(table, name, start, stop) for name in table.column_names]
    widths = [max(map(cell_len, cells)) for cells in columns]
    begin = 0
    while begin < len(columns):
        end, used = begin + 1, edge + widths[begin]
        while end < len(columns) and used + _GAP + widths[end] <= width:
            used += _GAP + widths[end]
            end += 1
        yield from _block(columns[begin:end], widths[begin:end], numbers, edge)
        begin = end


def _column(table: Table, name: str, start: int, stop: int) -> list[str]:
    cells = table.cells(table.column(name), start, stop).to_pylist()
    return [
        escape_unprintable(name),
        *("(missing)" if c in (None, "") else escape_unprintable(str(c)) for c in cells),
    ]


def _block(
    columns: Sequence[Sequence[str]], widths: Sequence[int], numbers: Sequence[str], edge: int
) -> Iterator[Text]:
    for row, cells in enumerate(zip(*columns, strict=True)):
        padded = (c + " " * (wide - cell_len(c)) for c, wide in zip(cells, widths, strict=True))
        number = numbers[row - 1] if row else ""
        line = Text(f"{number:>{edge - _GAP}}{' ' * _GAP}", style="dim")
        line.append(
            (" " * _GAP).join(padded).rstrip(), style="dim" if not row else "default not dim"
        )
        yield line


def render_schema_group(
    schema_group_survey: SchemaGroupSurvey,
    sizes: Mapping[str, int],
    width: int,
    first: Collection[str],
    most: int | None,
    keys: int,
) -> Group:
    """A shape with so many of its columns.

    Parameters
    ----------
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
    names = list(schema_group_survey.profiles)
    chosen = names if most is None else select_notable_columns(names, first, most)
    parts: list[RenderableType] = [_title(schema_group_survey, sizes)]
    if chosen:
        parts.append(_columns(schema_group_survey, chosen, width))
    left = [name for name in names if name not in set(chosen)]
    if left:
        before = f"and {pluralize(len(left), 'column')} more" if chosen else "columns"
        texts = collapse_numbered_names(left)
        more = " …" if len(texts) > _MOST_RUNS else ""
        text = f"  {before}: {', '.join(texts[:_MOST_RUNS])}{more}"
        parts.append(Text(_cut(escape_unprintable(text), 2 * width), style="dim"))
    if len(schema_group_survey.tables) > 1 and chosen:
        parts += _against_sources(schema_group_survey, most is not None)
    parts += [
        Text(f"  {escape_unprintable(text)}") for text in describe_keys(schema_group_survey, keys)
    ]
    return Group(*parts)


def _cut(text: str, most: int) -> str:
    return text if len(text) <= most else f"{text[: most - 1]}…"


def _title(schema_group_survey: SchemaGroupSurvey, sizes: Mapping[str, int]) -> Text:
    size = sum(sizes.get(table.name, 0) for table in schema_group_survey.tables)
    written = sorted({table.read_as for table in schema_group_survey.tables if table.read_as})
    files = (
        f"{len(schema_group_survey.tables)} sources, "
        if len(schema_group_survey.tables) > 1
        else ""
    )
    of = "a sample of " if is_sample(schema_group_survey) else ""
    columns = pluralize(len(schema_group_survey.profiles), "column")
    text = f"{files}{of}{pluralize(schema_group_survey.rows, 'row')}, {columns}"
    line = Text(escape_unprintable(schema_group_survey.family.name), style="bold")
    large = f", {format_bytes(size)}" if size else ""  # of a table in a database nobody knows
    line.append(f"  {text}{large}; {' / '.join(written)}", style="default not bold")
    return line


def _columns(schema_group_survey: SchemaGroupSurvey, names: Sequence[str], width: int) -> Padding:
    rows: list[tuple[Any, ...]] = [
        (
            escape_unprintable(name),
            str((column := schema_group_survey.profiles[name]).kind),
            f"{column.missing:,}" if column.missing else "·",
            f"{column.distinct:,}",
            _contents(column),
        )
        for name in names
    ]
    grid = Grid(box=None, pad_edge=False, padding=(0, 1, 0, 0), header_style="dim")
    heads = ("column", "type", "missing", "distinct")
    if is_sample(schema_group_survey):
        heads = ("column", "type\nso far", "missing\nso far", "distinct\nso far")
    widths = [
        min(_WIDEST, max([*map(len, head.split("\n")), *(len(row[place]) for row in rows)]))
        for place, head in enumerate(heads)
    ]
    rest = max(_MIN_TEXT_WIDTH, width - sum(widths) - len(widths) - 2)
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


def _contents(column: ColumnProfile) -> tuple[str, str]:
    """A small picture and what it stands for: the spread of values, or the commonest ones."""
    said = escape_unprintable(describe_values(column))
    if column.spread is not None and column.kind.family != "text":
        return f"{_picture(_halved(column.spread.rows)):{_MIN_TEXT_WIDTH}}", said
    rows = [times for _, times in column.commonest]
    if not rows:
        return "", ""
    return f"{_picture(rows) if rows[0] > 1 else '':{_MIN_TEXT_WIDTH}}", said


def _halved(rows: Sequence[int]) -> list[int]:
    """Two neighbours together where there are more than eight, so that the picture is short."""
    if len(rows) <= _MIN_TEXT_WIDTH:
        return list(rows)
    return [sum(rows[n : n + 2]) for n in range(0, len(rows), 2)]


def _picture(rows: Sequence[int]) -> str:
    """A sign a stretch, as high as its rows; nothing is blank, anything at least a line."""
    most = max(rows, default=0) or 1
    return "".join(
        _STEPS[min(len(_STEPS) - 1, rows_here * len(_STEPS) // most)] if rows_here else " "
        for rows_here in rows
    )


def _against_sources(schema_group_survey: SchemaGroupSurvey, few: bool) -> list[RenderableType]:
    """Columns that not all sources have alike, against the sources."""
    differing = {
        name: list(_signs(schema_group_survey, name)) for name in schema_group_survey.profiles
    }
    differing = {name: signs for name, signs in differing.items() if set(signs) != {"●"}}
    if not differing:
        return [Text(f"  all {len(schema_group_survey.tables)} have the same columns", style="dim")]
    if len(schema_group_survey.tables) > _MOST_SOURCES:
        shown = list(differing.items())[: _MOST_DIFFERING if few else None]
        texts = [_in_words(name, signs) for name, signs in shown]
        if len(shown) < len(differing):
            texts.append(f"and {len(differing) - len(shown)} columns more differ")
        return [Text(f"  {escape_unprintable(text)}") for text in texts]
    grid = Grid(box=None, pad_edge=False, padding=(0, 1, 0, 0), header_style="dim")
    grid.add_column("● present  ○ absent  ◆ other type", max_width=36)
    for number in range(1, len(schema_group_survey.tables) + 1):
        grid.add_column(str(number), justify="right")
    for name, signs in differing.items():
        grid.add_row(Text(escape_unprintable(name)), *signs)
    named = ", ".join(f"{n} {table.name}" for n, table in enumerate(schema_group_survey.tables, 1))
    return [
        Padding(grid, (0, 0, 0, 2)),
        Padding(Text(escape_unprintable(named), style="dim"), (0, 0, 0, 2)),
    ]


def _in_words(name: str, signs: Sequence[str]) -> str:
    lacking, other = signs.count("○"), signs.count("◆")
    said = [f"missing from {lacking}"] if lacking else []
    said += [f"another type in {other}"] if other else []
    return f"{name}: {', '.join(said)} of {len(signs)} sources"


def _signs(schema_group_survey: SchemaGroupSurvey, name: str) -> Iterator[str]:
    usual = Counter(
        kinds[name] for kinds in schema_group_survey.kinds if name in kinds
    ).most_common(1)[0][0]
    for kinds in schema_group_survey.kinds:
        if name not in kinds:
            yield "○"
        else:
            yield "●" if kinds[name] in (usual, EMPTY) else "◆"


def render_sample_rows(schema_group_survey: SchemaGroupSurvey) -> Iterator[Padding]:
    """The first rows as they stand."""
    for row in range(len(next(iter(schema_group_survey.sample.values()), []))):
        cells = ((name, values[row]) for name, values in schema_group_survey.sample.items())
        text = "  ".join(
            f"{name}={'(missing)' if not v else format_short_value(v)}" for name, v in cells
        )
        yield Padding(Text(escape_unprintable(f"row {row + 1}: {text}"), style="dim"), (0, 0, 0, 2))
