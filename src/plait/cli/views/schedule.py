"""What a person sees of the plans that run by themselves."""

from __future__ import annotations

from collections.abc import Sequence

from rich.table import Table as Grid
from rich.text import Text

from plait.cli.views.show import console, printable


def show_scheduled(plans: Sequence[tuple[str, str, str, str]]) -> None:
    """A line a plan: the file, the fields of crontab, last and next run."""
    if not plans:
        return
    grid = Grid(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="dim")
    grid.add_column("plan", overflow="fold", ratio=1)
    for head in ("when", "last run", "next run"):
        grid.add_column(head, no_wrap=True)
    for plan, *others in plans:
        grid.add_row(Text(printable(plan)), *map(printable, others))
    out = console()
    out.print()
    out.print(grid)
