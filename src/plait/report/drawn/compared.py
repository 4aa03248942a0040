"""What changed between two tables as a figure."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import Any

from plait.core.verbs.compare import Compared
from plait.report.compared import changed_columns
from plait.report.drawn.figure import HATCH, INK, LEAVING, PART, ROWS, cut, plain, write_figure

_MOST = 25


def write_compared_figure(found: Compared, target: Path, ending: str) -> None:
    """The rows then and now, and the cells changed in each column."""
    columns = changed_columns(found.columns)[:_MOST]
    size = 9.2, 1.7 + 0.3 * len(columns)
    write_figure(partial(_draw, found, size[1]), size, target, ending)


def _draw(found: Compared, high: float, figure: Any) -> None:
    changes, at = found.changes, 0
    panel = plain(figure.add_axes((0.03, 1 - 1.1 / high, 0.94, 0.5 / high)))
    title = f"{cut(found.old.name, 40)} then, {cut(found.new.name, 40)} now"
    figure.text(0.03, 1 - 0.35 / high, title, fontsize=11, fontweight="bold")
    for word, rows, colour, edge, hatch in (
        ("gone", changes.rows_gone, "none", LEAVING, ".."),
        ("equal", changes.rows_equal, PART, PART, None),
        ("changed", changes.rows_changed, "none", LEAVING, HATCH),
        ("new", changes.rows_new, ROWS, ROWS, None),
    ):
        panel.barh(0, rows, left=at, height=0.8, color=colour, edgecolor=edge, hatch=hatch,
                   linewidth=1, label=f"{rows:,} {word}")  # fmt: skip
        at += rows
    panel.set_yticks([])
    panel.set_xlim(0, max(at, 1))
    panel.legend(loc="upper left", ncols=4, frameon=False, fontsize=9, bbox_to_anchor=(-0.01, 0))
    columns = changed_columns(found.columns)[:_MOST]
    if columns:
        _cells(plain(figure.add_axes((0.22, 0.03, 0.74, 1 - 1.6 / high))), columns)


def _cells(panel: Any, columns: Any) -> None:
    """A bar for each column in which cells changed."""
    most = columns[0].cells
    for place, one in enumerate(columns):
        panel.barh(place, one.cells, height=0.7, color="none", edgecolor=LEAVING, hatch=HATCH)
        panel.text(one.cells + most * 0.01, place, f"{one.cells:,} cells", fontsize=8, va="center")
    panel.set_yticks(
        range(len(columns)), [cut(one.name, 22) for one in columns], fontsize=8, color=INK
    )
    panel.set_xlim(0, most * 1.15)
    panel.set_ylim(len(columns) - 0.4, -0.6)
