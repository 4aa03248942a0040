"""A plan as one picture: sources, steps, result, rows set aside."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import partial
from itertools import pairwise
from pathlib import Path
from typing import Any

from plait.core.base.findings import pluralize
from plait.report.drawing.charts import HATCH, INK, LEAVING, PART, ROWS, SOFT, write_figure
from plait.report.drawing.diagram_layout import Diagram, DiagramNode, PlacedNode, layout_diagram
from plait.report.numbers import link_target
from plait.report.run_report import RunReport, SourceSummary

_PIXELS = 96  # an inch of the page
_POINTS = 72 / _PIXELS


def diagram_nodes(run_report: RunReport, opened: bool = False) -> list[DiagramNode]:
    """The parts in their order.

    Parameters
    ----------
    opened : bool
        Whether each of several sources of one name is a part of its own.
    """
    made: dict[str, tuple[str, ...]] = {}
    parts: list[DiagramNode] = []
    for group, sources in _groups(run_report).items():
        several = list(_each(sources)) if opened else [_together(group, sources)]
        made[group] = tuple(part.name for part in several)
        parts += several
    for number, step in enumerate(run_report.steps, 1):
        takes = tuple(dict.fromkeys(n for name in step.inputs for n in made.get(name, ())))
        parts.append(_step(run_report, number, takes))
        if step.result:
            made[step.result] = (parts[-1].name,)
    also, takes = (
        f"{pluralize(run_report.rows, 'row')}, the dataset",
        made.get(run_report.result, ()),
    )
    dataset = DiagramNode(
        "dataset", "dataset", run_report.result, also, run_report.rows, takes, "#columns"
    )
    return [*parts, dataset]


def drill_down_of_node(run_report: RunReport) -> bool:
    """Whether there are several sources of one name."""
    return any(len(sources) > 1 for sources in _groups(run_report).values())


def _groups(run_report: RunReport) -> dict[str, list[SourceSummary]]:
    groups: dict[str, list[SourceSummary]] = {}
    for source in run_report.sources:
        groups.setdefault(source.group, []).append(source)
    return groups


def _together(group: str, sources: Sequence[SourceSummary]) -> DiagramNode:
    rows = sum(source.rows for source in sources)
    several = len(sources) > 1
    also = (
        f"{len(sources)} sources, {pluralize(rows, 'row')}" if several else pluralize(rows, "row")
    )
    link = f"#source-{link_target(sources[0].name)}"
    return DiagramNode(f"source {group}", "source", group, also, rows, (), link, opens=several)


def _each(sources: Sequence[SourceSummary]) -> Iterator[DiagramNode]:
    for source in sources:
        link = f"#source-{link_target(source.name)}"
        yield DiagramNode(
            f"source {source.group} {source.name}",
            *("source", source.name, pluralize(source.rows, "row"), source.rows, (), link),
        )


def _step(run_report: RunReport, number: int, takes: tuple[str, ...]) -> DiagramNode:
    step = run_report.steps[number - 1]
    files = {
        drill_down.file
        for drill_down in run_report.drill_downs
        if drill_down.step == number
        and drill_down.list_kind
        and not drill_down.in_result
        and not drill_down.reason
    }
    return DiagramNode(
        f"step {number}", "step", f"{number} {step.verb}",
        f"{step.result}: {pluralize(step.rows, 'row')}" if step.result else "",
        step.rows, takes, f"#step-{number}", step.set_aside,
        files.pop() if len(files) == 1 else f"#step-{number}",
    )  # fmt: skip


def write_plan_figure(run_report: RunReport, target: Path, ending: str) -> None:
    """Write the picture of a run that its report has."""
    drawn = layout_diagram(diagram_nodes(run_report))
    size = drawn.width / _PIXELS, drawn.height / _PIXELS
    write_figure(partial(_draw, drawn), size, target, ending)


def _draw(drawn: Diagram, figure: Any) -> None:
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


def _bar(panel: Any, bar: PlacedNode) -> None:
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
