"""Figures: bars of rows flowing through the steps."""

from __future__ import annotations

import io
import re
import warnings
from collections.abc import Sequence
from typing import Any

from plait.core.account.ledger import Entry, shortened

# Told apart by people of every colour sight, and each has a hatch or an outline of its own.
_LONGEST_LABEL = 60
COMING, LEAVING, RESULT, INK = "#3b7dd8", "#e08a1e", "#26364d", "#8a94a3"


def flow_svg(entries: Sequence[Entry]) -> str:
    """The ledger as bars that add up, one panel an operation.

    Parameters
    ----------
    entries : sequence of Entry
        At least one.

    Returns
    -------
    str
        An ``<svg>`` element; its text follows the page's colour.
    """
    import matplotlib

    matplotlib.use("svg")
    from matplotlib.figure import Figure

    entries = [shortened(entry) for entry in entries]
    heights = [len(entry.lines) + 1.6 for entry in entries]
    with (
        matplotlib.rc_context(
            {
                "svg.fonttype": "none",
                "font.family": "sans-serif",
                "svg.hashsalt": "plait",
                "text.parse_math": False,  # a name may hold a $
            }
        ),
        warnings.catch_warnings(),
    ):
        warnings.simplefilter("ignore")  # letters are measured in one font, and shown in another
        figure = Figure(figsize=(9.2, 0.34 * sum(heights) + 0.2), layout="constrained")
        panels = figure.subplots(len(entries), 1, squeeze=False, height_ratios=heights)[:, 0]
        for panel, entry in zip(panels, entries, strict=True):
            _draw(panel, entry)
        drawn = io.StringIO()
        figure.savefig(drawn, format="svg", transparent=True, metadata={"Date": None})
    return _inline(drawn.getvalue())


def _draw(panel: Any, entry: Entry) -> None:
    """One waterfall: what comes in, what leaves, what results."""
    total, labels = 0, []
    most = max([sum(rows for rows in entry.rows_in.values()), entry.rows_out, 1])
    for place, line in enumerate(entry.lines):
        start, total = total, total + line.rows
        leaving = line.rows < 0
        panel.barh(
            place,
            line.rows,
            left=start,
            height=0.62,
            color="none" if leaving else COMING,
            edgecolor=LEAVING if leaving else COMING,
            hatch="////" if leaving else None,
            linewidth=1.2,
        )
        panel.plot([total, total], [place, place + 1], color=INK, linewidth=0.8, zorder=0)
        _number(panel, place, max(start, total), line.rows, signed=place >= len(entry.rows_in))
        labels.append(_cut(line.reason))
    panel.barh(len(labels), entry.rows_out, height=0.62, color=RESULT, edgecolor=INK)
    _number(panel, len(labels), entry.rows_out, entry.rows_out, signed=False)
    labels.append("rows out")
    panel.set_yticks(range(len(labels)), labels, fontsize=9)
    panel.set_xlim(0, most * 1.16)
    panel.invert_yaxis()
    panel.set_title(entry.operation, loc="left", fontsize=10, fontweight="bold")
    panel.tick_params(length=0)
    panel.set_xticks([])
    for side in panel.spines.values():
        side.set_visible(False)


def _cut(label: str) -> str:
    """So much of a label that the bars have room beside it."""
    return label if len(label) <= _LONGEST_LABEL else f"{label[: _LONGEST_LABEL - 1]}…"


def _number(panel: Any, place: int, end: int, rows: int, signed: bool) -> None:
    text = f"{rows:+,}" if signed else f"{rows:,}"
    panel.annotate(
        text.replace("-", "−"),
        (end, place),
        xytext=(5, 0),
        textcoords="offset points",
        va="center",
        fontsize=9,
    )


def _inline(svg: str) -> str:
    """The drawing without what only a file of its own needs, its black text in the page's ink."""
    svg = re.sub(r"<metadata>.*?</metadata>", "", svg[svg.index("<svg") :], flags=re.DOTALL)
    svg = svg.replace('style="font', 'style="fill: currentColor; font')
    return svg.replace(RESULT, "currentColor")
