"""The keys of sources against each other as a figure."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import Any

from plait.core.verbs.keys import Audited
from plait.report.drawn.figure import (
    HATCH,
    INK,
    LEAVING,
    PART,
    ROWS,
    SOFT,
    cut,
    plain,
    write_figure,
)

_MOST = 30


def write_keys_figure(found: Audited, target: Path, ending: str) -> None:
    """Which sources hold how many keys; of one source how often its keys stand."""
    size = 9.2, 0.9 + 0.42 * max(len(found.holdings[:_MOST]), len(found.tables))
    write_figure(partial(_draw, found), size, target, ending)


def _draw(found: Audited, figure: Any) -> None:
    panel = plain(figure.add_axes((0.02, 0.04, 0.94, 0.72)))
    key = cut(", ".join(found.key[0]), 80)
    figure.text(0.02, 0.9, f"Keys against sources: {key}", fontsize=11, fontweight="bold")
    if len(found.tables) > 1:
        _holdings(panel, found)
    else:
        _repeats(panel, found)
    panel.invert_yaxis()
    panel.set_yticks([])


def _holdings(panel: Any, found: Audited) -> None:
    """A line for each combination of sources: a dot a source, a bar of its keys."""
    most = max((one.keys for one in found.holdings), default=1)
    for place, table in enumerate(found.tables):
        x = -most * (0.16 * (len(found.tables) - place))
        panel.text(x, -0.75, cut(table.name, 18), fontsize=9, ha="center", color=SOFT)
        for row, one in enumerate(found.holdings[:_MOST]):
            held = table.name in one.sources
            panel.plot(
                [x],
                [row],
                marker="o",
                markersize=8,
                color=INK,
                fillstyle="full" if held else "none",
            )
    for row, one in enumerate(found.holdings[:_MOST]):
        whole = len(one.sources) == len(found.tables)
        panel.barh(
            row, one.keys, height=0.6, color=ROWS if whole else "none", linewidth=1.2,
            edgecolor=ROWS if whole else LEAVING, hatch=None if whole else HATCH,
        )  # fmt: skip
        panel.text(one.keys + most * 0.01, row, f"{one.keys:,}", fontsize=9, va="center")
    panel.set_xlim(-most * 0.16 * (len(found.tables) + 0.8), most * 1.14)
    panel.set_ylim(-1.2, max(len(found.holdings[:_MOST]), 1) - 0.4)


def _repeats(panel: Any, found: Audited) -> None:
    (one,) = found.tables
    once = one.distinct_keys - one.duplicate_keys
    parts = [
        (f"{once:,} keys once", once, ROWS, None),
        (f"{one.repeat_keys:,} on equal rows", one.repeat_keys, PART, None),
        (f"{one.conflict_keys:,} on rows that differ", one.conflict_keys, "none", HATCH),
    ]
    at = 0
    for said, keys, colour, hatch in parts:
        panel.barh(0, keys, left=at, height=0.6, color=colour, edgecolor=LEAVING if hatch else INK,
                   hatch=hatch, linewidth=0.8, label=said)  # fmt: skip
        at += keys
    panel.legend(loc="lower left", ncols=3, frameon=False, fontsize=9, bbox_to_anchor=(0, -0.1))
    panel.set_ylim(-0.5, 1)
