"""Documents on a terminal."""

from __future__ import annotations

from typing import assert_never

from rich.console import Console
from rich.padding import Padding
from rich.table import Table as RichTable
from rich.text import Text

from plait.cli.terminal import (
    escape_unprintable,
    make_console,
    print_expectations,
    print_findings,
    print_ledger,
    print_row_flow,
    print_steps,
    print_summary,
    render_bar,
)
from plait.report.document import (
    Bar,
    Blank,
    Block,
    Change,
    Document,
    Expectations,
    Findings,
    Grid,
    Ledger,
    Mark,
    Note,
    Sentences,
    Steps,
    Value,
)
from plait.report.numbers import format_change

# Told apart by people of every colour sight.
_TONES = {
    "usual": "blue",
    "odd": "yellow",
    "total": "bold",
    "faint": "dim",
    "wrong": "magenta",
    "plain": "",
}


def print_document(document: Document, verbose: bool = False) -> None:
    """The answer in bold, its facts, and the blocks; unless verbose as far as each is brief."""
    print_summary([*document.answer, *document.facts])
    out = make_console()
    for block in document.blocks:
        _print_block(out, block, verbose)


def _print_block(out: Console, block: Block, verbose: bool) -> None:
    match block:
        case Grid():
            _print_grid(out, block, verbose)
        case Note():
            text = Text(escape_unprintable(block.text), style=_TONES[block.tone])
            out.print(Padding(text, (0, 0, 0, block.indent)))
        case Blank():
            out.print()
        case Sentences():
            out.print()
            out.print(Text(escape_unprintable(block.heading), style="bold"))
            for line in block.lines():
                out.print(Padding(Text(escape_unprintable(line)), (0, 0, 0, 2)))
        case Ledger():
            if block.flow and not verbose:
                print_row_flow(block.entries)
            else:
                print_ledger(block.entries)
        case Expectations():
            print_expectations(block.results, verbose)
        case Steps():
            print_steps(block.steps)
        case Findings():
            print_findings(block.findings, verbose, block.brief)
        case _:
            assert_never(block)


def _print_grid(out: Console, grid: Grid, verbose: bool) -> None:
    table = RichTable(
        box=None, show_header=grid.has_heads, pad_edge=False, padding=(0, grid.gap, 0, 0),
        header_style="dim",
    )  # fmt: skip
    for column in grid.columns:
        table.add_column(
            escape_unprintable(column.head),
            justify=column.side,  # type: ignore[arg-type]
            ratio=column.share or None,
            overflow="fold" if column.wraps else "ellipsis",
            no_wrap=not column.wraps,
            max_width=column.widest,
        )
    shown = grid.rows if verbose or grid.brief is None else grid.rows[: grid.brief]
    for number, row in enumerate(shown):
        style = "bold" if number in grid.strong else ""
        table.add_row(*map(_render_value, row), style=style)
    if not grid.title and not grid.rows:
        return
    if not grid.close:
        out.print()
    if isinstance(grid.title, tuple):
        out.print(Text.assemble(*map(_render_mark, grid.title)))
    elif grid.title:
        out.print(Text(escape_unprintable(grid.title), style="bold"))
    if table.row_count:
        out.print(Padding(table, (0, 0, 0, grid.indent)))
    if len(shown) < len(grid.rows):
        out.print(Text(f"  and {len(grid.rows) - len(shown):,} more: --verbose", style="dim"))


def _render_mark(mark: Mark) -> tuple[str, str]:
    return "\n" * mark.new_line + escape_unprintable(mark.text), _TONES[mark.tone]


def _render_value(value: Value) -> Text:
    match value:
        case Bar():
            return render_bar(value.value, value.most, _TONES[value.tone], value.width)
        case Mark():
            return Text(escape_unprintable(value.text), style=_TONES[value.tone])
        case tuple():
            return Text.assemble(*map(_render_mark, value))
        case Change():
            return Text(format_change(value.by))
        case int():
            return Text(f"{value:,}" if value else "·")
        case str():
            return Text(escape_unprintable(value))
        case _:
            assert_never(value)
