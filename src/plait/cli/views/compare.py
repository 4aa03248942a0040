"""What a person sees of a comparison."""

from __future__ import annotations

import argparse
from collections.abc import Iterator, Sequence
from decimal import Decimal

from rich.console import Console
from rich.padding import Padding
from rich.table import Table as Grid
from rich.text import Text

from plait.cli.views.show import bar_of, console, printable, show_answer, show_findings, show_ledger
from plait.core.account.finding import Finding, counted
from plait.core.table.keyspec import quoted
from plait.core.verbs.compare import Compared
from plait.report.between import Between, SourceBetween
from plait.report.compared import changed_columns
from plait.report.figures import step_shown

_MOST_COLUMNS = 12
_MOST_SOURCES = 8
_SIGNS = {"new": "+", "gone": "−", "changed": "≠", "same": "="}


def show_compared(
    found: Compared,
    accounts: Between | None,
    findings: Sequence[Finding],
    options: argparse.Namespace,
) -> None:
    """The answer, the ledger, the columns, figures and sources then and now, the findings."""
    out = console()
    show_answer(_answer(found, options))
    show_ledger([found.entry])
    _show_columns(out, found, options.verbose)
    if accounts:
        _show_figures(out, accounts, options.verbose)
        _show_sources(out, accounts, options.verbose)
    show_findings(findings, options.verbose)


def _answer(found: Compared, options: argparse.Namespace) -> Iterator[str]:
    changes = found.changes
    if changes.none and not changes.keys_repeated:
        yield f"nothing changed: {counted(changes.new_rows, 'row')}, all equal"
    else:
        yield (
            f"{counted(changes.rows_new, 'row')} new, {changes.rows_gone:,} gone, "
            f"{changes.rows_changed:,} changed, {changes.rows_equal:,} equal"
        )
    if found.key:
        yield f"key:         {','.join((quoted(after) for _, after in found.key))}"
    cells = sum(changes.columns.values())
    if cells:
        yield f"cells:       {cells:,} changed, in {counted(len(changes.columns), 'column')}"
    columns = list(_of_columns(found))
    if columns:
        yield f"columns:     {', '.join(columns)}"
    if options.out:
        yield f"changes:     {options.out} lists each one with its old and new row"


def _of_columns(found: Compared) -> Iterator[str]:
    changes = found.changes
    for names, what in (
        (changes.columns_new, "new"),
        (changes.columns_gone, "gone"),
        (changes.columns_renamed, "renamed"),
        (changes.types, "of another type"),
    ):
        if names:
            yield f"{len(names):,} {what}"


def _show_columns(out: Console, found: Compared, verbose: bool) -> None:
    """For each column how many cells changed, and by how much."""
    every = changed_columns(found.columns)
    if not every:
        return
    grid = Grid(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="dim")
    grid.add_column("column", overflow="fold", ratio=1)
    for head in ("cells", "filled", "emptied", "sum", "smallest", "largest"):
        grid.add_column(head, justify="right", no_wrap=True)
    grid.add_column("")
    for one in every if verbose else every[:_MOST_COLUMNS]:
        counts = (one.cells, one.from_missing, one.to_missing)
        steps = (one.by.sum, one.by.smallest, one.by.largest)
        grid.add_row(
            Text(printable(one.name)),
            *(f"{n:,}" if n else "·" for n in counts),
            *map(step_shown, steps),
            bar_of(one.cells, every[0].cells, "yellow"),
        )
    out.print()
    out.print(Text("cells changed, and by how much", style="bold"))
    out.print(Padding(grid, (0, 0, 0, 2)))
    if len(every) > _MOST_COLUMNS and not verbose:
        out.print(Text(f"  and {len(every) - _MOST_COLUMNS:,} more: --verbose", style="dim"))


def _show_figures(out: Console, accounts: Between, verbose: bool) -> None:
    """The figures of both accounts that are not the same, side by side."""
    grid = Grid(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="dim")
    grid.add_column("figure")
    for head in ("then", "now", "change"):
        grid.add_column(head, justify="right")
    same = [name for name, (then, now) in accounts.figures.items() if then == now]
    for name, (then, now) in accounts.figures.items():
        if then != now or verbose:
            change = step_shown(Decimal(now - then)) if now != then else "·"
            grid.add_row(name.replace("_", " "), f"{then:,}", f"{now:,}", change)
    new = [one for one in accounts.findings if not one.old]
    gone = [one for one in accounts.findings if not one.new]
    out.print()
    out.print(Text("figures of both runs", style="bold"))
    if grid.row_count:
        out.print(Padding(grid, (0, 0, 0, 2)))
    if same and not verbose:
        said = ", ".join(name.replace("_", " ") for name in same)
        out.print(Text(f"  the same: {said}", style="dim"))
    for word, some in (("new", new), ("gone", gone)):
        for one in some:
            said = f"{word} finding: {one.message} [{one.code}]"
            out.print(Padding(Text(printable(said), style="dim"), (0, 0, 0, 2)))


def _show_sources(out: Console, accounts: Between, verbose: bool) -> None:
    """Which files are new, gone or other ones now."""
    shown = [one for one in accounts.sources if verbose or one.state != "same"]
    same = len(accounts.sources_that_are("same"))
    out.print()
    out.print(Text("the sources", style="bold"))
    grid = Grid(box=None, show_header=False, pad_edge=False, padding=(0, 2, 0, 0))
    grid.add_column(no_wrap=True)
    grid.add_column(overflow="fold", ratio=1)
    grid.add_column(justify="right", no_wrap=True)
    for one in shown if verbose else shown[:_MOST_SOURCES]:
        grid.add_row(f"{_SIGNS[one.state]} {one.state}", Text(printable(one.path)), _rows(one))
    out.print(Padding(grid, (0, 0, 0, 2)))
    if len(shown) > _MOST_SOURCES and not verbose:
        out.print(Text(f"  and {len(shown) - _MOST_SOURCES:,} more: --verbose", style="dim"))
    if same and not verbose:
        out.print(Text(f"  {counted(same, 'source')} the same", style="dim"))


def _rows(one: SourceBetween) -> str:
    there = [f"{rows:,}" for rows in (one.old_rows, one.new_rows) if rows is not None]
    return f"{' → '.join(dict.fromkeys(there))} rows"
