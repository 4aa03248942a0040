"""The steps of a plan as a person sees them."""

from __future__ import annotations

from collections.abc import Sequence

from rich.padding import Padding
from rich.table import Table as Grid
from rich.text import Text

from plait.cli.views.show import console, printable
from plait.core.account.finding import counted
from plait.core.account.ledger import Entry
from plait.plan.check import StepForeseen

MOST_FINDINGS = 5
_MOST = 30


def show_flow(entries: Sequence[Entry]) -> None:
    """The ledger, a line an operation: rows that came in, that were added or left out, rows out."""
    if not entries:
        return
    out = console()
    grid = Grid(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="dim")
    grid.add_column("step", overflow="fold", ratio=1)
    for head in ("rows in", "added", "left out", "rows out"):
        grid.add_column(head, justify="right", no_wrap=True)
    for one in entries:
        changes = [line.rows for line in one.lines[len(one.rows_in) :]]
        numbers = (
            sum(one.rows_in.values()),
            sum(rows for rows in changes if rows > 0),
            -sum(rows for rows in changes if rows < 0),
            one.rows_out,
        )
        cells = [f"{number:,}" if number else "·" for number in numbers]
        grid.add_row(Text(printable(one.operation)), *cells)
    out.print()
    out.print(grid)


def show_steps(steps: Sequence[StepForeseen]) -> None:
    """Each step with the rows it gives, and its columns with their types; new ones marked +."""
    out = console()
    for number, step in enumerate(steps, 1):
        out.print()
        line = Text(f"{number}. {printable(step.title)}", style="bold")
        line.append(f"  line {step.line}", style="dim not bold")
        out.print(line)
        out.print(
            f"   {counted(step.rows, 'row')}, {counted(len(step.columns), 'column')}, "
            f"{counted(step.findings, 'finding')}"
        )
        grid = Grid(box=None, show_header=False, pad_edge=False, padding=(0, 2, 0, 0))
        for _ in range(2):
            grid.add_column(overflow="fold", ratio=3)
            grid.add_column(overflow="fold", ratio=2, style="dim")
        shown = [
            (("+ " if one.new else "  ") + printable(one.name), one.kind)
            for one in step.columns[:_MOST]
        ]
        half = (len(shown) + 1) // 2
        for row in range(half):
            right = shown[row + half] if row + half < len(shown) else ("", "")
            grid.add_row(*shown[row], *right)
        out.print(Padding(grid, (0, 0, 0, 3)))
        if len(step.columns) > _MOST:
            out.print(f"     and {len(step.columns) - _MOST:,} more")
