"""A traced row as a person sees it."""

from __future__ import annotations

from collections.abc import Mapping

from rich.padding import Padding
from rich.table import Table as Grid
from rich.text import Text

from plait.cli.views.show import console, printable
from plait.plan.trace import CellOrigin, CellTrace, RowTrace

_FEW = 6
_LONGEST = 30


def show_row(row: RowTrace, paths: Mapping[str, str], verbose: bool) -> None:
    """The source rows that went in, then each cell with its value and where it came from."""
    out = console()
    out.print()
    head = Text(f"row {row.row:,}", style="bold")
    head.append("" if row.places else "  from no source", style="dim")
    out.print(head)
    out.print(Padding(_sources(row, paths, verbose), (0, 0, 0, 2)))
    several = _several(row)
    grid = Grid(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="dim")
    grid.add_column("column", overflow="fold", ratio=3)
    grid.add_column("value", overflow="fold", ratio=4)
    grid.add_column("came from", overflow="fold", ratio=5)
    for cell in row.cells:
        whence = _whence(cell, several, verbose)
        grid.add_row(Text(printable(cell.column)), _value(cell.value), whence)
    out.print(Padding(grid, (0, 0, 0, 2)))


def _sources(row: RowTrace, paths: Mapping[str, str], verbose: bool) -> Grid:
    """Each source row that went in, by name, with its file and line."""
    grid = Grid(box=None, show_header=False, pad_edge=False, padding=(0, 2, 0, 0))
    shown = list(zip(row.places, row.within, strict=True))[: None if verbose else _FEW]
    for (source, _), within in shown:
        where = Text(printable(f"{paths[source]} {within}"))
        grid.add_row(Text(printable(source), style="bold"), where)
    if len(shown) < len(row.places):
        grid.add_row("", f"and {len(row.places) - len(shown):,} rows more: --verbose")
    return grid


def _several(row: RowTrace) -> set[str]:
    """The sources of which more than one row went in."""
    names = [source for source, _ in row.places]
    return {name for name in names if names.count(name) > 1}


def _value(value: str | None) -> Text:
    if value is None or value == "":
        return Text("(missing)", style="dim")
    return Text(_short(value))


def _whence(cell: CellTrace, several: set[str], verbose: bool) -> Text:
    said = Text()
    for number, one in enumerate(cell.origins[: None if verbose else _FEW]):
        said.append("\n" if number else "")
        said.append(_place(one, several))
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
        return "no matching row"
    return f"made by {printable(cell.steps[0][0])}" if cell.steps else "made by the plan"


def _place(one: CellOrigin, several: set[str]) -> str:
    row = f" {one.place}" if one.source in several else ""
    return printable(f"{one.column} of {one.source}{row}")


def _short(text: str) -> str:
    shown = printable(text)
    return shown if len(shown) <= _LONGEST else shown[: _LONGEST - 1] + "…"
