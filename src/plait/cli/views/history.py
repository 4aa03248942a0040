"""What a person sees of the history of a plan."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from operator import attrgetter

from rich.padding import Padding
from rich.table import Table as Grid
from rich.text import Text

from plait.cli.views.show import bar_of, console, printable, show_answer
from plait.core.account.finding import counted
from plait.plan.runs.clock import day_and_time
from plait.plan.runs.record import FIGURES, NEW, Record
from plait.report.figures import bytes_shown

_BAR = 6
_SIGNS = {
    "done": ("● done", "blue"),
    "running": ("… running", "bold"),
    "refused": ("○ refused", "yellow"),
    "failed": ("✗ failed", "magenta"),
    "interrupted": ("✗ interrupted", "magenta"),
    "killed": ("✗ killed", "magenta"),
}


def show_runs(records: Sequence[Record], verbose: bool) -> None:
    """The runs, the last one at the bottom, with the course of three figures as bars."""
    if not records:
        return
    out = console()
    grid = Grid(box=None, pad_edge=False, padding=(0, 1, 0, 0), header_style="dim")
    grid.add_column("run", justify="right")
    grid.add_column("when", no_wrap=True)
    grid.add_column("ended", no_wrap=True)
    for head in ("rows", "unmatched", "seconds"):
        grid.add_column(head, justify="right", no_wrap=True)
        grid.add_column("", no_wrap=True)
    more = ("new", "gone", "changed") if out.width > 90 else ()
    for head in more:
        grid.add_column(head, justify="right", no_wrap=True)
    for head in ("by", "on", "with") if verbose else ():
        grid.add_column(head, no_wrap=True)
    most = [
        max((value for one in records if (value := of(one)) is not None), default=0)
        for of in _FIGURES
    ]
    for one in records:
        sign, style = _SIGNS[one.status]
        cells: list[str | Text] = [str(one.run), day_and_time(one.started), Text(sign, style)]
        for of, top in zip(_FIGURES, most, strict=True):
            value = of(one)
            cells += [_number(value), bar_of(value or 0, top, "blue" if one.good else "dim", _BAR)]
        cells += [_number(getattr(one, f"rows_{head}")) for head in more]
        cells += [printable(text) for text in _whose(one)] if verbose else []
        grid.add_row(*cells)
    out.print()
    out.print(grid)
    failed = [one for one in records if one.failed]
    if failed:
        out.print()
    for one in failed[-3:]:
        out.print(Text(printable(f"run {one.run}: {one.failed.get('what', '')}"), style="dim"))


_FIGURES = (attrgetter("rows"), attrgetter("unmatched"), attrgetter("seconds"))


def _whose(one: Record) -> tuple[str, str, str]:
    return one.user, one.machine, one.version


def _number(value: float | None) -> str:
    """A figure, or a dot where there is none.

    >>> _number(1250), _number(4.25), _number(None)
    ('1,250', '4.2', '·')
    """
    if value is None:
        return "·"
    return f"{value:,}" if isinstance(value, int) else f"{value:,.1f}"


def show_run(one: Record) -> None:
    """All that is known of one run."""
    out = console()
    show_answer(_answer(one))
    grid = Grid(box=None, show_header=False, pad_edge=False, padding=(0, 2, 0, 0))
    grid.add_column(style="dim")
    grid.add_column(justify="right")
    for name in (*FIGURES, *NEW):
        if getattr(one, name) is not None:
            grid.add_row(name.replace("_", " "), _number(getattr(one, name)))
    if grid.row_count:
        out.print()
        out.print(Padding(grid, (0, 0, 0, 2)))
    if one.sources:
        out.print()
        out.print(Text("sources of this run", style="bold"))
        out.print(Padding(_sources(one), (0, 0, 0, 2)))


def _answer(one: Record) -> Iterator[str]:
    yield f"run {one.run}: {one.status}, {day_and_time(one.started)}, {one.seconds:,.1f} s"
    for name in ("what", "where", "remedy"):
        if one.failed.get(name):
            yield f"{name + ':':<12} {one.failed[name]}"
    yield f"run by:      {one.user} on {one.machine}, with Plait {one.version}"
    if one.parameters:
        said = ", ".join(f"{name} = {value}" for name, value in one.parameters.items())
        yield f"parameters:  {said}"
    if one.handover:
        yield f"handover:    {one.handover}"
    for sent in one.notices:
        how = f"not sent: {sent.get('failed')}" if sent.get("failed") else "sent"
        yield f"notice:      {sent.get('way')} to {sent.get('to')}, {how}"


def _sources(one: Record) -> Grid:
    grid = Grid(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="dim")
    grid.add_column("file", overflow="fold", ratio=1)
    for head in ("rows", "size", "sha256"):
        grid.add_column(head, justify="right", no_wrap=True)
    for said in one.sources:
        size = bytes_shown(said.get("bytes") or 0)
        sum_ = str(said.get("sha256") or "")[:12]
        rows = counted(said.get("rows") or 0, "row").split()[0]
        grid.add_row(Text(printable(str(said.get("path", "")))), rows, size, sum_)
    return grid
