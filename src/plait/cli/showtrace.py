"""A traced row as a person sees it."""

from __future__ import annotations

from rich.padding import Padding
from rich.table import Table as Grid
from rich.text import Text

from plait.cli.show import console, printable
from plait.plan.trace import CellOrigin, CellTrace, RowTrace

_FEW = 4
_LONGEST = 30


def show_row(row: RowTrace, verbose: bool) -> None:
    """The row's sources, then for each cell its value and where it came from."""
    out = console()
    out.print()
    whence = ", ".join(f"{source} row {at:,}" for source, at in row.places[:_FEW])
    more = f" and {len(row.places) - _FEW:,} more" if len(row.places) > _FEW else ""
    head = Text(f"row {row.row:,}", style="bold")
    head.append(f"  from {printable(whence)}{more}" if whence else "  from no source", style="dim")
    out.print(head)
    grid = Grid(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="dim")
    grid.add_column("column", overflow="fold", ratio=3)
    grid.add_column("value", overflow="fold", ratio=3)
    grid.add_column("came from", overflow="fold", ratio=6)
    for cell in row.cells:
        grid.add_row(Text(printable(cell.column)), _value(cell.value), _whence(cell, verbose))
    out.print(Padding(grid, (0, 0, 0, 2)))


def _value(value: str | None) -> Text:
    if value is None or value == "":
        return Text("(missing)", style="dim")
    return Text(_short(value))


def _whence(cell: CellTrace, verbose: bool) -> Text:
    said = Text()
    for number, one in enumerate(cell.origins[: None if verbose else _FEW]):
        said.append("\n" if number else "")
        said.append(_place(one))
        if one.text != cell.value and not (one.text == "" and cell.value is None):
            there = "not there" if one.text is None else repr(_short(one.text))
            said.append(f"  {there}", style="yellow")
    hidden = max(len(cell.origins) - _FEW, 0) * (not verbose) + cell.more
    if hidden:
        said.append(f"\nand {hidden:,} more")
    changed = [step for step, made in cell.steps if made]
    if not cell.origins:
        said.append(_nothing(cell), style="dim")
    elif changed:
        said.append(f"\nby {printable('; '.join(changed))}", style="dim")
    if verbose and cell.steps:
        steps = "; ".join(step for step, _ in cell.steps)
        said.append(f"\nthrough {printable(steps)}", style="dim")
    return said


def _nothing(cell: CellTrace) -> str:
    """Why a cell has no origin: no partner was found, or a step made it."""
    if cell.value in (None, ""):
        return "no partner row"
    return f"made by {printable(cell.steps[0][0])}" if cell.steps else "made by the plan"


def _place(one: CellOrigin) -> str:
    line = f", line {one.line:,}" if one.line is not None else ""
    return printable(f"{one.path} row {one.row:,}{line}, {one.column}")


def _short(text: str) -> str:
    shown = printable(text)
    return shown if len(shown) <= _LONGEST else shown[: _LONGEST - 1] + "…"
