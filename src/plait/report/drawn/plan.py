"""The picture of a whole plan as a figure."""

from __future__ import annotations

from functools import partial
from itertools import pairwise
from pathlib import Path
from typing import Any

from plait.report.drawn.figure import HATCH, INK, LEAVING, PART, ROWS, SOFT, write_figure
from plait.report.drawn.flow import parts_of
from plait.report.drawn.picture import Bar, Picture, picture
from plait.report.story import Story

_PIXELS = 96  # an inch of the page
_POINTS = 72 / _PIXELS


def write_plan_figure(story: Story, target: Path, ending: str) -> None:
    """Write the picture of a run that its report has."""
    drawn = picture(parts_of(story))
    size = drawn.width / _PIXELS, drawn.height / _PIXELS
    write_figure(partial(_draw, drawn), size, target, ending)


def _draw(drawn: Picture, figure: Any) -> None:
    panel = figure.add_axes((0, 0, 1, 1))
    panel.set_xlim(0, drawn.width)
    panel.set_ylim(drawn.height, 0)
    panel.axis("off")
    for band in drawn.bands:
        panel.add_patch(_curve(band.points, band.thick))
    for bar in drawn.bars:
        _bar(panel, bar)


def _curve(points: tuple[tuple[float, float], ...], thick: float) -> Any:
    from matplotlib.patches import PathPatch
    from matplotlib.path import Path as Line

    places, codes = [points[0]], [Line.MOVETO]
    for (x0, y0), (x1, y1) in pairwise(points):
        middle = (x0 + x1) / 2
        places += [(middle, y0), (middle, y1), (x1, y1)]
        codes += [Line.CURVE4] * 3
    return PathPatch(
        Line(places, codes), fill=False, edgecolor=PART, linewidth=thick * _POINTS, capstyle="butt"
    )


def _bar(panel: Any, bar: Bar) -> None:
    from matplotlib.patches import Polygon, Rectangle

    colour = ROWS if bar.part.kind == "source" else INK
    panel.add_patch(Rectangle((bar.x, bar.y), bar.width, bar.height, color=colour, linewidth=0))
    for y, text, strong in bar.lines:
        weight = "bold" if strong else "normal"
        panel.text(
            bar.text_x, y, text, fontsize=9, fontweight=weight, color=INK if strong else SOFT
        )
    if bar.drop:
        below = bar.y + bar.height
        corners = [(bar.x, below), (bar.x + bar.drop, below), (bar.x + bar.drop, below + 12)]
        corners += [(bar.x + bar.drop / 2, below + 17), (bar.x, below + 12)]
        panel.add_patch(Polygon(corners, fill=False, edgecolor=LEAVING, hatch=HATCH, linewidth=0.8))
    for y, text in bar.under:
        panel.text(bar.x, y, text, fontsize=9, color=LEAVING)
