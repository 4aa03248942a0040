"""The columns of a survey as a figure: how values spread, and how many are missing."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import Any

from plait.core.look.profile import Profile
from plait.core.verbs.survey import Survey, Surveyed
from plait.report.drawn.figure import PART, ROWS, SOFT, cut, plain, write_figure
from plait.report.figures import percent

_ACROSS, _MOST = 4, 60
_HIGH, _HEAD = 1.35, 0.5  # inches


def write_survey_figure(found: Survey, target: Path, ending: str) -> None:
    """A panel for each column, shape by shape; of very many columns the first."""
    heights = [_HEAD + _HIGH * _lines(one) for one in found.families]
    size = 10.0, max(sum(heights), 1.0) + 0.2
    write_figure(partial(_draw, found, heights), size, target, ending)


def _lines(one: Surveyed) -> int:
    return -(-len(list(one.profiles)[:_MOST]) // _ACROSS)


def _draw(found: Survey, heights: list[float], figure: Any) -> None:
    whole = figure.get_figheight()
    top = whole - 0.1
    for one, height in zip(found.families, heights, strict=True):
        more = f", the first {_MOST}" if len(one.profiles) > _MOST else ""
        said = f"{cut(one.family.name, 60)}: {one.rows:,} rows, {len(one.profiles)} columns{more}"
        figure.text(0.02, (top - 0.3) / whole, said, fontsize=11, fontweight="bold")
        for place, (name, column) in enumerate(list(one.profiles.items())[:_MOST]):
            line, across = divmod(place, _ACROSS)
            bottom = top - _HEAD - _HIGH * (line + 1) + 0.35
            box = (0.02 + across * 0.245, bottom / whole, 0.215, (_HIGH - 0.75) / whole)
            _column(plain(figure.add_axes(box)), name, column)
        top -= height


def _column(panel: Any, name: str, column: Profile) -> None:
    missing = f", {percent(column.missing, column.rows)} missing" if column.missing else ""
    panel.set_title(cut(name, 26), loc="left", fontsize=9, fontweight="bold", pad=10)
    kind = cut(f"{column.kind}, {column.distinct:,} distinct{missing}", 44)
    panel.text(0, 1.02, kind, transform=panel.transAxes, fontsize=7, color=SOFT)
    panel.set_yticks([])
    if column.spread and not column.kind.startswith("text"):
        panel.bar(range(len(column.spread.rows)), column.spread.rows, width=0.92, color=ROWS)
        panel.text(0, -0.04, cut(column.smallest, 18), transform=panel.transAxes, fontsize=7,
                   va="top", color=SOFT)  # fmt: skip
        panel.text(1, -0.04, cut(column.largest, 18), transform=panel.transAxes, fontsize=7,
                   va="top", ha="right", color=SOFT)  # fmt: skip
        return
    most = max([rows for _, rows in column.commonest] + [1])
    for place, (text, rows) in enumerate(column.commonest):
        panel.barh(place, rows, height=0.8, color=PART)
        panel.text(most * 0.01, place, cut(text, 20), fontsize=7, va="center")
        panel.text(most * 1.24, place, f"{rows:,}", fontsize=7, va="center", ha="right", color=SOFT)
    panel.set_xlim(0, most * 1.25)
    panel.set_ylim(4.6, -0.6)
